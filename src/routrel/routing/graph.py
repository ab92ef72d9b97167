"""Shortest paths over a graph of routers, for all of them at once.

What link-state protocols share: distances and equal-cost next hops between all routers of one flooding
scope, and the destinations that routers bring into it.
"""

from typing import NamedTuple

import numpy as np
import numpy.typing as npt

from routrel.model.addresses import Address
from routrel.routing.grouping import Flags, Masks, Runs, classes_of, run_starts
from routrel.routing.shortest_paths import UNREACHED, Metrics, Numbers, all_pairs

Vertices = int | Numbers

HIGHEST = np.int64(2**62)

WORD = 64

BLOCK = 1024
"""So many routers' rows are compared at once: memory for them stays small beside the distances."""


class Edge(NamedTuple):
    """A directed edge: from one router out of ``port`` at ``cost`` to another, in by its port ``peer``.

    ``gateway`` is the other's address where several edges join the same two ports: one in each subnet.
    """

    source: int
    target: int
    cost: int
    port: int
    peer: int
    gateway: Address | None = None


class Graph:
    """Distances and equal-cost next-hop sets of n routers.

    Vertices are numbered 0..n-1 in the order of ``routers``, which ascend; ``w`` is the number of 64-bit
    words that hold the largest number of outgoing edges of any router.

    - ``distance``: int32 (n, n), cost from row to column, ``UNREACHED`` where there is no path.
    - ``masks``: uint64 (w, n, n); bit b of ``masks[k, s, t]`` stands for ``edges_of[s][64 k + b]``,
      set where that edge begins a shortest path from s to t.

    Cost: shortest paths between all pairs, then one comparison of n rows per edge of a router.
    """

    def __init__(self, routers: list[int], edges: list[Edge]):
        self.routers = routers
        self.local: dict[int, int] = {router: index for index, router in enumerate(routers)}
        self._ascending = np.array(routers, np.int64)
        n = len(routers)
        edges = sorted(edges)
        sources, targets, costs, *_ = zip(*edges, strict=True) if edges else ((), (), ())
        source, target = self.vertices(np.array(sources, np.int64)), self.vertices(np.array(targets, np.int64))
        cost = np.array(costs, np.int32)
        starts = np.searchsorted(source, np.arange(n + 1)).tolist()
        self.edges_of: list[list[Edge]] = [edges[starts[router] : starts[router + 1]] for router in range(n)]
        self.distance: Metrics = all_pairs(n, source, target, cost)
        self.masks: Masks = _next_hop_masks(n, source, target, cost, self.distance)

    @property
    def words(self) -> int:
        return len(self.masks)

    def vertices(self, routers: Numbers) -> Numbers:
        """The vertices of routers of this graph, (n,)."""
        return np.searchsorted(self._ascending, routers)


class Destinations:
    """Destinations by number, each brought into a graph by one or more vertices at a cost.

    Destinations that the same vertices bring at the same costs (and tags) are one class; what vertices say
    of a class is one run of entries, so that a router's row over all of them is a few array operations.
    """

    def __init__(self, vertex: npt.ArrayLike, number: npt.ArrayLike, cost: npt.ArrayLike, tag: npt.ArrayLike = ()):
        vertices, numbers = np.asarray(vertex, np.int64), np.asarray(number, np.int64)
        costs, tags = np.asarray(cost, np.int64), np.asarray(tag, np.int64)
        self.has_tags = bool((tags > 0).any())
        if not self.has_tags:
            tags = np.zeros(len(costs), np.int64)
        order = np.argsort(numbers * (int(vertices.max(initial=0)) + 1) + vertices)
        vertices, numbers, costs, tags = vertices[order], numbers[order], costs[order], tags[order]
        starts = run_starts(numbers)
        self.numbers: Numbers = numbers[starts]
        counts = np.diff(np.append(starts, len(numbers)))
        self._class, first = classes_of(starts, [vertices, costs, tags])
        self._runs = Runs(counts[first])
        at = np.repeat(starts[first], counts[first]) + _positions(counts[first])
        self._vertices, self._costs, self._tags = vertices[at], costs[at].astype(np.int32), tags[at]

    def costs(self, graph: Graph, router: Vertices) -> Metrics:
        """Costs (d,) from a vertex to ``self.numbers``; of b vertices (b, d)."""
        best, _ = self._best(graph, router)
        costs: Metrics = np.minimum(best, UNREACHED)[..., self._class]
        return costs

    def row(self, graph: Graph, router: Vertices) -> tuple[Metrics, Masks]:
        """Costs (d,) and next-hop words (w, d) from a vertex to ``self.numbers``; of b vertices (b, d), (w, b, d)."""
        best, chosen = self._best(graph, router)
        words = self._runs.union(graph.masks[:, router][..., self._vertices], chosen)
        return np.minimum(best, UNREACHED)[..., self._class], words[..., self._class]

    def tags(self, graph: Graph, router: Vertices) -> Numbers:
        """The tag of the best way from a vertex to each of ``self.numbers``, 0 without: the lowest of equal ways."""
        if not self.has_tags:
            return np.zeros((*np.shape(router), len(self.numbers)), np.int64)
        best, chosen = self._best(graph, router)
        tag, _ = self._runs.least(np.where(chosen, self._tags, HIGHEST))
        return np.where(best < UNREACHED, tag, 0)[..., self._class]

    def _best(self, graph: Graph, router: Vertices) -> tuple[Metrics, Flags]:
        """Per class the least cost, and which entries have it."""
        return self._runs.least(graph.distance[router][..., self._vertices] + self._costs)


def _positions(counts: Numbers) -> Numbers:
    """0, 1, ... within each run of these lengths."""
    return np.arange(int(counts.sum())) - np.repeat(np.cumsum(counts) - counts, counts)


def _next_hop_masks(
    n: int,
    source: npt.NDArray[np.int64],
    target: npt.NDArray[np.int64],
    cost: npt.NDArray[np.int32],
    distance: Metrics,
) -> Masks:
    """Edges come sorted by source, so that each router's edges are one slice, in bit order."""
    starts = np.searchsorted(source, np.arange(n))
    bit = np.arange(len(source)) - starts[source]
    words = max(1, -(-int(bit.max(initial=-1) + 1) // WORD))
    masks = np.zeros((words, n, n), dtype=np.uint64)
    for number in range(int(bit.max(initial=-1)) + 1):
        having = np.flatnonzero(bit == number)
        for first in range(0, len(having), BLOCK):
            edges = having[first : first + BLOCK]
            rows = distance[source[edges]]
            begins = distance[target[edges]] + cost[edges, None] == rows
            begins &= rows < UNREACHED
            word, shift = divmod(number, WORD)
            masks[word, source[edges]] |= begins.astype(np.uint64) << np.uint64(shift)
    routers = np.arange(n)
    masks[:, routers, routers] = 0
    return masks
