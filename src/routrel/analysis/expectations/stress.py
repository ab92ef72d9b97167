"""Flows under each failure of one thing alone: which still do what they should, and which go otherwise."""

from collections.abc import Container, Iterable, Mapping, Sequence
from functools import cached_property
from typing import NamedTuple, get_args

import numpy as np

from routrel.analysis.answers.expectations import Outcome
from routrel.analysis.expectations.conditions import does, parts_of, stops_of
from routrel.analysis.expectations.failures import Failure, failed
from routrel.analysis.expectations.flow_supports import FlowSupports, joined, looked_up
from routrel.analysis.expectations.moved import Asked, Moved
from routrel.analysis.expectations.single_ways import SingleWays, ends_of_way
from routrel.forwarding.flow import Asker, Flow, Standing, Walk
from routrel.forwarding.flow_words import FlowError
from routrel.garbage_collection import collection_paused
from routrel.model.expectations import Expected
from routrel.model.network import Network
from routrel.routing.arrays import Column
from routrel.routing.solve import Solved
from routrel.solving import solve
from routrel.topology.segments import Topology

OUTCOMES: tuple[Outcome, ...] = get_args(Outcome)
"""From the worst to the least."""

BROKEN = ("loops", "breaks")


class Watched(NamedTuple):
    """A flow that does what it should, with its walk as the network is."""

    flow: Flow
    expected: Expected
    walk: Walk


class Hurt(NamedTuple):
    """What a failure does to a flow, by its number; nothing where it goes as before, and not by a single way newly."""

    number: int
    outcome: Outcome


class Stress:
    """One network as it is, and flows that are followed through failures."""

    def __init__(self, solved: Solved, flows: Sequence[Watched]):
        self.solved = solved
        self.flows = flows
        self._supports = FlowSupports(solved)
        self._leans = [_Leaning(solved, one.walk, self._supports) for one in flows]
        self._ways = SingleWays(solved.topology)
        self.walked = 0
        """Walks under failures: what is the same where a flow goes is not walked again."""

    @collection_paused()
    def under(self, failure: Failure, among: Container[int] | None = None) -> list[Hurt]:
        """What the failure of something does to the flows whose ends it leaves; of a host its own cable is an end.

        Where ``among`` is given, to those by these numbers alone.
        """
        left, gone = self._left(failure), self._supports.moved(failure)
        if among is not None:
            left = [number for number in left if number in among]
        touched = [number for number in left if self._leans[number].may_be_touched(gone)]
        network = failed(self.solved.network, failure)
        if not touched:
            return self._hurts(self.solved.topology.of_like(network) or Topology(network), left, {})
        after = solve(network, self.solved)
        untold = [number for number in touched if self._leans[number].ports is None]
        moved_too = self._moved(after, self._asked_of_untold, untold) if untold else set()
        walked = [number for number in touched if number in moved_too or self._leans[number].ports is not None]
        return self._hurts(after.topology, left, self._walk(after, walked, gone))

    def changed(self, network: Network, device: str) -> list[Hurt]:
        """What becomes of flows where the text of one device is another: it may treat packets otherwise."""
        after, every = solve(network, self.solved), range(len(self.flows))
        moved, at = self._moved(after, self._asked, every), self.solved.topology.device_index[device]
        walked = [number for number in every if number in moved or at in self._leans[number].devices]
        return self._hurts(after.topology, every, self._walk(after, walked))

    def rules_out(self, failure: Failure) -> bool:
        """Whether a failure touches nothing that any of the flows rests on: the network is not solved without it."""
        gone = self._supports.moved(failure)
        return not any(self._leans[number].may_be_touched(gone) for number in self._left(failure))

    def _left(self, failure: Failure) -> list[int]:
        """The flows whose ends a failure leaves."""
        gone = failure.devices | failure.hosts
        return [number for number, one in enumerate(self._leans) if not one.ends & gone]

    @cached_property
    def _asked(self) -> Asked:
        return Asked(self.solved, {pair for one in self._leans if not one.is_always_walked for pair in one.asked})

    @cached_property
    def _asked_of_untold(self) -> Asked:
        """Of flows of which it is not told what they rest on."""
        untold = (one for one in self._leans if one.ports is None and not one.is_always_walked)
        return Asked(self.solved, {pair for one in untold for pair in one.asked})

    def _moved(self, after: Solved, asked: Asked, numbers: Iterable[int]) -> set[int]:
        """Flows that may go otherwise by what is otherwise on their ways."""
        moved = Moved(self.solved, after, asked)
        return {number for number in numbers if not self._leans[number].holds(moved)}

    def _walk(self, after: Solved, numbers: Sequence[int], gone: frozenset[int] | None = None) -> dict[int, Outcome]:
        """What becomes of some flows, as far as it is something else; ``gone``: the ports that alone are down now."""
        self.walked += len(numbers)
        instances = {instance for number in numbers for instance, _ in self._leans[number].asked}
        columns = self._columns(after, numbers)
        for solution in after.solutions:
            solution.prepare([one.number for one in solution.processes if one.instance in instances], columns)
        asker = Asker(after)
        stand = [None if gone is None else self._leans[number].standing(gone) for number in numbers]
        asked = zip(numbers, stand, strict=True)
        outcomes = ((number, _outcome(self.flows[number], asker, standing)) for number, standing in asked)
        return {number: outcome for number, outcome in outcomes if outcome is not None}

    def _columns(self, after: Solved, numbers: Iterable[int]) -> Column | None:
        """Those that the flows' addresses are looked up in; None where prefixes have other numbers than they had."""
        if after.prefixes is not self.solved.prefixes:
            return None
        chains = [self._leans[number].prefixes for number in numbers]
        return np.unique(after.prefix_classes.column[np.concatenate([np.zeros(0, np.int64), *chains])])

    def _hurts(self, topology: Topology, numbers: Iterable[int], outcomes: Mapping[int, Outcome]) -> list[Hurt]:
        """What was found of walks, and which flows are left a single way by a state of the network."""
        found = []
        for number in numbers:
            outcome, routers = outcomes.get(number), self._leans[number].routers
            if outcome not in BROKEN and self.flows[number].expected != "never arrives" and routers is not None:
                outcome = "single" if self._ways.are_left(topology, *routers) else outcome
            if outcome is not None:
                found.append(Hurt(number, outcome))
        return found


