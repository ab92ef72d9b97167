"""Which routers are left a single way by a failure, of several that shared no link or no device."""

from typing import Literal, NamedTuple

from routrel.analysis.expectations.two_ways import JoinedRouters, TwoWays
from routrel.analysis.expectations.way_graph import WayGraph
from routrel.forwarding.flow import Walk
from routrel.topology.segments import Topology

AsGraph = Literal["links", "devices"]

APARTS: tuple[AsGraph, ...] = ("links", "devices")

MOST_COUNTED = 9
"""Separate ways are counted up to so many."""


class LeftSingle(NamedTuple):
    """How many ways that share none of ``apart`` there were, and are then: one at most."""

    apart: AsGraph
    before: int
    then: int


class SingleWays:
    """Which two routers of a network are left a single way in another state of it."""

    def __init__(self, topology: Topology):
        self.topology = topology
        self._graphs = {apart: WayGraph(topology, apart) for apart in APARTS}
        self._joined = JoinedRouters(topology)
        self._two_before = TwoWays(self._joined, topology)
        self._then = topology, self._two_before
        """The last other state that was asked about."""
        self._counted = dict[tuple[int, int, AsGraph], int]()

    def left(self, then: Topology, source: int, target: int) -> LeftSingle | None:
        """Whether two routers have one way then and had several; both states have the same devices and ports."""
        two_then = self._two_in(then)
        for apart in self._lost(two_then, source, target):
            before = self._count_before(source, target, apart)
            # Next to each other they have as many ways past other devices as one likes.
            if before < MOST_COUNTED:
                return LeftSingle(apart, before, int(two_then.are_joined(source, target)))
        return None

    def are_left(self, then: Topology, source: int, target: int) -> bool:
        """The same as yes or no: ways are counted only of routers that may have very many."""
        two_then = self._two_in(then)
        if two_then.has_two_of_each(source, target):
            return False
        return any(
            self._has_few(source, target, apart) or self._count_before(source, target, apart) < MOST_COUNTED
            for apart in self._lost(two_then, source, target)
        )

    def _two_in(self, then: Topology) -> TwoWays:
        if self._then[0] is not then:
            joined = self._joined if then.segments is self.topology.segments else JoinedRouters(then)
            self._then = then, TwoWays(joined, then)
        return self._then[1]

    def _lost(self, two_then: TwoWays, source: int, target: int) -> list[AsGraph]:
        """What two ways of theirs shared none of, and then share."""
        before = self._two_before
        return [
            apart
            for apart in APARTS
            if before.has_two(source, target, apart) and not two_then.has_two(source, target, apart)
        ]

    def _has_few(self, source: int, target: int, apart: AsGraph) -> bool:
        """Whether a glance at one end tells that they have fewer ways than are counted."""
        if apart == "links":
            return len(self._joined.beside[source]) < MOST_COUNTED
        neighbors = self._joined.neighbors(source)
        return target not in neighbors and len(neighbors) < MOST_COUNTED

    def _count_before(self, source: int, target: int, apart: AsGraph) -> int:
        key = source, target, apart
        if key not in self._counted:
            self._counted[key] = self._graphs[apart].count(source, target, MOST_COUNTED)
        return self._counted[key]


def ends_of_way(topology: Topology, walk: Walk) -> tuple[int, int] | None:
    """The first and the last router of a flow's way; None where that is one."""
    routers = [stop.device for stop in walk.forward.stops if topology.devices[stop.device].forwards]
    return None if len(set(routers)) < 2 else (routers[0], routers[-1])
