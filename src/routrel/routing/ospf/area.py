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
        by_prefix: dict[int, list[tuple[int, int]]] = {}
        for stub in database.stubs:
            by_prefix.setdefault(prefixes.number[stub.prefix], []).append((self.local[stub.router], stub.cost))
        order = sorted(by_prefix, key=lambda number: (-len(by_prefix[number]), number))
        self.prefixes = np.array(order, dtype=np.int64)
        """Numbers of the prefixes that some router of this area brings, those of most routers first."""
        self._layers = _layers([by_prefix[number] for number in order])

    def row(self, router: int) -> tuple[Metrics, Masks]:
        """Costs (p,) and next-hop words (w, p) from a router (area number) to ``self.prefixes``."""
        best = np.full(len(self.prefixes), UNREACHED, np.int32)
        words = np.zeros((len(self.masks), len(self.prefixes)), np.uint64)
        distance, masks = self.distance[router], self.masks[:, router, :]
        for routers, costs in self._layers:
            size = len(routers)
            total = distance[routers] + costs
            standing = best[:size]
            offered = masks[:, routers]
            # An equal cost adds its next hops; a lower one puts its own in place of what stands.
            kept = np.where(total > standing, np.uint64(0), offered)
            words[:, :size] = np.where(total < standing, np.uint64(0), words[:, :size]) | kept
            np.minimum(standing, total, out=standing)
        words[:, best >= UNREACHED] = 0
        return best, words


def _layers(stubs: list[list[tuple[int, int]]]) -> list[tuple[npt.NDArray[np.int64], Metrics]]:
    """Stubs of prefixes, most first, as layers: layer k has the k-th router and cost of each that has one."""
    layers = []
    for depth in range(len(stubs[0]) if stubs else 0):
        layer = [of_prefix[depth] for of_prefix in stubs if len(of_prefix) > depth]
        routers = np.array([router for router, _ in layer], dtype=np.int64)
        layers.append((routers, np.array([cost for _, cost in layer], dtype=np.int32)))
    return layers


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
