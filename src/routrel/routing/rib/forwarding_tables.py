"""What packets are forwarded by: the tables of all routing instances, and what is looked up in them."""

from abc import ABC, abstractmethod
from functools import cached_property

from routrel.model.addresses import Address
from routrel.routing.prefixes.index import PrefixIndex
from routrel.routing.protocol import Tables
from routrel.routing.rib.table import Table
from routrel.routing.routes import NextHop, Route
from routrel.topology.segments import Topology
from routrel.topology.wiring import Wiring


class ForwardingTables(ABC):
    """The tables over one topology and one index of prefixes."""

    topology: Topology
    prefixes: PrefixIndex

    @abstractmethod
    def table(self, instance: int) -> Table:
        """The table of a routing instance, by its number; a device's number means its default instance."""

    def lookup(self, instance: int, address: Address) -> Route | None:
        return self.table(instance).lookup(address)

    def chain(self, address: Address) -> list[int]:
        """Prefixes that may lead to an address, longest first."""
        return self.prefixes.chain(address)

    def connected_hop(self, instance: int, address: Address) -> NextHop | None:
        """The hop to another's address on a connected subnet that is up, or None (RFC 8349: direct)."""
        for number in self.prefixes.chain(address):
            route = self.table(instance).get(number)
            if route is not None and route.protocol == "local":
                return None  # its own address is no next hop
            if route is not None and route.protocol == "connected" and not route.prefix.is_host:
                return NextHop(route.next_hops[0].port, address)
        return None

    @cached_property
    def wiring(self) -> Wiring:
        """Cables and switches whatever VLANs and states say."""
        return Wiring(self.topology)


class TablesOfTheMoment(ForwardingTables):
    """The tables while protocols are still converging."""

    def __init__(self, topology: Topology, prefixes: PrefixIndex, tables: Tables):
        self.topology = topology
        self.prefixes = prefixes
        self._tables = tables

    def table(self, instance: int) -> Table:
        return self._tables(instance)
