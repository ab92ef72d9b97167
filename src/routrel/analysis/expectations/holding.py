"""All expectations held against a network, as it is and under failures, part by part."""

from collections import Counter, defaultdict
from collections.abc import Iterable, Iterator, Sequence
from dataclasses import dataclass, field
from itertools import product

from routrel.analysis.answers.expectations import (
    ExpectationHeld,
    ExpectationsHeld,
    ExpectationsSoFar,
    FailedToo,
    FailureHurts,
    FailureOutcome,
    FailuresPart,
    FlowHeld,
    HoldState,
    NotSurvived,
    Outcome,
)
from routrel.analysis.expectations.conditions import Checked, Conditions
from routrel.analysis.expectations.failures import KINDS, Failure, FailuresToTry, failures_of
from routrel.analysis.expectations.stress import BROKEN, OUTCOMES, Hurt, Stress, Watched
from routrel.analysis.expectations.words import MOST_NAMED, OUTCOME_WORDS, expectation_words, flow_words, held_words
from routrel.analysis.walk_verdicts import asked_flow
from routrel.formats.expectations_file import expectation_data
from routrel.forwarding.flow import Flow
from routrel.model.expectations import Expectation, FailureKind
from routrel.model.fields import replace
from routrel.routing.solve import Solved

MOST_FLOWS, MOST_FAILURES = 50, 200
"""Flows and failures that are listed of one expectation; all are counted."""


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


def hold(
    solved: Solved,
    expectations: Sequence[Expectation],
    stress: Iterable[FailureKind] = (),
    two_at_once: bool = False,
) -> ExpectationsHeld:
    """Expectations held against a network; under each failure of the kinds of ``stress`` too, or each two of them.

    Raises ``TooManyFailuresError``.
    """
    *_, last = holding(solved, expectations, stress, True, two_at_once)
    assert last.held is not None
    return last.held


def holding(
    solved: Solved,
    expectations: Sequence[Expectation],
    stress: Iterable[FailureKind] = (),
    with_survival: bool = True,
    two_at_once: bool = False,
) -> Iterator[ExpectationsSoFar]:
    """The same step by step; without ``with_survival`` what is to survive is not looked into."""
    kinds = list(stress)
    all_of_it = [Holding(solved, expectations, [] if two_at_once else kinds, with_survival)]
    if two_at_once:
        all_of_it.append(Holding(solved, expectations, kinds, False, True))
    parts, count = list[FailuresPart](), sum(len(one.failures) for one in all_of_it)
    for one in all_of_it:
        for number in range(len(one.failures)):
            yield ExpectationsSoFar(len(parts), count, None)
            parts.append(one.part(range(number, number + 1)))
    yield ExpectationsSoFar(count, count, together(all_of_it[0].as_it_is(), parts))


class Holding:
    """Expectations of one network, and the failures they are held under, each of which may be looked at by anybody."""

    def __init__(
        self,
        solved: Solved,
        expectations: Sequence[Expectation],
        stress: Iterable[FailureKind] = (),
        with_survival: bool = True,
        two_at_once: bool = False,
    ):
        """Raises ``TooManyFailuresError``. Two fail at once of the kinds of ``stress``; what survives survives one."""
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
        alone = [*failures_of(solved, self._stressed), *failures_of(solved, named - self._stressed)]
        self.failures = FailuresToTry(alone if watched else [], two_at_once)
        """All to look at, those that were asked for first."""
        self._surviving = {
            kind: {number for number, (at, _) in enumerate(self._of) if kind in self._all[at].expectation.survives}
            for kind in named - self._stressed
        }
        """By kind of failures that nobody asked for, the flows that are to survive them; of others all are followed."""
        self._stress = Stress(solved, watched)
        self._hurt_alone = dict[int, dict[int, Outcome]]()

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
            0,
        )

    def part(self, numbers: range) -> FailuresPart:
        """What some of the failures do."""
        outcomes, not_survived = list[FailureOutcome](), list[NotSurvived]()
        names = [self._all[at].expectation.name for at, _ in self._of]
        tried = ruled_out = 0
        for number in numbers:
            failure = self.failures[number]
            hurts = self._hurts(number, failure)
            if not self.failures.two_at_once:
                not_survived += self._not_survived(failure, hurts)
            if failure.kind in self._stressed:
                tried += 1
                ruled_out += self._stress.rules_out(failure)
                if hurts:
                    outcomes.append(_outcome(failure, hurts, names))
        return FailuresPart(tried, outcomes, not_survived, ruled_out=ruled_out)

    def _hurts(self, number: int, failure: Failure) -> list[Hurt]:
        """What a failure does; where it is of two things, only what is worse than each does alone."""
        hurts = self._stress.under(failure, self._surviving.get(failure.kind))
        if not self.failures.two_at_once or not hurts:
            return hurts
        alone = [self._alone(one) for one in self.failures.numbers(number)]
        return [
            hurt
            for hurt in hurts
            if all(
                hurt.number not in one or OUTCOMES.index(hurt.outcome) < OUTCOMES.index(one[hurt.number])
                for one in alone
            )
        ]

    def _alone(self, number: int) -> dict[int, Outcome]:
        """What one of two failures does alone, by flow."""
        found = self._hurt_alone.get(number)
        if found is None:
            found = {hurt.number: hurt.outcome for hurt in self._stress.under(self.failures.alone[number])}
            self._hurt_alone[number] = found
        return found

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
    failures, tried, ruled_out = list[FailureOutcome](), 0, 0
    for part in parts:
        tried, ruled_out = tried + part.tried, ruled_out + part.ruled_out
        failures += part.failures
        for one in part.not_survived:
            not_survived[one.expectation].append(one.failure)
    failures.sort(key=_worst_first)
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
        ruled_out,
    )


def _worst_first(one: FailureOutcome) -> tuple[int | str, ...]:
    hurt = -one.loops - one.breaks, -one.single, -one.exit, -one.longer, -one.moves
    return *hurt, KINDS.index(one.kind), one.name


def _expectation(held: _Held) -> ExpectationHeld:
    one = held.expectation
    failing = [(flow, checked) for flow, checked in zip(held.flows, held.checked, strict=True) if not checked.holds]
    return ExpectationHeld(
        name=one.name,
        words=expectation_words(one),
        entry=expectation_data(one),
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
        None if failure.second is None else FailedToo(failure.second.kind, failure.second.name, failure.second.change),
        loops=counts["loops"],
        breaks=counts["breaks"],
        single=counts["single"],
        exit=counts["exit"],
        longer=counts["longer"],
        moves=counts["moves"],
        expectations=list(broken),
        words=said,
    )
