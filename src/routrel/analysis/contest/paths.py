"""Plain shortest paths for explanations: one source, one graph, with every sum spelled out."""

import heapq
from collections import defaultdict
from collections.abc import Iterable, Mapping
from typing import NamedTuple

from routrel.routing.graph import Edge

WAYS = 4
"""Equal ways that are spelled out; there may be more."""


class Leg(NamedTuple):
    """One term of a sum: out of ``port`` (or by it, for a prefix brought in) at ``cost``."""

    port: int
    cost: int


class Way(NamedTuple):
    """One way with its sum: the legs in the order of the packet."""

    legs: tuple[Leg, ...]

    @property
    def total(self) -> int:
        return sum(leg.cost for leg in self.legs)


class PlainGraph:
    """Directed edges of one flooding scope; ``costs`` overrides the cost of leaving by a port."""

    def __init__(self, edges: Iterable[Edge], costs: Mapping[int, int] | None = None):
        self.leaving: dict[int, list[Edge]] = defaultdict(list)
        self.arriving: dict[int, list[Edge]] = defaultdict(list)
        costs = costs or {}
        for edge in edges:
            changed = edge._replace(cost=costs.get(edge.port, edge.cost)) if costs else edge
            self.leaving[edge.source].append(changed)
            self.arriving[edge.target].append(changed)
        self._from: dict[int, dict[int, int]] = {}

    def distances(self, start: int) -> dict[int, int]:
        """Costs from one router to all it reaches."""
        if start not in self._from:
            self._from[start] = _dijkstra({start: 0}, self.leaving, forward=True)
        return self._from[start]

    def towards(self, ends: Mapping[int, int]) -> dict[int, int]:
        """Costs from every router to the nearest of ``ends``, each with a cost of its own to begin with."""
        return _dijkstra(ends, self.arriving, forward=False)

    def first_edges(self, start: int, end: int) -> list[Edge]:
        """The edges of ``start`` that begin a shortest path to ``end``."""
        distance = self.towards({end: 0})
        if start not in distance or start == end:
            return []
        return [
            edge
            for edge in self.leaving[start]
            if edge.target in distance and edge.cost + distance[edge.target] == distance[start]
        ]

    def ways(self, start: int, end: int, limit: int = WAYS) -> list[tuple[Leg, ...]]:
        """Up to ``limit`` shortest paths, each as its legs."""
        if start == end:
            return [()]
        distance = self.distances(start)
        if end not in distance:
            return []
        found: list[tuple[Leg, ...]] = []
        stack: list[tuple[int, tuple[Leg, ...]]] = [(end, ())]
        while stack and len(found) < limit:
            router, legs = stack.pop()
            if router == start:
                found.append(legs)
                continue
            if len(legs) > len(distance):
                continue
            for edge in self.arriving[router]:
                if edge.source in distance and distance[edge.source] + edge.cost == distance[router]:
                    stack.append((edge.source, (Leg(edge.port, edge.cost), *legs)))
        return found


def _dijkstra(starts: Mapping[int, int], edges: Mapping[int, list[Edge]], *, forward: bool) -> dict[int, int]:
    distance = dict(starts)
    queue = [(cost, router) for router, cost in starts.items()]
    heapq.heapify(queue)
    while queue:
        so_far, router = heapq.heappop(queue)
        if so_far > distance[router]:
            continue
        for edge in edges.get(router, ()):
            other = edge.target if forward else edge.source
            total = so_far + edge.cost
            standing = distance.get(other)
            if standing is None or total < standing:
                distance[other] = total
                heapq.heappush(queue, (total, other))
    return distance
