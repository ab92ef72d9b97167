"""What all routing protocols share where two interfaces meet: network types, own prefixes, access lists."""

from collections.abc import Sequence
from typing import NamedTuple

from routrel.model.addresses import Address, Prefix
from routrel.model.devices import Device
from routrel.model.filters import Header
from routrel.model.findings import Finding
from routrel.model.places import Place
from routrel.routing.routes import NextHop
from routrel.routing.spf.graph import Edge
from routrel.topology.ports import Instance, Port, Segment
from routrel.topology.segments import Topology

MOST_SPEAKERS = 800
"""Speakers of IS-IS, RIP or EIGRP on one segment; of OSPF there may be any number."""

SOME_LINK_LOCAL = Address.parse("fe80::")
"""Stands for a link-local address that the network file does not tell."""


def network_type(segment: Segment, configured: str | None) -> str:
    """The network type of an interface: as configured, else by how many stand on the segment."""
    if configured is not None:
        return configured
    return "point-to-point" if len(segment.ports) == 2 else "broadcast"


def own_prefixes(port: Port) -> tuple[Prefix, ...]:
    """The prefixes an interface brings into a protocol: its subnets; of a loopback, host routes."""
    if not port.interface.is_loopback and len(port.addresses) == 1 and port.addresses[0].family == 4:
        return port.prefixes
    return tuple(
        address.host_prefix() if port.interface.is_loopback else prefix
        for prefix, address in zip(port.prefixes, port.addresses, strict=True)
        if address.family == 4 or not address.is_link_local
    )


def hop_to(topology: Topology, port: int, peer: int, family: int) -> NextHop | None:
    """The next hop to a neighbour; None unless both interfaces have an address of the family.

    An interface without one sends no packets of the family (RFC 1195 section 3.1: each interface that carries IP
    has an address), and a router's kernel refuses a gateway there.
    """
    for end in (port, peer):
        if not any(address.family == family for address in topology.ports[end].addresses):
            return None
    address = topology.neighbor_address(port, peer, family)
    return NextHop(port, None, peer) if address is None else NextHop(port, address)


def crowded(protocol: str, ports: Sequence[Port], place: Place) -> Finding | None:
    """The finding where a segment has more speakers than are compared pair by pair: none is a neighbour then."""
    if len(ports) <= MOST_SPEAKERS:
        return None
    first = ports[0].name
    return Finding(
        "not-represented",
        "error",
        f"{len(ports)} {protocol} routers stand on the segment of {first}, more than the {MOST_SPEAKERS} that are"
        " compared with each other: which of them are neighbours was not looked into, and none is taken for one",
        first.device,
        first.interface,
        (place,),
    )


def edge_hop(topology: Topology, edge: Edge, family: int) -> NextHop | None:
    """The next hop that an edge of a link-state graph begins with."""
    if edge.gateway is not None:
        return NextHop(edge.port, edge.gateway)
    return hop_to(topology, edge.port, edge.peer, family)


class Obstacle(NamedTuple):
    """What keeps two interfaces from being neighbours, and where it is stated, if not by their own settings."""

    text: str
    places: tuple[Place, ...] = ()


def dropped_by(
    header: Header, packets: str, sender: tuple[Device, Port], receiver: tuple[Device, Port]
) -> Obstacle | None:
    """Which ACL between two neighbours drops a packet of a protocol, ``packets`` in words."""
    for device, name in (
        (sender[0], sender[1].interface.acl_out),
        (receiver[0], receiver[1].interface.acl_in),
    ):
        if name is not None and not device.acls[name].accepts(header):
            acl = device.acls[name]
            index = acl.first_match(header)
            what, place = "its closing drop", acl.place
            if index is not None:
                what, place = f"entry {index + 1}", acl.entries[index].place
            return Obstacle(f"ACL {name} of {device.name} drops {packets} ({what})", (place,))
    return None


def router_id(topology: Topology, instance: int) -> Address | None:
    """The router id: configured, else the highest loopback IPv4 address, else the highest IPv4 address."""
    found: Instance = topology.instances[instance]
    if found.routing and found.routing.router_id:
        return found.routing.router_id
    addresses = [
        (interface.is_loopback, address.value)
        for interface in topology.devices[found.device].interfaces.values()
        if interface.vrf == found.vrf
        for address in interface.addresses
        if address.family == 4
    ]
    return Address(4, max(addresses)[1]) if addresses else None
