"""The areas of one version of OSPF as graphs, each with what its routers bring (RFC 2328 section 16.1)."""

from collections import defaultdict
from collections.abc import Mapping

import numpy as np

from routrel.routing.arrays import WORD
from routrel.routing.neighbors import edge_hop
from routrel.routing.ospf.database import OspfDatabase
from routrel.routing.prefixes.classes import PrefixClasses
from routrel.routing.routes import NextHop
from routrel.routing.spf.destinations import Destinations
from routrel.routing.spf.graph import Edge, Graph

MOST_KEPT = 256
"""Next hops of one router that are kept once made; on a shared network there may be thousands."""

BACKBONE = 0


class AreaGraphs:
    """Which processes stand in which areas, the areas' graphs, and their destinations: columns of prefixes, then
    boundary routers."""

    def __init__(self, database: OspfDatabase, prefixes: PrefixClasses, base: "AreaGraphs | None" = None):
        """Graphs of areas that are as they were in ``base`` are taken over."""
        self.database = database
        self.prefixes = prefixes
        self.areas_of: list[list[int]] = [[] for _ in database.processes]
        for number in sorted(database.areas):
            for process in database.areas[number].routers:
                self.areas_of[process].append(number)
        self.borders = [process for process, areas in enumerate(self.areas_of) if len(areas) > 1]
        self.boundary = [
            process.number
            for process in database.processes
            if process.takes_routes or (len(self.areas_of[process.number]) > 1 and self._touches_nssa(process.number))
        ]
        """Processes that may bring routes from outside: destination p + i each."""
        self.closed: dict[int, set[int]] = defaultdict(set)
        for (process, number), settings in database.area_settings.items():
            if settings.type != "normal":
                self.closed[number].add(process)
        """Per area the routers to which it is a stub area or an NSSA: no way through it to a boundary router counts for
        what that one says to the whole system, which is not known there (sections 3.6 and 12.4.1)."""
        is_over_alike = base is not None and base.prefixes is prefixes and base.boundary == self.boundary
        self.as_in_base = database.as_in_base if is_over_alike else frozenset[int]()
        """Areas whose routers' routes within them are those that ``base`` has."""
        self.size = len(prefixes) + len(self.boundary)
        self.graphs: dict[int, Graph] = {}
        self.taken_over = 0
        known = {} if base is None else base.graphs
        for number, area in sorted(database.areas.items()):
            before = known.get(number)
            if before is not None and before.is_of(area.routers, area.edges, area.networks):
                self.graphs[number] = before
                self.taken_over += 1
            else:
                self.graphs[number] = Graph(area.routers, area.edges, area.networks, before)
        of_base = {} if base is None else {number: base.destinations[number] for number in self.as_in_base}
        self.destinations: Mapping[int, Destinations] = {
            number: of_base[number] if number in of_base else self._destinations(number)
            for number in sorted(database.areas)
        }
        self._hops: dict[tuple[int, int], list[NextHop | None]] = {}
        is_alike = base is not None and database.topology.segments is base.database.topology.segments
        self._known_hops: dict[tuple[int, int], tuple[list[Edge], list[NextHop | None]]] = (
            base._known_hops if base is not None and is_alike else {}
        )
        """Those behind the edges that stand beside them, of all networks with the same addresses."""

    def area_type(self, process: int, area: int) -> str:
        return self.database.area_settings[process, area].type

    def _touches_nssa(self, process: int) -> bool:
        return any(self.area_type(process, area) == "nssa" for area in self.areas_of[process])

    def _destinations(self, number: int) -> Destinations:
        """What the routers of an area bring."""
        graph, prefixes = self.graphs[number], self.prefixes
        numbers, routers, costs = self.database.areas[number].stubs.columns(prefixes.whole)
        columns = prefixes.standing[numbers]
        brought = np.stack([graph.vertices(routers), columns, costs])[:, columns >= 0]
        outside = [
            (graph.local[process], column, 0)
            for column, process in enumerate(self.boundary, len(prefixes))
            if process in graph.local
        ]
        return Destinations(*np.concatenate([brought, np.array(outside, np.int64).reshape(-1, 3).T], axis=1))

    def hops_of(self, area: int, process: int) -> list[NextHop | None]:
        """The next hops behind a process's edges in an area, in the order of the bits; whole words."""
        key, graph = (area, process), self.graphs[area]
        if key in self._hops:
            return self._hops[key]
        edges = graph.first_hops(graph.local[process])
        behind, hops = self._known_hops.get(key, ([], []))
        if behind != edges or len(hops) != graph.words * WORD:
            hops = [edge_hop(self.database.topology, edge, self.database.family) for edge in edges]
            hops += [None] * (graph.words * WORD - len(hops))
            if len(hops) > MOST_KEPT:
                return hops
            self._known_hops.setdefault(key, (edges, hops))
        self._hops[key] = hops
        return hops
