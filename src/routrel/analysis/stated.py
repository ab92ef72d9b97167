"""The parts of a network by where the text states them, and the changes that are at hand there."""

from collections.abc import Iterator
from dataclasses import dataclass

from routrel.analysis.answers.offers import Offer
from routrel.analysis.answers.statements import StatementKind
from routrel.analysis.offered_changes import in_list, instance_target, switched, taken_out, takes_changes
from routrel.model.bgp import Bgp, BgpNeighbor
from routrel.model.devices import Device, Interface
from routrel.model.expectations import Expectation
from routrel.model.network import Link, Network
from routrel.model.places import Place
from routrel.model.policies import Policy
from routrel.model.routing import DEFAULT_INSTANCE, Ospf, RoutingInstance, StaticRoute


@dataclass(frozen=True)
class Stated:
    """A part of the model where the text states it; ``what`` is that part, ``index`` its place in a list."""

    place: Place
    kind: StatementKind
    name: str
    what: object
    device: Device | None = None
    vrf: str = DEFAULT_INSTANCE
    index: int = 0


def stated_parts(network: Network) -> Iterator[Stated]:
    """Every part of a network that is stated somewhere, and does something."""
    for device in network.devices.values():
        yield Stated(device.place, "device", device.name, device, device)
        for interface in device.interfaces.values():
            yield Stated(interface.place, "interface", interface.name, interface, device, interface.vrf)
            for router in interface.virtual_routers:
                name = f"{router.identifier} on {interface.name}"
                yield Stated(router.place, "virtual router", name, router, device, interface.vrf)
        for index, gateway in enumerate(device.gateways):
            yield Stated(gateway.place, "route", str(gateway.prefix), gateway, device, index=index)
        for vrf, routing in {DEFAULT_INSTANCE: device.routing, **device.vrfs}.items():
            if routing is not None:
                yield from _routing(device, vrf, routing)
        yield from _filters(device)
    for link in network.links:
        yield Stated(link.place, "link", link.name or " - ".join(map(str, link.ends)), link)
    for endpoint in network.endpoints.values():
        yield Stated(endpoint.place, "endpoint", endpoint.name, endpoint)
    for expectation in network.expectations:
        yield Stated(expectation.place, "expectation", expectation.name, expectation)


def _routing(device: Device, vrf: str, routing: RoutingInstance) -> Iterator[Stated]:
    for index, route in enumerate(routing.static):
        yield Stated(route.place, "route", str(route.prefix), route, device, vrf, index)
    for protocol in routing.protocols:
        name = type(protocol).__name__.lower()
        yield Stated(protocol.place, "protocol", name, name, device, vrf)
        if isinstance(protocol, Bgp):
            for prefix, place in protocol.networks:
                yield Stated(place, "route", str(prefix), prefix, device, vrf)
            for aggregate in protocol.aggregates:
                yield Stated(aggregate.place, "route", str(aggregate.prefix), aggregate.prefix, device, vrf)
            for neighbor in protocol.neighbors:
                yield Stated(neighbor.place, "session", str(neighbor.address), neighbor, device, vrf)
            continue
        parts = protocol.areas if isinstance(protocol, Ospf) else (protocol,)
        for part in parts:
            for interface in part.interfaces:
                yield Stated(interface.place, "protocol", f"{name} on {interface.name}", name, device, vrf)
        for area in protocol.areas if isinstance(protocol, Ospf) else ():
            for one in area.ranges:
                yield Stated(one.place, "route", str(one.prefix), one.prefix, device, vrf)


def _filters(device: Device) -> Iterator[Stated]:
    for acl in device.acls.values():
        yield Stated(acl.place, "acl", acl.name, acl, device)
        for index, entry in enumerate(acl.entries):
            yield Stated(entry.place, "entry", acl.name, acl, device, index=index)
    for steering in device.forwarding_policies.values():
        for index, rule in enumerate(steering.entries):
            yield Stated(rule.place, "steering", steering.name, steering, device, index=index)
    for policy in device.policies.values():
        yield Stated(policy.place, "policy", policy.name, policy, device, index=-1)
        for index, statement in enumerate(policy.statements):
            yield Stated(statement.place, "policy", policy.name, policy, device, index=index)


def stated_offers(one: Stated) -> Iterator[Offer]:
    """The changes that are at hand where a statement stands: it off or on, taken out, or before the one before."""
    what, device = one.what, one.device
    if isinstance(what, Link):
        yield switched("link", str(what.ends[0]), what.enabled)
    if isinstance(what, Expectation):
        yield Offer("take it out", {"remove": "expectation", "at": what.name})
    if device is None or not takes_changes(device):
        return
    where = instance_target(device.name, one.vrf)
    if isinstance(what, Device):
        yield switched("device", device.name, device.enabled)
    elif isinstance(what, Interface):
        yield switched("interface", f"{device.name}:{what.name}", what.enabled)
    elif isinstance(what, BgpNeighbor):
        yield switched("session", f"{device.name} {what.address}", what.enabled, one.vrf)
    elif isinstance(what, StaticRoute) and what not in device.gateways:
        yield taken_out("static", where, one.index)
    elif one.kind == "entry":
        yield from in_list("acl_entry", {**where, "acl": one.name}, one.index)
    elif one.kind == "steering":
        yield from in_list("steering_entry", {**where, "policy": one.name}, one.index)
    elif isinstance(what, Policy) and one.index >= 0:
        yield from in_list("statement", {**where, "policy": one.name}, one.index)
