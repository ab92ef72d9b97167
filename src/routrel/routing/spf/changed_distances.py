"""Distances once a few edges of a graph are others or a vertex is gone, from those that there were.

Where an edge or a vertex is gone, only what lay on a shortest path over it is found anew, from what is beside it; an
edge that came is tried for all pairs at once (after Ramalingam and Reps 1996, "On the computational complexity of
dynamic graph problems").
"""

import numpy as np

from routrel.routing.arrays import Column, Flags, Metrics, positions
from routrel.routing.spf.distances import UNREACHED

MOST_EDGES = 6
"""Of more edges that are others, all distances are found anew."""

MOST_VERTICES = 2
"""Where more vertices are gone, all distances are found anew."""

WORK, LEAST_WORK = 6, 100_000
"""Ways that are tried, by the pairs of vertices, and at least: past that, finding all anew is less work."""

COST_BITS = 30


def steps_of(n: int, source: Column, target: Column, cost: Metrics) -> Column:
    """The edges (e,) among n vertices, each that differs in any of the three once, as numbers."""
    return np.unique((source * n + target) << COST_BITS | cost)


def among(before: Metrics, steps: Column, kept: Column) -> tuple[Metrics, Column] | None:
    """Distances (m, m) among m vertices, ascending, by the steps among them alone, and these steps, both by the places
    of the vertices in ``kept``; from the distances (n, n) by all ``steps``. None where that would be as much work as
    anew.
    """
    is_kept: Flags = np.zeros(len(before), np.bool_)
    is_kept[kept] = True
    gone = np.flatnonzero(~is_kept)
    if len(gone) > MOST_VERTICES:
        return None
    source, target, cost = _columns(steps, len(before))
    stays = is_kept[source] & is_kept[target]
    is_lost: Flags = np.zeros(before.shape, np.bool_)
    for vertex in gone:
        is_lost |= np.equal(before[:, vertex, None] + before[vertex], before)
    is_lost[gone] = is_lost[:, gone] = False
    distance = _found_anew(before, is_lost, steps[stays])
    if distance is None:
        return None
    place = np.cumsum(is_kept) - 1
    left = steps_of(len(kept), place[source[stays]], place[target[stays]], cost[stays])
    return distance[np.ix_(kept, kept)], left


def changed(before: Metrics, old: Column, new: Column) -> Metrics | None:
    """Distances (n, n) by the steps ``new``, from those by ``old``; None where that would be as much work as anew."""
    gone, come = np.setdiff1d(old, new, assume_unique=True), np.setdiff1d(new, old, assume_unique=True)
    if len(gone) + len(come) > MOST_EDGES:
        return None
    stayed = np.setdiff1d(old, gone, assume_unique=True) if len(gone) else old
    distance = _without(before, gone, stayed)
    if distance is not None:
        for source, target, cost in zip(*_columns(come, len(before)), strict=True):
            np.minimum(distance, distance[:, source, None] + cost + distance[target], out=distance)
    return distance


def _columns(steps: Column, n: int) -> tuple[Column, Column, Metrics]:
    """Source, target and cost of steps."""
    source, target = np.divmod(steps >> COST_BITS, n)
    return source, target, (steps & ((1 << COST_BITS) - 1)).astype(np.int32)


def _without(before: Metrics, gone: Column, stayed: Column) -> Metrics | None:
    """Distances over the steps that stayed alone."""
    is_lost: Flags = np.zeros(before.shape, np.bool_)
    for source, target, cost in zip(*_columns(gone, len(before)), strict=True):
        over: Metrics = before[:, source] + cost
        rows = np.flatnonzero(over == before[:, target])
        is_lost[rows] |= np.equal(over[rows, None] + before[target], before[rows])
    return _found_anew(before, is_lost, stayed)


def _found_anew(before: Metrics, is_lost: Flags, stayed: Column) -> Metrics | None:
    """Those that are lost, over the steps that stayed; all others are as before. Writes to ``is_lost``."""
    is_lost &= before < UNREACHED
    np.fill_diagonal(is_lost, False)
    distance = before.copy()
    distance[is_lost] = UNREACHED
    source, target, cost = _columns(stayed, len(before))
    order = np.argsort(target, kind="stable")
    source, cost = source[order], cost[order]
    starts = np.searchsorted(target[order], np.arange(len(before) + 1))
    # Of each pair that is lost the steps that lead to its end, side by side.
    begins, ends = np.nonzero(is_lost)
    counts = starts[ends + 1] - starts[ends]
    begins, ends, counts = begins[counts > 0], ends[counts > 0], counts[counts > 0]
    steps = np.repeat(starts[ends], counts) + positions(counts)
    lost, beside = begins * len(before) + ends, np.repeat(begins, counts) * len(before) + source[steps]
    firsts, cost, found = np.cumsum(counts) - counts, cost[steps], distance.reshape(-1)
    left = WORK * before.size + LEAST_WORK
    while len(lost):
        left -= len(steps)
        if left < 0:
            return None
        nearer = np.minimum.reduceat(found[beside] + cost, firsts)
        is_nearer = nearer < found[lost]
        if not is_nearer.any():
            break
        found[lost[is_nearer]] = nearer[is_nearer]
    return distance
