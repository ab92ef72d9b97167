"""What takes over where flows leave by another exit: it carries none as the network is, and they fail without both."""

from collections.abc import Collection, Iterator, Sequence
from typing import NamedTuple

from routrel.analysis.expectations.failures import Failure, failed
from routrel.analysis.expectations.passed import Passed
from routrel.analysis.expectations.stress import BROKEN, Hurt, Stress
from routrel.forwarding.flow import Asker
from routrel.solving import solve

MOST_EXITS = 8
"""Failures by which flows leave otherwise that are looked at, sessions first: they are what exits hang on."""

MOST_TRIED = 200
"""Failures of two things that are tried."""


class Exit(NamedTuple):
    """A failure by which some flows, by number, leave by another exit."""

    failure: Failure
    flows: frozenset[int]

    @classmethod
    def of(cls, failure: Failure, hurts: Sequence[Hurt]) -> "Exit":
        return cls(failure, frozenset(hurt.number for hurt in hurts if hurt.outcome == "exit"))


def pairs_to_try(
    stress: Stress, exits: Sequence[Exit], failures: Sequence[Failure], alone: Collection[tuple[str, str]]
) -> list[tuple[Exit, Failure]]:
    """Exits, each with what its flows pass only then, or what a session there may bring; ``alone`` are the kinds and
    names of what they lean on without that."""
    chosen = sorted((one for one in exits if one.flows), key=lambda one: one.failure.kind != "sessions")[:MOST_EXITS]
    return [(one, other) for one in chosen for other in _passed_then(stress, one, failures, alone)]


def _passed_then(
    stress: Stress, one: Exit, failures: Sequence[Failure], alone: Collection[tuple[str, str]]
) -> Iterator[Failure]:
    after = solve(failed(stress.solved.network, one.failure), stress.solved)
    asker = Asker(after)
    passed = Passed(after, [asker.ask(stress.flows[number].flow) for number in sorted(one.flows)])
    for other in failures:
        if (other.kind, other.name) not in alone and (passed.has(other) or passed.has_end(other)):
            yield other


def are_lost(stress: Stress, one: Exit, other: Failure) -> list[int]:
    """The flows that leave by another exit without the first, and fail without both."""
    hurts = stress.under(one.failure.with_second(other), one.flows)
    return [hurt.number for hurt in hurts if hurt.outcome in BROKEN]
