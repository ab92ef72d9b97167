"""All expectations held against a network, as it is and under failures, part by part."""

from collections import Counter, defaultdict
from collections.abc import Iterable, Iterator, Sequence
from dataclasses import dataclass, field
from itertools import product

from msgspec.structs import replace

from routrel.analysis.answers.expectations import (
    ExpectationHeld,
    ExpectationsHeld,
    ExpectationsSoFar,
    FailureHurts,
    FailureOutcome,
    FailuresPart,
    FlowHeld,
    HoldState,
    NotSurvived,
)
from routrel.analysis.expectations.conditions import Checked, Conditions
from routrel.analysis.expectations.failures import KINDS, Failure, failures_of
from routrel.analysis.expectations.stress import OUTCOMES, Hurt, Stress, Watched
from routrel.analysis.expectations.words import MOST_NAMED, OUTCOME_WORDS, expectation_words, flow_words, held_words
from routrel.analysis.walk_verdicts import asked_flow
from routrel.forwarding.flow import Flow
from routrel.model.expectations import Expectation, FailureKind
from routrel.routing.solve import Solved

MOST_FLOWS, MOST_FAILURES = 50, 200
"""Flows and failures that are listed of one expectation; all are counted."""

BROKEN = ("breaks", "loops")


@dataclass
class _Held:
    """An expectation, its flows, and what was found of each."""

    expectation: Expectation
    flows: list[Flow]
    checked: list[Checked] = field(default_factory=list)

    @property
    def state(self) -> HoldState:
        if any(one.reasons for one in self.checked):
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
    all_of_it = Holding(solved, expectations, stress, with_survival)
    parts, count = list[FailuresPart](), len(all_of_it.failures)
    for number in range(count):
        yield ExpectationsSoFar(number, count, None)
        parts.append(all_of_it.part(range(number, number + 1)))
    yield ExpectationsSoFar(count, count, together(all_of_it.as_it_is(), parts))


class Holding:
    """Expectations of one network, and the failures they are held under, each of which may be looked at by anybody."""

    def __init__(
        self,
        solved: Solved,
        expectations: Sequence[Expectation],
        stress: Iterable[FailureKind] = (),
        with_survival: bool = True,
    ):
        conditions, self._stressed = Conditions(solved), set(stress)
        self._all = [_Held(one, flows_of(one)) for one in expectations]
        for held in self._all:
            held.checked = [conditions.check(held.expectation, flow) for flow in held.flows]
        # Only what does what it should can be hurt.
        watched = list[Watched]()
        self._of = list[tuple[int, int]]()
        for at, held in enumerate(self._all):
            for number, one in enumerate(held.checked):
                if (
                    one.holds
                    and one.walk is not None
                    and (self._stressed or (with_survival and held.expectation.survives))
                ):
                    watched.append(Watched(held.flows[number], held.expectation.expect, one.walk))
                    self._of.append((at, number))
        named = {kind for held in self._all for kind in held.expectation.survives if with_survival}
        kinds = [kind for kind in KINDS if kind in self._stressed | named]
        self.failures: list[Failure] = list(failures_of(solved, kinds)) if watched else []
        """All to look at, always in the same order."""
        self._stress = Stress(solved, watched)

    def as_it_is(self) -> ExpectationsHeld:
        """What is found without any failure."""
        states = Counter(held.state for held in self._all)
        return ExpectationsHeld(
            held_words(states, len(self._all), 0, 0),
            states["holds"],
            states["fails"],
            states["refused"],
            [_expectation(held) for held in self._all],
            [],
            0,
            0,
        )

    def part(self, numbers: range) -> FailuresPart:
        """What some of the failures do."""
        outcomes, not_survived = list[FailureOutcome](), list[NotSurvived]()
        failures = self.failures[numbers.start : numbers.stop]
        names = [self._all[at].expectation.name for at, _ in self._of]
        for failure in failures:
            hurts = self._stress.under(failure)
            not_survived += self._not_survived(failure, hurts)
            if failure.kind in self._stressed and hurts:
                outcomes.append(_outcome(failure, hurts, names))
        return FailuresPart(sum(one.kind in self._stressed for one in failures), outcomes, not_survived)

    def _not_survived(self, failure: Failure, hurts: Sequence[Hurt]) -> Iterator[NotSurvived]:
        broken = defaultdict[int, list[str]](list)
        for hurt in hurts:
            at, number = self._of[hurt.number]
            if hurt.outcome in BROKEN and failure.kind in self._all[at].expectation.survives:
                broken[at].append(flow_words(self._all[at].flows[number]))
        for at, flows in broken.items():
            hurt_by = FailureHurts(failure.kind, failure.name, failure.change, flows[:MOST_NAMED], len(flows))
            yield NotSurvived(at, hurt_by)


def together(as_it_is: ExpectationsHeld, parts: Iterable[FailuresPart]) -> ExpectationsHeld:
    """What was found without a failure and under those of some parts, in their order."""
    not_survived = defaultdict[int, list[FailureHurts]](list)
    failures, tried = list[FailureOutcome](), 0
    for part in parts:
        tried += part.tried
        failures += part.failures
        for one in part.not_survived:
            not_survived[one.expectation].append(one.failure)
    failures.sort(
        key=lambda one: (-one.loops - one.breaks, -one.exit, -one.longer, -one.moves, KINDS.index(one.kind), one.name)
    )
    expectations = [
        replace(
            one, state="fails", not_survived=not_survived[at][:MOST_FAILURES], not_survived_count=len(not_survived[at])
        )
        if at in not_survived
        else one
        for at, one in enumerate(as_it_is.expectations)
    ]
    states = Counter(one.state for one in expectations)
    return ExpectationsHeld(
        held_words(states, len(expectations), tried, len(failures)),
        states["holds"],
        states["fails"],
        states["refused"],
        expectations,
        failures,
        tried,
        tried - len(failures),
    )


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
        not_survived=[],
        not_survived_count=0,
        doubts=list(dict.fromkeys(doubt for checked in held.checked for doubt in checked.doubts)),
    )


def _outcome(failure: Failure, hurts: Sequence[Hurt], names: Sequence[str]) -> FailureOutcome:
    counts = Counter(hurt.outcome for hurt in hurts)
    broken = dict.fromkeys(names[hurt.number] for hurt in hurts if hurt.outcome in BROKEN)
    said = ", ".join(f"{counts[one]:,} × {OUTCOME_WORDS[one]}" for one in OUTCOMES if counts[one])
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
