"""Routes and next hops as tables hold them."""

from typing import NamedTuple

from routrel.model.addresses import Address, Prefix
from routrel.model.places import NOWHERE, Place
from routrel.model.routing import RouteAction


class NextHop(NamedTuple):
    """Where a packet is really sent: out of ``port``, to ``address`` (None: the destination itself).

    ``neighbor`` is the neighbour's port where a protocol knows it but not its address, else -1: an IPv6
    neighbour whose link-local address the network file does not tell.
    """

    port: int
    address: Address | None
    neighbor: int = -1


class Route(NamedTuple):
    """One entry of a table. ``origin`` names the kind within its protocol, e.g. OSPF's "intra-area".

    ``given_next_hops`` are a static route's next hops before they were resolved through the table.
    """

    prefix: Prefix
    protocol: str
    preference: int | None
    metric: int | None
    next_hops: tuple[NextHop, ...]
    action: RouteAction = "forward"
    origin: str = ""
    given_next_hops: tuple[Address, ...] = ()
    tag: int | None = None
    place: Place = NOWHERE
