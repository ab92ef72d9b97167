"""Which routers are left a single way by a failure, of several that shared no link or no device."""

from collections.abc import Sequence
from typing import Literal, NamedTuple

from routrel.analysis.expectations.way_graph import WayGraph, Ways
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
        self._two = dict[tuple[int, int, AsGraph], Ways]()
        """Two of the ways, where there are."""
        self._then = _Then(topology, topology)

    def left(self, then: Topology, source: int, target: int) -> LeftSingle | None:
        """Whether two routers have one way then and had several; both states have the same ports in their order."""
        if self._then.topology is not then:
            self._then = _Then(self.topology, then)
        for apart in APARTS:
            key = (source, target, apart)
            if key not in self._two:
                self._two[key] = self._graphs[apart].ways(source, target, 2)
            two = self._two[key]
            if two.total < 2 or not two.ports & self._then.moved:
                continue
            left = self._then.graph(apart).count(source, target, 2)
            if left < 2:
                before = self._graphs[apart].count(source, target, MOST_COUNTED)
                # Next to each other they have as many ways past other devices as one likes.
                if before < MOST_COUNTED:
                    return LeftSingle(apart, before, left)
        return None


class _Then:
    """Another state of a network."""

    def __init__(self, before: Topology, topology: Topology):
        self.topology = topology
        self.moved = _moved_ports(before, topology)
        self._graphs = dict[AsGraph, WayGraph]()

    def graph(self, apart: AsGraph) -> WayGraph:
        if apart not in self._graphs:
            self._graphs[apart] = WayGraph(self.topology, apart)
        return self._graphs[apart]


def ends_of_way(topology: Topology, walk: Walk) -> tuple[int, int] | None:
    """The first and the last router of a flow's way; None where that is one."""
    routers = [stop.device for stop in walk.forward.stops if topology.devices[stop.device].forwards]
    return None if len(set(routers)) < 2 else (routers[0], routers[-1])


def _moved_ports(before: Topology, then: Topology) -> set[int]:
    """Ports that are up in one state alone, or stand on a segment of other ports."""
    if before is then:
        return set()
    if before.segment_of == then.segment_of and [one.ports for one in before.segments] == [
        one.ports for one in then.segments
    ]:
        return {now.index for was, now in zip(before.ports, then.ports, strict=True) if was.up != now.up}
    return {
        now.index
        for was, now in zip(before.ports, then.ports, strict=True)
        if was.up != now.up or _beside(before, now.index) != _beside(then, now.index)
    }


def _beside(topology: Topology, port: int) -> Sequence[int]:
    segment = topology.segment_of[port]
    return topology.segments[segment].ports if segment >= 0 else ()
