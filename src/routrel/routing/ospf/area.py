"""Shortest paths within one area, for all its routers at once (RFC 2328 section 16.1)."""

import numpy as np
import numpy.typing as npt

from routrel.model.addresses import Address
from routrel.routing.ospf.database import AreaDatabase
from routrel.routing.prefixes import PrefixIndex

Metrics = npt.NDArray[np.int32]
Masks = npt.NDArray[np.uint64]

UNREACHED = np.int32(2**29)
"""A metric larger than any path; sums of two still fit in 32 bits."""

WORD = 64

SMALL = 128
"""Up to this many routers plain NumPy is as fast, and SciPy's import (a second) is saved."""


class Area:
    """Distances and equal-cost next-hop sets of one area.

    ``n`` routers are numbered 0..n-1 within the area; ``w`` is the number of 64-bit words that hold the
    largest number of outgoing edges of any router.

    - ``distance``: int32 (n, n), cost from row to column, ``UNREACHED`` where there is no path.
    - ``masks``: uint64 (w, n, n); bit b of ``masks[k, s, t]`` stands for edge ``64 k + b`` of router s,
      set where that edge begins a shortest path from s to t.
    - ``hops[s]``: for each edge of s in that order, (port, neighbour's address).

    Cost: one compiled all-pairs shortest path, then one (degree, n) comparison per router.
    """

    def __init__(self, database: AreaDatabase, prefixes: PrefixIndex):
        self.number = database.number
        self.routers: list[int] = database.routers
        self.local: dict[int, int] = {router: index for index, router in enumerate(self.routers)}
        n = len(self.routers)
        source = np.array([self.local[edge.source] for edge in database.edges], dtype=np.int64)
        target = np.array([self.local[edge.target] for edge in database.edges], dtype=np.int64)
        cost = np.array([edge.cost for edge in database.edges], dtype=np.int32)
        self.hops: list[list[tuple[int, Address]]] = [[] for _ in range(n)]
        for edge in database.edges:
            self.hops[self.local[edge.source]].append((edge.port, edge.neighbor))
        self.distance: Metrics = _all_pairs(n, source, target, cost)
        self.masks: Masks = _next_hop_masks(n, source, target, cost, self.distance)
        stubs = sorted((prefixes.number[stub.prefix], self.local[stub.router], stub.cost) for stub in database.stubs)
        table = np.array(stubs, dtype=np.int64).reshape(-1, 3)
        self._stub_router = table[:, 1]
        self._stub_cost = table[:, 2].astype(np.int32)
        self.prefixes, self._first = np.unique(table[:, 0], return_index=True)
        """Numbers of the prefixes that some router of this area brings, ascending."""
        self._group = np.repeat(np.arange(len(self.prefixes)), np.diff(np.append(self._first, len(table))))

    def row(self, router: int) -> tuple[Metrics, Masks]:
        """Costs (p,) and next-hop words (w, p) from a router (area number) to ``self.prefixes``."""
        if not len(self.prefixes):
            return np.empty(0, np.int32), np.empty((len(self.masks), 0), np.uint64)
        total = self.distance[router, self._stub_router] + self._stub_cost
        best = np.minimum.reduceat(total, self._first)
        is_best = (total == best[self._group]) & (total < UNREACHED)
        words = np.where(is_best, self.masks[:, router, :][:, self._stub_router], np.uint64(0))
        return np.minimum(best, UNREACHED), np.bitwise_or.reduceat(words, self._first, axis=1)


def _all_pairs(
    n: int, source: npt.NDArray[np.int64], target: npt.NDArray[np.int64], cost: npt.NDArray[np.int32]
) -> Metrics:
    if n == 0:
        return np.zeros((0, 0), np.int32)
    if not len(source):
        return np.where(np.eye(n, dtype=bool), np.int32(0), UNREACHED)
    # Of parallel edges the cheapest counts; sorted by cost, the first of each pair is it.
    order = np.lexsort((cost, target, source))
    s, t, c = source[order], target[order], cost[order]
    first = np.ones(len(s), dtype=bool)
    first[1:] = (s[1:] != s[:-1]) | (t[1:] != t[:-1])
    if n <= SMALL:
        return _floyd_warshall(n, s[first], t[first], c[first])
    from scipy.sparse import csr_array
    from scipy.sparse.csgraph import dijkstra

    graph = csr_array((c[first].astype(np.float64), (s[first], t[first])), shape=(n, n))
    lengths = dijkstra(graph)
    np.minimum(lengths, float(UNREACHED), out=lengths)
    return lengths.astype(np.int32)


def _floyd_warshall(
    n: int, source: npt.NDArray[np.int64], target: npt.NDArray[np.int64], cost: npt.NDArray[np.int32]
) -> Metrics:
    lengths = np.where(np.eye(n, dtype=bool), np.int32(0), UNREACHED)
    lengths[source, target] = cost
    for middle in range(n):
        np.minimum(lengths, lengths[:, middle, None] + lengths[middle], out=lengths)
    return np.minimum(lengths, UNREACHED)


def _next_hop_masks(
    n: int,
    source: npt.NDArray[np.int64],
    target: npt.NDArray[np.int64],
    cost: npt.NDArray[np.int32],
    distance: Metrics,
) -> Masks:
    """Edges come sorted by source, so that each router's edges are one slice, in bit order."""
    starts = np.searchsorted(source, np.arange(n + 1))
    degree = int(np.diff(starts).max()) if n else 0
    words = max(1, -(-degree // WORD))
    masks = np.zeros((words, n, n), dtype=np.uint64)
    for router in range(n):
        row = distance[router]
        reached = row < UNREACHED
        for edge in range(starts[router], starts[router + 1]):
            word, bit = divmod(edge - starts[router], WORD)
            begins = (distance[target[edge]] + cost[edge] == row) & reached
            masks[word, router] |= begins.astype(np.uint64) << np.uint64(bit)
        masks[:, router, router] = 0
    return masks
