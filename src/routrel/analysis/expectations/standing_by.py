"""What takes over where flows leave by another exit: it carries none as the network is, and they fail without both."""

from collections import defaultdict
from collections.abc import Collection, Iterator, Sequence
from typing import NamedTuple

from routrel.analysis.expectations.failures import Failure, failed
from routrel.analysis.expectations.passed import Passed
from routrel.analysis.expectations.stress import BROKEN, Hurt, Stress, exits_of
from routrel.forwarding.flow import Asker
from routrel.model.network import InterfaceName
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
    chosen = sorted(exits, key=lambda one: one.failure.kind != "sessions")[:MOST_EXITS]
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


class OwnExits:
    """The exits of expected flows as the network is: all of a flow's own may fail together."""

    def __init__(self, stress: Stress):
        self._stress = stress
        ports, found = stress.solved.topology.ports, defaultdict[frozenset[InterfaceName], set[int]](set)
        for number, one in enumerate(stress.flows):
            exits = frozenset(ports[port].name for _, port in exits_of(one.walk))
            if exits and one.expected != "never arrives":
                found[exits].add(number)
        self.left_out = max(0, len(found) - MOST_EXITS)
        """Exits that are not looked behind."""
        self._exits = [
            Exit(Failure("interfaces", str(min(exits)), str(min(exits)), interfaces=exits), frozenset(flows))
            for exits, flows in sorted(found.items(), key=lambda item: -len(item[1]))[:MOST_EXITS]
        ]
        self._have_another = dict[int, frozenset[int]]()

    def left_single(self, failure: Failure, but_for: Collection[int]) -> list[Hurt]:
        """The flows that have another exit, and none without what fails, which alone does nothing to them."""
        found = set[int]()
        for at, one in enumerate(self._exits):
            if one.failure.interfaces & failure.interfaces:
                continue
            if at not in self._have_another:
                hurts = self._stress.under(one.failure, one.flows)
                self._have_another[at] = one.flows - {hurt.number for hurt in hurts if hurt.outcome in BROKEN}
            flows = self._have_another[at] - set(but_for)
            found.update(are_lost(self._stress, Exit(one.failure, flows), failure) if flows else ())
        return [Hurt(number, "single") for number in sorted(found)]
