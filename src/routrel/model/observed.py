"""Routes as they were read off a device."""

from dataclasses import dataclass

from routrel.model.addresses import Address, Prefix
from routrel.model.places import NOWHERE, Place
from routrel.model.routing import DEFAULT_INSTANCE, RouteAction


@dataclass(frozen=True, slots=True)
class ObservedNextHop:
    address: Address | None = None
    interface: str | None = None


@dataclass(frozen=True, slots=True)
class ObservedRoute:
    """A route as it was read off a device. ``protocol`` is a name of the command-line contract."""

    prefix: Prefix
    protocol: str = "observed"
    next_hops: tuple[ObservedNextHop, ...] = ()
    preference: int | None = None
    metric: int | None = None
    action: RouteAction = "forward"
    place: Place = NOWHERE
    vrf: str = DEFAULT_INSTANCE
