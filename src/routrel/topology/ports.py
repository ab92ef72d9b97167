"""Routing instances, interfaces and broadcast domains by their numbers."""

from msgspec import Struct

from routrel.model.addresses import Address, Prefix, link_local_of
from routrel.model.devices import Interface
from routrel.model.network import InterfaceName
from routrel.model.routing import RoutingInstance


class Instance(Struct, frozen=True):
    """A routing instance of a device (RFC 8349): the default one has the device's own number."""

    index: int
    device: int
    vrf: str
    routing: RoutingInstance | None


class Port(Struct, eq=False):
    """An interface with its numbers; ``down`` says why it carries nothing, or is empty.

    ``addresses`` and ``prefixes`` are those of the interface's own addresses, in their order.
    """

    index: int
    device: int
    name: InterfaceName
    interface: Interface
    down: str
    instance: int
    addresses: tuple[Address, ...]
    prefixes: tuple[Prefix, ...]

    @property
    def up(self) -> bool:
        return not self.down

    @property
    def answered(self) -> tuple[Address, ...]:
        """The addresses that it answers for while it is up."""
        mac = self.interface.mac
        return (*self.addresses, link_local_of(mac)) if mac else self.addresses


class Segment(Struct, eq=False):
    """Ports with addresses of one broadcast domain, the down ones included, in port order."""

    index: int
    ports: tuple[int, ...]
    links: tuple[int, ...]
