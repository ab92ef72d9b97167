"""Shortest paths over a graph of routers, for all of them at once.

What link-state protocols share: distances and equal-cost next hops between all routers of one flooding scope.
"""

from collections import OrderedDict, defaultdict
from collections.abc import Sequence
from functools import cached_property
from typing import NamedTuple

import numpy as np

from routrel.model.addresses import Address
from routrel.routing.arrays import WORD, Column, Masks, Metrics
from routrel.routing.spf.changed_distances import among, changed, steps_of
from routrel.routing.spf.distances import UNREACHED, all_pairs

Vertices = int | Column

WHOLE_BYTES = 2 * 1024**3
"""Masks from all routers that take more are made router by router."""

KEPT_ROWS = 32
"""Routers whose masks are kept then."""

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


class Member(NamedTuple):
    """A router on a shared network, by its port there, and what it costs to send into it."""

    router: int
    port: int
    cost: int


class EdgeColumns(NamedTuple):
    """The edges of a graph: vertices ``source`` and ``target``, ``cost``, int64 (e,) each; both ``ports`` (2, e)."""

    source: Column
    target: Column
    cost: Column
    ports: Column


SharedNetwork = tuple[Member, ...]
"""Routers of one segment that are all neighbours of each other, where they are too many for an edge per pair."""


class Graph:
    """Distances and equal-cost next-hop sets of n routers.

    Vertices are numbered 0..n-1 in the order of ``routers``, which ascend; ``w`` is the number of 64-bit
    words that hold the largest number of first hops of any router. A shared network is a vertex of its own
    while distances are found (RFC 2328 section 16.1: into it at the sender's cost, out of it at none).

    - ``distance``: int32 (n, n), cost from row to column, ``UNREACHED`` where there is no path.
    - ``masks_from(s)``: uint64 (w, n); bit b of word k and column t stands for ``first_hops(s)[64 k + b]``,
      set where that edge begins a shortest path from s to t.

    Cost: shortest paths between all pairs, then one comparison of n rows per edge of a router. Where masks
    from all routers would take too much memory they are made router by router.
    """

    def __init__(
        self,
        routers: list[int],
        edges: list[Edge],
        networks: Sequence[SharedNetwork] = (),
        base: "Graph | None" = None,
    ):
        """``base``, where there is one, is a graph of mostly the same edges."""
        self.routers = routers
        self.edges = edges
        self.networks = networks
        self.local: dict[int, int] = {router: index for index, router in enumerate(routers)}
        self._ascending = np.array(routers, np.int64)
        n = len(routers)
        edges = sorted(edges)
        sources, targets, costs, *_ = zip(*edges, strict=True) if edges else ((), (), ())
        source, target = self.vertices(np.array(sources, np.int64)), self.vertices(np.array(targets, np.int64))
        cost = np.array(costs, np.int32)
        starts = np.searchsorted(source, np.arange(n + 1)).tolist()
        self._edges_of: list[list[Edge]] = [edges[starts[router] : starts[router + 1]] for router in range(n)]
        self._networks_of: dict[int, list[tuple[SharedNetwork, Member]]] = defaultdict(list)
        inward, outward = [], []
        for vertex, network in enumerate(networks, n):
            for member in network:
                local = self.local[member.router]
                self._networks_of[local].append((network, member))
                inward.append((local, vertex, member.cost))
                outward.append((vertex, local, 0))
        more = np.array([*inward, *outward], np.int64).reshape(-1, 3)
        self._steps = steps_of(n, source, target, cost)
        of_base = None if base is None or networks else self._distances_from(base)
        self.distance: Metrics = (
            of_base
            if of_base is not None
            else all_pairs(
                n + len(networks),
                np.concatenate([source, more[:, 0]]),
                np.concatenate([target, more[:, 1]]),
                np.concatenate([cost, more[:, 2].astype(np.int32)]),
            )[:n, :n]
        )
        widest = max((len(self._edges_of[router]) + self._shared(router) for router in range(n)), default=0)
        self.words = max(1, -(-widest // WORD))
        self._whole: Masks | None = None
        self._kept: OrderedDict[int, Masks] = OrderedDict()
        if not networks and self.words * n * n * 8 <= WHOLE_BYTES:
            self._whole = _next_hop_masks(n, source, target, cost, self.distance)

    def _distances_from(self, base: "Graph") -> Metrics | None:
        """Distances by those of another graph, None where they are better found anew."""
        known: tuple[Metrics, Column] | None = base.distance, base._steps
        if base.networks or not base.local.keys() >= self.local.keys():
            return None
        if len(base.routers) > len(self.routers):
            known = among(base.distance, base._steps, base.vertices(self._ascending))
        return None if known is None else changed(*known, self._steps)

    @cached_property
    def edge_columns(self) -> EdgeColumns:
        """The edges but those over shared networks."""
        numbers = np.array([edge[:5] for edge in self.edges], np.int64).reshape(-1, 5).T
        return EdgeColumns(self.vertices(numbers[0]), self.vertices(numbers[1]), numbers[2], numbers[3:])

    def is_of(self, routers: list[int], edges: list[Edge], networks: Sequence[SharedNetwork]) -> bool:
        """Whether the graph is that of some routers and edges."""
        return (self.routers, self.edges, list(self.networks)) == (routers, edges, list(networks))

    def _shared(self, router: int) -> int:
        """How many first hops a router has by shared networks."""
        return sum(len(network) - 1 for network, _ in self._networks_of[router]) if router in self._networks_of else 0

    def first_hops(self, router: int) -> list[Edge]:
        """The edges of a vertex in the order of the bits, those over shared networks last."""
        shared = [
            Edge(member.router, other.router, member.cost, member.port, other.port)
            for network, member in self._networks_of.get(router, ())
            for other in network
            if other.router != member.router
        ]
        return [*self._edges_of[router], *shared] if shared else self._edges_of[router]

    def masks_from(self, routers: Vertices) -> Masks:
        """First hops from a vertex (w, n), or from b vertices (w, b, n)."""
        if self._whole is not None:
            return self._whole[:, routers]
        if isinstance(routers, int | np.integer):
            return self._masks_of(int(routers))
        return np.stack([self._masks_of(router) for router in routers.tolist()], axis=1)

    def _masks_of(self, router: int) -> Masks:
        if router in self._kept:
            self._kept.move_to_end(router)
            return self._kept[router]
        hops = self.first_hops(router)
        row = self.distance[router]
        masks = np.zeros((self.words, len(row)), np.uint64)
        for word in range(-(-len(hops) // WORD)):
            some = hops[word * WORD : (word + 1) * WORD]
            targets = [self.local[edge.target] for edge in some]
            costs = np.array([edge.cost for edge in some], np.int32)
            begins = (self.distance[targets] + costs[:, None] == row) & (row < UNREACHED)
            bits = np.uint64(1) << np.arange(len(some), dtype=np.uint64)
            masks[word] = (begins * bits[:, None]).sum(axis=0, dtype=np.uint64)
        masks[:, router] = 0
        self._kept[router] = masks
        if len(self._kept) > KEPT_ROWS:
            self._kept.popitem(last=False)
        return masks

    def vertices(self, routers: Column) -> Column:
        """The vertices of routers of this graph, (n,)."""
        return np.searchsorted(self._ascending, routers)


def _next_hop_masks(
    n: int,
    source: Column,
    target: Column,
    cost: Metrics,
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
