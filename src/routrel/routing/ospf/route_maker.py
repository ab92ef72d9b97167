"""Routes within and between areas, made of several processes together: over all columns, or those that are asked for.

RFC 2328 sections 16.1 (intra-area before inter-area), 16.2 (inter-area routes; discard entries of active ranges) and
16.4.1 (ways to boundary routers).
"""

from collections import defaultdict
from collections.abc import Callable, Iterator, Mapping, Sequence
from typing import NamedTuple

import numpy as np
import numpy.typing as npt
from msgspec import Struct

from routrel.model.fields import replace
from routrel.model.routing import OspfRange
from routrel.routing.arrays import WORD, Column, Flags, Masks, Metrics
from routrel.routing.ospf.area_graphs import BACKBONE, AreaGraphs
from routrel.routing.protocol_routes import DISCARD, NO_ROUTE
from routrel.routing.routes import NextHop
from routrel.routing.spf.destinations import Destinations
from routrel.routing.spf.distances import UNREACHED

INTRA, INTER = 1, 2

AT_ONCE = 2**13
"""Costs through border routers that are looked at together; at least those through one."""


class Summary(NamedTuple):
    """The border processes of an area, and what each passes into it: int32 (b, p + a)."""

    borders: list[int]
    advertised: Metrics


class ActiveRange(Struct, frozen=True):
    """A range with a route of its area inside (section 12.4.3): its column and what it costs."""

    number: int
    configured: OspfRange
    cost: int
    area: int


class Over(Struct, frozen=True):
    """The columns that routes are over: ``count`` of them, ascending, then all boundary routers; ``size`` together.

    ``place`` int64 (p + a,): where each column and boundary router stands, -1 for what is left out.
    """

    count: int
    size: int
    place: Column

    @classmethod
    def all_of(cls, graphs: AreaGraphs) -> "Over":
        """All columns there are."""
        return cls(len(graphs.prefixes), graphs.size, np.arange(graphs.size))

    @classmethod
    def some_of(cls, graphs: AreaGraphs, columns: Column) -> "Over":
        """Some columns, ascending."""
        place = np.full(graphs.size, -1)
        kept = np.append(columns, np.arange(len(graphs.prefixes), graphs.size))
        place[kept] = np.arange(len(kept))
        return cls(len(columns), len(kept), place)


