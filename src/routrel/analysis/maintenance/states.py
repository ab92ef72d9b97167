"""What is expected of a network, looked at in one state after the other on the way to having things shut."""

import json
from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from typing import Any, NamedTuple

from routrel.analysis.expectations.conditions import Conditions
from routrel.analysis.expectations.failures import Failure
from routrel.analysis.expectations.holding import flows_of
from routrel.analysis.expectations.stress import course_of, ends_of
from routrel.analysis.trial import Trial
from routrel.formats.changes.reading import changes_of
from routrel.forwarding.flow import Flow, Walk
from routrel.model.expectations import Expectation
from routrel.routing.solve import Solved


class Expected(NamedTuple):
    """A flow that does what is expected of it as the network is."""

    expectation: Expectation
    flow: Flow
    walk: Walk


@dataclass(frozen=True)
class State:
    """A network on the way: why flows break, by their number, and the walks of those that do not."""

    solved: Solved
    broken: Mapping[int, str]
    walks: Mapping[int, Walk]


class States:
    """A network as it is, what holds of it, and the same with changes, each state solved once."""

    def __init__(self, files: Mapping[str, bytes], solved: Solved, failures: Sequence[Failure]):
        self.files = files
        self.solved = solved
        conditions = Conditions(solved)
        shut = {name for one in failures for name in one.devices | one.hosts}
        self.expected: list[Expected] = []
        self.own_ends: list[Expected] = []
        """What ends in what is shut."""
        for expectation in solved.network.expectations:
            for flow in flows_of(expectation):
                found = conditions.check(expectation, flow)
                if found.holds and found.walk is not None:
                    one = Expected(expectation, flow, found.walk)
                    (self.own_ends if ends_of(solved, found.walk) & shut else self.expected).append(one)
        self.as_it_is = State(solved, {}, {number: one.walk for number, one in enumerate(self.expected)})
        self._known = dict[str, State]()

    @property
    def looked_at(self) -> int:
        """States that were solved."""
        return len(self._known)

    def after(self, changes: Sequence[dict[str, Any]]) -> State:
        """The state with some changes."""
        key = json.dumps(sorted(json.dumps(change, sort_keys=True) for change in changes))
        state = self._known.get(key)
        if state is None:
            state = self._known[key] = self._solved(changes)
        return state

    def _solved(self, changes: Sequence[dict[str, Any]]) -> State:
        after = Trial.of(self.files, self.solved, changes_of(list(changes))).after
        conditions = Conditions(after)
        broken, walks = dict[int, str](), dict[int, Walk]()
        for number, one in enumerate(self.expected):
            found = conditions.check(one.expectation, one.flow)
            if found.holds and found.walk is not None:
                walks[number] = found.walk
            else:
                broken[number] = found.refused or "; ".join(found.reasons)
        return State(after, broken, walks)

    @staticmethod
    def moved(before: State, after: State) -> int:
        """Flows that work in both, by another way."""
        both = before.walks.keys() & after.walks.keys()
        return sum(course_of(before.walks[number]) != course_of(after.walks[number]) for number in both)
