"""What an expectation leans on: whatever would alter it, were it changed or did it fail.

What leads its flows (routes, entries, policies) is read off their ways, all equal-cost ones, there and back, and taken
out where that can be done. Devices, links and sessions are let fail, each alone; entries that packets of sessions or
between neighbours meet are taken out too. Where flows leave by another exit, what they pass then is let fail beside
what led them to it.
"""

from collections.abc import Iterable, Iterator, Sequence
from dataclasses import dataclass, field

from routrel.analysis.answers.expectations import FailedToo, LeanedOn, Leaning, LeaningSoFar, LedBy, Outcome, Role
from routrel.analysis.evidence import Evidence
from routrel.analysis.expectations.conditions import Checked, Conditions
from routrel.analysis.expectations.deciders import (
    Decider,
    Kind,
    deciders,
    policies_left_out,
)
from routrel.analysis.expectations.failures import KIND_WORDS, Failure, failures_of
from routrel.analysis.expectations.holding import flows_of
from routrel.analysis.expectations.own_packets import MOST_SESSIONS, own_entries
from routrel.analysis.expectations.passed import Passed
from routrel.analysis.expectations.standing_by import MOST_EXITS, MOST_TRIED, Exit, are_lost, pairs_to_try
from routrel.analysis.expectations.stress import OUTCOMES, Hurt, Stress, Watched
from routrel.analysis.expectations.words import MOST_NAMED, OUTCOME_WORDS, flow_words
from routrel.model.expectations import Expectation, FailureKind
from routrel.routing.solve import Solved

KINDS_TRIED: tuple[FailureKind, ...] = ("devices", "links", "sessions", "interfaces")

MOST_FLOWS = 200
"""Flows of an expectation that are looked at."""

MOST_LED_BY = 300
"""Routes, entries and statements that are listed; all are counted."""

ROLE_WORDS: dict[Role, tuple[str, str]] = {
    "carries": ("carries it", "carry it"),
    "decides": ("decides about it", "decide about it"),
    "stands by": ("stands by", "stand by"),
}
"""What one does, and several do."""

ROLES = tuple(ROLE_WORDS)

LED_BY_KINDS: tuple[Kind, ...] = ("entry", "policy", "route")


def leaning_of(solved: Solved, name: str) -> Iterator[LeaningSoFar]:
    """What the expectation of a name leans on."""
    named = [one for one in solved.network.expectations if one.name == name]
    if not named:
        nothing = Leaning(name, "there is no such expectation", [], [], 0)
        yield LeaningSoFar(0, 0, nothing, nothing)
    for one in named:
        yield from leaning(solved, one)


def leaning(solved: Solved, expectation: Expectation) -> Iterator[LeaningSoFar]:
    """What an expectation leans on, with each step what is known by then."""
    conditions = Conditions(solved)
    flows = flows_of(expectation)
    checked = [conditions.check(expectation, flow) for flow in flows[:MOST_FLOWS]]
    walks = [one.walk for one in checked if one.walk is not None]
    watched = [Watched(one.walk.flow, expectation.expect, one.walk) for one in checked if one.holds and one.walk]
    evidence = Evidence(conditions.answerer)
    led_by = deciders(evidence, walks)
    passed = Passed(solved, walks)
    # An interface at a cable of two ends goes down with it, which is tried.
    cabled = {end for link in solved.network.links if len(link.ends) == 2 for end in link.ends}
    every = [one for one in failures_of(solved, KINDS_TRIED) if not one.interfaces & cabled]
    failures = [one for one in every if one.kind != "interfaces" or passed.has(one)]
    failures.sort(key=lambda one: not passed.has(one))
    taken_out = [one for one in led_by if one.without is not None]
    left_out = _more(
        (len(flows), MOST_FLOWS, "flows were not looked at"),
        (policies_left_out(solved), 0, "policies were not looked at"),
    )
    found = _Found(expectation, checked, led_by, left_out)
    of, done, stress = len(failures) + len(taken_out), 0, Stress(solved, watched)
    if not watched:
        of, failures, taken_out = 0, [], []
    hurting, exits = list[Failure](), list[Exit]()
    for failure in failures:
        yield LeaningSoFar(done, of, found.answer(), None)
        hurts = stress.under(failure)
        found.add(failure, hurts, passed.has(failure, hurts), watched)
        hurting += [failure] if hurts else []
        exits += [exit_] if (exit_ := Exit.of(failure, hurts)).flows else []
        done += 1
    pairs = pairs_to_try(stress, exits, every, {(one.kind, one.name) for one in found.elements})
    found.left_out += _more(
        (len(exits), MOST_EXITS, "failures by which flows leave otherwise were not looked behind"),
        (len(pairs), MOST_TRIED, "failures of two things were not tried"),
        (sum(one.kind == "sessions" for one in failures), MOST_SESSIONS, "sessions' packets were not followed"),
    )
    pairs = pairs[:MOST_TRIED]
    # What is passed only then was not tried alone yet: only what does nothing alone stands by.
    untried = {other.name: other for _, other in pairs if other.kind == "interfaces"}
    of += len(untried) + len(pairs)
    for other in untried.values():
        yield LeaningSoFar(done, of, found.answer(), None)
        found.add(other, stress.under(other), False, watched)
        done += 1
    for exit_, other in pairs:
        yield LeaningSoFar(done, of, found.answer(), None)
        if not found.has(other):
            found.take_over(exit_.failure, other, [watched[number] for number in are_lost(stress, exit_, other)])
        done += 1
    own = found.beside(own_entries(evidence, [one for one in failures if one.sessions], hurting))
    of += len(own)
    for one in (*taken_out, *own):
        yield LeaningSoFar(done, of, found.answer(), None)
        assert one.without is not None
        found.outcomes[one.key] = _worst(stress.changed(one.without, one.device))
        done += 1
    found.led_by += [one for one in own if found.outcomes[one.key] is not None]
    yield LeaningSoFar(of, of, found.answer(), found.answer())


