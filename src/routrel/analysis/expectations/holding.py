"""All expectations held against a network, as it is and under failures."""

from collections import Counter, defaultdict
from collections.abc import Iterable, Iterator, Sequence
from dataclasses import dataclass, field
from itertools import product

from routrel.analysis.answers.expectations import (
    ExpectationHeld,
    ExpectationsHeld,
    ExpectationsSoFar,
    FailureHurts,
    FailureOutcome,
    FlowHeld,
    HoldState,
)
from routrel.analysis.expectations.conditions import Checked, Conditions
from routrel.analysis.expectations.failures import KIND_WORDS, KINDS, Failure, failures_of
from routrel.analysis.expectations.stress import OUTCOMES, Hurt, Stress, Watched
from routrel.analysis.walk_verdicts import asked_flow
from routrel.forwarding.flow import Flow
from routrel.model.expectations import Expectation, FailureKind
from routrel.routing.solve import Solved

MOST_FLOWS, MOST_FAILURES = 50, 200
"""Flows and failures that are listed of one expectation; all are counted."""

MOST_NAMED = 5

BROKEN = ("breaks", "loops")


@dataclass
class _Held:
    """An expectation, its flows, and what was found of each."""

    expectation: Expectation
    flows: list[Flow]
    checked: list[Checked] = field(default_factory=list)
    not_survived: list[tuple[Failure, list[int]]] = field(default_factory=list)
    """Failures, each with the places of flows among these."""

    @property
    def state(self) -> HoldState:
        if self.not_survived or any(one.reasons for one in self.checked):
            return "fails"
        return "refused" if any(one.refused for one in self.checked) else "holds"


def flows_of(expectation: Expectation) -> list[Flow]:
    """Every flow that an expectation is about; none from a place to itself."""
    return [
        Flow(source, destination, service, enter=expectation.enter)
        for source, destination, service in product(expectation.sources, expectation.destinations, expectation.services)
        if source != destination
    ]


def hold(solved: Solved, expectations: Sequence[Expectation], stress: Iterable[FailureKind] = ()) -> ExpectationsHeld:
    """Expectations held against a network; under each failure of the kinds of ``stress`` too."""
    *_, last = holding(solved, expectations, stress)
    assert last.held is not None
    return last.held


def holding(
    solved: Solved,
    expectations: Sequence[Expectation],
    stress: Iterable[FailureKind] = (),
    with_survival: bool = True,
) -> Iterator[ExpectationsSoFar]:
    """The same step by step; without ``with_survival`` what is to survive is not looked into."""
    conditions, stressed = Conditions(solved), set(stress)
    all_held = [_Held(one, flows_of(one)) for one in expectations]
    for held in all_held:
        held.checked = [conditions.check(held.expectation, flow) for flow in held.flows]
    # Only what does what it should can be hurt.
    watched, of = list[Watched](), list[tuple[int, int]]()
    for at, held in enumerate(all_held):
        for number, one in enumerate(held.checked):
            if one.holds and one.walk is not None and (stressed or (with_survival and held.expectation.survives)):
                watched.append(Watched(held.flows[number], held.expectation.expect, one.walk))
                of.append((at, number))
    named = {kind for held in all_held for kind in held.expectation.survives if with_survival}
    failures = list(failures_of(solved, [kind for kind in KINDS if kind in stressed | named])) if watched else []
    engine, outcomes = Stress(solved, watched), list[tuple[Failure, list[Hurt]]]()
    for count, failure in enumerate(failures):
        yield ExpectationsSoFar(count, len(failures), None)
        hurts = engine.under(failure)
        _note_not_survived(failure, hurts, all_held, of)
        if failure.kind in stressed and hurts:
            outcomes.append((failure, hurts))
    tried = sum(failure.kind in stressed for failure in failures)
    yield ExpectationsSoFar(len(failures), len(failures), _answer(all_held, outcomes, of, tried))


def _note_not_survived(
    failure: Failure, hurts: Sequence[Hurt], all_held: Sequence[_Held], of: Sequence[tuple[int, int]]
) -> None:
    broken = defaultdict[int, list[int]](list)
    for hurt in hurts:
        at, number = of[hurt.number]
        if hurt.outcome in BROKEN and failure.kind in all_held[at].expectation.survives:
            broken[at].append(number)
    for at, numbers in broken.items():
        all_held[at].not_survived.append((failure, numbers))


def _answer(
    all_held: Sequence[_Held],
    outcomes: Sequence[tuple[Failure, list[Hurt]]],
    of: Sequence[tuple[int, int]],
    tried: int,
) -> ExpectationsHeld:
    states = Counter(held.state for held in all_held)
    names = [all_held[at].expectation.name for at, _ in of]
    failures = sorted(
        (_outcome(failure, hurts, names) for failure, hurts in outcomes),
        key=lambda one: (-one.loops - one.breaks, -one.exit, -one.longer, -one.moves, KINDS.index(one.kind), one.name),
    )
    return ExpectationsHeld(
        _words(states, len(all_held), tried, len(failures)),
        states["holds"],
        states["fails"],
        states["refused"],
        [_expectation(held) for held in all_held],
        failures,
        tried,
        tried - len(failures),
    )


