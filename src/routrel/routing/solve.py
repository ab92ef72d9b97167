"""All tables of a network: the one door to routing.

``solve`` does the work that is shared (topology, OSPF); a device's table is put together when it is first
asked for, and kept while memory lasts.
"""

from collections import OrderedDict

from routrel.model.addresses import Address, Prefix
from routrel.model.devices import ObservedRoute, OspfRange, StaticRoute
from routrel.model.network import Network
from routrel.routing.connected import connected_routes
from routrel.routing.observed import install_observed_routes
from routrel.routing.ospf.database import Database
from routrel.routing.ospf.solution import OspfSolution
from routrel.routing.prefixes import PrefixIndex
from routrel.routing.routes import NextHop, Route
from routrel.routing.static import install_static_routes
from routrel.routing.table import Table
from routrel.topology.segments import Topology

TABLE_BYTES = 2 * 1024**3
"""Memory for kept tables; past it the least recently used is forgotten and made again when asked for."""


class Solved:
    """A network with its topology and tables."""

    def __init__(self, network: Network):
        self.network = network
        self.topology = Topology(network)
        self.database = Database(self.topology)
        carried = self._carried_prefixes()
        own = {address.address.host_prefix() for _, _, i in network.interfaces() for address in i.addresses}
        self.prefixes = PrefixIndex(carried | own)
        self._only_own = {self.prefixes.number[prefix] for prefix in own - carried}
        self.ospf = OspfSolution(self.topology, self.database, self.prefixes)
        self.unresolved: dict[int, list[tuple[StaticRoute | ObservedRoute, str]]] = {}
        """Per device whose table was made: the routes that lead nowhere, and why."""
        self._tables: OrderedDict[int, Table] = OrderedDict()
        # A row of an OSPF router is a kind, a metric and at least one word of next hops per prefix.
        self._kept = max(64, TABLE_BYTES // (16 * max(1, len(self.prefixes))))
        self._forgets = self._kept < len(self.topology.devices)

    def table(self, device: int) -> Table:
        """The table of a device, by its number."""
        table = self._tables.get(device)
        if table is not None:
            if self._forgets:
                self._tables.move_to_end(device)
            return table
        table = self._make_table(device)
        self._tables[device] = table
        if len(self._tables) > self._kept:
            self._tables.popitem(last=False)
        return table

    def _make_table(self, number: int) -> Table:
        device = self.topology.devices[number]
        unresolved: list[tuple[StaticRoute | ObservedRoute, str]] = []
        if device.is_observed_only:
            table = Table(self.topology, self.prefixes, number, None, ())
            unresolved += install_observed_routes(self.topology, device, table)
        else:
            table = Table(self.topology, self.prefixes, number, self.ospf, connected_routes(self.topology, device))
            unresolved += install_static_routes(self.topology, device, table)
        self.unresolved[number] = unresolved
        return table

    def chain(self, address: Address) -> list[int]:
        """Prefixes that may lead to an address, longest first.

        Left out are those that stand only in the table of the device that owns the address, which delivers
        a packet before it asks its table.
        """
        return [number for number in self.prefixes.chain(address) if number not in self._only_own]

    def lookup(self, device: int, address: Address) -> Route | None:
        return self.table(device).lookup(address)

    def connected_hop(self, device: int, address: Address) -> NextHop | None:
        """The hop to another's address on a connected subnet that is up, or None (RFC 8349: direct)."""
        for number in self.prefixes.chain(address):
            route = self.table(device).get(number)
            if route is not None and route.protocol == "local":
                return None  # its own address is no next hop
            if route is not None and route.protocol == "connected" and not route.prefix.is_host:
                return NextHop(route.next_hops[0].port, address)
        return None

    def _carried_prefixes(self) -> set[Prefix]:
        """All prefixes but the host routes that a device has for its own addresses alone."""
        prefixes = {stub.prefix for area in self.database.areas.values() for stub in area.stubs}
        for device in self.topology.devices:
            for interface in device.interfaces.values():
                prefixes.update(address.prefix for address in interface.addresses if not address.prefix.is_host)
            prefixes.update(route.prefix for route in device.gateways)
            prefixes.update(route.prefix for route in device.observed)
            if device.routing:
                prefixes.update(route.prefix for route in device.routing.static)
                if device.routing.ospf:
                    ranges: list[OspfRange] = [r for area in device.routing.ospf.areas for r in area.ranges]
                    prefixes.update(configured.prefix for configured in ranges)
        return prefixes


def solve(network: Network) -> Solved:
    """Compute everything about a network that does not depend on a question."""
    return Solved(network)
