"""Changes at what the trail of a missing route names: what is off is switched on, silent interfaces form adjacencies,
lists and policies let through what they refuse. Each is solved with before it is offered."""

from collections.abc import Callable, Iterable, Iterator, Sequence
from functools import partial
from itertools import islice
from typing import Any, NamedTuple

from routrel.analysis.answers import contests
from routrel.analysis.answers.walks import Remedy
from routrel.analysis.offered_changes import entry_added, switched, takes_changes
from routrel.analysis.remedies import MOST_DEVICES, braced, cures, entry_text
from routrel.forwarding.trace import Stop, Trace
from routrel.model.addresses import Prefix
from routrel.model.devices import Device
from routrel.model.fields import replace
from routrel.model.filters import TCP, Acl, AclEntry, HeaderMatch, PortRange
from routrel.model.network import Link, Network
from routrel.model.places import Place
from routrel.model.policies import Policy, PolicyMatch, PolicyStatement, PrefixMatch
from routrel.model.routing import DEFAULT_INSTANCE, Eigrp, Isis, RoutingInstance
from routrel.routing.protocol import OwnPackets
from routrel.routing.solve import Solved
from routrel.solving import solve

MOST_TRIED = 6
"""Changes tried for one cause, each by itself."""


class Mend(NamedTuple):
    """A change at a place, and the network with it."""

    place: Place
    message: str
    text: str
    changes: list[dict[str, Any]]
    made: Callable[[], Network]


def mended(
    solved: Solved,
    strand: Trace,
    stop: Stop,
    stateful: frozenset[int],
    trail: Iterable[contests.Step],
    prefix: Prefix | None,
) -> Remedy | None:
    """The first change at what the trail names with which the flow passes a stop; ``prefix`` is what lacks a route."""
    if len(solved.topology.devices) > MOST_DEVICES:
        return None
    named = Named([place for step in trail for place in (step.place, *step.other_places) if place])
    for one in islice(_mends(solved, named, prefix), MOST_TRIED):
        if cures(solve(one.made(), solved), strand, stop, stateful):
            return Remedy(one.message, one.text, one.place, one.changes)
    return None


class Named:
    """Places that are asked for all over a network: lines first, which are told apart sooner than places."""

    def __init__(self, places: Sequence[Place]):
        self._places = frozenset(places)
        self._lines = frozenset(place.line for place in places)

    def __contains__(self, place: Place) -> bool:
        return place.line in self._lines and place in self._places


def _mends(solved: Solved, named: Named, prefix: Prefix | None) -> Iterator[Mend]:
    network = solved.network
    packets = {one for database in solved.databases if database.processes for one in database.own_packets}
    devices = [device for device in network.devices.values() if takes_changes(device)]
    yield from _links(network, named)
    for device in devices:
        yield from _off(network, device, named)
    for device in devices:
        yield from _silent(network, device, named)
    for device in devices:
        if prefix is not None:
            yield from _refusing(network, device, named, prefix)
        yield from _dropping(network, device, named, sorted(packets))


def _links(network: Network, named: Named) -> Iterator[Mend]:
    for link in network.links:
        if not link.enabled and link.place in named:
            name = link.name or " - ".join(map(str, link.ends))
            yield _switch("link", name, str(link.ends[0]), link.place, partial(_with_link, network, link))


def _off(network: Network, device: Device, named: Named) -> Iterator[Mend]:
    """What of a device is off and can be switched on by a change."""
    if not device.enabled and device.place in named:
        on = replace(device, enabled=True)
        yield _switch("device", device.name, device.name, device.place, partial(_with, network, on))
    for interface in device.interfaces.values():
        if not interface.enabled and interface.place in named:
            name = f"{device.name}:{interface.name}"
            interfaces = {**device.interfaces, interface.name: replace(interface, enabled=True)}
            made = partial(_with, network, replace(device, interfaces=interfaces))
            yield _switch("interface", name, name, interface.place, made)
    for vrf, routing in _instances(device):
        for neighbor in routing.bgp.neighbors if routing.bgp is not None else ():
            if not neighbor.enabled and neighbor.place in named:
                name = f"{device.name} {neighbor.address}"
                on = _with_routing(device, vrf, _with_session(routing, neighbor.place))
                yield _switch("session", name, name, neighbor.place, partial(_with, network, on), vrf)


def _switch(
    kind: str, name: str, at: str, place: Place, made: Callable[[], Network], vrf: str = DEFAULT_INSTANCE
) -> Mend:
    change = switched(kind, at, False, vrf).change
    return Mend(place, f"switch on {kind} {name}", "enabled: true", [change], made)


def _silent(network: Network, device: Device, named: Named) -> Iterator[Mend]:
    """Interfaces that are passive in OSPF, IS-IS or EIGRP, each in all of these that it is silent in."""
    for vrf, routing in _instances(device):
        areas = [area for ospf in routing.ospf for area in ospf.areas]
        for part in (*areas, *(one for one in (routing.isis, routing.eigrp) if one is not None)):
            for interface in part.interfaces:
                if not interface.passive or interface.place not in named:
                    continue
                name = f"{device.name}:{interface.name}"
                made = partial(_with, network, _with_routing(device, vrf, _speaking(routing, interface.name)))
                change = {"enable": "adjacency", "at": name}
                yield Mend(interface.place, f"let {name} form adjacencies", "passive: false", [change], made)