class AreaRoutes(Struct):
    """Routes within and between areas of b processes, over p prefixes and a boundary routers, as ``over`` says.

    ``kind`` int8 (b, p + a): NO_ROUTE, INTRA, INTER or DISCARD. ``metric`` int32 (b, p + a). ``masks`` uint64
    (w, b, p + a): bit c of word k of a row stands for ``hops[row][64 k + c]``. ``offsets`` is each area's first word,
    by row.
    ``is_plain`` bool (b, a): boundary routers reached by a path that section 16.4.1 does not prefer:
    through the backbone, or between areas.
    """

    over: Over
    processes: tuple[int, ...]
    kind: npt.NDArray[np.int8]
    metric: Metrics
    masks: Masks
    hops: list[list[NextHop | None]]
    offsets: list[dict[int, int]]
    is_plain: Flags

    def row(self, at: int) -> "AreaRoutes":
        """Those of one of the processes."""
        one = slice(at, at + 1)
        return AreaRoutes(
            self.over,
            self.processes[one],
            self.kind[one],
            self.metric[one],
            self.masks[: len(self.hops[at]) // WORD, one],
            self.hops[one],
            self.offsets[one],
            self.is_plain[one],
        )

    @classmethod
    def joined(cls, parts: "Sequence[AreaRoutes]") -> "AreaRoutes":
        """Rows of several."""
        if len(parts) == 1:
            return parts[0]
        masks = np.zeros((max(len(part.masks) for part in parts), *parts[0].masks.shape[1:]), np.uint64)
        masks = np.repeat(masks, len(parts), axis=1)
        for at, part in enumerate(parts):
            masks[: len(part.masks), at] = part.masks[:, 0]
        return cls(
            parts[0].over,
            tuple(process for part in parts for process in part.processes),
            np.concatenate([part.kind for part in parts]),
            np.concatenate([part.metric for part in parts]),
            masks,
            [hops for part in parts for hops in part.hops],
            [offsets for part in parts for offsets in part.offsets],
            np.concatenate([part.is_plain for part in parts]),
        )


class RouteMaker:
    """Makes them by the graphs of areas, and by what border routers say."""

    def __init__(
        self,
        graphs: AreaGraphs,
        active: Mapping[int, Sequence[ActiveRange]],
        summary: Callable[[int], Summary],
        over: Over | None = None,
    ):
        """``active``: the ranges of border processes; ``summary`` tells what is passed into an area."""
        self.graphs = graphs
        self.over = Over.all_of(graphs) if over is None else over
        self._is_over_all = over is None
        self._summary = summary
        self._destinations: dict[int, Destinations] = {}
        self._summaries: dict[int, Summary] = {}
        """By area, over these columns."""
        self._active = active
        if over is not None:
            self._active = {
                process: [
                    replace(one, number=over.place.item(one.number)) for one in ranges if over.place[one.number] >= 0
                ]
                for process, ranges in active.items()
                if ranges
            }

    def _destinations_in(self, area: int) -> Destinations:
        """What is brought into an area, by these columns."""
        if self._is_over_all:
            return self.graphs.destinations[area]
        if area not in self._destinations:
            self._destinations[area] = self.graphs.destinations[area].among(self.over.place)
        return self._destinations[area]

    def _summary_of(self, area: int) -> Summary:
        if self._is_over_all:
            return self._summary(area)
        if area not in self._summaries:
            borders, advertised = self._summary(area)
            self._summaries[area] = Summary(borders, advertised[:, self.over.place >= 0])
        return self._summaries[area]

    def routes_of(self, processes: Sequence[int]) -> AreaRoutes:
        """Of several processes, each with its own next hops."""
        alike: dict[tuple[int, ...], list[int]] = defaultdict(list)
        for process in processes:
            alike[tuple(self.graphs.areas_of[process])].append(process)
        found: dict[int, AreaRoutes] = {}
        for members in alike.values():
            made = self.make(members)
            if len(alike) == 1:
                return made
            found.update((process, made.row(at)) for at, process in enumerate(members))
        return AreaRoutes.joined([found[process] for process in processes])

    def make(self, processes: Sequence[int]) -> AreaRoutes:
        """Of processes that stand in the same areas."""
        routes = self.intra(processes)
        kind, metric, masks = routes.kind, routes.metric, routes.masks
        areas = self.graphs.areas_of[processes[0]]
        # Section 16.2: a border router looks at the backbone's summaries only.
        looked_at = areas if len(areas) == 1 else [number for number in areas if number == BACKBONE]
        active = [(row, one) for row, process in enumerate(processes) for one in self._active.get(process, ())]
        for number in looked_at if self.graphs.borders else ():
            inter, inter_masks = self._inter(processes, number)
            for row, one in active:
                inter[row, one.number] = UNREACHED
            chosen = (kind == NO_ROUTE) & (inter < UNREACHED)
            kind[chosen] = INTER
            metric[chosen] = inter[chosen]
            words = slice(routes.offsets[0][number], routes.offsets[0][number] + len(inter_masks))
            masks[words] = np.where(chosen, inter_masks, masks[words])
        for row, one in active:
            if kind[row, one.number] != INTRA:
                kind[row, one.number] = DISCARD
                metric[row, one.number] = one.cost
                masks[:, row, one.number] = 0
        routes.is_plain |= kind[:, self.over.count :] != INTRA
        return routes

    def intra(self, processes: Sequence[int]) -> AreaRoutes:
        """Within areas alone, of processes that stand in the same ones."""
        areas, count = self.graphs.areas_of[processes[0]], self.over.count
        offsets, width = {}, 0
        for number in areas:
            offsets[number] = width
            width += self.graphs.graphs[number].words
        kind = np.zeros((len(processes), self.over.size), np.int8)
        metric = np.full(kind.shape, UNREACHED, np.int32)
        masks = np.zeros((width, *kind.shape), np.uint64)
        is_plain = np.zeros((len(processes), len(self.graphs.boundary)), bool)
        # Section 16.4.1: to a boundary router, paths through other areas go before those through the backbone.
        for number in sorted(areas, key=lambda number: number == BACKBONE):
            graph, destinations = self.graphs.graphs[number], self._destinations_in(number)
            costs, words = destinations.row(graph, graph.vertices(np.array(processes)))
            numbers, own = destinations.numbers, slice(offsets[number], offsets[number] + len(words))
            if len(areas) == 1:
                metric[:, numbers] = costs
                masks[..., numbers] = words
                kind[:, numbers] = np.where(costs < UNREACHED, INTRA, NO_ROUTE)
                continue
            standing = metric[:, numbers]
            open_to = np.ones(costs.shape, bool)
            if number == BACKBONE:
                open_to = (numbers < count) | (kind[:, numbers] == NO_ROUTE)
            elif self.graphs.closed[number]:
                closed = np.array([process in self.graphs.closed[number] for process in processes])
                open_to = (numbers < count) | ~closed[:, None]
            better = (costs < standing) & open_to
            chosen = better | ((costs == standing) & (costs < UNREACHED) & open_to)
            masks[..., numbers] = np.where(better, np.uint64(0), masks[..., numbers])
            masks[own][..., numbers] = np.where(chosen, words, masks[own][..., numbers])
            metric[:, numbers] = np.where(better, costs, standing)
            kind[:, numbers] = np.where(chosen, INTRA, kind[:, numbers])
            if number == BACKBONE:
                outside = numbers >= count
                is_plain[:, numbers[outside] - count] = chosen[:, outside]
        if areas == [BACKBONE]:
            is_plain[:] = True
        hops = [[hop for number in areas for hop in self.graphs.hops_of(number, process)] for process in processes]
        return AreaRoutes(self.over, tuple(processes), kind, metric, masks, hops, [offsets] * len(processes), is_plain)

    def _inter(self, processes: Sequence[int], number: int) -> tuple[Metrics, Masks]:
        """Section 16.2, border by border: a lower cost puts its next hops in place, an equal one adds them.

        Cost to each border router plus what it advertises: int32 (b, p + a), masks (w, b, p + a).
        """
        graph = self.graphs.graphs[number]
        metric = np.full((len(processes), self.over.size), UNREACHED)
        masks = np.zeros((graph.words, *metric.shape), np.uint64)
        own = graph.masks_from(graph.vertices(np.array(processes)))
        for at, totals in self.by_borders(processes, number):
            total, through = totals[:, 0], own[..., at]
            if len(at) > 1:
                total = totals.min(axis=1)
                through = np.bitwise_or.reduce(own[..., at, None] * (totals == total[:, None]), axis=2)
            better, equal = total < metric, (total == metric) & (total < UNREACHED)
            masks = np.where(better, through, np.where(equal, masks | through, masks))
            np.minimum(metric, total, out=metric)
        return metric, masks

    def by_borders(self, processes: Sequence[int], number: int) -> Iterator[tuple[Column, Metrics]]:
        """The k border routers of an area, by their vertices, with the costs through them: int32 (b, k, p + a); as many
        at a time as fit."""
        graph = self.graphs.graphs[number]
        local = graph.vertices(np.array(processes))
        borders, advertised = self._summary_of(number)
        vertices = graph.vertices(np.array(borders, np.int64))
        distance = np.where(local[:, None] == vertices, UNREACHED, graph.distance[np.ix_(local, vertices)])
        reached = np.flatnonzero((distance < UNREACHED).any(axis=0))
        together = max(1, AT_ONCE // max(1, len(processes) * self.over.size))
        for first in range(0, len(reached), together):
            some = reached[first : first + together]
            yield vertices[some], distance[:, some, None] + advertised[some]
