"""The decision process (RFC 4271 section 9.1.2, 4456 section 9) over many columns at once.

Each comparison keeps the candidates that are best in it; where one is left, nothing more is asked. The
order is that of the network file's page.
"""

from collections.abc import Iterator

import numpy as np
import numpy.typing as npt
from msgspec import Struct

from routrel.model.bgp import BgpDecision
from routrel.model.fields import replace
from routrel.routing.arrays import Column, Flags
from routrel.routing.bgp.paths import (
    ABSENT,
    MED,
    ORIGINATOR,
    Paths,
)

UNREACHABLE = np.int64(2**40)
"""The metric to a next hop that does not resolve."""

NEVER = np.int64(2**62)
FEW = 16
"""Candidates of a column that are compared each with each."""

WORST_MED = np.int64(2**32 - 1)
"""The highest MED there is (RFC 4271 section 4.3 f)."""

Values = npt.NDArray[np.int64]


class Candidates(Struct, frozen=True):
    """The k paths that may stand for each of m columns; the first row is what the router says itself.

    ``ids`` int64 (k, m): path numbers or ABSENT. ``metrics`` int64 (k, m): to the next hops, UNREACHABLE where
    they do not resolve. (k,) each: ``channel``, by which they came; ``external``; the peer's ``identifier``;
    ``order``, the rank of its address; ``age``, when its session came up, NEVER where that is not known.
    """

    ids: Values
    metrics: Values
    channel: Column
    external: Flags
    identifier: Column
    order: Column
    age: Column

    def of(self, columns: Column) -> "Candidates":
        return replace(self, ids=self.ids[:, columns], metrics=self.metrics[:, columns])


class Decided(Struct):
    """``best`` int64 (m,): the row of the best candidate, or ABSENT. ``equal`` bool (k, m): multipath's choice."""

    best: Column
    equal: Flags


def decide(paths: Paths, candidates: Candidates, switches: BgpDecision) -> Decided:
    """The best candidate of each column, and those equal to it through the metric to the next hop."""
    usable = (candidates.ids >= 0) & (candidates.metrics < UNREACHABLE)
    count = usable.sum(axis=0)
    best = np.where(count > 0, usable.argmax(axis=0), ABSENT)
    contested = np.flatnonzero(count > 1)
    if not len(contested):
        return Decided(best, usable)
    chosen, equal = _eliminate(paths, candidates.of(contested), usable[:, contested], switches)
    best[contested] = chosen
    usable[:, contested] = equal
    return Decided(best, usable)


def _eliminate(paths: Paths, candidates: Candidates, alive: Flags, switches: BgpDecision) -> tuple[Column, Flags]:
    ids = candidates.ids
    # RFC 4271 section 9.1.1, the degree of preference; section 9.1.2.2 (a), the shortest AS path; (b), the origin.
    for degree in paths.degrees(switches.ignore_as_path_length):
        _keep_lowest(alive, degree[ids])
    # (c): the lowest MED among paths of one neighbouring AS.
    med = paths.attribute(MED)[ids]
    med = np.where(med == ABSENT, WORST_MED if switches.missing_med_is_worst else np.int64(0), med)
    if switches.compare_med_between_as:
        _keep_lowest(alive, med)
    elif switches.deterministic_med:
        _lowest_med_of_each(paths, alive, med, ids)
    else:
        return _one_after_the_other(paths, candidates, alive, switches, med, paths.nearest_as()[ids])
    # (d): external over internal.
    _keep_lowest(alive, np.where(candidates.external, 0, 1)[:, None])
    # (e): the lowest metric to the next hop.
    _keep_lowest(alive, candidates.metrics)
    best, equal = alive.argmax(axis=0), alive
    left = np.flatnonzero(alive.sum(axis=0) > 1)
    if len(left):
        alive = alive[:, left]
        for values in _last(paths, candidates.of(left), switches):
            _keep_lowest(alive, values)
        best[left] = alive.argmax(axis=0)
    return best, equal


def _keep_lowest(alive: Flags, values: Values) -> None:
    """Drop of each column's candidates all but those with the lowest of some values, (k, m) or (k, 1)."""
    if values.min() == values.max():
        return
    values = np.broadcast_to(values, alive.shape)
    lowest = np.where(alive, values, NEVER).min(axis=0)
    np.logical_and(alive, values == lowest, out=alive)


def _last(paths: Paths, candidates: Candidates, switches: BgpDecision) -> Iterator[Values]:
    """What decides among paths that are equal for forwarding."""
    if switches.prefer_oldest:
        yield np.where(candidates.external, candidates.age, 0)[:, None]
    # (f): the lowest router id; RFC 4456 section 9: the originator's where there is one.
    originator = paths.attribute(ORIGINATOR)[candidates.ids]
    yield np.where(originator == ABSENT, candidates.identifier[:, None], originator)
    # RFC 4456 section 9: the shortest cluster list.
    yield paths.cluster_lengths()[candidates.ids]
    # (g): the lowest neighbour address.
    yield candidates.order[:, None]


def _lowest_med_of_each(paths: Paths, alive: Flags, med: Values, ids: Values) -> None:
    """Drop each path that one of the same neighbouring AS beats by its MED, whatever else is there."""
    differing = np.flatnonzero(np.where(alive, med, NEVER).min(axis=0) < np.where(alive, med, -1).max(axis=0))
    if not len(differing):
        return
    standing, med, neighbor = alive[:, differing], med[:, differing], paths.nearest_as()[ids[:, differing]]
    if len(alive) <= FEW:
        kept = standing.copy()
        for row in range(len(alive)):
            kept &= ~(standing[row] & (neighbor == neighbor[row]) & (med > med[row]))
    else:
        numbers, group = np.unique(neighbor, return_inverse=True)
        group = group.reshape(neighbor.shape)
        columns = np.broadcast_to(np.arange(len(differing)), standing.shape)
        lowest = np.full((len(numbers), len(differing)), NEVER)
        np.minimum.at(lowest, (group[standing], columns[standing]), med[standing])
        kept = standing & (med == lowest[group, columns])
    alive[:, differing] = kept


def _one_after_the_other(
    paths: Paths, candidates: Candidates, alive: Flags, switches: BgpDecision, med: Values, neighbor: Values
) -> tuple[Column, Flags]:
    """Without deterministic MED: pair by pair, the youngest first, the winner against the next.

    Where ages are not known the order is that of the neighbours' addresses.
    """
    shape = alive.shape
    forwarding = [np.broadcast_to(np.where(candidates.external, 0, 1)[:, None], shape), candidates.metrics]
    last = [np.broadcast_to(values, shape) for values in _last(paths, candidates, switches)]
    ranked = np.lexsort(tuple(values.T for values in reversed([*forwarding, *last])))
    rank = np.empty_like(ranked)
    np.put_along_axis(rank, ranked, np.arange(shape[0])[None, :], axis=1)
    rank = rank.T
    columns = np.arange(shape[1])
    champion = np.full(shape[1], ABSENT)
    age = np.where(candidates.age == NEVER, -1, candidates.age)
    for row in np.lexsort((candidates.order, -age)).tolist():
        standing = np.maximum(champion, 0)
        same = neighbor[row] == neighbor[standing, columns]
        standing_med = med[standing, columns]
        wins = np.where(same & (med[row] != standing_med), med[row] < standing_med, rank[row] < rank[standing, columns])
        champion = np.where(alive[row] & ((champion == ABSENT) | wins), row, champion)
    equal = alive.copy()
    for values in forwarding:
        equal &= values == values[champion, columns]
    equal &= (neighbor != neighbor[champion, columns]) | (med == med[champion, columns])
    return champion, equal
