"""Everything offered against what stops a flow, each solved as a trial, in the order of how little else it moves."""

import time
from collections.abc import Iterable, Iterator, Mapping, Sequence
from dataclasses import dataclass
from typing import Any, NamedTuple

from routrel.analysis.answers.held import Held
from routrel.analysis.answers.remedies import RankedRemedy
from routrel.analysis.answers.walks import Cause, ListedWalk, RefusedFlow
from routrel.analysis.held.asked import AskedTraffic
from routrel.analysis.held.groups import comparing
from routrel.analysis.trial import Trial
from routrel.analysis.walk_verdicts import Answerer
from routrel.formats.changes.outcomes import Outcome
from routrel.formats.changes.reading import changes_of
from routrel.forwarding.flow import GOOD, Asker, Flow, Walk
from routrel.model.findings import some_of
from routrel.routing.solve import Solved
from routrel.topology.segments import Topology

SECONDS = 10.0
"""So long remedies are held against all traffic; those after it are tried, but not held."""

MOST_REMEDIES = 12
"""Remedies that are tried for one flow."""

MOST_TOGETHER = 6
"""Remedies that are put together."""


class _Offered(NamedTuple):
    """``text`` is what to write, empty where the changes say it in words. ``causes`` are taken away with it."""

    causes: list[Cause]
    message: str
    text: str
    changes: list[dict[str, Any]]


def ranked_remedies(
    files: Mapping[str, bytes], solved: Solved, flow: Flow, tried: Trial | None = None
) -> list[RankedRemedy]:
    """The remedies of a flow: first those with which it works, then by what else they break, then by what else they
    move; raises ``FlowError`` where its words name nothing. ``tried`` is a trial of the network, and asked of it."""
    ranking = _Ranking(files, solved, flow, tried)
    offered = list(_offered(ranking.walk))[:MOST_REMEDIES]
    found = [one for one in map(ranking.tried, offered) if one is not None]
    if found and not any(one.again.is_good for one in found):
        together = ranking.together()
        whole = None if together is None else ranking.tried(together)
        found += [] if whole is None else [whole]
    # Where time is short, it goes to what cures.
    end = time.monotonic() + SECONDS
    return sorted(
        (ranking.ranked(one, end) for one in sorted(found, key=lambda one: not one.again.is_good)), key=_order
    )


@dataclass(frozen=True)
class _Tried:
    offered: _Offered
    trial: Trial
    outcomes: Sequence[Outcome]
    again: Walk


class _Ranking:
    def __init__(self, files: Mapping[str, bytes], solved: Solved, flow: Flow, tried: Trial | None):
        self.files, self.solved, self.flow = files, solved, flow
        self.made = [] if tried is None else [outcome.change for outcome in tried.applied.outcomes]
        self.asked_of = solved if tried is None else tried.after
        answerer = Answerer(self.asked_of)
        self.asked = AskedTraffic.of(answerer.asker.ask(flow))
        self.walk = answerer.listed(flow)

    def _trial(self, changes: list[dict[str, Any]]) -> tuple[Trial, Sequence[Outcome]]:
        trial = Trial.of(self.files, self.solved, [*self.made, *changes_of(changes)])
        return trial, trial.applied.outcomes[len(self.made) :]

    def tried(self, offered: _Offered) -> _Tried | None:
        """What is offered, made; None where it does not take away what it is for."""
        trial, outcomes = self._trial(offered.changes)
        if any(one.state != "applied" for one in outcomes):
            return None
        again = Asker(trial.after).ask(self.flow)
        left = _obstacles(trial.after.topology, again)
        if any((cause.device, cause.stage, cause.interface) in left for cause in offered.causes):
            return None
        return _Tried(offered, trial, outcomes, again)

    def ranked(self, tried: _Tried, end: float) -> RankedRemedy:
        """The same with what it does to all other traffic, as long as there is time."""
        beyond = None
        if time.monotonic() < end:
            for step in comparing(self.asked_of, tried.trial.after, self.asked):
                beyond = step.held
                if time.monotonic() > end:
                    break
        return RankedRemedy(
            causes=[cause.message for cause in tried.offered.causes],
            message=tried.offered.message,
            text=tried.offered.text or "; ".join(one.words for one in tried.outcomes),
            changes=tried.offered.changes,
            is_cured=tried.again.is_good,
            outcome=_outcome(tried.trial.after.topology, tried.again),
            moves=moves_words(beyond),
            beyond=beyond,
        )

    def together(self) -> _Offered | None:
        """The remedy of the first cause, then of the first that is left, until the flow works."""
        walk, causes, changes = self.walk, list[Cause](), list[dict[str, Any]]()
        while len(causes) < MOST_TOGETHER:
            if isinstance(walk, ListedWalk) and walk.good:
                return _Offered(causes, f"{len(causes)} remedies together", "", changes)
            cause = next((one for one in _causes(walk) if one.remedy is not None and one.remedy.changes), None)
            if cause is None or cause.remedy is None or cause.remedy.changes[0] in changes:
                return None
            causes.append(cause)
            changes += cause.remedy.changes
            trial, outcomes = self._trial(changes)
            if any(one.state != "applied" for one in outcomes):
                return None
            walk = Answerer(trial.after).listed(self.flow)
        return None