class _Leaning:
    """What decides about a flow: if it is the same in another state of the network, so is the walk."""

    def __init__(self, solved: Solved, walk: Walk, supports: FlowSupports):
        topology = solved.topology
        stops = stops_of(walk)
        self.devices = {stop.device for stop in stops}
        self.devices |= {end.device for end in (walk.source, walk.destination) if end.device is not None}
        self.asked = looked_up(walk)
        addresses = {address for _, address in self.asked}
        # By another way out a device may choose another address of its own.
        ends = {device for device in (walk.source.device, walk.destination.device) if device is not None}
        addresses.update(
            one for device in ends for port in topology.ports_of[device] for one in topology.ports[port].addresses
        )
        found = {number for address in addresses for number in solved.prefixes.chain(address)}
        self.prefixes: Column = np.array(sorted(found), np.int64)
        """The numbers of those that may lead to the flow's addresses."""
        self.walk = walk
        self._ports_of_ways = supports.of_ways(walk)
        self.ports = joined(self._ports_of_ways)
        """Those that it rests on, None where that is not told."""
        self.is_always_walked = walk.source.device is None or any(topology.devices[one].program for one in self.devices)
        """What comes from outside may come in by any border, and rules may send later packets another way."""
        self.ends = ends_of(solved, walk)
        self.routers = ends_of_way(topology, walk)

    def may_be_touched(self, moved: frozenset[int] | None) -> bool:
        """Whether it may go otherwise where some ports go down; None: and perhaps others."""
        return moved is None or self.ports is None or not self.ports.isdisjoint(moved)

    def standing(self, gone: frozenset[int]) -> Standing | None:
        """Which of its ways do not rest on ports that go down."""
        ways = [ports is not None and ports.isdisjoint(gone) for ports in self._ports_of_ways]
        return Standing(self.walk, *ways) if len(ways) == 2 and not self.walk.parts else None

    def holds(self, moved: Moved) -> bool:
        """Whether all devices on the way have the same ports up, with the same neighbours, and the same routes."""
        return not (self.is_always_walked or self.devices & moved.devices or self.asked & moved.routes)


def ends_of(solved: Solved, walk: Walk) -> set[str]:
    """The devices that a flow comes from and goes to, as far as they are in the model."""
    starts = (walk.forward.stops[number].device for number in walk.forward.starts)
    ends = {walk.destination.device, *(() if walk.source.device is None else starts)}
    return {solved.topology.devices[device].name for device in ends if device is not None}


def passes_ports(walk: Walk, ports: Container[int]) -> bool:
    """Whether a flow leaves a device by one of some ports, there or back."""
    return any(
        branch.port in ports
        for one in parts_of(walk)
        for strand in one.strands
        for stop in strand.stops
        for branch in stop.branches
    )


def _outcome(watched: Watched, asker: Asker, standing: Standing | None = None) -> Outcome | None:
    """What became of a flow."""
    try:
        now = asker.ask(watched.flow, standing=standing)
    except FlowError:
        return "breaks"
    if not does(now, watched.expected):
        return "loops" if any(strand.has_loop for one in parts_of(now) for strand in one.strands) else "breaks"
    was = watched.walk
    if watched.expected == "never arrives" or course_of(was) == course_of(now):
        return None
    if exits_of(was) != exits_of(now):
        return "exit"
    return "longer" if any(a.longest < b.longest for a, b in zip(was.strands, now.strands, strict=False)) else "moves"


def course_of(walk: Walk) -> set[tuple[int, int, int]]:
    """All ports that packets leave by, with what comes in there, by part and direction."""
    return {
        (2 * at + direction, stop.device, branch.port)
        for at, one in enumerate(parts_of(walk))
        for direction, strand in enumerate(one.strands)
        for stop in strand.stops
        for branch in stop.branches
    }


def exits_of(walk: Walk) -> set[tuple[int, int]]:
    """The devices and ports by which a flow leaves the network."""
    return {
        (stop.device, branch.port)
        for one in parts_of(walk)
        for stop in one.forward.stops
        for branch in stop.branches
        if branch.verdict == "leaves"
    }
