"""Routes and neighbours as they were read off a device."""

from msgspec import Struct

from routrel.model.addresses import Address, Prefix
from routrel.model.places import NOWHERE, Place
from routrel.model.routing import DEFAULT_INSTANCE, RouteAction


class ObservedNextHop(Struct, frozen=True):
    address: Address | None = None
    interface: str | None = None


class ObservedRoute(Struct, frozen=True):
    """A route as it was read off a device. ``protocol`` is a name of the command-line contract."""

    prefix: Prefix
    protocol: str = "observed"
    next_hops: tuple[ObservedNextHop, ...] = ()
    preference: int | None = None
    metric: int | None = None
    action: RouteAction = "forward"
    place: Place = NOWHERE
    vrf: str = DEFAULT_INSTANCE


class ObservedNeighbor(Struct, frozen=True):
    """A neighbour as a device tells its state: a session of BGP by address, else what is heard on an interface."""

    protocol: str
    state: str
    is_up: bool
    name: str
    """The session's address, the router id or the system id."""
    interface: str = ""
    vrf: str = DEFAULT_INSTANCE
    place: Place = NOWHERE
