"""The areas joined: border routers, inter-area routes, address ranges and stub defaults.

RFC 2328 sections 12.4.3 (what a border router passes on), 16.2 (inter-area routes), 11.1 and 16.2 (3)
(active ranges and their discard entries), 16.1 (intra-area before inter-area), 12.4.3.1 (stub areas);
RFC 3101 section 2.7 (summaries into NSSAs).
"""

from collections import defaultdict
from collections.abc import Iterator, Sequence
from dataclasses import dataclass, replace
from functools import cached_property

import numpy as np
import numpy.typing as npt

from routrel.model.addresses import Prefix
from routrel.model.places import NOWHERE, Place
from routrel.model.routing import OspfRange
from routrel.routing.arrays import WORD, Flags, Masks, Metrics
from routrel.routing.neighbors import edge_hop
from routrel.routing.ospf.database import OspfDatabase
from routrel.routing.prefixes.classes import PrefixClasses
from routrel.routing.protocol_routes import DISCARD, NO_ROUTE
from routrel.routing.routes import NextHop
from routrel.routing.spf.destinations import Destinations
from routrel.routing.spf.distances import UNREACHED
from routrel.routing.spf.graph import Graph

MOST_KEPT = 256
"""Next hops of one router that are kept once made; on a shared network there may be thousands."""

BACKBONE = 0
INTRA, INTER = 1, 2


@dataclass(slots=True)
class AreaRoutes:
    """Routes within and between areas of b processes, over p prefixes and a boundary routers.

    ``kind`` int8 (b, p + a): NO_ROUTE, INTRA, INTER or DISCARD. ``metric`` int32 (b, p + a). ``masks`` uint64
    (w, b, p + a): bit c of word k of a row stands for ``hops[row][64 k + c]``. ``offsets`` is each area's first word,
    by row.
    ``is_plain`` bool (b, a): boundary routers reached by a path that section 16.4.1 does not prefer:
    through the backbone, or between areas.
    """

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
            tuple(process for part in parts for process in part.processes),
            np.concatenate([part.kind for part in parts]),
            np.concatenate([part.metric for part in parts]),
            masks,
            [hops for part in parts for hops in part.hops],
            [offsets for part in parts for offsets in part.offsets],
            np.concatenate([part.is_plain for part in parts]),
        )


@dataclass(frozen=True, slots=True)
class ActiveRange:
    """A range with a route of its area inside (section 12.4.3): its prefix number and what it costs."""

    number: int
    configured: OspfRange
    cost: int
    area: int