def remedy_lines(found: Iterable[RankedRemedy]) -> Iterator[str]:
    """Remedies as lines for a terminal or a ticket."""
    for number, one in enumerate(found, 1):
        yield f"{number}. {one.message}: {one.text}"
        yield f"   {'cures it' if one.is_cured else f'then: {one.outcome}'}; {one.moves}"


def moves_words(beyond: Held | None) -> str:
    """What a remedy does to all other traffic, on one line."""
    if beyond is None:
        return "there was no time to tell what else it moves"
    if not beyond.changed and not beyond.left_out:
        return "nothing else moves"
    opened = [group for group in beyond.groups if group.effect == "open"]
    words = [one.words for one in beyond.effects]
    if opened:
        # What is opened to who answers is opened for its answers, too: the question says it more plainly.
        first = min(opened, key=lambda group: " from " in group.services)
        more = ", …" if len(opened) > 1 else ""
        words.append(
            f"opens more than asked: {first.services}, {first.sources.words} > {first.destinations.words}{more}"
        )
    if beyond.left_out:
        words.append(f"{beyond.left_out:,} pairs were not compared")
    return "; ".join(words)


def _order(one: RankedRemedy) -> tuple[bool, bool, bool, int]:
    if one.beyond is None:
        return not one.is_cured, True, True, 0
    return not one.is_cured, False, one.beyond.is_worse, one.beyond.changed


def _obstacles(topology: Topology, walk: Walk) -> set[tuple[str, str, str | None]]:
    """Where a flow is stopped: device, stage and interface, as causes name them."""
    found = set[tuple[str, str, str | None]]()
    for strand in walk.strands:
        for ending in strand.endings:
            if ending.verdict in GOOD:
                continue
            stop = strand.stops[ending.stop]
            port = stop.branches[ending.branch].port if ending.branch >= 0 else stop.ingress
            name = topology.ports[port].name.interface if port >= 0 else None
            device = topology.devices[stop.device].name
            found |= {(device, ending.stage, name), (device, ending.stage, None)}
    return found


def _outcome(topology: Topology, walk: Walk) -> str:
    """What became of a flow, and where."""
    words = []
    for verdict, strand in ((walk.forward_verdict, walk.forward), (walk.reply_verdict, walk.reply)):
        if strand is not None:
            bad = [strand.stops[ending.stop].device for ending in strand.endings if ending.verdict not in GOOD]
            at = list(dict.fromkeys(topology.devices[device].name for device in bad))
            words.append(f"{verdict}{f' at {some_of(at)}' if at else ''}")
    return ", answer ".join(words)


def _causes(walk: ListedWalk | RefusedFlow) -> list[Cause]:
    if isinstance(walk, RefusedFlow):
        return []
    return [cause for strand in (walk.forward, walk.reply) if strand is not None for cause in strand.causes]


def _offered(walk: ListedWalk | RefusedFlow) -> Iterator[_Offered]:
    """Of each cause its remedy, entries that nearly match mended, and the ACL taken off; each change once."""
    seen = list[list[dict[str, Any]]]()
    for cause in _causes(walk):
        for one in _of_cause(cause):
            if one.changes and one.changes not in seen:
                seen.append(one.changes)
                yield one


def _of_cause(cause: Cause) -> Iterator[_Offered]:
    if cause.remedy is not None:
        yield _Offered([cause], f"{cause.device}: {cause.remedy.message}", cause.remedy.text, cause.remedy.changes)
    for miss in cause.near_misses:
        if miss.change is not None:
            message = f"{cause.device}: mend entry {miss.entry} of ACL {cause.acl}"
            yield _Offered([cause], message, "", [miss.change])
    if cause.stage in ("acl_in", "acl_out") and cause.interface is not None:
        at = f"{cause.device}:{cause.interface}"
        change = {"set": cause.stage, "at": at, "to": None}
        yield _Offered([cause], f"take ACL {cause.acl} off {at}", "", [change])
