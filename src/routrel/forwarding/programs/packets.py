"""A packet with all that rules look at, and connections as one device tracks them."""

from typing import Final, Literal, NamedTuple

from msgspec import Struct

from routrel.model.addresses import Address
from routrel.model.filter_programs import Hook
from routrel.model.filters import ICMP, ICMPV6, TCP, UDP, Header

PacketKind = Literal["first", "reply", "following", "later reply"]
"""The first packet of a flow, the answer to it, and what follows either of them."""

INVALID, ESTABLISHED, NEW, UNTRACKED = 1, 2, 8, 64
"""States of a packet in connection tracking, as bits (``ct state``); nothing that is walked is related (4)."""

SEEN_REPLY, CONFIRMED, SOURCE_TRANSLATED, DESTINATION_TRANSLATED = 2, 8, 16, 32
"""Bits of a connection's status (``ct status``)."""

SYN, ACK = 2, 16
TCP_FLAGS = {"first": SYN, "reply": SYN | ACK, "following": ACK, "later reply": ACK}
LENGTHS = {TCP: (20, 40), UDP: (8, 520), ICMP: (8, 108), ICMPV6: (8, 108)}
"""Bytes behind the network header of what opens a flow: a SYN with its options, a datagram of up to 512 bytes of data,
an echo with up to 100."""

MOST_SENT = 1500
"""Of what follows on TCP."""

ECHO = {ICMP: (8, 0), ICMPV6: (128, 129)}
"""Types of an echo request and its reply."""


class Between(NamedTuple):
    """A number that is known to lie between two, both included."""

    low: int
    high: int


class Partly(NamedTuple):
    """A number of which some bits are not known."""

    value: int
    unknown: int


class Unknown:
    """What is not known (``UNSAID``), or not there at all, so that no rule that asks it matches (``ABSENT``)."""

    def __init__(self, name: str):
        self.name = name

    def __repr__(self) -> str:
        return self.name


UNSAID: Final = Unknown("UNSAID")
ABSENT: Final = Unknown("ABSENT")


class Connection(Struct, eq=False):
    """A connection as one device tracks it.

    ``original`` is the header of its first packet as it came, ``translated`` the same as it left. ``mark`` may be
    ``UNSAID``.
    """

    original: Header
    translated: Header
    mark: int | Unknown = 0
    status: int = 0


class Packet(Struct, eq=False):
    """``iif`` and ``oif`` name interfaces, '' where there is none at the hook; ``own`` packets were made here."""

    header: Header
    kind: PacketKind
    iif: str = ""
    oif: str = ""
    hook: Hook = "prerouting"
    own: bool = False
    mark: int | Unknown = 0
    dscp: int | Unknown = 0
    state: int = INVALID
    direction: int = 0
    connection: Connection | None = None
    is_fresh: bool = False
    """Whether the connection was begun by this packet, so that translation is still to be decided."""

    bound_source: bool = False
    bound_destination: bool = False
    """Whether translation of that side was decided."""

    towards: Address | None = None
    """The next hop, once it is known."""

    def copy(self) -> "Packet":
        """The same packet on another way; a connection that it has just begun is its own there."""
        connection = self.connection
        if connection is not None and self.is_fresh:
            connection = Connection(connection.original, connection.translated, connection.mark, connection.status)
        return Packet(
            self.header,
            self.kind,
            self.iif,
            self.oif,
            self.hook,
            self.own,
            self.mark,
            self.dscp,
            self.state,
            self.direction,
            connection,
            self.is_fresh,
            self.bound_source,
            self.bound_destination,
            self.towards,
        )

    @property
    def is_reply(self) -> bool:
        return self.kind in ("reply", "later reply")

    @property
    def family(self) -> int:
        return self.header.source.family

    @property
    def effects(self) -> tuple[object, ...]:
        """What rules did to it so far: equal where two ways through a chain come to the same."""
        mark = None if self.connection is None else self.connection.mark
        return self.header, self.mark, self.dscp, mark, self.state, self.bound_source, self.bound_destination

    @property
    def length(self) -> Between:
        """The bytes of the packet, as far as they are known: what opens a flow is small (docs/captures.md)."""
        base = 20 if self.family == 4 else 40
        least, most = LENGTHS.get(self.header.protocol, (0, 65535))
        if self.header.protocol == TCP and self.kind not in ("first", "reply"):
            most = MOST_SENT - base
        return Between(base + least, base + most)
