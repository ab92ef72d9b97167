"""The areas joined: border routers, inter-area routes, address ranges and stub defaults.

RFC 2328 sections 12.4.3 (what a border router passes on), 16.2 (inter-area routes), 11.1 and 16.2 (3)
(active ranges and their discard entries), 16.1 (intra-area before inter-area), 12.4.3.1 (stub areas);
RFC 3101 section 2.7 (summaries into NSSAs).
"""

from collections import defaultdict
from dataclasses import dataclass, replace
from functools import cached_property

import numpy as np
import numpy.typing as npt

from routrel.model.addresses import Prefix
from routrel.model.places import NOWHERE, Place
from routrel.model.routing import OspfRange
from routrel.routing.graph import WORD, Destinations, Graph
from routrel.routing.grouping import Flags, Masks
from routrel.routing.ospf.database import Database
from routrel.routing.representatives import Representatives
from routrel.routing.routes import NextHop
from routrel.routing.rows import DISCARD, NONE
from routrel.routing.shortest_paths import UNREACHED, Metrics
from routrel.routing.speaking import edge_hop

MOST_KEPT = 256
"""Next hops of one router that are kept once made; on a shared network there may be thousands."""

BACKBONE = 0
INTRA, INTER = 1, 2


@dataclass(slots=True)
class AreaRoutes:
    """One process's routes within and between areas, over p prefixes and then a boundary routers.

    ``kind`` int8 (p + a,): NONE, INTRA, INTER or DISCARD. ``metric`` int32 (p + a,). ``masks`` uint64
    (w, p + a): bit b of word k stands for ``hops[64 k + b]``. ``offsets`` is each area's first word.
    ``is_plain`` bool (a,): boundary routers reached by a path that section 16.4.1 does not prefer:
    through the backbone, or between areas.
    """

    kind: npt.NDArray[np.int8]
    metric: Metrics
    masks: Masks
    hops: list[NextHop | None]
    offsets: dict[int, int]
    is_plain: Flags


@dataclass(frozen=True, slots=True)
class ActiveRange:
    """A range with a route of its area inside (section 12.4.3): its prefix number and what it costs."""

    number: int
    configured: OspfRange
    cost: int
    area: int


