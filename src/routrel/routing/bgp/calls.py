"""Why no connection comes about between two ends of a BGP session, whoever calls (RFC 4271 section 8)."""

from typing import Protocol

from routrel.model.addresses import Address
from routrel.model.filters import TCP, Header
from routrel.routing.bgp.speakers import End, Speaker
from routrel.routing.bgp.unfiltered import LONGEST_WAY
from routrel.routing.neighbors import Obstacle
from routrel.routing.protocol import Connections
from routrel.topology.ports import Port

BGP_PORT = 179
SOME_PORT = 49152
"""Stands for the port of the end that calls (RFC 6335: dynamic ports)."""


class Speakers(Protocol):
    """Who speaks BGP, and what of a network their calls hang on."""

    speakers: list[Speaker]

    def on_subnet(self, instance: int, address: Address) -> tuple[Port, Address] | None:
        """The up port of an instance on whose subnet an address is, and its own address there."""

    def name(self, process: int) -> str:
        """A speaker as people call it."""


def why_not_connected(known: Speakers, end: End, other: End, source: Address, calls: Connections) -> Obstacle | None:
    """Of an end that speaks from ``source``, and one inside the network."""
    mine, theirs = known.speakers[end.process], known.speakers[other.process]
    target = end.neighbor.address
    external = mine.bgp.number != theirs.bgp.number
    for speaker, side, address in ((mine, end, target), (theirs, other, source)):
        if external and side.neighbor.multihop == 1 and known.on_subnet(speaker.instance, address) is None:
            return Obstacle(f"{known.name(speaker.process)} needs multihop: {address} is not on a connected subnet")
    first: Obstacle | None = None
    for caller, called, far, near in ((mine, theirs, target, source), (theirs, mine, source, target)):
        why, length = calls.connect(caller.instance, called.instance, Header(TCP, near, far, SOME_PORT, BGP_PORT))
        allowed = min(end.neighbor.multihop, other.neighbor.multihop) if external else LONGEST_WAY
        why = why or _too_long(length, allowed)
        if why is None:
            return None
        first = first or why
    return first


def why_not_outside(known: Speakers, end: End, source: Address | None, calls: Connections) -> Obstacle | None:
    """Of a neighbour that no device is."""
    speaker, neighbor = known.speakers[end.process], end.neighbor
    if source is None:
        return None
    external = speaker.bgp.number != neighbor.number
    if external and neighbor.multihop == 1 and known.on_subnet(speaker.instance, neighbor.address) is None:
        name = known.name(end.process)
        return Obstacle(f"{name} needs multihop: {neighbor.address} is not on a connected subnet")
    call = Header(TCP, source, neighbor.address, SOME_PORT, BGP_PORT)
    why, length = calls.connect_outside(speaker.instance, call)
    return why or _too_long(length, neighbor.multihop if external else LONGEST_WAY)


def _too_long(length: int, allowed: int) -> Obstacle | None:
    return Obstacle(f"the way takes {length} hops, multihop allows {allowed}") if length > allowed else None
