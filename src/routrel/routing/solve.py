"""A network with all that follows from it; ``routrel.solving`` makes it.

Solving goes in stages, each a function of the ones before it: the topology, the protocols' databases, prefixes as
numbers, their classes, and convergence: solved protocols, redistribution, tables. Given a ``base``, a network solved
before, a stage that comes out as it was there is taken over with all that was computed of it; numbers of devices,
ports, prefixes and columns stay where the base has them. Stages are compared by what they are, not by who made them.

Tables belong to routing instances; a device's default instance has the device's own number.
"""

from functools import cached_property

from routrel.model.addresses import Address
from routrel.model.findings import Doubt, Finding
from routrel.model.network import Network
from routrel.routing.convergence import Convergence, have_sessions
from routrel.routing.filter_changes import is_routed_alike
from routrel.routing.prefixes.classes import PrefixClasses
from routrel.routing.prefixes.configured import configured_distinctions, has_prefixes_of, number_prefixes
from routrel.routing.prefixes.index import PrefixIndex
from routrel.routing.protocol import AnySolution, Connections, Process, ProtocolDatabase
from routrel.routing.redistribution.fixed_point import FixedPoint
from routrel.routing.registry import PROTOCOLS
from routrel.routing.rib.builder import Unresolved
from routrel.routing.rib.forwarding_tables import ForwardingTables
from routrel.routing.rib.table import Table
from routrel.topology.segments import Topology
from routrel.topology.virtual_routers import TrackedBy


class Solved(ForwardingTables):
    """A network with its topology and tables."""

    def __init__(
        self,
        network: Network,
        base: "Solved | None",
        connections: type[Connections],
        unreached: frozenset[TrackedBy] = frozenset(),
    ):
        """``base`` is the same network, changed little; ``connections`` walks the packets of protocols' sessions;
        virtual routers act as if all networks that they track had a route but those ``unreached``."""
        self.network = network
        alike = None if base is None else base.topology.of_like(network)
        self.topology = (alike or Topology(network)).with_unreached(unreached)
        self.unsettled_tracking: tuple[Finding, list[Doubt]] | None = None
        """Where virtual routers and tables chase each other."""
        if base is not None and alike is not None and self._is_routed_as(base):
            self._take_over(base)
            return
        known = (None,) * len(PROTOCOLS) if base is None else base.databases
        self.databases: list[ProtocolDatabase] = [
            protocol.database(self.topology, before) for protocol, before in zip(PROTOCOLS, known, strict=True)
        ]
        for database in self.databases:
            database.connections = connections
        self.prefixes: PrefixIndex = self._number_prefixes(base)
        self.prefix_classes: PrefixClasses = self._classes(base.prefix_classes if base is not None else None)
        """What protocols compute: one prefix of each class that nothing tells apart."""
        before = base.convergence if base is not None else None
        if before is not None and before.holds_for(self.topology, self.databases, self.prefix_classes):
            self.convergence: Convergence = before
        else:
            self.convergence = Convergence(self.topology, self.databases, self.prefix_classes, before)
        self._observed = {self.prefixes.number[route.prefix] for d in self.topology.devices for route in d.observed}

    def _is_routed_as(self, base: "Solved") -> bool:
        """Whether a network cabled as ``base`` has its tables, whatever differs in filters and virtual routers."""
        is_led_alike = self.topology.unreached == base.topology.unreached or not have_sessions(base.databases)
        return is_led_alike and is_routed_alike(base.topology, base.databases, self.topology)

    def _take_over(self, base: "Solved") -> None:
        """All of a network whose tables are the same."""
        self.databases, self.convergence = base.databases, base.convergence
        self.prefixes, self.prefix_classes, self._observed = base.prefixes, base.prefix_classes, base._observed

    def _number_prefixes(self, base: "Solved | None") -> PrefixIndex:
        if base is not None and has_prefixes_of(self.topology, self.databases, base.topology, base.databases):
            return base.prefixes
        return number_prefixes(self.topology, self.databases, base.prefixes if base is not None else None)

    def _classes(self, base: PrefixClasses | None) -> PrefixClasses:
        distinctions = configured_distinctions(self.topology, self.network, self.prefixes)
        for database in self.databases:
            database.add_distinctions(distinctions)
        if base is None or base.whole is not self.prefixes:
            return PrefixClasses(self.prefixes, distinctions.classes())
        classes = distinctions.classes()
        return base if base.holds_for(classes) else PrefixClasses(self.prefixes, classes, base)

    @property
    def solutions(self) -> list[AnySolution]:
        """The protocols that somebody runs, solved."""
        return self.convergence.solutions

    @property
    def redistribution(self) -> FixedPoint:
        return self.convergence.redistribution

    @cached_property
    def findings(self) -> list[Finding]:
        """Problems met while solving: neighbours that should be but are not, what does not settle."""
        found = [one for database in self.databases for one in database.findings] + self.convergence.findings
        return found if self.unsettled_tracking is None else [*found, self.unsettled_tracking[0]]

    @property
    def unresolved(self) -> dict[int, list[Unresolved]]:
        """Per instance whose table was made: the routes that lead nowhere, and why."""
        return self.convergence.unresolved

    def table(self, instance: int) -> Table:
        """The table of a routing instance, by its number; a device's number means its default instance."""
        return self.convergence.table(instance)

    @property
    def doubts(self) -> list[Doubt]:
        """Why what is shown of some routes is not sure."""
        doubts = self.convergence.doubts
        return doubts if self.unsettled_tracking is None else [*doubts, *self.unsettled_tracking[1]]

    def doubts_about(self, instance: int, protocol: str) -> list[str]:
        """Why the routes of a protocol in an instance are not sure, or nothing."""
        return [one.message for one in self.doubts if one.protocol == protocol and instance in one.instances]

    def processes_of(self, instance: int) -> list[tuple[AnySolution, Process]]:
        """The protocol processes of a routing instance, in the order of a table's sources."""
        return self.convergence.processes_of(instance)

    def chain(self, address: Address) -> list[int]:
        """Prefixes that may lead to an address, longest first.

        Left out are those that stand only in the table of the device that owns the address, which delivers
        a packet before it asks its table.
        """
        return [number for number in self.prefixes.chain(address) if not self._is_own_alone(number)]

    def _is_own_alone(self, number: int) -> bool:
        return not self.prefix_classes.is_carried[number] and number not in self._observed