def _dropping(network: Network, device: Device, named: Named, packets: Iterable[OwnPackets]) -> Iterator[Mend]:
    """Lists that drop what a protocol sends, with entries that let it pass before what drops it."""
    for acl in device.acls.values():
        at = next((index for index, one in enumerate(acl.entries) if one.place in named), None)
        if at is None and acl.place not in named:
            continue
        before = len(acl.entries) if at is None else at
        for kind in packets:
            if at is None or acl.entries[at].match.protocol in (None, kind.protocol):
                yield _letting_through(network, device, acl, before, kind)


def _letting_through(network: Network, device: Device, acl: Acl, before: int, packets: OwnPackets) -> Mend:
    ports = tuple(PortRange(one, one) for one in packets.ports)
    matches = [HeaderMatch(packets.protocol, destination_ports=ports)]
    if packets.protocol == TCP:  # who is called answers from the port that is called
        matches = [HeaderMatch(TCP, destination_ports=ports[:1]), HeaderMatch(TCP, source_ports=ports[:1])]
    added = [AclEntry("accept", match) for match in matches]
    entries = (*acl.entries[:before], *added, *acl.entries[before:])
    changed = replace(device, acls={**device.acls, acl.name: replace(acl, entries=entries)})
    changes = [  # one after the other, before what drops it now
        entry_added(device.name, replace(acl, entries=(*added[:number], *acl.entries)), before + number, entry)
        for number, entry in enumerate(added)
    ]
    where = f"before entry {before + 1}" if before < len(acl.entries) else "at the end"
    place = acl.entries[before].place if before < len(acl.entries) else acl.place
    text = "\n".join(f"- {entry_text(entry)}" for entry in added)
    message = f"add to ACL {acl.name} of {device.name}, {where}"
    return Mend(place, message, text, changes, partial(_with, network, changed))


def _refusing(network: Network, device: Device, named: Named, prefix: Prefix) -> Iterator[Mend]:
    """Policies that refuse a prefix, with a statement that accepts it before what refuses it."""
    for policy in device.policies.values():
        at = next((index for index, one in enumerate(policy.statements) if one.place in named), None)
        if at is None and policy.place not in named:
            continue
        before = len(policy.statements) if at is None else at
        match = PolicyMatch(prefixes=(PrefixMatch(prefix, prefix.length, prefix.length),))
        statements = (*policy.statements[:before], PolicyStatement("accept", match), *policy.statements[before:])
        changed: Policy = replace(policy, statements=statements)
        made = partial(_with, network, replace(device, policies={**device.policies, policy.name: changed}))
        entry = {"match": {"prefixes": [str(prefix)]}, "result": "accept"}
        place = {"before": before + 1} if at is not None else {}
        change = {"add": "statement", "at": device.name, "policy": policy.name, **place, "entry": entry}
        where = f"before statement {before + 1}" if at is not None else "at the end"
        text = f"- {{match: {{prefixes: [{braced(prefix)}]}}, result: accept}}"
        stated = policy.place if at is None else policy.statements[at].place
        yield Mend(stated, f"add to policy {policy.name} of {device.name}, {where}", text, [change], made)


def _instances(device: Device) -> Iterator[tuple[str, RoutingInstance]]:
    if device.routing is not None:
        yield DEFAULT_INSTANCE, device.routing
    yield from ((name, routing) for name, routing in device.vrfs.items() if routing is not None)


def _with(network: Network, device: Device) -> Network:
    return replace(network, devices={**network.devices, device.name: device})


def _with_link(network: Network, link: Link) -> Network:
    links = tuple(replace(one, enabled=True) if one is link else one for one in network.links)
    return replace(network, links=links)


def _with_routing(device: Device, vrf: str, routing: RoutingInstance) -> Device:
    if vrf == DEFAULT_INSTANCE:
        return replace(device, routing=routing)
    return replace(device, vrfs={**device.vrfs, vrf: routing})


def _with_session(routing: RoutingInstance, place: Place) -> RoutingInstance:
    assert routing.bgp is not None
    neighbors = tuple(
        replace(neighbor, enabled=True) if neighbor.place == place else neighbor for neighbor in routing.bgp.neighbors
    )
    return replace(routing, bgp=replace(routing.bgp, neighbors=neighbors))


def _speaking(routing: RoutingInstance, name: str) -> RoutingInstance:
    """A routing instance in which an interface is passive nowhere."""

    def on(interfaces: tuple[Any, ...]) -> tuple[Any, ...]:
        return tuple(replace(one, passive=False) if one.name == name else one for one in interfaces)

    ospf = tuple(
        replace(one, areas=tuple(replace(area, interfaces=on(area.interfaces)) for area in one.areas))
        for one in routing.ospf
    )
    isis: Isis | None = routing.isis and replace(routing.isis, interfaces=on(routing.isis.interfaces))
    eigrp: Eigrp | None = routing.eigrp and replace(routing.eigrp, interfaces=on(routing.eigrp.interfaces))
    return replace(routing, ospf=ospf, isis=isis, eigrp=eigrp)
