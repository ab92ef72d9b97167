"""Tables put together: what stands whatever protocols do, then the protocols, then static routes that ask the table."""

from collections.abc import Container, Sequence
from typing import NamedTuple

from routrel.model.observed import ObservedRoute
from routrel.model.routing import StaticRoute
from routrel.routing.prefixes.classes import PrefixClasses
from routrel.routing.protocol import AnySolution, Process
from routrel.routing.rib.connected import connected_routes
from routrel.routing.rib.observed import install_observed_routes, is_observed_only
from routrel.routing.rib.static import AskingRoutes, install_fixed_routes, split_static_routes
from routrel.routing.rib.table import Source, Table
from routrel.topology.segments import Topology

Unresolved = tuple[StaticRoute | ObservedRoute, str]
"""A route that leads nowhere, and why."""


class Base(NamedTuple):
    """A table before protocols, the static routes that are still to come, and those that do nothing."""

    table: Table
    others: AskingRoutes
    failed: list[tuple[StaticRoute, str]]

    def over(self, prefix_classes: PrefixClasses) -> "Base":
        """The same over other columns."""
        return self._replace(table=self.table.over(prefix_classes), others=AskingRoutes(self.others.candidates))


class TableBuilder:
    """Makes the tables of routing instances from solved protocols, over one set of columns."""

    def __init__(
        self,
        topology: Topology,
        prefix_classes: PrefixClasses,
        solutions: Sequence[AnySolution],
        known: "TableBuilder | None" = None,
    ):
        """What ``known`` has of devices that are the same is taken over."""
        self.topology = topology
        self.prefix_classes = prefix_classes
        self.solutions = solutions
        self.processes: list[list[tuple[AnySolution, Process]]] = [[] for _ in topology.instances]
        """The protocol processes of each instance, in the order of its table's sources."""
        for solution in solutions:
            for process in solution.processes:
                self.processes[process.instance].append((solution, process))
        self.unresolved: dict[int, list[Unresolved]] = {}
        self._bases: dict[int, Base] = {}
        if known is not None and known.prefix_classes.whole is prefix_classes.whole:
            gone = self._instances_touched(known)
            self._bases = {
                number: base if known.prefix_classes is prefix_classes else base.over(prefix_classes)
                for number, base in known._bases.items()
                if number not in gone
            }

    def _instances_touched(self, known: "TableBuilder") -> Container[int]:
        """The instances of devices that are not the same, or have other ports; all where they have other numbers."""
        here, there = self.topology, known.topology
        if here.instance_index != there.instance_index:
            return known._bases
        pairs = zip(here.devices, there.devices, here.ports_named, there.ports_named, strict=True)
        touched = [
            at for at, (one, other, ports, others) in enumerate(pairs) if one is not other or ports is not others
        ]
        return {instance for device in touched for instance in here.instances_of(device)}

    def over(self, prefix_classes: PrefixClasses, solutions: Sequence[AnySolution]) -> "TableBuilder":
        """The same over other columns, with what is kept of bases."""
        builder = TableBuilder(self.topology, prefix_classes, solutions)
        builder._bases = {number: base.over(prefix_classes) for number, base in self._bases.items()}
        return builder

    def make(self, number: int) -> Table:
        """The table of an instance as protocols are now."""
        unresolved: list[Unresolved] = []
        if is_observed_only(self.topology, number):
            table = Table(self.topology, self.prefix_classes, number, (), ())
            unresolved += install_observed_routes(self.topology, table)
        else:
            base = self.base(number)
            table = base.table.fresh([Source(solution, process) for solution, process in self.processes[number]])
            table, failed = base.others.install(self.topology, table)
            unresolved += (*base.failed, *failed)
        self.unresolved[number] = unresolved
        return table

    def base(self, number: int) -> Base:
        """What stands in an instance's table whatever protocols do."""
        if number in self._bases:
            return self._bases[number]
        instance = self.topology.instances[number]
        routing = instance.routing
        policies = self.topology.devices[instance.device].policies
        install = policies[routing.install_policy] if routing and routing.install_policy else None
        connected = connected_routes(self.topology, number)
        table = Table(self.topology, self.prefix_classes, number, (), connected, install)
        fixed, others = split_static_routes(self.topology, number)
        base = Base(table, AskingRoutes(others), install_fixed_routes(self.topology, table, fixed))
        self._bases[number] = base
        return base
