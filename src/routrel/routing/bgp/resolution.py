"""Next hops of BGP paths, resolved through a router's table (RFC 4271 section 9.1.2.1).

A next hop resolves by the longest match, whatever its protocol, but never by a path that has that same
next hop: where such a path is the longest match, it does not resolve at all. Where the longest match
discards, it resolves, and the path discards too (RFC 5635 section 3); a rejecting route says that there
is no way to the next hop, and carries none.
"""

from typing import NamedTuple

import numpy as np

from routrel.model.addresses import Address
from routrel.model.routing import RouteAction
from routrel.routing.arrays import Column, distinct
from routrel.routing.bgp.decision import UNREACHABLE
from routrel.routing.bgp.paths import ABSENT, NEXT_HOP, OWN, Paths
from routrel.routing.bgp.propagation import Propagation
from routrel.routing.protocol import Lineage
from routrel.routing.rib.static import resolve_by
from routrel.routing.rib.table import Table
from routrel.routing.routes import NextHop, Route

DEPTH = 8
"""How many BGP routes may lead from one to the next before a next hop is given up."""


class Resolution(NamedTuple):
    """The metric to a next hop, UNREACHABLE where it does not resolve, and what becomes of packets for it."""

    metric: int
    next_hops: tuple[NextHop, ...]
    action: RouteAction = "forward"


NOWHERE = Resolution(int(UNREACHABLE), ())


class OutsideResolver:
    """That of a speaker outside the network, which uses all it says."""

    lineage = Lineage()

    def metrics(self, next_hops: Column) -> Column:
        return np.zeros_like(next_hops)


class TableResolver:
    """One router's next hops by its table of the moment; each is looked up once.

    ``held`` are the paths of the moment, None before any is sent.
    """

    def __init__(self, paths: Paths, table: Table, held: Propagation | None, process: int):
        self.topology = table.topology
        self.paths = paths
        self.table = table
        self._held = held
        self._process = process
        self.lineage = Lineage()
        self._known: dict[int, Resolution] = {OWN: NOWHERE}
        self._metrics = np.full(16, -1, np.int64)

    def over(self, paths: Paths, table: Table, held: Propagation | None) -> "TableResolver":
        """The same where the table and the paths held are the same, and numbers of paths those here or more."""
        made = TableResolver(paths, table, held, self._process)
        made.lineage = self.lineage
        made._known, made._metrics = dict(self._known), self._metrics.copy()
        return made

    def metrics(self, next_hops: Column) -> Column:
        """The metric to each next hop, by its number, UNREACHABLE where it does not resolve."""
        count = len(self.paths.next_hops.values)
        if count > len(self._metrics):
            more = np.full(2 * count - len(self._metrics), -1, np.int64)
            self._metrics = np.concatenate([self._metrics, more])
        found = self._metrics[next_hops]
        if (found < 0).any():
            for number in distinct([next_hops[found < 0]], count).tolist():
                self._metrics[number] = self.resolve(number).metric
            found = self._metrics[next_hops]
        return found

    def resolve(self, next_hop: int, depth: int = 0) -> Resolution:
        """Metric, real next hops and action; ``NOWHERE`` where it does not resolve."""
        found = self._known.get(next_hop)
        if found is None:
            found = self._find(next_hop, depth)
            if depth == 0:
                self._known[next_hop] = found
        return found

    def _find(self, next_hop: int, depth: int) -> Resolution:
        address = self.paths.next_hops.values[next_hop]
        if address is None or depth > DEPTH:
            return NOWHERE
        route, column = self.carrier(next_hop, address)
        if route is None:
            return NOWHERE
        resolution, _ = resolve_by(self.topology, route, address)
        if resolution is not None and resolution[0] == "discard":
            return Resolution(route.metric or 0, (), "discard")
        if resolution is None or resolution[0] != "forward" or not resolution[1]:
            return NOWHERE
        if route.protocol != "bgp":
            return Resolution(route.metric or 0, resolution[1])
        held = self._held
        if held is None or held.best[self._process, column] == ABSENT:
            return NOWHERE
        return self.resolve(int(self.paths.rows[held.best[self._process, column], NEXT_HOP]), depth + 1)

    def carrier(self, next_hop: int, address: Address) -> tuple[Route | None, int]:
        """The route that a next hop resolves by, and its column; None where only itself would do."""
        for number in self.table.prefixes.chain(address):
            route = self.table.get(number)
            column = self.table.prefix_classes.column.item(number)
            if (route is None or route.protocol == "bgp") and self._has_path(column, next_hop):
                return None, column
            if route is not None:
                return route, column
        return None, -1

    def _has_path(self, column: int, next_hop: int) -> bool:
        """Whether the router holds a path for a column that has a next hop."""
        held = self._held
        if held is None:
            return False
        for channel in held.inward[self._process]:
            number = held.received[channel.index][column]
            if number != ABSENT and self.paths.rows[number, NEXT_HOP] == next_hop:
                return True
        return False
