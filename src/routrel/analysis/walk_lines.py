"""Answers to flows as lines for a terminal or a ticket, without and with the evidence at every stop."""

from collections.abc import Iterator

from routrel.analysis.answers.walks import Strand, Walk, WalkVerdict
from routrel.analysis.contest.why import at_text

MARKS = {"pass": ">", "note": "!", "fail": "x"}
"""Before each check: whether the packet passes, passes with something to know, or does not."""


def walk_lines(answer: WalkVerdict | Walk) -> Iterator[str]:
    """An answer to a flow as lines for a terminal or a ticket."""
    for part in answer.parts:
        back = f", answer {part.return_verdict}" if part.return_verdict else ""
        yield f"ports {', '.join(part.ports)}: {part.verdict}{back}"
        for one in part.decided_by:
            list_word, entry_word, last = (
                ("chain", "rule", "policy") if one.is_rule else ("ACL", "entry", "closing drop")
            )
            entry = f"the {last}" if one.entry is None else f"{entry_word} {one.entry}"
            does = "accepts" if one.accepted else "drops"
            yield f"  {one.device}, {list_word} {one.acl}: {entry} {does}{at_text(one.place)}"
    if answer.unexamined_ports:
        yield f"ports {answer.unexamined_ports}: not looked into, too many parts came before"
    strands = [(title, one) for title, one in (("forward", answer.forward), ("return", answer.reply)) if one]
    for title, strand in strands:
        count = strand.path_count
        yield f"{title}: {strand.verdict}, {count} way{'' if count == 1 else 's'}"
        for path in strand.paths:
            yield "  " + " > ".join(path)
        for cause in strand.causes:
            yield f"  stopped at {cause.device}: {cause.message}{at_text(cause.place)}"
            word = "rule" if cause.chain else "entry"
            for miss in cause.near_misses:
                yield f"    {word} {miss.entry} would match but for {miss.field}: {miss.has}, not {miss.needs}"
            for step in cause.trail:
                yield f"    the route: {step.message}{at_text(step.place)}"
            if cause.remedy:
                yield f"    {cause.remedy.message}: {cause.remedy.text}"
            for note in cause.notes:
                yield f"    note: {note}"
    for title, note in (("forward", answer.forward_note), ("return", answer.return_note)):
        if note:
            yield f"{title}: {note}"
    left_out = [one for _, strand in strands for one in strand.not_represented]
    for said in dict.fromkeys(f"{one.device}: {one.message}{at_text(one.place)}" for one in left_out):
        yield f"not represented on the way: {said}"


def evidence_lines(answer: Walk) -> Iterator[str]:
    """Every stop of both directions with what was looked at there, in the order the packet meets it."""
    yield from walk_lines(answer)
    for title, strand in (("forward", answer.forward), ("return", answer.reply)):
        if strand is not None:
            yield ""
            yield from _strand_lines(title, strand)


def _strand_lines(title: str, strand: Strand) -> Iterator[str]:
    yield f"{title}, stop by stop:"
    if strand.mtu is not None:
        shrinks = ", ".join(f"{one.device}:{one.interface}" for one in strand.mtu.shrinks_at)
        where = f", shrinks at {shrinks}" if shrinks else ""
        yield f"  packets to {strand.mtu.largest_packet} bytes{where}"
    for number, stop in enumerate(strand.stops):
        vrf = "" if stop.vrf == "default" else f" (VRF {stop.vrf})"
        ingress = f", in by {stop.ingress}" if stop.ingress else ""
        yield f"  {number + 1}. {stop.device}{vrf}{ingress}: {stop.decided}"
        for note in (*(["fewer ways on than a sibling"] if stop.narrower else []), *stop.notes):
            yield f"     ! {note}"
        for check in stop.checks:
            yield f"     {MARKS[check.state]} {check.message}{at_text(check.place)}"
        for branch in stop.branches:
            onward = f" to stop {branch.target + 1}" if branch.target is not None else ""
            size = f", MTU {branch.mtu}" if branch.mtu else ""
            yield f"     out by {branch.interface}{onward}{size}"
            for check in branch.checks:
                yield f"       {MARKS[check.state]} {check.message}{at_text(check.place)}"
