"""Routes and next hops as tables hold them."""

from typing import NamedTuple

from routrel.model.addresses import Address, Prefix
from routrel.model.devices import RouteAction
from routrel.model.places import NOWHERE, Place

PROTOCOL_ORDER = ("connected", "local", "static", "ospf", "isis", "rip", "eigrp", "bgp", "observed")


class NextHop(NamedTuple):
    """Where a packet is really sent: out of ``port``, to ``address`` (None: the destination itself)."""

    port: int
    address: Address | None


class Route(NamedTuple):
    """One entry of a table. ``origin`` names the kind within its protocol, e.g. OSPF's "intra-area".

    ``given_next_hop`` is a static route's next hop before it was resolved through the table.
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
