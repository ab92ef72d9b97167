"""How many ways two devices have between them that share no link, device, site or risk group.

Counted over what is up, whether or not routing uses it, as what must fail together to part the two: for links and
devices that is the number of separate ways (Menger's theorem; ``scipy.sparse.csgraph.maximum_flow``). Of sites and risk
groups, which lie on many links at once, it is found by cutting whatever the shortest way left passes.
"""

from collections import defaultdict, deque
from collections.abc import Iterator, Sequence
from typing import NamedTuple

import numpy as np
from scipy.sparse import csr_array
from scipy.sparse.csgraph import maximum_flow

from routrel.forwarding.flow import Walk
from routrel.model.expectations import Apart
from routrel.topology.segments import Topology

MOST_CUTS = 20_000
"""Sets of sites or risk groups that are tried."""

MANY = 1_000
"""Stands for as many ways as one likes."""

MOST_COUNTED = 9
"""Separate ways are counted up to so many where it is asked whether one alone is left."""

Edge = tuple[int, int, int]
"""Two devices next to each other, and their segment."""


class TooManyCutsError(Exception):
    """So many sets would have to be tried that it was given up."""


def separate_ways(topology: Topology, source: int, target: int, apart: Apart, enough: int) -> int:
    """Separate ways between two devices, by number, up to ``enough``; raises ``TooManyCutsError``.

    What the two ends are themselves, or lie in, is not counted: nothing survives its own end. A switched segment is
    one link.
    """
    if source == target:
        return enough
    edges = list(_edges(topology, source, target))
    if apart in ("links", "devices"):
        return min(enough, _flow(len(topology.devices), edges, source, target, apart).total)
    devices = topology.devices
    own = {devices[source].site, devices[target].site}
    beside = defaultdict[int, list[tuple[int, frozenset[str]]]](list)
    for one, other, segment in edges:
        for start, end in ((one, other), (other, one)):
            site = devices[end].site
            met = frozenset([site] if site and site not in own else ())
            beside[start].append((end, met if apart == "sites" else _risk_groups(topology, segment)))
    tried = [0]
    for count in range(enough):
        if _is_parted(beside, source, target, frozenset(), count, tried):
            return count
    return enough


APARTS: tuple[Apart, ...] = ("links", "devices")


class LeftSingle(NamedTuple):
    """How many ways that share none of ``apart`` there were, and are then: one at most."""

    apart: Apart
    before: int
    then: int


class _Ways(NamedTuple):
    """How many separate ways there are, up to ``MOST_COUNTED``, and the ports that two of them pass."""

    total: int
    ports: frozenset[int]


class SingleWays:
    """Which two routers of a network are left a single way in another state of it."""

    def __init__(self, topology: Topology):
        self.topology = topology
        self._before = dict[tuple[int, int, Apart], _Ways]()
        self._moved: tuple[Topology, set[int]] = topology, set()
        """Another state, and the ports that are otherwise there."""

    def left(self, then: Topology, source: int, target: int) -> LeftSingle | None:
        """Whether two routers have one way then and had several; both states have the same ports in their order."""
        if self._moved[0] is not then:
            self._moved = then, _moved_ports(self.topology, then)
        for apart in APARTS:
            key = (source, target, apart)
            if key not in self._before:
                self._before[key] = _ways(self.topology, source, target, apart)
            before = self._before[key]
            # Next to each other they have as many ways past other devices as one likes.
            if 1 < before.total < MOST_COUNTED and before.ports & self._moved[1]:
                left = separate_ways(then, *key, MOST_COUNTED)
                if left <= 1:
                    return LeftSingle(apart, before.total, left)
        return None


def _moved_ports(before: Topology, then: Topology) -> set[int]:
    """Ports that are up in one state alone, or stand on a segment of other ports."""
    if before is then:
        return set()
    return {
        number
        for number, (was, now) in enumerate(zip(before.ports, then.ports, strict=True))
        if was.up != now.up or _beside(before, number) != _beside(then, number)
    }


def _beside(topology: Topology, port: int) -> Sequence[int]:
    segment = topology.segment_of[port]
    return topology.segments[segment].ports if segment >= 0 else ()


