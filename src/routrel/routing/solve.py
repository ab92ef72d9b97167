"""All tables of a network: the one door to routing.

``solve`` does the work that is shared (topology, protocols, redistribution); a table is put together when
it is first asked for, and kept while memory lasts. Tables belong to routing instances; a device's default
instance has the device's own number.
"""

from collections import OrderedDict
from functools import cached_property

from routrel.collecting import collecting_later
from routrel.model.addresses import Address, Prefix
from routrel.model.findings import Doubt, Finding
from routrel.model.network import Network
from routrel.routing.bgp.findings import findings as bgp_findings
from routrel.routing.bgp.sessions import BgpDatabase
from routrel.routing.bgp.solution import BgpSolution
from routrel.routing.eigrp import EigrpDatabase, EigrpSolution
from routrel.routing.isis.database import IsisDatabase
from routrel.routing.isis.solution import IsisSolution
from routrel.routing.isis.system_ids import twice_given_system_ids
from routrel.routing.making import TableMaker
from routrel.routing.ospf.database import Database
from routrel.routing.ospf.flooding import areas_joined_without_backbone, twice_given_router_ids
from routrel.routing.ospf.solution import OspfSolution
from routrel.routing.prefixes import PrefixIndex
from routrel.routing.redistribution import Unsettled, order_finding, unsettled_finding
from routrel.routing.representatives import Representatives
from routrel.routing.rip import RipDatabase, RipSolution
from routrel.routing.routes import NextHop, Route
from routrel.routing.rows import Process, ProtocolSolution
from routrel.routing.settling_classes import settle
from routrel.routing.table import Table
from routrel.routing.traits import Traits, add_configured
from routrel.topology.segments import Topology
from routrel.topology.wiring import Wiring

TABLE_BYTES = 2 * 1024**3
"""Memory for kept tables; past it the least recently used is forgotten and made again when asked for."""


