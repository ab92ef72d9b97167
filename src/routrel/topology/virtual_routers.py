"""Who is active for the virtual routers of a segment (VRRP, RFC 9568).

Routers on a segment whose interfaces are up and that name the same virtual router, by its number, family and version
(each drops the messages of the other versions, section 7.1), hear each other. The one of the highest priority is
active: one that owns an address of it has 255; an interface that is tracked takes from it while it is down, a network
while it has no route (RFC 8347). Of equals it is the one with the greater primary address (section 6.4.3); in life the
one that came first stays.
"""

from collections import defaultdict
from collections.abc import Container, Iterable, Iterator, Mapping, Sequence
from typing import NamedTuple, TypeAlias

from routrel.model.addresses import Address, Prefix, link_local_of
from routrel.model.virtual_routers import (
    LOWEST_PRIORITY,
    OWNER_PRIORITY,
    TrackedInterface,
    TrackedNetwork,
    VirtualRouter,
)
from routrel.topology.ports import Port, Segment

TrackedBy: TypeAlias = tuple[int, Prefix]
"""A routing instance, and a network whose route there decides a priority."""


class Contender(NamedTuple):
    """A port that takes part, with the priority that it sends now, and what takes from that."""

    port: int
    router: VirtualRouter
    priority: int
    primary: Address | None
    lost: tuple[TrackedInterface | TrackedNetwork, ...] = ()

    @property
    def decrement(self) -> int:
        """What is taken from the priority that it was told, unless that would be less than the lowest."""
        return sum(one.decrement for one in self.lost)

    @property
    def rank(self) -> tuple[int, int]:
        """The highest is active."""
        return self.priority, -1 if self.primary is None else self.primary.value

    @property
    def is_owner(self) -> bool:
        """Whether an address of the virtual router is its interface's own."""
        return self.priority == OWNER_PRIORITY

    @property
    def takes_packets(self) -> bool:
        """Whether packets for the addresses end at it while it is active (RFC 9568 section 6.4.3)."""
        return self.router.accept or self.is_owner


class VirtualGroup(NamedTuple):
    """A virtual router on a segment: those that take part and are up, the active one first."""

    segment: int
    identifier: int
    family: int
    version: int
    contenders: tuple[Contender, ...]

    @property
    def active(self) -> Contender:
        return self.contenders[0]

    @property
    def name(self) -> str:
        return f"virtual router {self.identifier}"


def groups_on(
    segment: Segment, ports: Sequence[Port], named: Sequence[Mapping[str, Port]], unreached: Container[TrackedBy]
) -> tuple[VirtualGroup, ...]:
    """The virtual routers of a segment, by number, family and version.

    ``ports`` are all of the network, ``named`` those of each device by the names of their interfaces; ``unreached`` are
    the tracked networks without a route.
    """
    found: dict[tuple[int, int, int], list[Contender]] = defaultdict(list)
    for port in map(ports.__getitem__, segment.ports):
        for router in port.interface.virtual_routers if port.up else ():
            key = router.identifier, router.family, router.version
            found[key].append(_contender(port, router, named[port.device], unreached))
    return tuple(
        VirtualGroup(segment.index, *key, tuple(sorted(contenders, key=lambda one: one.rank, reverse=True)))
        for key, contenders in sorted(found.items())
    )


def virtual_addresses(ports: Iterable[Port]) -> set[Address]:
    """All addresses of virtual routers that some ports take part in, whoever is active for them."""
    return {address for port in ports for router in port.interface.virtual_routers for address in router.addresses}


def tracked_networks(port: Port) -> Iterator[TrackedBy]:
    """What a port tracks, in the table of its routing instance."""
    return ((port.instance, one.prefix) for router in port.interface.virtual_routers for one in router.tracked_networks)


def _contender(
    port: Port, router: VirtualRouter, named: Mapping[str, Port], unreached: Container[TrackedBy]
) -> Contender:
    """An owner sends the highest priority, whatever is tracked (RFC 9568 section 6.1)."""
    primary = _primary(port, router)
    if not set(port.addresses).isdisjoint(router.addresses):
        return Contender(port.index, router, OWNER_PRIORITY, primary)
    interfaces = [one for one in router.tracked if not named[one.interface].up]
    networks = [one for one in router.tracked_networks if (port.instance, one.prefix) in unreached]
    lost: tuple[TrackedInterface | TrackedNetwork, ...] = (*interfaces, *networks)
    priority = max(LOWEST_PRIORITY, router.priority - sum(one.decrement for one in lost))
    return Contender(port.index, router, priority, primary, lost)


def _primary(port: Port, router: VirtualRouter) -> Address | None:
    """The address that its messages come from: of IPv6 the link-local one (RFC 9568 section 1.5)."""
    if router.family == 4:
        return next((address for address in port.addresses if address.family == 4), None)
    written = next((address for address in port.addresses if address.is_link_local), None)
    mac = port.interface.mac
    return link_local_of(mac) if written is None and mac is not None else written
