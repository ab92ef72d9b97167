"""The areas joined: border routers, inter-area routes, address ranges and stub defaults.

RFC 2328 sections 12.4.3 (what a border router passes on), 16.2 (inter-area routes), 11.1 and 16.2 (3)
(active ranges and their discard entries), 16.1 (intra-area before inter-area), 12.4.3.1 (stub areas);
RFC 3101 section 2.7 (summaries into NSSAs).
"""

from collections.abc import Sequence
from functools import cached_property

import numpy as np

from routrel.model.addresses import Prefix
from routrel.model.fields import replace
from routrel.model.places import NOWHERE, Place
from routrel.model.routing import OspfRange
from routrel.routing.arrays import Column, Flags, Metrics
from routrel.routing.ospf.area_graphs import BACKBONE, AreaGraphs
from routrel.routing.ospf.database import OspfDatabase
from routrel.routing.ospf.route_maker import ActiveRange, AreaRoutes, Over, RouteMaker, Summary
from routrel.routing.prefixes.classes import PrefixClasses
from routrel.routing.protocol_routes import NO_ROUTE
from routrel.routing.spf.distances import UNREACHED


class Areas(AreaGraphs):
    """Areas hold matrices, border routers their summaries; rows are made when asked for."""

    def __init__(self, database: OspfDatabase, prefixes: PrefixClasses, base: "Areas | None" = None):
        """What is as it was in ``base`` is taken over."""
        super().__init__(database, prefixes, base)
        self._boundary = frozenset(self.boundary)
        self._kept: dict[int, AreaRoutes] = {}
        kept = frozenset[int]() if base is None else self._kept_borders(base)
        self._active: dict[int, list[ActiveRange]] = {
            process: base._active[process] if base is not None and process in kept else self._active_ranges(process)
            for process in self.borders
        }
        self._joined: tuple[tuple[int, ...], AreaRoutes] | None = None
        """The last processes whose kept routes were asked for together."""
        self._summaries: dict[int, Summary] = {}
        """By area, once asked for."""
        self._condensed: dict[tuple[int, int], Metrics] = (
            {} if base is None else {key: row for key, row in base._condensed.items() if key[0] in kept}
        )
        """By border process and area what it passes there of its other areas, once asked for."""
        self._within_areas: dict[int, AreaRoutes] = (
            {} if base is None else {one: routes for one, routes in base._within_areas.items() if one in kept}
        )
        """By border process its routes within areas, once asked for."""

    def _kept_borders(self, base: "Areas") -> frozenset[int]:
        """Border routers whose routes within their areas are those that ``base`` has."""
        return frozenset(
            process
            for process in self.borders
            if base.areas_of[process] == self.areas_of[process] and self.as_in_base.issuperset(self.areas_of[process])
        )

    def over(self, prefixes: PrefixClasses) -> "Areas":
        """The same over other columns, all of which are columns here; of boundary routers what is known here."""
        areas = Areas(self.database, prefixes, self)
        here = self.prefixes.column[prefixes.first]
        columns = np.append(here, np.arange(len(self.prefixes), self.size))
        areas._kept = {
            process: replace(
                kept,
                over=Over.all_of(areas),
                kind=kept.kind[:, columns],
                metric=kept.metric[:, columns],
                masks=kept.masks[..., columns],
            )
            for process, kept in self._kept.items()
        }
        return areas

    @cached_property
    def default(self) -> int:
        """The number of the default prefix, or -1 where no device knows one."""
        return self.prefixes.number.get(Prefix(self.database.family, 0, 0), -1)

    def routes_of(self, processes: Sequence[int]) -> AreaRoutes:
        """Intra-area routes, inter-area ones where there is no other, then the ranges' discard entries.

        Routes of boundary routers, which are asked for again and again, are kept: callers do not change them.
        """
        found = {process: self._kept[process] for process in processes if process in self._kept}
        missing = [process for process in processes if process not in found]
        if len(missing) == len(processes) and self._boundary.isdisjoint(processes):
            return self.maker().routes_of(processes)
        if missing:
            made = self.maker().routes_of(missing)
            found.update((process, made.row(at)) for at, process in enumerate(missing))
        self._kept.update((process, found[process]) for process in processes if process in self._boundary)
        if len(processes) == 1:
            return found[processes[0]]
        if self._joined is None or self._joined[0] != tuple(processes):
            self._joined = tuple(processes), AreaRoutes.joined([found[process] for process in processes])
        return self._joined[1]

    def maker(self, columns: Column | None = None) -> RouteMaker:
        """What makes routes over some columns alone, ascending; or over all."""
        over = None if columns is None else Over.some_of(self, columns)
        return RouteMaker(self, self._active, self.summary, over)

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
                inside = costs[self._inside(number, configured)]
                inside = inside[inside < UNREACHED]
                if len(inside):
                    cost = int(inside.max()) if configured.cost is None else configured.cost
                    active.append(ActiveRange(self.prefixes.number[configured.prefix], configured, cost, number))
        return active

    def _inside(self, area: int, configured: OspfRange) -> Flags:
        inside = np.zeros(self.size, np.bool_)
        inside[self.prefixes.covered(configured.prefix)] = True
        within: Flags = inside[self.destinations[area].numbers]
        return within

    def summary(self, area: int) -> Summary:
        """What border processes pass into an area; of the backbone's, what is passed on from there."""
        if area not in self._summaries:
            self._summaries[area] = self._passed_into(area)
        return self._summaries[area]

    def _passed_into(self, area: int) -> Summary:
        borders = [process for process in self.borders if area in self.areas_of[process]]
        if not borders:
            return Summary(borders, np.empty((0, self.size), np.int32))
        rows = np.stack([self._condensed_into(process, area) for process in borders])
        if area != BACKBONE:
            self._pass_on(borders, rows)
        for process, row in zip(borders, rows, strict=True):
            settings = self.database.area_settings[process, area]
            if settings.type != "normal":
                row[len(self.prefixes) :] = UNREACHED
                if settings.no_summary:
                    row[:] = UNREACHED
                if settings.type == "stub" or settings.no_summary:
                    row[self.default] = settings.default_cost
        return Summary(borders, rows)

    def _pass_on(self, borders: Sequence[int], rows: Metrics) -> None:
        """Section 12.4.3: border routers pass on into an area what the backbone tells them, to what they have no route
        within their areas; ``rows`` (b, p + a) are what they say."""
        at = [number for number, process in enumerate(borders) if BACKBONE in self.areas_of[process]]
        if not at:
            return
        processes = [borders[number] for number in at]
        inter = np.full((len(at), self.size), UNREACHED)
        for _, totals in self.maker().by_borders(processes, BACKBONE):
            np.minimum(inter, totals.min(axis=1), out=inter)
        inter[np.stack([self._within(process).kind[0] for process in processes]) != NO_ROUTE] = UNREACHED
        for process, row in zip(processes, inter, strict=True):
            row[[one.number for one in self._active[process]]] = UNREACHED
        rows[at] = np.minimum(rows[at], inter)

    def _within(self, process: int) -> AreaRoutes:
        """A border process's routes within its areas."""
        if process not in self._within_areas:
            self._within_areas[process] = self.maker().intra([process])
        return self._within_areas[process]

    def _condensed_into(self, process: int, into: int) -> Metrics:
        """Section 12.4.3: what a border router advertises into one of its areas of the others."""
        if (process, into) not in self._condensed:
            result = np.full(self.size, UNREACHED, np.int32)
            for number in self.areas_of[process]:
                if number != into:
                    self._condense(process, number, self._within(process).metric[0], result)
            self._condensed[process, into] = result
        return self._condensed[process, into]

    def _condense(self, process: int, number: int, best: Metrics, result: Metrics) -> None:
        """Intra-area routes of an area, those within its ranges replaced by the active ranges."""
        graph, destinations = self.graphs[number], self.destinations[number]
        costs = destinations.costs(graph, graph.local[process])
        # The route itself may be of another area, at a lower cost: only the best is advertised.
        shown = (costs < UNREACHED) & (costs == best[destinations.numbers])
        if process in self.closed[number]:
            shown &= destinations.numbers < len(self.prefixes)
        for configured in self.database.area_settings[process, number].ranges:
            shown &= ~self._inside(number, configured)
        numbers = destinations.numbers[shown]
        result[numbers] = np.minimum(result[numbers], costs[shown])
        for one in self._active[process]:
            if one.area == number and one.configured.advertise:
                result[one.number] = min(int(result[one.number]), one.cost)
