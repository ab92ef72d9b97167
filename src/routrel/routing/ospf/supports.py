"""The ports that an OSPF route rests on: whatever others go down, it stays as it is (RFC 2328 section 16).

While links only go away no path gets shorter, so that a route within an area stays while the edges of its shortest
paths do, and the ports of those that bring the prefix at the least cost. A route between areas stays while, besides
that, the borders that it goes by advertise what they did. A border that others do not prefer may say less then, which
changes nothing, or less for it: where it loses a way within its areas it goes by one between them, which may cost less.
In another area than the backbone all ways within areas of its borders are therefore kept.
"""

from collections.abc import Sequence
from functools import cached_property

import numpy as np

from routrel.routing.ospf.areas import BACKBONE, Areas
from routrel.routing.spf.distances import UNREACHED
from routrel.routing.spf.ways import ports_on_ways


class Supports:
    """Of the routes within and between the areas of one version of OSPF."""

    def __init__(self, areas: Areas):
        self.areas = areas
        self._entries: dict[tuple[int, int], list[tuple[int, int, int]]] = {}
        """By area and prefix number who brings it there: vertex, cost and port."""
        self._kept: dict[tuple[int, int], frozenset[int] | None] = {}
        """What was found by process and prefix number."""

    def of(self, process: int, number: int) -> frozenset[int] | None:
        """The ports that a process's route for a prefix rests on; None where none of them leads there, or it is
        not told: what is put together from several prefixes, or goes over segments of many routers."""
        key = process, number
        if key not in self._kept:
            self._kept[key] = None if self._is_put_together(number) else self._find(process, number)
        return self._kept[key]

    @cached_property
    def _has_defaults(self) -> bool:
        """Whether borders advertise a default of their own making."""
        return any(settings.type != "normal" for settings in self.areas.database.area_settings.values())

    def _is_put_together(self, number: int) -> bool:
        """Whether a prefix is in a range of some border, or the default of a stub area."""
        prefix = self.areas.prefixes.whole.prefixes[number]
        if prefix.family == self.areas.database.family and prefix.length == 0 and self._has_defaults:
            return True
        settings = self.areas.database.area_settings.values()
        return any(one.prefix.covers(prefix) for area in settings for one in area.ranges)

    def _entries_of(self, area: int, number: int) -> list[tuple[int, int, int]]:
        key = area, number
        if key not in self._entries:
            local = self.areas.graphs[area].local
            found = self.areas.database.areas[area].stubs.entries(self.areas.prefixes.whole, number)
            self._entries[key] = [(local[router], cost, port) for router, cost, port in found]
        return self._entries[key]

    def _find(self, process: int, number: int) -> frozenset[int] | None:
        found = set[int]()
        if any(self.areas.graphs[area].networks for area in self.areas.graphs):
            return None
        if not (self._within(process, number, found) or self._between(process, number, found)):
            return None
        return frozenset(found)

    def _within(self, process: int, number: int, found: set[int]) -> bool:
        """Add what a route within an area rests on; whether there is one."""
        ways = []
        for area in self.areas.areas_of[process]:
            graph, entries = self.areas.graphs[area], self._entries_of(area, number)
            costs = [int(graph.distance[graph.local[process], vertex]) + cost for vertex, cost, _ in entries]
            ways += [(cost, area, entry) for cost, entry in zip(costs, entries, strict=True)]
        best = min((cost for cost, *_ in ways), default=int(UNREACHED))
        if best >= UNREACHED:
            return False
        for cost, area, (vertex, adds, port) in ways:
            if cost == best:
                found.add(port)
                self._add_ways(area, process, [(vertex, adds)], found)
        return True

    def _between(self, process: int, number: int, found: set[int]) -> bool:
        """Add what a route between areas rests on; whether there is one (section 16.2)."""
        areas = self.areas.areas_of[process]
        # A border router looks at the backbone's summaries only.
        looked_at = areas[0] if len(areas) == 1 else BACKBONE if BACKBONE in areas else None
        if looked_at is None:
            return False
        graph, column = self.areas.graphs[looked_at], int(self.areas.prefixes.column[number])
        borders, advertised = self.areas.summaries.get(looked_at, ([], np.empty((0, 0), np.int32)))
        said = [(graph.local[border], int(row[column])) for border, row in zip(borders, advertised, strict=True)]
        own = graph.local[process]
        costs = [UNREACHED if at == own else int(graph.distance[own, at]) + cost for at, cost in said]
        best = min(costs, default=int(UNREACHED))
        if best >= UNREACHED:
            return False
        used = [at for at, cost in enumerate(costs) if cost == best]
        self._add_ways(looked_at, process, [said[at] for at in used], found)
        for at in used:
            if not self._within(borders[at], number, found):
                self._between(borders[at], number, found)
        if looked_at != BACKBONE:
            for border in borders:
                self._within(border, number, found)
        return True

    def _add_ways(self, area: int, process: int, targets: Sequence[tuple[int, int]], found: set[int]) -> None:
        graph = self.areas.graphs[area]
        vertices, costs = np.array(targets, np.int64).T
        found.update(ports_on_ways(graph, graph.local[process], vertices, costs))