def _more(*counted: tuple[int, int, str]) -> list[str]:
    """What is left out, in words: of how many there are, and are looked at."""
    return [f"{count - most:,} more {what}" for count, most, what in counted if count > most]


@dataclass
class _Found:
    """What was found by now."""

    expectation: Expectation
    checked: Sequence[Checked]
    led_by: list[Decider]
    left_out: list[str]
    elements: list[LeanedOn] = field(default_factory=list)
    outcomes: dict[tuple[Kind, str, str], Outcome | None] = field(default_factory=dict)

    def add(self, failure: Failure, hurts: Sequence[Hurt], is_passed: bool, watched: Sequence[Watched]) -> None:
        """What the failure of something does: nothing where flows neither pass it nor go otherwise without it."""
        worst = _worst(hurts)
        if worst is None and not is_passed:
            return
        role: Role = "carries" if is_passed else "stands by" if worst == "single" else "decides"
        flows = [flow_words(watched[hurt.number].flow) for hurt in hurts if hurt.outcome == worst]
        self.elements.append(
            LeanedOn(failure.kind, failure.name, failure.change, role, worst, flows[:MOST_NAMED], len(flows))
        )
        self.elements.sort(key=_worst_first)

    def has(self, failure: Failure) -> bool:
        """Whether something is told of what fails."""
        return any((one.kind, one.name) == (failure.kind, failure.name) for one in self.elements)

    def take_over(self, first: Failure, other: Failure, lost: Sequence[Watched]) -> None:
        """That flows are lost without both, of which the other alone does nothing."""
        if not lost:
            return
        flows = [flow_words(one.flow) for one in lost]
        instead_of = FailedToo(first.kind, first.name, first.change)
        self.elements.append(
            LeanedOn(
                other.kind, other.name, other.change, "stands by", None, flows[:MOST_NAMED], len(flows), instead_of
            )
        )
        self.elements.sort(key=_worst_first)

    def beside(self, others: Iterable[Decider]) -> list[Decider]:
        """What others take out that is not taken out already, each once."""
        taken = [one.change for one in self.led_by]
        left = list[Decider]()
        for one in others:
            if one.change not in taken:
                taken.append(one.change)
                left.append(one)
        self.left_out += _more((len(left), MOST_LED_BY, "entries of sessions and neighbours were not looked at"))
        return left[:MOST_LED_BY]

    def answer(self) -> Leaning:
        shown = [
            LedBy(one.kind, one.device, one.words, one.place, one.change, self.outcomes.get(one.key))
            for one in self.led_by
        ]
        shown.sort(key=lambda one: (LED_BY_KINDS.index(one.kind), _rank(one.outcome)))
        return Leaning(self.expectation.name, self._words(), list(self.elements), shown[:MOST_LED_BY], len(shown))

    def _words(self) -> str:
        holding = sum(one.holds for one in self.checked)
        if not holding:
            return "it does not hold: only what leads its flows is said"
        counts = {role: sum(one.role == role for one in self.elements) for role in ROLES}
        words = ", ".join(f"{counts[role]} {ROLE_WORDS[role][counts[role] > 1]}" for role in ROLES if counts[role])
        if failing := len(self.checked) - holding:
            words += f"; {failing} of {len(self.checked)} flows do not hold, and are left out"
        return "; ".join([words, *self.left_out])


def _worst(hurts: Sequence[Hurt]) -> Outcome | None:
    return min((hurt.outcome for hurt in hurts), key=OUTCOMES.index, default=None)


def _worst_first(one: LeanedOn) -> tuple[int, int, int, str]:
    return ROLES.index(one.role), _rank(one.outcome), KINDS_TRIED.index(one.kind), one.name


def _rank(outcome: Outcome | None) -> int:
    return len(OUTCOMES) if outcome is None else OUTCOMES.index(outcome)


def leaning_lines(found: Leaning) -> Iterator[str]:
    """The answer as lines for a terminal or a ticket."""
    yield f"{found.name}: {found.words}"
    for one in found.elements:
        outcome = "flows end in it, or go as before without it" if one.outcome is None else OUTCOME_WORDS[one.outcome]
        if one.instead_of is not None:
            outcome = f"takes over without {KIND_WORDS[one.instead_of.kind]} {one.instead_of.name}"
        yield f"{one.role}: {KIND_WORDS[one.kind]} {one.name}: {outcome}"
    for led in found.led_by:
        without = f" (without it: {OUTCOME_WORDS[led.outcome]})" if led.outcome else ""
        yield f"{led.kind}: {led.device}: {led.words}{without}"
    if found.led_by_count > len(found.led_by):
        yield f"… and {found.led_by_count - len(found.led_by):,} more"
