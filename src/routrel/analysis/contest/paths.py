"""Plain shortest paths for explanations: one source, one graph, with every sum spelled out."""

import heapq
from collections import defaultdict
from collections.abc import Iterable, Mapping
from typing import NamedTuple

from routrel.routing.spf.graph import Edge, SharedNetwork

MANY = 64
"""First hops from which on a search back from the end is cheaper than one from each of them."""

WAYS = 4
"""Equal ways that are spelled out; there may be more."""


class Leg(NamedTuple):
    """One term of a sum: out of ``port`` (or by it, for a prefix brought in) at ``cost``.

    A term that is no interface's has port -1 and says in ``what`` whose it is.
    """

    port: int
    cost: int
    what: str = ""


class Way(NamedTuple):
    """One way with its sum: the legs in the order of the packet."""

    legs: tuple[Leg, ...]

    @property
    def total(self) -> int:
        return sum(leg.cost for leg in self.legs)


class PlainGraph:
    """Directed edges of one flooding scope."""

    def __init__(self, edges: Iterable[Edge], networks: Iterable[SharedNetwork] = ()):
        """A shared network is a vertex below zero: into it at the sender's cost, out of it at none."""
        self.leaving: dict[int, list[Edge]] = defaultdict(list)
        self.arriving: dict[int, list[Edge]] = defaultdict(list)
        self.by_port: dict[int, list[Edge]] = defaultdict(list)
        for edge in edges:
            self.leaving[edge.source].append(edge)
            self.arriving[edge.target].append(edge)
            self.by_port[edge.port].append(edge)
        for vertex, network in enumerate(networks, 1):
            for member in network:
                into = Edge(member.router, -vertex, member.cost, member.port, -1)
                out = Edge(-vertex, member.router, 0, -1, member.port)
                for edge in (into, out):
                    self.leaving[edge.source].append(edge)
                    self.arriving[edge.target].append(edge)
                self.by_port[member.port].append(into)
        self._from: dict[int, dict[int, int]] = {}
        self._is_trial = False
        """Whether it is asked about one end only, for which a search back from there is enough."""

    def with_costs(self, costs: Mapping[int, int]) -> "PlainGraph":
        """The same with other costs of leaving by some ports; what stays is shared."""
        ports = [port for port in costs if port in self.by_port]
        if not ports:
            return self
        changed = PlainGraph(())
        changed._is_trial = True
        changed.leaving, changed.arriving = self.leaving.copy(), self.arriving.copy()
        changed.by_port = self.by_port.copy()
        for port in ports:
            new = [edge._replace(cost=costs[port]) for edge in self.by_port[port]]
            for old, edge in zip(self.by_port[port], new, strict=True):
                for side, end in ((changed.leaving, edge.source), (changed.arriving, edge.target)):
                    side[end] = [edge if one == old else one for one in side[end]]
            changed.by_port[port] = new
        return changed

    def shortening_ports(self, start: int, ends: Mapping[int, int], lowest: int = 1) -> set[int]:
        """Ports that some path from ``start`` to the nearest of ``ends`` would use at the lowest cost."""
        ahead, behind = self.distances(start), self.towards(ends)
        best = behind.get(start)
        return {
            edge.port
            for router, edges in self.leaving.items()
            if router in ahead
            for edge in edges
            if edge.port >= 0
            and edge.target in behind
            and (best is None or ahead[router] + lowest + behind[edge.target] <= best)
        }

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
        best = self.distances(start).get(end)
        if best is None or start == end:
            return []
        edges = self._first_hops(start)
        if self._is_trial or len(edges) > MANY:
            back = self.towards({end: 0})
            return [edge for edge in edges if edge.cost + back.get(edge.target, best) == best]
        # The trees of the neighbours serve all ends that are asked about.
        return [edge for edge in edges if edge.cost + self.distances(edge.target).get(end, best) == best]

    def _first_hops(self, start: int) -> list[Edge]:
        """The edges of a router, those over shared networks to each of the others."""
        found = []
        for edge in self.leaving[start]:
            if edge.target >= 0:
                found.append(edge)
            else:
                found += [
                    Edge(start, other.target, edge.cost, edge.port, other.peer)
                    for other in self.leaving[edge.target]
                    if other.target != start
                ]
        return found

    def detours(self, start: int, end: int) -> list[tuple[Edge, tuple[Leg, ...]]]:
        """For each edge of ``start`` off its shortest paths to ``end``: the best way on that does not come back."""
        if start == end:
            return []
        best = self.towards({end: 0}).get(start)
        rest = _dijkstra({end: 0}, self.arriving, forward=False, without=start)
        found = []
        for edge in self.leaving[start]:
            if edge.target < 0 or edge.target not in rest or edge.cost + rest[edge.target] == best:
                continue
            legs, router = [Leg(edge.port, edge.cost)], edge.target
            while router != end:
                onward = next(
                    one
                    for one in self.leaving[router]
                    if one.target in rest and one.cost + rest[one.target] == rest[router]
                )
                if onward.source >= 0:
                    legs.append(Leg(onward.port, onward.cost))
                router = onward.target
            found.append((edge, tuple(legs)))
        return found

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
                    stack.append((edge.source, (Leg(edge.port, edge.cost), *legs) if edge.source >= 0 else legs))
        return found


def _dijkstra(
    starts: Mapping[int, int], edges: Mapping[int, list[Edge]], *, forward: bool, without: int | None = None
) -> dict[int, int]:
    distance = dict(starts)
    queue = [(cost, router) for router, cost in starts.items()]
    heapq.heapify(queue)
    while queue:
        so_far, router = heapq.heappop(queue)
        if so_far > distance[router]:
            continue
        for edge in edges.get(router, ()):
            other = edge.target if forward else edge.source
            if other == without:
                continue
            total = so_far + edge.cost
            standing = distance.get(other)
            if standing is None or total < standing:
                distance[other] = total
                heapq.heappush(queue, (total, other))
    return distance
