"""Virtual routers: addresses that one of several routers answers for at a time (VRRP, RFC 9568)."""

from msgspec import Struct

from routrel.model.addresses import Address, Prefix
from routrel.model.places import NOWHERE, Place

OWNER_PRIORITY = 255
"""Of the router that has an address of the virtual router on its interface (RFC 9568 section 5.2.4)."""

LOWEST_PRIORITY, DEFAULT_PRIORITY, HIGHEST_PRIORITY = 1, 100, 254
"""Of any other router (RFC 9568 section 5.2.4)."""

DEFAULT_DECREMENT = 10
"""What a tracked interface that is down, or network without a route, takes of the priority where nothing else is said
(RFC 8347)."""


class TrackedInterface(Struct, frozen=True):
    """An interface of the same device: while it is down the priority is less by ``decrement``."""

    interface: str
    decrement: int = DEFAULT_DECREMENT


class TrackedNetwork(Struct, frozen=True):
    """A prefix: while the table of the interface's routing instance has no route for it the priority is less by
    ``decrement``. A route for another prefix that covers it does not count."""

    prefix: Prefix
    decrement: int = DEFAULT_DECREMENT


class VirtualRouter(Struct, frozen=True):
    """A router's part in a virtual router on an interface; all ``addresses`` are of one family.

    ``accept``: while it is active it takes packets for the addresses also where it does not own them.
    """

    identifier: int
    addresses: tuple[Address, ...]
    place: Place = NOWHERE
    version: int = 3
    priority: int = DEFAULT_PRIORITY
    preempt: bool = True
    accept: bool = False
    tracked: tuple[TrackedInterface, ...] = ()
    tracked_networks: tuple[TrackedNetwork, ...] = ()

    @property
    def family(self) -> int:
        return self.addresses[0].family
