"""Who speaks BGP, the ends of sessions, and which of these are up."""

from typing import NamedTuple

from msgspec import Struct

from routrel.model.addresses import Address
from routrel.model.bgp import Bgp, BgpNeighbor
from routrel.model.received import ReceivedPaths
from routrel.routing.neighbors import Obstacle

NO_INSTANCE = -1
"""Of a speaker outside the network."""


class Outside(Struct, frozen=True):
    """A neighbour that no device is: what it says, and whether it is of another AS than who hears it."""

    name: str
    received: ReceivedPaths
    external: bool


class Speaker(Struct, frozen=True):
    """A BGP process. ``identifier`` and ``cluster`` are 32-bit router ids.

    One outside the network says what was received of it, and is told nothing. It has no routing instance; ``bgp``
    holds its AS number alone.
    """

    process: int
    instance: int
    bgp: Bgp
    identifier: int
    cluster: int
    is_reflector: bool
    outside: Outside | None = None


class End(Struct, frozen=True):
    """One side of a configured session."""

    index: int
    process: int
    neighbor: BgpNeighbor


class Channel(Struct, frozen=True):
    """One direction of a session between two speakers; both ends name each other.

    ``source`` is the sender's session address, ``port`` its interface where the two are directly connected
    by a single hop, else -1. ``reverse`` is the channel of the other direction.
    """

    index: int
    sender: int
    receiver: int
    sending: End
    receiving: End
    external: bool
    source: Address
    port: int
    families: tuple[int, ...]
    next_hops: tuple[tuple[int, Address], ...]
    """(family, address): what the sender names as next hop where it names itself."""

    @property
    def reverse(self) -> int:
        return self.index ^ 1


class SessionDown(NamedTuple):
    """An end whose session is down, why, and the other end where there is one."""

    end: End
    why: Obstacle
    others: tuple[End, ...] = ()


class State(Struct):
    """Which sessions are up now."""

    channels: list[Channel] = []
    failures: list[SessionDown] = []

    def key(self) -> tuple[tuple[int, int, Address], ...]:
        return tuple((one.sending.index, one.receiving.index, one.source) for one in self.channels)
