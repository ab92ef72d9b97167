"""Next hops and routes as answers."""

from msgspec import Struct


class NextHop(Struct, frozen=True):
    """``device`` answers for the address, where the model knows one."""

    address: str | None
    interface: str
    device: str | None


class TableRow(Struct, frozen=True):
    """A best route of a routing instance; ``kind`` is its kind within the protocol, '' where there is one only."""

    device: str
    vrf: str
    prefix: str
    protocol: str
    kind: str
    tag: int | None
    preference: int | None
    metric: int | None
    action: str
    next_hops: list[NextHop]


class Route(Struct, frozen=True):
    """The route that decided at a stop, with the next hops as they were given and as they were resolved."""

    prefix: str
    protocol: str
    origin: str
    preference: int | None
    metric: int | None
    action: str
    given_next_hops: list[str]
    next_hops: list[NextHop]
