"""ACL entries (RFC 8519) and steering entries: what they match and what they do.

Both match on the same header fields, held in a ``HeaderMatch``. ``None`` in a field means "any".
"""

from collections.abc import Sequence
from typing import Literal, NamedTuple

from msgspec import Struct, field

from routrel.model.addresses import Address, Prefix
from routrel.model.places import NOWHERE, Place

TCP, UDP, ICMP, ICMPV6, OSPF = 6, 17, 1, 58, 89
PROTOCOL_NUMBERS = {"tcp": TCP, "udp": UDP, "icmp": ICMP, "icmpv6": ICMPV6, "ospf": OSPF}
PROTOCOL_NAMES = {number: name for name, number in PROTOCOL_NUMBERS.items()}
PORTED = frozenset({TCP, UDP})

AclAction = Literal["accept", "drop", "reject"]
SteeringAction = Literal["forward", "discard", "table"]


class PortRange(NamedTuple):
    """Ports from ``low`` to ``high``, both included."""

    low: int
    high: int

    def __str__(self) -> str:
        return str(self.low) if self.low == self.high else f"{self.low}-{self.high}"


class Header(NamedTuple):
    """The header fields of a packet that filters look at; ports are None for portless protocols."""

    protocol: int
    source: Address
    destination: Address
    source_port: int | None
    destination_port: int | None

    def reply(self) -> "Header":
        """The header of the answer: both ends exchanged."""
        return Header(self.protocol, self.destination, self.source, self.destination_port, self.source_port)


class HeaderMatch(Struct, frozen=True):
    protocol: int | None = None
    source: Prefix | None = None
    destination: Prefix | None = None
    source_ports: tuple[PortRange, ...] = ()
    destination_ports: tuple[PortRange, ...] = ()

    def failed_fields(self, header: Header) -> list[str]:
        """The fields of the header that this match refuses, by name, in the order they are written."""
        failed = []
        if self.protocol is not None and self.protocol != header.protocol:
            failed.append("protocol")
        if self.source is not None and not self.source.contains(header.source):
            failed.append("source")
        if self.destination is not None and not self.destination.contains(header.destination):
            failed.append("destination")
        if self.source_ports and not in_ranges(self.source_ports, header.source_port):
            failed.append("source_ports")
        if self.destination_ports and not in_ranges(self.destination_ports, header.destination_port):
            failed.append("destination_ports")
        return failed

    def matches(self, header: Header) -> bool:
        return (
            (self.protocol is None or self.protocol == header.protocol)
            and (self.destination is None or self.destination.contains(header.destination))
            and (self.source is None or self.source.contains(header.source))
            and (not self.destination_ports or in_ranges(self.destination_ports, header.destination_port))
            and (not self.source_ports or in_ranges(self.source_ports, header.source_port))
        )


def in_ranges(ranges: Sequence[PortRange], port: int | None) -> bool:
    """Whether a port is in one of the ranges; no port is in none."""
    return port is not None and any(low <= port <= high for low, high in ranges)


class AclEntry(Struct, frozen=True):
    action: AclAction
    match: HeaderMatch = field(default_factory=HeaderMatch)
    name: str = ""
    stateful: bool = False
    place: Place = NOWHERE


class Acl(Struct, frozen=True):
    """An ordered list of entries: the first that matches decides, and none means drop (RFC 8519)."""

    name: str
    entries: tuple[AclEntry, ...]
    place: Place = NOWHERE

    def first_match(self, header: Header) -> int | None:
        """Index (from 0) of the entry that decides, or None for the closing drop."""
        for index, entry in enumerate(self.entries):
            if entry.match.matches(header):
                return index
        return None

    def accepts(self, header: Header) -> bool:
        index = self.first_match(header)
        return index is not None and self.entries[index].action == "accept"


class SteeringEntry(Struct, frozen=True):
    action: SteeringAction
    match: HeaderMatch = field(default_factory=HeaderMatch)
    next_hops: tuple[Address, ...] = ()
    description: str = ""
    place: Place = NOWHERE


class ForwardingPolicy(Struct, frozen=True):
    """Steering entries in order; where none matches, the table decides."""

    name: str
    entries: tuple[SteeringEntry, ...]
    place: Place = NOWHERE
