"""Why a route stands in a table, or why none does: a contest as an answer, and as lines of text."""

from collections.abc import Iterator
from typing import Literal

from routrel.analysis.answers import contests, routes
from routrel.analysis.contest.absence import trails
from routrel.analysis.contest.candidate_offers import candidate_offers
from routrel.analysis.contest.candidates import Candidate, Contest, Round
from routrel.analysis.contest.explainer import Explainer
from routrel.analysis.contest.paths import Leg
from routrel.analysis.contest.tipping import Outcome, TippingPoint, ports_left_out, tipping_points
from routrel.analysis.contest.trail import Trail, step_answer
from routrel.analysis.table_rows import next_hops
from routrel.garbage_collection import collection_paused
from routrel.model.addresses import Address, Prefix
from routrel.model.places import Place
from routrel.routing.solve import Solved

MOST_UNSENT = 60
"""Paths never sent that are listed: a reflector's hundreds of clients hold more than anyone reads."""


class WhyError(Exception):
    """A prefix that cannot be asked about; the message says why."""


def parse_prefix(text: str) -> Prefix | Address:
    """A prefix, or an address to look up; raises ``WhyError``."""
    try:
        return Prefix.parse(text) if "/" in text else Address.parse(text)
    except ValueError as error:
        raise WhyError(str(error)) from None


