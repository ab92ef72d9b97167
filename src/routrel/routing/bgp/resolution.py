"""Next hops of BGP paths, resolved through a router's table (RFC 4271 section 9.1.2.1).

A next hop resolves by the longest match, whatever its protocol, but never by a path that has that same
next hop: where such a path is the longest match, it does not resolve at all. Where the longest match
discards, it resolves, and the path discards too (RFC 5635 section 3); a rejecting route says that there
is no way to the next hop, and carries none.
"""

from collections.abc import Callable
from typing import NamedTuple

import numpy as np

from routrel.model.addresses import Address
from routrel.model.routing import RouteAction
from routrel.routing.bgp.decision import UNREACHABLE
from routrel.routing.bgp.paths import OWN, Column, Paths
from routrel.routing.routes import NextHop, Route
from routrel.routing.static import resolve_by
from routrel.routing.table import Table
from routrel.topology.segments import Topology

DEPTH = 8
"""How many BGP routes may lead from one to the next before a next hop is given up."""


class Resolution(NamedTuple):
    """The metric to a next hop, UNREACHABLE where it does not resolve, and what becomes of packets for it."""

    metric: int
    next_hops: tuple[NextHop, ...]
    action: RouteAction = "forward"


NOWHERE = Resolution(int(UNREACHABLE), ())

HasPath = Callable[[int, int], bool]
"""(column, next hop): whether the router holds a path for the column with that next hop."""


class TableResolver:
    """One router's next hops by its table of the moment; each is looked up once."""

    def __init__(self, topology: Topology, paths: Paths, table: Table, next_hop_of: Callable[[int], int], has: HasPath):
        self.topology = topology
        self.paths = paths
        self.table = table
        self._next_hop_of = next_hop_of
        self._has = has
        self._known: dict[int, Resolution] = {OWN: NOWHERE}
        self._metrics = np.full(16, -1, np.int64)

    def metrics(self, next_hops: Column) -> Column:
        """The metric to each next hop, by its number, UNREACHABLE where it does not resolve."""
        count = len(self.paths.next_hops.values)
        if count > len(self._metrics):
            more = np.full(2 * count - len(self._metrics), -1, np.int64)
            self._metrics = np.concatenate([self._metrics, more])
        found = self._metrics[next_hops]
        if (found < 0).any():
            for number in np.unique(next_hops[found < 0]).tolist():
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
        return self.resolve(self._next_hop_of(column), depth + 1)

    def carrier(self, next_hop: int, address: Address) -> tuple[Route | None, int]:
        """The route that a next hop resolves by, and its column; None where only itself would do."""
        for number in self.table.prefixes.chain(address):
            route = self.table.get(number)
            column = self.table.representatives.column.item(number)
            if (route is None or route.protocol == "bgp") and self._has(column, next_hop):
                return None, column
            if route is not None:
                return route, column
        return None, -1