class Areas:
    """Areas hold matrices, border routers their summaries; rows are made when asked for."""

    def __init__(self, database: Database, prefixes: Representatives, graphs: dict[int, Graph] | None = None):
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
        self._kept: dict[int, AreaRoutes] = {}
        self.size = len(prefixes) + len(self.boundary)
        self.graphs = graphs or {
            number: Graph(area.routers, area.edges, area.networks) for number, area in sorted(database.areas.items())
        }
        self.destinations: dict[int, Destinations] = {}
        for number, area in sorted(database.areas.items()):
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
        self._hops: dict[tuple[int, int], list[NextHop | None]] = {}
        self._active: dict[int, list[ActiveRange]] = {process: self._active_ranges(process) for process in self.borders}
        self._intra_rows: dict[int, AreaRoutes] = {}
        self.summaries: dict[int, tuple[list[int], Metrics]] = {}
        """Per area: the border processes and what each passes into it, int32 (b, p + a)."""
        self._pass_on()

    def over(self, prefixes: Representatives) -> "Areas":
        """The same over other columns, all of which are columns here; of boundary routers what is known here."""
        areas = Areas(self.database, prefixes, self.graphs)
        here = self.prefixes.column[prefixes.first]
        columns = np.append(here, np.arange(len(self.prefixes), self.size))
        areas._kept = {
            process: replace(kept, kind=kept.kind[columns], metric=kept.metric[columns], masks=kept.masks[:, columns])
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

    def routes_of(self, process: int) -> AreaRoutes:
        """Intra-area routes, inter-area ones where there is no other, then the ranges' discard entries.

        Those of boundary routers, which are asked for again and again, are kept: callers do not change them.
        """
        if process not in self._boundary:
            return self._make_routes(process)
        if process not in self._kept:
            self._kept[process] = self._make_routes(process)
        return self._kept[process]

    def prepare(self, processes: list[int]) -> None:
        """Make the routes of boundary routers together that stand in one area, the same as others."""
        in_one: dict[int, list[int]] = defaultdict(list)
        for process in processes:
            if process in self._boundary and process not in self._kept and len(self.areas_of[process]) == 1:
                in_one[self.areas_of[process][0]].append(process)
        for number, members in in_one.items():
            self._keep_together(number, members)

    def _keep_together(self, number: int, processes: list[int]) -> None:
        """What ``_make_routes`` does, for b processes of one area at once."""
        graph, destinations, p = self.graphs[number], self.destinations[number], len(self.prefixes)
        local = graph.vertices(np.array(processes))
        costs, words = destinations.row(graph, local)
        kind = np.zeros((len(processes), self.size), np.int8)
        metric = np.full(kind.shape, UNREACHED)
        masks = np.zeros((graph.words, *kind.shape), np.uint64)
        kind[:, destinations.numbers] = np.where(costs < UNREACHED, INTRA, NONE)
        metric[:, destinations.numbers] = costs
        masks[..., destinations.numbers] = words
        borders, advertised = self.summaries.get(number, ([], np.empty((0, self.size), np.int32)))
        is_open = kind == NONE
        for border, row in zip(borders, advertised, strict=True):
            # Section 16.2, border by border: a lower cost puts its next hops in place, an equal one adds them.
            at = graph.local[border]
            total = np.where(is_open, graph.distance[local, at][:, None] + row, UNREACHED)
            better, equal = total < metric, (total == metric) & (total < UNREACHED)
            through = graph.masks_from(local)[..., at][..., None]
            masks = np.where(better, through, np.where(equal, masks | through, masks))
            np.minimum(metric, total, out=metric)
        kind[is_open & (metric < UNREACHED)] = INTER
        is_plain = (kind[:, p:] != INTRA) | (number == BACKBONE)
        for at, process in enumerate(processes):
            hops = [*self._hops_of(number, process)]
            hops += [None] * (graph.words * WORD - len(hops))
            self._kept[process] = AreaRoutes(kind[at], metric[at], masks[:, at], hops, {number: 0}, is_plain[at])

    def _make_routes(self, process: int) -> AreaRoutes:
        kept = self._intra_rows.get(process)
        intra = kept or self._intra(process)
        kind, metric, masks, is_plain = intra.kind, intra.metric, intra.masks, intra.is_plain
        if kept is not None:
            kind, metric, masks, is_plain = kind.copy(), metric.copy(), masks.copy(), is_plain.copy()
        areas = self.areas_of[process]
        # Section 16.2: a border router looks at the backbone's summaries only.
        looked_at = areas if len(areas) == 1 else [number for number in areas if number == BACKBONE]
        active = self._active.get(process, [])
        for number in looked_at if self.borders else ():
            inter, inter_masks = self._inter(process, number)
            inter[[one.number for one in active]] = UNREACHED
            chosen = (kind == NONE) & (inter < UNREACHED)
            kind[chosen] = INTER
            metric[chosen] = inter[chosen]
            offset = intra.offsets[number]
            masks[offset : offset + len(inter_masks)][:, chosen] = inter_masks[:, chosen]
        for one in active:
            if kind[one.number] != INTRA:
                kind[one.number] = DISCARD
                metric[one.number] = one.cost
                masks[:, one.number] = 0
        is_plain |= kind[len(self.prefixes) :] != INTRA
        return AreaRoutes(kind, metric, masks, intra.hops, intra.offsets, is_plain)

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
        covered = self.prefixes.covered(configured.prefix)
        numbers = self.destinations[area].numbers
        within: Flags = (numbers >= covered.start) & (numbers < covered.stop)
        return within

    def _intra(self, process: int) -> AreaRoutes:
        areas = self.areas_of[process]
        offsets, width = {}, 0
        for number in areas:
            offsets[number] = width
            width += self.graphs[number].words
        kind = np.zeros(self.size, np.int8)
        metric = np.full(self.size, UNREACHED, np.int32)
        masks = np.zeros((width, self.size), np.uint64)
        is_plain = np.zeros(len(self.boundary), bool)
        hops: list[NextHop | None] = []
        # Section 16.4.1: to a boundary router, paths through other areas go before those through the backbone.
        for number in sorted(areas, key=lambda number: number == BACKBONE):
            graph, destinations = self.graphs[number], self.destinations[number]
            costs, words = destinations.row(graph, graph.local[process])
            numbers, offset = destinations.numbers, offsets[number]
            if len(areas) == 1:
                metric[numbers] = costs
                masks[:, numbers] = words
                kind[numbers] = np.where(costs < UNREACHED, INTRA, NONE)
            else:
                standing = metric[numbers]
                open_to = np.ones(len(numbers), bool)
                if number == BACKBONE:
                    open_to = (numbers < len(self.prefixes)) | (kind[numbers] == NONE)
                better = (costs < standing) & open_to
                chosen = better | ((costs == standing) & (costs < UNREACHED) & open_to)
                masks[:, numbers[better]] = 0
                masks[offset : offset + len(words)][:, numbers[chosen]] = words[:, chosen]
                metric[numbers[better]] = costs[better]
                kind[numbers[chosen]] = INTRA
                if number == BACKBONE:
                    by_backbone = numbers[chosen & (numbers >= len(self.prefixes))]
                    is_plain[by_backbone - len(self.prefixes)] = True
        if areas == [BACKBONE]:
            is_plain[:] = True
        for number in areas:
            own = self._hops_of(number, process)
            hops.extend(own)
            hops.extend([None] * (self.graphs[number].words * WORD - len(own)))
        return AreaRoutes(kind, metric, masks, hops, offsets, is_plain)

    def _hops_of(self, area: int, process: int) -> list[NextHop | None]:
        """The next hops behind a process's edges in an area, in the order of the bits."""
        key = area, process
        if key not in self._hops:
            graph, database = self.graphs[area], self.database
            hops = [
                edge_hop(database.topology, edge, database.family) for edge in graph.first_hops(graph.local[process])
            ]
            if len(hops) > MOST_KEPT:
                return hops
            self._hops[key] = hops
        return self._hops[key]

    def _inter(self, process: int, number: int) -> tuple[Metrics, Masks]:
        """Section 16.2: cost to each border router plus what it advertises; equal ones are merged."""
        graph = self.graphs[number]
        borders, costs = self.summaries.get(number, ([], np.empty((0, self.size), np.int32)))
        local = graph.local[process]
        others = [
            row
            for row, border in enumerate(borders)
            if border != process and graph.distance[local, graph.local[border]] < UNREACHED
        ]
        if not others:
            return np.full(self.size, UNREACHED, np.int32), np.zeros((graph.words, self.size), np.uint64)
        columns = [graph.local[borders[row]] for row in others]
        total = graph.distance[local, columns][:, None] + costs[others]
        best = total.min(axis=0)
        is_best = (total == best) & (total < UNREACHED)
        masks = np.zeros((graph.words, self.size), np.uint64)
        own = graph.masks_from(local)
        for word in range(len(masks)):
            choice = np.where(is_best, own[word, columns][:, None], np.uint64(0))
            masks[word] = np.bitwise_or.reduce(choice, axis=0)
        return np.minimum(best, UNREACHED), masks

    def _pass_on(self) -> None:
        """Fill ``summaries``: the backbone's first, since what it carries is passed on from there."""
        for process in self.borders:
            self._intra_rows[process] = self._intra(process)
        for number in sorted(self.graphs, key=lambda area: area != BACKBONE):
            borders = [process for process in self.borders if number in self.areas_of[process]]
            if borders:
                rows = [self._advertised(process, number) for process in borders]
                self.summaries[number] = (borders, np.stack(rows))

    def _advertised(self, process: int, into: int) -> Metrics:
        """Section 12.4.3: what a border router advertises into one of its areas."""
        settings = self.database.area_settings[process, into]
        result = np.full(self.size, UNREACHED, np.int32)
        for number in self.areas_of[process]:
            if number != into:
                self._condense(process, number, result)
        if into != BACKBONE and BACKBONE in self.areas_of[process]:
            inter, _ = self._inter(process, BACKBONE)
            inter[[one.number for one in self._active[process]]] = UNREACHED
            passed = (self._intra_rows[process].kind == NONE) & (inter < UNREACHED)
            result[passed] = np.minimum(result[passed], inter[passed])
        if settings.type != "normal":
            result[len(self.prefixes) :] = UNREACHED
            if settings.no_summary:
                result[:] = UNREACHED
            if settings.type == "stub" or settings.no_summary:
                result[self.default] = settings.default_cost
        return result

    def _condense(self, process: int, number: int, result: Metrics) -> None:
        """Intra-area routes of an area, those within its ranges replaced by the active ranges."""
        graph, destinations = self.graphs[number], self.destinations[number]
        costs = destinations.costs(graph, graph.local[process])
        # The route itself may be of another area, at a lower cost: only the best is advertised.
        shown = (costs < UNREACHED) & (costs == self._intra_rows[process].metric[destinations.numbers])
        for configured in self.database.area_settings[process, number].ranges:
            shown &= ~self._within(number, configured)
        numbers = destinations.numbers[shown]
        result[numbers] = np.minimum(result[numbers], costs[shown])
        for one in self._active[process]:
            if one.area == number and one.configured.advertise:
                result[one.number] = min(int(result[one.number]), one.cost)
