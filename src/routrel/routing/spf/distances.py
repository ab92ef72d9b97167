"""Distances between all routers of a graph.

Networks are sparse and full of chains, rings and stubs. Routers with few neighbours are taken out one after
the other, each leaving the two-hop ways through it as edges among its neighbours; what is left is small and
dense, and is solved as a matrix. Then the routers come back in reverse, each by way of its neighbours: exact,
by the algebra of paths (Carre 1971, "An algebra for network routing problems", section 6).
"""

import heapq
from typing import NamedTuple

import numpy as np

from routrel.routing.arrays import Column, Metrics

UNREACHED = np.int32(2**29)
"""A metric larger than any path; sums of two still fit in 32 bits."""

NO_WAY = int(UNREACHED)

DENSE = 16
"""A router stays while its neighbours' pairs are more than those of all routers left, divided by this squared."""

FEW = 8
"""As few routers as this are all taken out."""


class _TakenOut(NamedTuple):
    """A router with the edges it had when it was taken out, by the other end."""

    router: int
    outward: dict[int, int]
    inward: dict[int, int]


def all_pairs(n: int, source: Column, target: Column, cost: Metrics) -> Metrics:
    """Distances int32 (n, n) from row to column over directed edges (e,), ``UNREACHED`` where there is no path.

    Of parallel edges the cheapest counts; edges from a router to itself do not. Costs are not negative.
    """
    outward, inward = _neighbours(n, source, target, cost)
    taken_out = _take_out(outward, inward)
    gone = {one.router for one in taken_out}
    left = [router for router in range(n) if router not in gone]
    is_tangled = len(left) ** 3 > 13 * n * (len(source) + n * n.bit_length())
    if is_tangled and cost.all():
        return _one_by_one(n, source, target, cost)
    return _brought_back(_solved(left, outward), left, taken_out)


def _neighbours(
    n: int, source: Column, target: Column, cost: Metrics
) -> tuple[list[dict[int, int]], list[dict[int, int]]]:
    """Each router's edges, outward and inward: the cheapest by the other end."""
    outward: list[dict[int, int]] = [{} for _ in range(n)]
    inward: list[dict[int, int]] = [{} for _ in range(n)]
    for begin, end, step in zip(source.tolist(), target.tolist(), cost.tolist(), strict=True):
        if begin != end and step < outward[begin].get(end, NO_WAY):
            outward[begin][end] = inward[end][begin] = step
    return outward, inward


def _take_out(outward: list[dict[int, int]], inward: list[dict[int, int]]) -> list[_TakenOut]:
    """Take out routers with few neighbours first; the edges among those left are changed in place."""
    waiting = [(len(outward[router]) * len(inward[router]), router) for router in range(len(outward))]
    heapq.heapify(waiting)
    left, taken_out = len(waiting), []
    while waiting:
        pairs, router = heapq.heappop(waiting)
        after, before = outward[router], inward[router]
        if pairs != len(after) * len(before):
            heapq.heappush(waiting, (len(after) * len(before), router))
            continue
        if pairs * DENSE**2 > left**2 and left > FEW:
            break
        left -= 1
        taken_out.append(_TakenOut(router, after, before))
        for end in after:
            del inward[end][router]
        for begin, first in before.items():
            ways = outward[begin]
            del ways[router]
            for end, second in after.items():
                through = first + second
                if end != begin and through < ways.get(end, NO_WAY):
                    ways[end] = inward[end][begin] = through
    return taken_out


def _solved(left: list[int], outward: list[dict[int, int]]) -> Metrics:
    """Distances among the routers left, by their positions (Floyd and Warshall)."""
    at = {router: position for position, router in enumerate(left)}
    lengths = np.where(np.eye(len(left), dtype=bool), np.int32(0), UNREACHED)
    for router, position in at.items():
        for end, step in outward[router].items():
            lengths[position, at[end]] = step
    for middle in range(len(left)):
        np.minimum(lengths, lengths[:, middle, None] + lengths[middle], out=lengths)
    return lengths


def _brought_back(core: Metrics, left: list[int], taken_out: list[_TakenOut]) -> Metrics:
    """Distances among all routers: those taken out follow the ones left, each in front of whom it knew."""
    order = left + [one.router for one in reversed(taken_out)]
    at = np.empty(len(order), np.int64)
    at[order] = np.arange(len(order))
    # Both directions lie in rows: what comes to a router is read as often as what goes out.
    away, towards = (np.full((len(order), len(order)), UNREACHED) for _ in range(2))
    away[: len(left), : len(left)], towards[: len(left), : len(left)] = core, core.T
    for back, (_, outward, inward) in enumerate(reversed(taken_out)):
        row = len(left) + back
        away[row, :row] = towards[:row, row] = _nearest(away[:, :row], at, outward)
        towards[row, :row] = away[:row, row] = _nearest(towards[:, :row], at, inward)
        away[row, row] = towards[row, row] = 0
    return away[np.ix_(at, at)]


def _nearest(rows: Metrics, at: Column, steps: dict[int, int]) -> Metrics | np.int32:
    """The least of the neighbours' rows, each with the step to it added."""
    if not steps:
        return UNREACHED
    costs = np.fromiter(steps.values(), np.int32, len(steps))
    through = rows[at[list(steps)]] + costs[:, None]
    nearest: Metrics = np.minimum(through.min(axis=0), UNREACHED)
    return nearest


def _one_by_one(n: int, source: Column, target: Column, cost: Metrics) -> Metrics:
    """Large graphs in which everything is near everything: each router on its own (Dijkstra)."""
    from scipy.sparse import csr_array
    from scipy.sparse.csgraph import dijkstra

    # Sorted by cost, the first of each pair is the cheapest.
    order = np.lexsort((cost, target, source))
    begin, end, step = source[order], target[order], cost[order]
    first = np.ones(len(begin), dtype=bool)
    first[1:] = (begin[1:] != begin[:-1]) | (end[1:] != end[:-1])
    lengths = dijkstra(csr_array((step[first].astype(np.float64), (begin[first], end[first])), shape=(n, n)))
    np.minimum(lengths, float(UNREACHED), out=lengths)
    return lengths.astype(np.int32)