def _words(states: Counter[HoldState], count: int, tried: int, hurting: int) -> str:
    if not count:
        return "nothing is expected of this network"
    words = f"{states['holds']:,} of {count:,} expectation{'' if count == 1 else 's'}"
    words += " holds" if states["holds"] == 1 else " hold"
    if states["refused"]:
        words += f", {states['refused']:,} cannot be told"
    if tried:
        words += f"; {hurting:,} of {tried:,} failures hurt what is expected"
    return words


def _expectation(held: _Held) -> ExpectationHeld:
    one = held.expectation
    failing = [(flow, checked) for flow, checked in zip(held.flows, held.checked, strict=True) if not checked.holds]
    return ExpectationHeld(
        name=one.name,
        words=expectation_words(one),
        severity=one.severity,
        owner=one.owner,
        note=one.note,
        tags=list(one.tags),
        place=one.place or None,
        state=held.state,
        flow_count=len(held.flows),
        failing_count=len(failing),
        flows=[
            FlowHeld(
                asked_flow(flow),
                "refused" if checked.refused else "fails",
                [checked.refused] if checked.refused else list(checked.reasons),
            )
            for flow, checked in failing[:MOST_FLOWS]
        ],
        not_survived=[
            FailureHurts(
                failure.kind,
                failure.name,
                failure.change,
                [flow_words(held.flows[number]) for number in numbers[:MOST_NAMED]],
                len(numbers),
            )
            for failure, numbers in held.not_survived[:MOST_FAILURES]
        ],
        not_survived_count=len(held.not_survived),
        doubts=list(dict.fromkeys(doubt for checked in held.checked for doubt in checked.doubts)),
    )


def flow_words(flow: Flow) -> str:
    """A flow on one line."""
    return f"{flow.source} > {flow.destination} {flow.service}"


def _outcome(failure: Failure, hurts: Sequence[Hurt], names: Sequence[str]) -> FailureOutcome:
    counts = Counter(hurt.outcome for hurt in hurts)
    broken = dict.fromkeys(names[hurt.number] for hurt in hurts if hurt.outcome in BROKEN)
    words = {
        "loops": "newly goes round",
        "breaks": "fails",
        "exit": "leaves by another exit",
        "longer": "takes a longer way",
        "moves": "takes another way",
    }
    said = ", ".join(f"{counts[one]:,} × {words[one]}" for one in OUTCOMES if counts[one])
    return FailureOutcome(
        failure.kind,
        failure.name,
        failure.change,
        loops=counts["loops"],
        breaks=counts["breaks"],
        exit=counts["exit"],
        longer=counts["longer"],
        moves=counts["moves"],
        expectations=list(broken),
        words=said,
    )


def expectation_words(one: Expectation) -> str:
    """An expectation as a sentence."""
    what = f"{_some(one.sources)} > {_some(one.destinations)} {_some(one.services)} {one.expect}"
    parts = [
        f"in by {one.enter}" if one.enter else "",
        f"passes {_some(one.passes, ' and ')}" if one.passes else "",
        f"avoids {_some(one.avoids)}" if one.avoids else "",
        "comes back the same way" if one.same_way_back else "",
        f"in {one.hops} hop{'' if one.hops == 1 else 's'} at most" if one.hops is not None else "",
        f"packets to {one.mtu} bytes" if one.mtu is not None else "",
        f"{one.ways} ways that share no {one.apart.replace('_', ' ')}" if one.ways is not None else "",
        f"survives any one {_some([KIND_WORDS[kind] for kind in one.survives], ' or ')}" if one.survives else "",
    ]
    return ", ".join([what, *filter(None, parts)])


def _some(words: Sequence[str], between: str = ", ") -> str:
    shown = between.join(words[:MOST_NAMED])
    return f"{shown} and {len(words) - MOST_NAMED} more" if len(words) > MOST_NAMED else shown


def holding_lines(found: ExpectationsHeld) -> Iterator[str]:
    """The answer as lines for a terminal or a ticket."""
    yield found.words
    marks = {"holds": "=", "fails": "-", "refused": "?"}
    for one in found.expectations:
        mark = marks[one.state] if one.state != "fails" or one.severity == "error" else "~"
        yield f"{mark} {one.name}: {one.words}"
        for flow in one.flows[:MOST_NAMED]:
            yield f"    {flow.flow.source} > {flow.flow.to} {flow.flow.service}: {'; '.join(flow.reasons)}"
        if one.failing_count > MOST_NAMED:
            yield f"    … and {one.failing_count - MOST_NAMED:,} more flows"
        for failure in one.not_survived[:MOST_NAMED]:
            yield f"    does not survive {KIND_WORDS[failure.kind]} {failure.name}: {', '.join(failure.flows)}"
        if one.not_survived_count > MOST_NAMED:
            yield f"    … and {one.not_survived_count - MOST_NAMED:,} more failures"
        yield from (f"    not sure: {doubt}" for doubt in one.doubts)
    for outcome in found.failures:
        said = f" ({_some(outcome.expectations)})" if outcome.expectations else ""
        yield f"! without {KIND_WORDS[outcome.kind]} {outcome.name}: {outcome.words}{said}"
    if found.failures_tried:
        yield f"{found.harmless:,} of {found.failures_tried:,} failures hurt nothing expected"
