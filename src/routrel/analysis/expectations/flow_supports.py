"""Ports that a flow rests on, and those that failures move: where they share none, the flow goes as before.

This rules out most failures without solving the network anew. It is told of flows inside the network, and of failures
that only take away: of links and interfaces at cables of two ends, one of them routed, and of devices that have no
others. What hangs together by cables between switches, or by bundles, is not looked through.
"""

from collections import defaultdict
from collections.abc import Iterator, Sequence
from functools import cached_property

from routrel.analysis.expectations.conditions import parts_of
from routrel.analysis.expectations.failures import Failure
from routrel.forwarding.flow import Walk
from routrel.forwarding.trace import Stop, Trace
from routrel.model.addresses import Address
from routrel.model.filters import Header
from routrel.model.network import InterfaceName
from routrel.routing.solve import Solved
from routrel.routing.supports import LookupSupports, Pair


class FlowSupports:
    """Of one solved network."""

    def __init__(self, solved: Solved):
        self.solved = solved
        self.topology = solved.topology
        self._lookups = LookupSupports(solved)

    @cached_property
    def _having(self) -> dict[Address, list[int]]:
        found: dict[Address, list[int]] = defaultdict(list)
        for port in self.topology.ports:
            for address in port.addresses:
                found[address].append(port.index)
        return found

    def of(self, walk: Walk) -> frozenset[int] | None:
        """The ports that both ways of a flow rest on; None where that is not told."""
        return joined(self.of_ways(walk))

    def of_ways(self, walk: Walk) -> list[frozenset[int] | None]:
        """The same of each of its ways, there and back, of every part: as long as it starts as it does."""
        return [self._of_way(walk, strand) for one in parts_of(walk) for strand in one.strands]

    def _of_way(self, walk: Walk, strand: Trace) -> frozenset[int] | None:
        topology, ends = self.topology, (walk.source.device, walk.destination.device)
        if None in ends or walk.flow.enter is not None:
            return None
        if any(topology.devices[stop.device].program for stop in strand.stops):
            return None
        pairs = {(stop.instance, header.destination) for stop in strand.stops for header in _headers(stop)}
        found = self._lookups.of(pairs)
        if found is None:
            return None
        passed = {port for stop in strand.stops for port in (stop.ingress, *(branch.port for branch in stop.branches))}
        # An end chooses its address among all it has, and so does steering its next hop.
        whole = {device for device in ends if device is not None}
        whole |= {stop.device for stop in strand.stops if stop.steering is not None}
        return self._with_tracked(
            found.union(
                passed - {-1},
                *(topology.ports_of[device] for device in whole),
                *(self._having.get(address, ()) for _, address in pairs),
            )
        )

    def _with_tracked(self, ports: frozenset[int]) -> frozenset[int] | None:
        """With what routes for tracked networks rest on, where these decide who is active on the ports' segments."""
        waiting = dict(self.topology.segments_tracking)
        while waiting:
            segments = {self.topology.segment_of[port] for port in ports}
            due = [tracked for tracked, electing in waiting.items() if electing & segments]
            if not due:
                break
            more = joined([self._lookups.of_prefix(*tracked) for tracked in due])
            if more is None:
                return None
            ports |= more
            for tracked in due:
                del waiting[tracked]
        return ports

    def moved(self, failure: Failure) -> frozenset[int] | None:
        """The ports that go down by a failure, and those that are left alone; None where more may follow from it."""
        found = set[int]()
        for port in self._failing(failure):
            ports = self._moved(port)
            if ports is None:
                return None
            found |= ports
        return frozenset(found)

    def _failing(self, failure: Failure) -> Iterator[int]:
        index = self.topology.port_index
        for number in failure.links:
            yield from (index[end] for end in self.topology.network.links[number].ends)
        for device in failure.devices:
            yield from self.topology.ports_of[self.topology.device_index[device]]
        yield from (index[interface] for interface in failure.interfaces)

    def _moved(self, number: int) -> set[int] | None:
        """By one interface, of which its cable goes down with it: it stands at the edge of its segments."""
        port = self.topology.ports[number]
        link = self.topology.link_of.get(self.topology.cabled_name(port))
        ends = (port.name,) if link is None else self.topology.network.links[link].ends
        names = {self.topology.cabled_name(port), *ends}
        at_edge = [name for name in names if not self._joins_others(name)]
        if len(names) > 2 or not at_edge:
            return None
        found = {one for name in at_edge for one in self._of_interface(name)}
        segments = {self.topology.segment_of[one] for one in found} - {-1}
        for segment in segments.union(*(self.topology.electing_by(self.topology.ports[one]) for one in found)):
            beside = self.topology.segments[segment].ports
            # Of more that speak a protocol some may hear each other once others are gone.
            if sum(any(one in database.ports for database in self.solved.databases) for one in beside) > 2:
                return None
            found.update(beside)
        return found

    def _joins_others(self, name: InterfaceName) -> bool:
        return any(self.topology.joins_others(self.topology.ports[one]) for one in self._of_interface(name))

    def _of_interface(self, name: InterfaceName) -> list[int]:
        """The port of an interface and those of its VLANs."""
        named = self.topology.ports_named[self.topology.device_index[name.device]]
        return [port.index for port in named.values() if name.interface in (port.name.interface, port.interface.parent)]


def joined(supports: Sequence[frozenset[int] | None]) -> frozenset[int] | None:
    """All that some things rest on; None where it is not told of one."""
    told = [ports for ports in supports if ports is not None]
    return frozenset[int]().union(*told) if len(told) == len(supports) else None


def looked_up(walk: Walk) -> set[Pair]:
    """What a flow's packets may be looked up by, at which routing instances."""
    return {
        (stop.instance, address)
        for one in parts_of(walk)
        for strand in one.strands
        for stop in strand.stops
        for header in _headers(stop)
        for address in (header.destination, header.source)
    }


def _headers(stop: Stop) -> tuple[Header, Header]:
    return stop.header, stop.translated or stop.header