class Areas:
    """Areas hold matrices, border routers their summaries; rows are made when asked for."""

    def __init__(self, database: OspfDatabase, prefixes: PrefixClasses, base: "Areas | None" = None):
        """Graphs of areas that are as they were in ``base`` are taken over."""
        self.database = database
        self.prefixes = prefixes
        self.areas_of: list[list[int]] = [[] for _ in database.processes]
        for number, area in sorted(database.areas.items()):
            for process in area.routers:
                self.areas_of[process].append(number)
        self.borders = [process for process, areas in enumerate(self.areas_of) if len(areas) > 1]
        self.boundary = [
            process.number
            for process in database.processes
            if process.takes_routes or (len(self.areas_of[process.number]) > 1 and self._touches_nssa(process.number))
        ]
        """Processes that may bring routes from outside: destination p + i each."""
        self._boundary = frozenset(self.boundary)
        self._closed = {
            number: frozenset(router for router in area.routers if self.area_type(router, number) != "normal")
            for number, area in database.areas.items()
        }
        """Per area the routers to which it is a stub area or an NSSA: no way through it to a boundary router counts for
        what that one says to the whole system, which is not known there (sections 3.6 and 12.4.1)."""
        is_over_alike = base is not None and base.prefixes is prefixes and base.boundary == self.boundary
        self._as_in_base = database.as_in_base if is_over_alike else frozenset[int]()
        """Areas whose routers' routes within them are those that ``base`` has."""
        self._kept: dict[int, AreaRoutes] = {}
        self.size = len(prefixes) + len(self.boundary)
        self.graphs: dict[int, Graph] = {}
        self.taken_over = 0
        for number, area in sorted(database.areas.items()):
            known = base.graphs.get(number) if base is not None else None
            if known is None or not known.is_of(area.routers, area.edges, area.networks):
                known = Graph(area.routers, area.edges, area.networks)
            elif base is not None:
                self.taken_over += 1
            self.graphs[number] = known
        self.destinations: dict[int, Destinations] = {}
        for number, area in sorted(database.areas.items()):
            if base is not None and number in self._as_in_base:
                self.destinations[number] = base.destinations[number]
                continue
            graph = self.graphs[number]
            numbers, routers, costs = area.stubs.columns(prefixes.whole)
            columns = prefixes.standing[numbers]
            brought = np.stack([graph.vertices(routers), columns, costs])[:, columns >= 0]
            outside = [
                (graph.local[process], column, 0)
                for column, process in enumerate(self.boundary, len(prefixes))
                if process in graph.local
            ]
            brought = np.concatenate([brought, np.array(outside, np.int64).reshape(-1, 3).T], axis=1)
            self.destinations[number] = Destinations(*brought)
        self._hops = {} if base is None else self._kept_hops(base)
        kept = frozenset[int]() if base is None else self._kept_borders(base)
        self._active: dict[int, list[ActiveRange]] = {
            process: base._active[process] if base is not None and process in kept else self._active_ranges(process)
            for process in self.borders
        }
        self._joined: tuple[tuple[int, ...], AreaRoutes] | None = None
        """The last processes whose kept routes were asked for together."""
        self.summaries: dict[int, tuple[list[int], Metrics]] = {}
        """Per area: the border processes and what each passes into it, int32 (b, p + a)."""
        self._intra_of_borders: dict[int, AreaRoutes] = {
            process: base._intra_of_borders[process] if base is not None and process in kept else self._intra([process])
            for process in self.borders
        }
        self._pass_on()

    def _kept_hops(self, base: "Areas") -> dict[tuple[int, int], list[NextHop | None]]:
        """Next hops of graphs that are taken over, where their addresses are the same."""
        if self.database.topology.segments is not base.database.topology.segments:
            return {}
        same = {area for area, graph in self.graphs.items() if base.graphs.get(area) is graph}
        return {key: hops for key, hops in base._hops.items() if key[0] in same}

    def _kept_borders(self, base: "Areas") -> frozenset[int]:
        """Border routers whose routes within their areas are those that ``base`` has."""
        return frozenset(
            process
            for process in self.borders
            if base.areas_of[process] == self.areas_of[process] and self._as_in_base.issuperset(self.areas_of[process])
        )

    def over(self, prefixes: PrefixClasses) -> "Areas":
        """The same over other columns, all of which are columns here; of boundary routers what is known here."""
        areas = Areas(self.database, prefixes, self)
        here = self.prefixes.column[prefixes.first]
        columns = np.append(here, np.arange(len(self.prefixes), self.size))
        areas._kept = {
            process: replace(
                kept, kind=kept.kind[:, columns], metric=kept.metric[:, columns], masks=kept.masks[..., columns]
            )
            for process, kept in self._kept.items()
        }
        return areas

    def area_type(self, process: int, area: int) -> str:
        return self.database.area_settings[process, area].type

    def _touches_nssa(self, process: int) -> bool:
        return any(self.area_type(process, area) == "nssa" for area in self.areas_of[process])

    @cached_property
    def default(self) -> int:
        """The number of the default prefix, or -1 where no device knows one."""
        return self.prefixes.number.get(Prefix(self.database.family, 0, 0), -1)

    def routes_of(self, processes: Sequence[int]) -> AreaRoutes:
        """Intra-area routes, inter-area ones where there is no other, then the ranges' discard entries.

        Routes of boundary routers, which are asked for again and again, are kept: callers do not change them.
        """
        found = {process: self._kept[process] for process in processes if process in self._kept}
        alike: dict[tuple[int, ...], list[int]] = defaultdict(list)
        for process in processes:
            if process not in found:
                alike[tuple(self.areas_of[process])].append(process)
        for members in alike.values():
            made = self._make(members)
            found.update((process, made.row(at)) for at, process in enumerate(members))
        self._kept.update((process, found[process]) for process in processes if process in self._boundary)
        if len(processes) == 1:
            return found[processes[0]]
        if self._joined is None or self._joined[0] != tuple(processes):
            self._joined = tuple(processes), AreaRoutes.joined([found[process] for process in processes])
        return self._joined[1]

    def _make(self, processes: Sequence[int]) -> AreaRoutes:
        """Of processes that stand in the same areas."""
        routes = self._intra(processes)
        kind, metric, masks = routes.kind, routes.metric, routes.masks
        areas = self.areas_of[processes[0]]
        # Section 16.2: a border router looks at the backbone's summaries only.
        looked_at = areas if len(areas) == 1 else [number for number in areas if number == BACKBONE]
        active = [(row, one) for row, process in enumerate(processes) for one in self._active.get(process, ())]
        for number in looked_at if self.borders else ():
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
        routes.is_plain |= kind[:, len(self.prefixes) :] != INTRA
        return routes

    def range_place(self, process: int, number: int) -> Place:
        """Where the range stands that a border's discard entry for a prefix comes from."""
        for one in self._active.get(process, []):
            if one.number == number:
                return one.configured.place
        return NOWHERE

    def _active_ranges(self, process: int) -> list[ActiveRange]:
        active = []
        for number in self.areas_of[process]:
            ranges = self.database.area_settings[process, number].ranges
            if not ranges:
                continue
            graph, destinations = self.graphs[number], self.destinations[number]
            costs = destinations.costs(graph, graph.local[process])
            for configured in ranges:
                inside = costs[self._within(number, configured)]
                inside = inside[inside < UNREACHED]
                if len(inside):
                    cost = int(inside.max()) if configured.cost is None else configured.cost
                    active.append(ActiveRange(self.prefixes.number[configured.prefix], configured, cost, number))
        return active

    def _within(self, area: int, configured: OspfRange) -> Flags:
        inside = np.zeros(self.size, np.bool_)
        inside[self.prefixes.covered(configured.prefix)] = True
        within: Flags = inside[self.destinations[area].numbers]
        return within

    def _intra(self, processes: Sequence[int]) -> AreaRoutes:
        areas = self.areas_of[processes[0]]
        offsets, width = {}, 0
        for number in areas:
            offsets[number] = width
            width += self.graphs[number].words
        kind = np.zeros((len(processes), self.size), np.int8)
        metric = np.full(kind.shape, UNREACHED, np.int32)
        masks = np.zeros((width, *kind.shape), np.uint64)
        is_plain = np.zeros((len(processes), len(self.boundary)), bool)
        # Section 16.4.1: to a boundary router, paths through other areas go before those through the backbone.
        for number in sorted(areas, key=lambda number: number == BACKBONE):
            graph, destinations = self.graphs[number], self.destinations[number]
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
                open_to = (numbers < len(self.prefixes)) | (kind[:, numbers] == NO_ROUTE)
            elif self._closed[number]:
                closed = np.array([process in self._closed[number] for process in processes])
                open_to = (numbers < len(self.prefixes)) | ~closed[:, None]
            better = (costs < standing) & open_to
            chosen = better | ((costs == standing) & (costs < UNREACHED) & open_to)
            masks[..., numbers] = np.where(better, np.uint64(0), masks[..., numbers])
            masks[own][..., numbers] = np.where(chosen, words, masks[own][..., numbers])
            metric[:, numbers] = np.where(better, costs, standing)
            kind[:, numbers] = np.where(chosen, INTRA, kind[:, numbers])
            if number == BACKBONE:
                outside = numbers >= len(self.prefixes)
                is_plain[:, numbers[outside] - len(self.prefixes)] = chosen[:, outside]
        if areas == [BACKBONE]:
            is_plain[:] = True
        hops = [[hop for number in areas for hop in self._hops_of(number, process)] for process in processes]
        return AreaRoutes(tuple(processes), kind, metric, masks, hops, [offsets] * len(processes), is_plain)

    def _hops_of(self, area: int, process: int) -> list[NextHop | None]:
        """The next hops behind a process's edges in an area, in the order of the bits; whole words."""
        key = area, process
        if key not in self._hops:
            graph, database = self.graphs[area], self.database
            hops = [
                edge_hop(database.topology, edge, database.family) for edge in graph.first_hops(graph.local[process])
            ]
            hops += [None] * (graph.words * WORD - len(hops))
            if len(hops) > MOST_KEPT:
                return hops
            self._hops[key] = hops
        return self._hops[key]

    def _inter(self, processes: Sequence[int], number: int) -> tuple[Metrics, Masks]:
        """Section 16.2, border by border: a lower cost puts its next hops in place, an equal one adds them.

        Cost to each border router plus what it advertises: int32 (b, p + a), masks (w, b, p + a).
        """
        graph = self.graphs[number]
        metric = np.full((len(processes), self.size), UNREACHED)
        masks = np.zeros((graph.words, *metric.shape), np.uint64)
        own = graph.masks_from(graph.vertices(np.array(processes)))
        for at, total in self._by_border(processes, number):
            better, equal = total < metric, (total == metric) & (total < UNREACHED)
            through = own[..., at][..., None]
            masks = np.where(better, through, np.where(equal, masks | through, masks))
            np.minimum(metric, total, out=metric)
        return metric, masks

    def _by_border(self, processes: Sequence[int], number: int) -> Iterator[tuple[int, Metrics]]:
        """Each border router of an area, by its vertex, with the cost through it: int32 (b, p + a)."""
        graph = self.graphs[number]
        local = graph.vertices(np.array(processes))
        borders, advertised = self.summaries.get(number, ([], np.empty((0, self.size), np.int32)))
        for border, row in zip(borders, advertised, strict=True):
            at = graph.local[border]
            distance = np.where(local == at, UNREACHED, graph.distance[local, at])
            if not (distance == UNREACHED).all():
                yield at, distance[:, None] + row

    def _pass_on(self) -> None:
        """Fill ``summaries``: the backbone's first, since what it carries is passed on from there."""
        intra = self._intra_of_borders
        for number in sorted(self.graphs, key=lambda area: area != BACKBONE):
            borders = [process for process in self.borders if number in self.areas_of[process]]
            if not borders:
                continue
            in_backbone = [process for process in borders if number != BACKBONE and BACKBONE in self.areas_of[process]]
            costs = np.full((len(in_backbone), self.size), UNREACHED)
            for _, through in self._by_border(in_backbone, BACKBONE) if in_backbone else ():
                np.minimum(costs, through, out=costs)
            inter = dict(zip(in_backbone, costs, strict=True))
            rows = [self._advertised(process, number, intra[process], inter.get(process)) for process in borders]
            self.summaries[number] = (borders, np.stack(rows))

    def _advertised(self, process: int, into: int, intra: AreaRoutes, inter: Metrics | None) -> Metrics:
        """Section 12.4.3: what a border router advertises into one of its areas; ``inter`` as the backbone has it."""
        settings = self.database.area_settings[process, into]
        result = np.full(self.size, UNREACHED, np.int32)
        for number in self.areas_of[process]:
            if number != into:
                self._condense(process, number, intra.metric[0], result)
        if inter is not None:
            inter[[one.number for one in self._active[process]]] = UNREACHED
            passed = (intra.kind[0] == NO_ROUTE) & (inter < UNREACHED)
            result[passed] = np.minimum(result[passed], inter[passed])
        if settings.type != "normal":
            result[len(self.prefixes) :] = UNREACHED
            if settings.no_summary:
                result[:] = UNREACHED
            if settings.type == "stub" or settings.no_summary:
                result[self.default] = settings.default_cost
        return result

    def _condense(self, process: int, number: int, best: Metrics, result: Metrics) -> None:
        """Intra-area routes of an area, those within its ranges replaced by the active ranges."""
        graph, destinations = self.graphs[number], self.destinations[number]
        costs = destinations.costs(graph, graph.local[process])
        # The route itself may be of another area, at a lower cost: only the best is advertised.
        shown = (costs < UNREACHED) & (costs == best[destinations.numbers])
        if process in self._closed[number]:
            shown &= destinations.numbers < len(self.prefixes)
        for configured in self.database.area_settings[process, number].ranges:
            shown &= ~self._within(number, configured)
        numbers = destinations.numbers[shown]
        result[numbers] = np.minimum(result[numbers], costs[shown])
        for one in self._active[process]:
            if one.area == number and one.configured.advertise:
                result[one.number] = min(int(result[one.number]), one.cost)
