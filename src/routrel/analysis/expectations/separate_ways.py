"""How many ways two devices have between them that share no link, device, site or risk group.

Counted over what is up, whether or not routing uses it, as what must fail together to part the two: for links and
devices that is a flow (``way_graph.py``). Of sites and risk
groups, which lie on many links at once, it is found by cutting whatever the shortest way left passes.
"""

from collections import defaultdict, deque
from collections.abc import Iterator

from routrel.analysis.expectations.way_graph import WayGraph
from routrel.model.expectations import Apart
from routrel.topology.segments import Topology

MOST_CUTS = 20_000
"""Sets of sites or risk groups that are tried."""

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
    if apart == "links" or apart == "devices":
        return WayGraph(topology, apart).count(source, target, enough)
    devices = topology.devices
    own = {devices[source].site, devices[target].site}
    beside = defaultdict[int, list[tuple[int, frozenset[str]]]](list)
    for one, other, segment in _edges(topology, source, target):
        for start, end in ((one, other), (other, one)):
            site = devices[end].site
            met = frozenset([site] if site and site not in own else ())
            beside[start].append((end, met if apart == "sites" else _risk_groups(topology, segment)))
    tried = [0]
    for count in range(enough):
        if _is_parted(beside, source, target, frozenset(), count, tried):
            return count
    return enough


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