class WhyAnswerer:
    """Answers why a route stands in a table, or why none does."""

    def __init__(self, solved: Solved):
        self.solved = solved
        self.explainer = Explainer(solved)

    @collection_paused()
    def why(self, instance: int, asked: Prefix | Address, with_tipping: bool = True) -> contests.Contest:
        """The contest for a prefix, or for the longest match of an address."""
        prefix, note = self._settle(instance, asked)
        found = self.solved.topology.instances[instance]
        of = self.solved.topology.devices[found.device].name, found.vrf, str(asked)
        if prefix is None:
            return contests.Contest(*of, None, note)
        contest = self.explainer.contest(instance, prefix)
        unsent = self._unsent(instance, prefix)
        notes = [*contest.notes, *self._notes(prefix), *self._doubts(contest)]
        if len(unsent) > MOST_UNSENT:
            notes.append(f"neighbors hold {len(unsent) - MOST_UNSENT} more paths that they do not send here")
        left_out = ports_left_out(self.explainer, contest)
        if left_out:
            text = f"tipping points are looked for on the nearest interfaces; {left_out} farther ones are left out"
            notes.append(text)
        covering = self.solved.lookup(instance, Address(prefix.family, prefix.network))
        is_absent = not contest.winners
        return contests.Contest(
            *of,
            str(prefix),
            note,
            winner=None if is_absent else self._winner(contest),
            candidates=[self._candidate(contest, index) for index in range(len(contest.candidates))],
            rounds=[_round(one) for one in contest.rounds],
            notes=notes,
            tipping=self._tipping_points(contest) if with_tipping else [],
            trails=[self._trail(trail) for trail in trails(self.explainer, contest)] if is_absent else [],
            unsent=unsent[:MOST_UNSENT],
            covered_by=str(covering.prefix) if is_absent and covering is not None else None,
        )

    def tipping(self, instance: int, asked: Prefix | Address) -> list[contests.TippingPoint]:
        """The tipping points alone, which take longer than the contest."""
        prefix, _ = self._settle(instance, asked)
        return [] if prefix is None else self._tipping_points(self.explainer.contest(instance, prefix))

    def _tipping_points(self, contest: Contest) -> list[contests.TippingPoint]:
        return [self._tipping(point) for point in tipping_points(self.explainer, contest)]

    def _settle(self, instance: int, asked: Prefix | Address) -> tuple[Prefix | None, str]:
        """The prefix that is meant, and a note where it is not the one that was asked."""
        name = self.solved.topology.instance_name(instance)
        if isinstance(asked, Address):
            route = self.solved.lookup(instance, asked)
            if route is not None:
                return route.prefix, f"the longest match for {asked} on {name} is {route.prefix}"
            prefix = self.explainer.told_of(asked)
            if prefix is not None:
                return prefix, f"{name} has no route for {asked}; the longest prefix that others have is {prefix}"
            return None, f"no device of this network has a route for {asked}"
        if asked in self.solved.prefixes.number:
            return asked, ""
        covering = self.solved.lookup(instance, Address(asked.family, asked.network))
        if covering is not None and covering.prefix.covers(asked):
            return None, f"no device of this network has {asked}; on {name} {covering.prefix} covers it"
        return None, f"no device of this network has {asked}, and nothing on {name} covers it"

    def _notes(self, prefix: Prefix) -> list[str]:
        notes = []
        unsettled = self.solved.redistribution.unsettled
        if unsettled is not None and prefix in unsettled.prefixes:
            how = "was not followed to its end" if unsettled.is_cut else "never settles"
            notes.append(f"redistribution {how} for this prefix: the table shown is that of one moment")
        elif self.solved.redistribution.depends_on_order and (
            self.solved.prefix_classes.column_of(prefix) in self.solved.redistribution.contested[1]
        ):
            notes.append("which router redistributes this prefix depends on who acts first; one stable state is shown")
        return notes + [note for contest in self.explainer.contests for note in contest.notes(prefix)]

    def _doubts(self, contest: Contest) -> list[str]:
        protocols = dict.fromkeys(one.protocol for one in contest.candidates)
        return [text for name in protocols for text in self.solved.doubts_about(contest.instance, name)]

    def _unsent(self, instance: int, prefix: Prefix) -> list[contests.Unsent]:
        """BGP paths that neighbours hold and never sent to an instance."""
        found = (
            contests.Unsent(
                str(path.neighbor), path.device, " ".join(map(str, path.as_path)), path.reason, path.place or None
            )
            for solution, process in self.solved.processes_of(instance)
            if prefix.family in process.families
            for path in self.explainer.contest_of(solution).unsent(process.number, prefix)
        )
        return list(dict.fromkeys(found))

    def _winner(self, contest: Contest) -> contests.Winner:
        first = contest.candidates[contest.winners[0]]
        return contests.Winner(
            list(contest.winners),
            first.protocol,
            first.kind,
            *_numbers(first),
            first.action,
            next_hops(self.solved, contest.next_hops),
        )

    def _candidate(self, contest: Contest, index: int) -> contests.Candidate:
        one = contest.candidates[index]
        preference, metric = _numbers(one)
        return contests.Candidate(
            protocol=one.protocol,
            process=one.process if one.process not in ("", "default") else None,
            kind=one.kind,
            preference=preference,
            metric=metric,
            tag=one.tag,
            action=one.action,
            origin=one.origin,
            origin_device=one.origin_device or None,
            place=one.place or None,
            attributes=[contests.Attribute(*named) for named in one.attributes.items()],
            next_hops=next_hops(self.solved, one.next_hops),
            ways=[contests.Way(way.total, [self._leg(leg) for leg in way.legs]) for way in one.ways],
            detour=one.is_detour,
            state="out" if one.out else "winner" if index in contest.winners else "lost",
            out=one.out or None,
            lost_in=one.beaten if one.beaten >= 0 and not one.out else None,
            margin=one.margin or None,
            offers=[*candidate_offers(self.solved.topology, contest.instance, one, index in contest.winners)],
        )

    def _leg(self, leg: Leg) -> contests.Leg:
        if leg.port < 0:
            return contests.Leg(None, None, leg.cost, leg.what)
        return contests.Leg(*self.solved.topology.ports[leg.port].name, leg.cost, "")

    def _outcome(self, outcome: Outcome) -> contests.Outcome:
        hops = next_hops(self.solved, outcome.next_hops)
        return contests.Outcome(outcome.protocol or None, outcome.kind, outcome.action or None, hops)

    def _tipping(self, point: TippingPoint) -> contests.TippingPoint:
        direction: Literal["above", "below"] = "above" if point.above else "below"
        return contests.TippingPoint(
            point.what,
            point.device,
            point.now,
            point.value,
            direction,
            self._outcome(point.becomes),
            None if point.beyond is None else self._outcome(point.beyond),
            point.place or None,
            f"{point.what} on {point.device}, now {point.now}: moves at {point.value} and {direction}",
            point.change,
        )

    def _trail(self, trail: Trail) -> list[contests.Step]:
        return [step_answer(self.solved.topology, step) for step in trail.steps]


def _round(one: Round) -> contests.Round:
    values = [contests.RoundValue(*value) for value in one.values]
    return contests.Round(one.name, one.scope, one.rule, one.chosen, values, list(one.lost))