def _ways(topology: Topology, source: int, target: int, apart: Apart) -> _Ways:
    count = separate_ways(topology, source, target, apart, MOST_COUNTED)
    if not 1 < count < MOST_COUNTED:
        return _Ways(count, frozenset())
    passed = _flow(len(topology.devices), list(_edges(topology, source, target)), source, target, apart, 2).passed
    ports = (
        port
        for segment, devices in passed.items()
        for port in topology.segments[segment].ports
        if topology.ports[port].device in devices
    )
    return _Ways(count, frozenset(ports))


def ends_of_way(topology: Topology, walk: Walk) -> tuple[int, int] | None:
    """The first and the last router of a flow's way; None where that is one."""
    routers = [stop.device for stop in walk.forward.stops if topology.devices[stop.device].forwards]
    return None if len(set(routers)) < 2 else (routers[0], routers[-1])


def _edges(topology: Topology, source: int, target: int) -> Iterator[Edge]:
    """Devices next to each other on a segment, those that pass nothing on at the ends alone."""
    for segment in topology.segments:
        ports = [topology.ports[port] for port in segment.ports]
        there = sorted(
            {
                port.device
                for port in ports
                if port.up and (topology.devices[port.device].forwards or port.device in (source, target))
            }
        )
        yield from ((one, other, segment.index) for at, one in enumerate(there) for other in there[at + 1 :])


def _risk_groups(topology: Topology, segment: int) -> frozenset[str]:
    links = (topology.network.links[number] for number in topology.segments[segment].links)
    return frozenset(group for link in links for group in link.risk_groups)


class _Flow(NamedTuple):
    """How many ways there are, and by segment the devices that they pass it at."""

    total: int
    passed: dict[int, set[int]]


def _flow(count: int, edges: list[Edge], source: int, target: int, apart: Apart, most: int = MANY) -> _Flow:
    """The most ways that share no segment, or no device: each of them is an edge of a graph that one way may pass."""
    is_by_devices = apart == "devices"
    segments = {segment: 2 * (count + at) for at, segment in enumerate(sorted({edge[2] for edge in edges}))}
    capacity = {
        (2 * device, 2 * device + 1): 1 if is_by_devices and device not in (source, target) else MANY
        for device in range(count)
    }
    capacity[2 * source, 2 * source + 1] = most
    for one, other, segment in edges:
        at = segments[segment]
        capacity[at, at + 1] = MANY if is_by_devices else 1
        for device in (one, other):
            capacity[2 * device + 1, at] = capacity[at + 1, 2 * device] = MANY
    rows, columns = np.array(list(capacity), np.int64).T
    size = 2 * (count + len(segments))
    graph = csr_array((np.array(list(capacity.values()), np.int32), (rows, columns)), shape=(size, size))
    found = maximum_flow(graph, 2 * source, 2 * target)
    passed = defaultdict[int, set[int]](set)
    carried = found.flow.tocoo()
    number = {at: segment for segment, at in segments.items()}
    for start, end, units in zip(*carried.coords, carried.data, strict=True):
        if units > 0 and int(end) in number:
            passed[number[int(end)]].add(int(start) // 2)
        elif units > 0 and int(start) - 1 in number:
            passed[number[int(start) - 1]].add(int(end) // 2)
    return _Flow(int(found.flow_value), passed)


Beside = dict[int, list[tuple[int, frozenset[str]]]]


def _is_parted(beside: Beside, source: int, target: int, gone: frozenset[str], left: int, tried: list[int]) -> bool:
    """Whether so many more things gone part the two: one of them lies on the shortest way that is left."""
    tried[0] += 1
    if tried[0] > MOST_CUTS:
        raise TooManyCutsError
    way = _way(beside, source, target, gone)
    if way is None:
        return True
    return left > 0 and any(_is_parted(beside, source, target, gone | {one}, left - 1, tried) for one in sorted(way))


def _way(beside: Beside, source: int, target: int, gone: frozenset[str]) -> frozenset[str] | None:
    """What lies on the shortest way that passes nothing that is gone; None where there is no way."""
    before: dict[int, tuple[int, frozenset[str]]] = {source: (source, frozenset())}
    waiting = deque([source])
    while waiting:
        device = waiting.popleft()
        if device == target:
            found: set[str] = set()
            while device != source:
                device, passed = before[device]
                found |= passed
            return frozenset(found)
        for other, passed in beside.get(device, ()):
            if other not in before and not passed & gone:
                before[other] = device, passed
                waiting.append(other)
    return None