class Solved:
    """A network with its topology and tables."""

    def __init__(self, network: Network):
        self.network = network
        self.topology = Topology(network)
        databases = [Database(self.topology, version) for version in (2, 3)]
        isis, rip, eigrp = IsisDatabase(self.topology), RipDatabase(self.topology), EigrpDatabase(self.topology)
        bgp = BgpDatabase(self.topology)
        self.prefixes = number_prefixes(self.topology)
        subnets = self.prefixes.given[: sum(len(port.prefixes) for port in self.topology.ports)]
        traits = Traits(self.prefixes)
        add_configured(traits, self.topology, network, subnets)
        for database in databases:
            database.add_traits(traits)
        for protocol in (isis, rip, eigrp, bgp):
            protocol.add_traits(traits)
        classes = traits.classes()
        self.representatives = Representatives(self.prefixes, classes)
        """What protocols compute: one prefix of each class that nothing tells apart."""
        self._uncarried = classes < 0
        self._observed = {self.prefixes.number[route.prefix] for d in self.topology.devices for route in d.observed}
        self.ospf = [
            OspfSolution(self.topology, database, self.representatives) for database in databases if database.processes
        ]
        self.rip = RipSolution(self.topology, rip, self.representatives)
        self.isis = IsisSolution(self.topology, isis, self.representatives)
        self.eigrp = EigrpSolution(self.topology, eigrp, self.representatives)
        self.bgp = BgpSolution(self.topology, bgp, self.representatives)
        self.solutions: list[ProtocolSolution] = [*self.ospf, self.isis, self.rip, self.eigrp]
        if bgp.speakers:
            self.solutions.append(self.bgp)
        self.findings: list[Finding] = [finding for database in databases for finding in database.findings]
        for found in (isis.findings, rip.findings, eigrp.findings):
            self.findings += found
        """Problems met while solving: neighbours that should be but are not, what does not settle."""
        self.doubts: list[Doubt] = []
        """Why what is shown of some routes is not sure."""
        for database in databases:
            self.findings += areas_joined_without_backbone(database)
        for findings, doubts in (*map(twice_given_router_ids, databases), twice_given_system_ids(isis)):
            self.findings += findings
            self.doubts += doubts
        self._maker = TableMaker(self.topology, self.representatives, self.solutions)
        self.unresolved = self._maker.unresolved
        """Per instance whose table was made: the routes that lead nowhere, and why."""
        self._tables: OrderedDict[int, Table] = OrderedDict()
        # A row of a protocol is a kind, a metric and at least one word of next hops per prefix.
        self._kept = max(64, TABLE_BYTES // (16 * max(1, len(self.representatives))))
        self._forgets = self._kept < len(self.topology.instances)
        with self._maker.keeping_bases():
            self.settling = settle(self._maker)
        while self.settling.made and len(self._tables) < self._kept:
            instance, table = self.settling.made.popitem()
            self._tables[instance] = table
        self.settling.made.clear()
        self.findings += bgp_findings(self.bgp)
        self.unsettled: Unsettled | None = self.settling.unsettled
        if self.unsettled is not None:
            self.findings.append(unsettled_finding(self.topology, self.solutions, self.unsettled))
        elif self.settling.depends_on_order:
            self.findings.append(order_finding(self.settling))

    @cached_property
    def wiring(self) -> Wiring:
        """Cables and switches whatever VLANs and states say."""
        return Wiring(self.topology)

    def table(self, instance: int) -> Table:
        """The table of a routing instance, by its number; a device's number means its default instance."""
        table = self._tables.get(instance)
        if table is not None:
            if self._forgets:
                self._tables.move_to_end(instance)
            return table
        table = self._maker.make(instance)
        self._tables[instance] = table
        if len(self._tables) > self._kept:
            self._tables.popitem(last=False)
        return table

    def doubts_about(self, instance: int, protocol: str) -> list[str]:
        """Why the routes of a protocol in an instance are not sure, or nothing."""
        return [one.message for one in self.doubts if one.protocol == protocol and instance in one.instances]

    def processes_of(self, instance: int) -> list[tuple[ProtocolSolution, Process]]:
        """The protocol processes of a routing instance, in the order of a table's sources."""
        return self._maker.processes[instance]

    def chain(self, address: Address) -> list[int]:
        """Prefixes that may lead to an address, longest first.

        Left out are those that stand only in the table of the device that owns the address, which delivers
        a packet before it asks its table.
        """
        return [number for number in self.prefixes.chain(address) if not self._is_own_alone(number)]

    def _is_own_alone(self, number: int) -> bool:
        return bool(self._uncarried[number]) and number not in self._observed

    def lookup(self, instance: int, address: Address) -> Route | None:
        return self.table(instance).lookup(address)

    def connected_hop(self, instance: int, address: Address) -> NextHop | None:
        """The hop to another's address on a connected subnet that is up, or None (RFC 8349: direct)."""
        for number in self.prefixes.chain(address):
            route = self.table(instance).get(number)
            if route is not None and route.protocol == "local":
                return None  # its own address is no next hop
            if route is not None and route.protocol == "connected" and not route.prefix.is_host:
                return NextHop(route.next_hops[0].port, address)
        return None


def number_prefixes(topology: Topology) -> PrefixIndex:
    """Every prefix that can stand in a table; those of ports are given first, in their order."""
    hosts = [address for port in topology.ports for address in port.addresses]
    prefixes = [prefix for port in topology.ports for prefix in port.prefixes]
    for device in topology.devices:
        prefixes.extend(route.prefix for route in device.gateways)
        prefixes.extend(route.prefix for route in device.observed)
    for instance in topology.instances:
        routing = instance.routing
        if routing is not None:
            prefixes.extend(route.prefix for route in routing.static)
            for ospf in routing.ospf:
                prefixes.extend(configured.prefix for area in ospf.areas for configured in area.ranges)
                if ospf.originate_default or any(area.type != "normal" for area in ospf.areas):
                    prefixes.append(Prefix(ospf.family, 0, 0))
            if routing.bgp:
                prefixes.extend(prefix for prefix, _ in routing.bgp.networks)
                prefixes.extend(aggregate.prefix for aggregate in routing.bgp.aggregates)
                for neighbor in routing.bgp.neighbors:
                    if neighbor.originate_default:
                        prefixes.extend(Prefix(family, 0, 0) for family in neighbor.carried)
            if routing.isis:
                prefixes.extend(Prefix(family, 0, 0) for family in (4, 6))
    return PrefixIndex(prefixes, hosts)


@collecting_later()
def solve(network: Network) -> Solved:
    """Compute everything about a network that does not depend on a question."""
    return Solved(network)
