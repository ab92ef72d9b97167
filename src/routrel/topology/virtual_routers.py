"""Who is active for the virtual routers of a segment (VRRP, RFC 9568).

Routers on a segment whose interfaces are up and that name the same virtual router, by its number, family and version
(each drops the messages of the other versions, section 7.1), hear each other. The one of the highest priority is
active: one that owns an address of it has 255; an interface that is tracked takes from it while it is down (RFC 8347).
Of equals it is the one with the greater primary address (section 6.4.3); in life the one that came first stays.
"""

from collections import defaultdict
from collections.abc import Iterable, Mapping, Sequence
from typing import NamedTuple

from routrel.model.addresses import Address, link_local_of
from routrel.model.virtual_routers import LOWEST_PRIORITY, OWNER_PRIORITY, VirtualRouter
from routrel.topology.ports import Port, Segment


class Contender(NamedTuple):
    """A port that takes part, with the priority that it sends now."""

    port: int
    router: VirtualRouter
    priority: int
    primary: Address | None

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


def groups_on(segment: Segment, ports: Sequence[Port], named: Sequence[Mapping[str, Port]]) -> tuple[VirtualGroup, ...]:
    """The virtual routers of a segment, by number, family and version.

    ``ports`` are all of the network, ``named`` those of each device by the names of their interfaces.
    """
    found: dict[tuple[int, int, int], list[Contender]] = defaultdict(list)
    for port in map(ports.__getitem__, segment.ports):
        for router in port.interface.virtual_routers if port.up else ():
            key = router.identifier, router.family, router.version
            found[key].append(Contender(port.index, router, _priority(port, router, named), _primary(port, router)))
    return tuple(
        VirtualGroup(segment.index, *key, tuple(sorted(contenders, key=lambda one: one.rank, reverse=True)))
        for key, contenders in sorted(found.items())
    )


def virtual_addresses(ports: Iterable[Port]) -> set[Address]:
    """All addresses of virtual routers that some ports take part in, whoever is active for them."""
    return {address for port in ports for router in port.interface.virtual_routers for address in router.addresses}


def _priority(port: Port, router: VirtualRouter, named: Sequence[Mapping[str, Port]]) -> int:
    """What it sends: of an owner the highest, whatever is tracked (RFC 9568 section 6.1)."""
    if not set(port.addresses).isdisjoint(router.addresses):
        return OWNER_PRIORITY
    lost = sum(one.decrement for one in router.tracked if not named[port.device][one.interface].up)
    return max(LOWEST_PRIORITY, router.priority - lost)


def _primary(port: Port, router: VirtualRouter) -> Address | None:
    """The address that its messages come from: of IPv6 the link-local one (RFC 9568 section 1.5)."""
    if router.family == 4:
        return next((address for address in port.addresses if address.family == 4), None)
    written = next((address for address in port.addresses if address.is_link_local), None)
    mac = port.interface.mac
    return link_local_of(mac) if written is None and mac is not None else written