def hops_text(hops: list[routes.NextHop]) -> str:
    """Next hops in words."""
    return ", ".join(
        " ".join(filter(None, (hop.address, "by", hop.interface, f"({hop.device})" * bool(hop.device)))) for hop in hops
    )


def outcome_text(outcome: contests.Outcome | contests.Winner) -> str:
    """An outcome in words."""
    if outcome.protocol is None:
        return "no route"
    kind = f" {outcome.kind}" if outcome.kind else ""
    return f"{outcome.protocol}{kind}, {hops_text(outcome.next_hops) or outcome.action}"


def _numbers(candidate: Candidate) -> tuple[int | None, int | None]:
    """Preference and metric, as far as they are known."""
    preference = None if "preference" in candidate.unsaid else candidate.preference
    return preference, None if "metric" in candidate.unsaid else candidate.metric


def ranking_text(route: contests.Candidate | contests.Winner | routes.TableRow) -> str:
    """Preference and metric: ``110/20``."""
    return "/".join("-" if value is None else str(value) for value in (route.preference, route.metric))


def at_text(place: Place | None) -> str:
    """A place after a statement."""
    return f" [{place.in_brief}]" if place else ""


def why_lines(answer: contests.Contest) -> Iterator[str]:
    """An answer as lines for a terminal or a ticket."""
    name = answer.device if answer.vrf == "default" else f"{answer.device} (VRF {answer.vrf})"
    if answer.note:
        yield answer.note
    if answer.prefix is None:
        return
    if answer.winner is None:
        covered = f"; {answer.covered_by} is used instead" if answer.covered_by else ""
        yield f"{name} has no route for {answer.prefix}{covered}"
    else:
        yield f"{name} {answer.prefix}: {outcome_text(answer.winner)} {ranking_text(answer.winner)}"
    yield from _candidate_lines(answer)
    for number, one in enumerate(answer.rounds):
        scope = f" within {one.scope}" if one.scope else ""
        values = ", ".join(f"{value.candidate + 1}: {value.value}" for value in one.values)
        accident = "" if one.chosen else "; a tie that nobody chose"
        yield f"round {number + 1}{scope}, {one.name}: {one.rule}{accident}"
        yield f"  {values}"
    if answer.unsent:
        yield "not sent by neighbors:"
    for path in answer.unsent:
        as_path = path.as_path or "empty"
        yield f"  {path.neighbor} ({path.device}), AS path {as_path}: {path.reason}{at_text(path.place)}"
    for note in answer.notes:
        yield f"note: {note}"
    if answer.tipping:
        yield "tipping points:"
    for point in answer.tipping:
        beyond = f"; further on {outcome_text(point.beyond)}" if point.beyond else ""
        yield f"  {point.message}{at_text(point.place)}"
        yield f"       then {outcome_text(point.becomes)}{beyond}"
    for trail in answer.trails:
        yield "on its way here:"
        for step in trail:
            others = "".join(map(at_text, step.other_places))
            yield f"  {'x' if step.stopped else '>'} {step.message}{at_text(step.place)}{others}"


def _candidate_lines(answer: contests.Contest) -> Iterator[str]:
    if answer.candidates:
        yield "candidates:"
    for number, one in enumerate(answer.candidates):
        mark = {"winner": "*", "lost": "-", "out": "x"}[one.state]
        kind = f" {one.kind}" if one.kind else ""
        words = f"the same by {hops_text(one.next_hops)}" if one.detour else one.origin
        yield f"  {mark} {number + 1}. {one.protocol}{kind} {ranking_text(one)}: {words}{at_text(one.place)}"
        if one.protocol == "bgp":
            shown = [f"{each.name} {each.value}" for each in one.attributes if each.name != "policy"]
            yield f"       {', '.join(shown)}"
            yield from (f"       {each.value}" for each in one.attributes if each.name == "policy")
        for way in one.ways:
            terms = [f"{leg.cost} ({f'{leg.device}:{leg.interface}' if leg.device else leg.what})" for leg in way.legs]
            yield f"       {' + '.join(terms)} = {way.total}"
        if one.out:
            yield f"       out: {one.out}"
        elif one.lost_in is not None:
            margin = f" {one.margin}" if one.margin else ""
            yield f"       lost in round {one.lost_in + 1}, {answer.rounds[one.lost_in].name}{margin}"
