"""Tables put together: what stands whatever protocols do, then the protocols, then static routes that ask the table."""

from collections.abc import Iterator, Sequence
from contextlib import contextmanager
from typing import NamedTuple

from routrel.model.observed import ObservedRoute
from routrel.model.routing import StaticRoute
from routrel.routing.connected import connected_routes
from routrel.routing.observed import install_observed_routes, is_observed_only
from routrel.routing.representatives import Representatives
from routrel.routing.rows import Process, ProtocolSolution
from routrel.routing.static import install_fixed_routes, install_static_routes, split_static_routes
from routrel.routing.table import Source, Table
from routrel.topology.segments import Topology


class Base(NamedTuple):
    """A table before protocols, the static routes that are still to come, and those that do nothing."""

    table: Table
    others: list[StaticRoute]
    failed: list[tuple[StaticRoute, str]]


class TableMaker:
    """Makes the tables of routing instances from solved protocols, over one set of columns."""

    def __init__(self, topology: Topology, representatives: Representatives, solutions: Sequence[ProtocolSolution]):
        self.topology = topology
        self.representatives = representatives
        self.solutions = solutions
        self.processes: list[list[tuple[ProtocolSolution, Process]]] = [[] for _ in topology.instances]
        """The protocol processes of each instance, in the order of its table's sources."""
        for solution in solutions:
            for process in solution.processes:
                self.processes[process.instance].append((solution, process))
        self.unresolved: dict[int, list[tuple[StaticRoute | ObservedRoute, str]]] = {}
        self._bases: dict[int, Base] | None = None

    def over(self, representatives: Representatives, solutions: Sequence[ProtocolSolution]) -> "TableMaker":
        """The same over other columns, with what is kept of bases."""
        maker = TableMaker(self.topology, representatives, solutions)
        if self._bases is not None:
            maker._bases = {
                number: base._replace(table=base.table.over(representatives)) for number, base in self._bases.items()
            }
        return maker

    @contextmanager
    def keeping_bases(self) -> Iterator[None]:
        """Keep what stands whatever protocols do, while tables are made again and again."""
        self._bases = {}
        try:
            yield
        finally:
            self._bases = None

    def make(self, number: int) -> Table:
        """The table of an instance as protocols are now."""
        unresolved: list[tuple[StaticRoute | ObservedRoute, str]] = []
        if is_observed_only(self.topology, number):
            table = Table(self.topology, self.representatives, number, (), ())
            unresolved += install_observed_routes(self.topology, table)
        else:
            base = self.base(number)
            table = base.table.fresh([Source(solution, process) for solution, process in self.processes[number]])
            unresolved += base.failed
            unresolved += install_static_routes(self.topology, table, base.others)
        self.unresolved[number] = unresolved
        return table

    def base(self, number: int) -> Base:
        """What stands in an instance's table whatever protocols do."""
        if self._bases is not None and number in self._bases:
            return self._bases[number]
        instance = self.topology.instances[number]
        routing = instance.routing
        policies = self.topology.devices[instance.device].policies
        install = policies[routing.install_policy] if routing and routing.install_policy else None
        connected = connected_routes(self.topology, number)
        table = Table(self.topology, self.representatives, number, (), connected, install)
        fixed, others = split_static_routes(self.topology, number)
        base = Base(table, others, install_fixed_routes(self.topology, table, fixed))
        if self._bases is not None:
            self._bases[number] = base
        return base
