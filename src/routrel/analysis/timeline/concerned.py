"""Which prefixes can decide about some flows, whatever else neighbours say: all others need no looking at.

A table is asked for addresses: those of the flows' packets, and those that routes lead by. A prefix that covers none of
these is never looked up; it counts only where others are made of it, as a part of an aggregate (RFC 4271 section
9.2.2.2) or of an area's range (RFC 2328 section 12.4.3).
"""

from bisect import bisect_left
from collections.abc import Callable, Iterable, Iterator, Sequence

from routrel.forwarding.flow import Asker, Flow
from routrel.forwarding.flow_words import FlowError
from routrel.model.addresses import BITS, Address, Prefix
from routrel.model.devices import Device
from routrel.model.network import Network
from routrel.model.routing import RoutingInstance
from routrel.routing.solve import Solved


def concerning(solved: Solved, flows: Sequence[Flow], next_hops: Iterable[Address]) -> Callable[[Prefix], bool] | None:
    """Whether a prefix can decide about some flows, in any state in which paths lead by ``next_hops`` too.

    None where any may: rules rewrite addresses as they like.
    """
    network = solved.network
    if any(device.program for device in solved.topology.devices):
        return None
    addresses = {*_of_network(network), *_of_flows(solved, flows), *next_hops}
    by_family = {family: sorted(one.value for one in addresses if one.family == family) for family in BITS}
    wholes = list(dict.fromkeys(_made_of_others(network)))

    def is_concerned(prefix: Prefix) -> bool:
        values = by_family[prefix.family]
        at = bisect_left(values, prefix.network)
        is_asked = at < len(values) and values[at] <= prefix.last
        return is_asked or any(whole.covers(prefix) for whole in wholes)

    return is_concerned


def _of_flows(solved: Solved, flows: Sequence[Flow]) -> Iterator[Address]:
    asker = Asker(solved)
    for flow in flows:
        for word in (flow.source, flow.destination, flow.source_address):
            try:
                yield Address.parse(word or "")
            except ValueError:
                continue
        try:
            walk = asker.ask(flow)
        except FlowError:
            continue
        for strand in walk.strands:
            for stop in strand.stops:
                for header in (stop.header, stop.translated or stop.header):
                    yield header.source
                    yield header.destination


def _instances(device: Device) -> Iterator[RoutingInstance]:
    yield from (one for one in (device.routing, *device.vrfs.values()) if one is not None)


def _of_network(network: Network) -> Iterator[Address]:
    """All addresses that the network itself names: its own, and those that routes may lead by."""
    for endpoint in network.endpoints.values():
        yield endpoint.address
    for device in network.devices.values():
        for interface in device.interfaces.values():
            yield from (one.address for one in interface.addresses)
        yield from (one.next_hop for one in device.gateways if one.next_hop is not None)
        for steering in device.forwarding_policies.values():
            for entry in steering.entries:
                yield from entry.next_hops
        for policy in device.policies.values():
            for statement in policy.statements:
                if statement.set.next_hop is not None:
                    yield statement.set.next_hop
        for route in device.observed:
            yield from (hop.address for hop in route.next_hops if hop.address is not None)
        for instance in _instances(device):
            yield from (one.next_hop for one in instance.static if one.next_hop is not None)
            for neighbor in () if instance.bgp is None else instance.bgp.neighbors:
                yield neighbor.address
                for paths in neighbor.received:
                    yield from paths.next_hops


def _made_of_others(network: Network) -> Iterator[Prefix]:
    for device in network.devices.values():
        for instance in _instances(device):
            if instance.bgp is not None:
                yield from (one.prefix for one in instance.bgp.aggregates)
            for ospf in instance.ospf:
                yield from (one.prefix for area in ospf.areas for one in area.ranges)
