"""Protocols solved, what they redistribute settled, and the tables that follow.

A table is put together when it is first asked for, and kept while memory lasts.
"""

from collections import OrderedDict
from collections.abc import Sequence
from functools import cached_property

from routrel.model.devices import Device
from routrel.model.fields import replace
from routrel.model.findings import Doubt, Finding
from routrel.model.places import NOWHERE
from routrel.model.routing import RoutingInstance
from routrel.routing.prefixes.classes import PrefixClasses
from routrel.routing.protocol import AnySolution, Process, ProtocolDatabase
from routrel.routing.redistribution.classes import redistribute
from routrel.routing.redistribution.findings import redistribution_findings
from routrel.routing.redistribution.fixed_point import FixedPoint, Memory
from routrel.routing.registry import PROTOCOLS
from routrel.routing.rib.builder import TableBuilder
from routrel.routing.rib.table import Table
from routrel.topology.segments import Topology

TABLE_BYTES = 2 * 1024**3
"""Memory for kept tables; past it the least recently used is forgotten and made again when asked for."""


class Convergence:
    """All tables of a network, over one set of columns."""

    def __init__(
        self,
        topology: Topology,
        databases: Sequence[ProtocolDatabase],
        prefix_classes: PrefixClasses,
        base: "Convergence | None" = None,
    ):
        """``databases`` stand in the order of the registry; what of ``base`` holds here too is taken over."""
        self.topology = topology
        self.databases = databases
        self.prefix_classes = prefix_classes
        known = base.of_protocol if base is not None else [None] * len(PROTOCOLS)
        self.of_protocol: list[AnySolution | None] = [
            protocol.solution(database, prefix_classes, before) if database.processes else None
            for protocol, database, before in zip(PROTOCOLS, databases, known, strict=True)
        ]
        """The solutions in the order of the registry, None of protocols that nobody runs."""
        self.solutions = [solution for solution in self.of_protocol if solution is not None]
        known_tables = base._builder if base is not None else None
        self._builder: TableBuilder = TableBuilder(topology, prefix_classes, self.solutions, known_tables)
        self.unresolved = self._builder.unresolved
        """Per instance whose table was made: the routes that lead nowhere, and why."""
        self._tables: OrderedDict[int, Table] = OrderedDict()
        # A row of a protocol is a kind, a metric and at least one word of next hops per prefix.
        self._kept = max(64, TABLE_BYTES // (16 * max(1, len(prefix_classes))))
        self._forgets = self._kept < len(topology.instances)
        known_looks: Memory | None = None
        if base is not None and differ_in_sessions_alone(topology, base.topology):
            for solution, before in zip(self.of_protocol, base.of_protocol, strict=True):
                if solution is not None and before is not None:
                    solution.inherit(before)
            known_looks = base.redistribution.memory
        self.redistribution: FixedPoint = redistribute(self._builder, known_looks)
        for solution in self.solutions:
            solution.forget_base()
        while self.redistribution.made and len(self._tables) < self._kept:
            instance, table = self.redistribution.made.popitem()
            self._tables[instance] = table
        self.redistribution.made.clear()

    @cached_property
    def _problems(self) -> list[tuple[list[Finding], list[Doubt]]]:
        return [solution.problems() for solution in self.solutions]

    @cached_property
    def findings(self) -> list[Finding]:
        """Problems met while solving, but of neighbours."""
        found = [finding for findings, _ in self._problems for finding in findings]
        return found + redistribution_findings(self.redistribution)

    @cached_property
    def doubts(self) -> list[Doubt]:
        """Why what is shown of some routes is not sure."""
        return [doubt for _, doubts in self._problems for doubt in doubts]

    def holds_for(
        self, topology: Topology, databases: Sequence[ProtocolDatabase], prefix_classes: PrefixClasses
    ) -> bool:
        """Whether it would come out the same from these."""
        return (
            prefix_classes is self.prefix_classes
            and all(new.is_same(old) for new, old in zip(databases, self.databases, strict=True))
            and inputs_of(topology, databases) == inputs_of(self.topology, self.databases)
        )

    def table(self, instance: int) -> Table:
        """The table of a routing instance, by its number."""
        table = self._tables.get(instance)
        if table is not None:
            if self._forgets:
                self._tables.move_to_end(instance)
            return table
        table = self._builder.make(instance)
        self._tables[instance] = table
        if len(self._tables) > self._kept:
            self._tables.popitem(last=False)
        return table

    def processes_of(self, instance: int) -> list[tuple[AnySolution, Process]]:
        """The protocol processes of a routing instance, in the order of a table's sources."""
        return self._builder.processes[instance]


def differ_in_sessions_alone(topology: Topology, base: Topology) -> bool:
    """Whether two networks differ in what BGP is told and in policies at most, wherever that is stated."""
    is_cabled_alike = topology.segments is base.segments and topology.network.links == base.network.links
    return is_cabled_alike and all(
        new is old or _without_sessions(new) == _without_sessions(old)
        for new, old in zip(topology.devices, base.devices, strict=True)
    )


def _without_sessions(device: Device) -> Device:
    def without(routing: RoutingInstance | None) -> RoutingInstance | None:
        return None if routing is None else replace(routing, bgp=None, place=NOWHERE)

    vrfs = {name: without(routing) for name, routing in device.vrfs.items()}
    return replace(device, routing=without(device.routing), vrfs=vrfs, policies={}, place=NOWHERE)


def have_sessions(databases: Sequence[ProtocolDatabase]) -> bool:
    """Whether packets of protocols' sessions cross the network, led as all others are."""
    return any(database.has_sessions and database.processes for database in databases)


def inputs_of(topology: Topology, databases: Sequence[ProtocolDatabase]) -> list[object]:
    """All that tables and redistribution take from elsewhere than the protocols' databases, for comparison.

    Who has addresses and what filters packets is among it where sessions of a protocol lead there.
    """
    inputs: list[object] = [[segment.ports for segment in topology.segments]]
    inputs += [(instance.device, instance.vrf, instance.routing) for instance in topology.instances]
    inputs += [(device.gateways, device.observed, device.policies) for device in topology.devices]
    for port in topology.ports:
        interface = port.interface
        inputs.append((port.name, port.down, port.instance, interface.addresses, interface.address_places))
        inputs.append((interface.place, interface.kind, interface.mac))
    if have_sessions(databases):
        inputs += [topology.owners, topology.answerers]
        inputs += [(one.acls, one.forwarding_policies, one.program, one.kernel_routing) for one in topology.devices]
        inputs += [(one.acl_in, one.acl_out, one.forwarding_policy) for one in (p.interface for p in topology.ports)]
    return inputs
