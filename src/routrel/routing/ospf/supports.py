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

from routrel.model.addresses import Prefix
from routrel.routing.ospf.area_graphs import BACKBONE
from routrel.routing.ospf.areas import Areas
from routrel.routing.spf.distances import UNREACHED
from routrel.routing.spf.ways import ports_on_ways

Ports = frozenset[int]


class Supports:
    """Of the routes within and between the areas of one version of OSPF; what was found is kept."""

    def __init__(self, areas: Areas):
        self.areas = areas
        self._entries: dict[tuple[int, int], list[tuple[int, int, int]]] = {}
        """By area and prefix number who brings it there: vertex, cost and port."""
        self._within_kept: dict[tuple[int, int], Ports | None] = {}
        self._between_kept: dict[tuple[int, int], Ports | None] = {}
        """By process and prefix number."""

    def of(self, process: int, number: int) -> Ports | None:
        """The ports that a process's route for a prefix rests on; None where none of them leads there, or it is
        not told: what is put together from several prefixes, or goes over segments of many routers."""
        if self._has_shared_networks or self._is_put_together(number):
            return None
        within = self._within(process, number)
        return self._between(process, number) if within is None else within

    @cached_property
    def _has_shared_networks(self) -> bool:
        return any(graph.networks for graph in self.areas.graphs.values())

    @cached_property
    def _ranges(self) -> frozenset[Prefix]:
        settings = self.areas.database.area_settings.values()
        return frozenset(one.prefix for area in settings for one in area.ranges)

    @cached_property
    def _has_defaults(self) -> bool:
        """Whether borders of stub areas make a default."""
        return any(area.type != "normal" for area in self.areas.database.area_settings.values())

    def _is_put_together(self, number: int) -> bool:
        """Whether a prefix is in a range of some border, or the default of a stub area."""
        prefix = self.areas.prefixes.whole.prefixes[number]
        return (prefix.length == 0 and self._has_defaults) or any(one.covers(prefix) for one in self._ranges)

    def _entries_of(self, area: int, number: int) -> list[tuple[int, int, int]]:
        key = area, number
        if key not in self._entries:
            local = self.areas.graphs[area].local
            found = self.areas.database.areas[area].stubs.entries(self.areas.prefixes.whole, number)
            self._entries[key] = [(local[router], cost, port) for router, cost, port in found]
        return self._entries[key]

    def _within(self, process: int, number: int) -> Ports | None:
        """What a route within an area rests on, None where there is none."""
        key = process, number
        if key not in self._within_kept:
            self._within_kept[key] = self._find_within(process, number)
        return self._within_kept[key]

    def _find_within(self, process: int, number: int) -> Ports | None:
        ways = []
        for area in self.areas.areas_of[process]:
            graph, entries = self.areas.graphs[area], self._entries_of(area, number)
            costs = [int(graph.distance[graph.local[process], vertex]) + cost for vertex, cost, _ in entries]
            ways += [(cost, area, entry) for cost, entry in zip(costs, entries, strict=True)]
        best = min((cost for cost, *_ in ways), default=int(UNREACHED))
        if best >= UNREACHED:
            return None
        nearest = [(area, entry) for cost, area, entry in ways if cost == best]
        return frozenset(port for _, (_, _, port) in nearest).union(
            *(self._ways(area, process, [(vertex, adds)]) for area, (vertex, adds, _) in nearest)
        )

    def _between(self, process: int, number: int) -> Ports | None:
        """What a route between areas rests on, None where there is none (section 16.2)."""
        key = process, number
        if key not in self._between_kept:
            self._between_kept[key] = self._find_between(process, number)
        return self._between_kept[key]

    def _find_between(self, process: int, number: int) -> Ports | None:
        areas = self.areas.areas_of[process]
        # A border router looks at the backbone's summaries only.
        looked_at = areas[0] if len(areas) == 1 else BACKBONE if BACKBONE in areas else None
        if looked_at is None:
            return None
        graph, column = self.areas.graphs[looked_at], int(self.areas.prefixes.column[number])
        borders, advertised = self.areas.summary(looked_at)
        said = [(graph.local[border], int(row[column])) for border, row in zip(borders, advertised, strict=True)]
        own = graph.local[process]
        costs = [UNREACHED if at == own else int(graph.distance[own, at]) + cost for at, cost in said]
        best = min(costs, default=int(UNREACHED))
        if best >= UNREACHED:
            return None
        used = [at for at, cost in enumerate(costs) if cost == best]
        parts = [self._ways(looked_at, process, [said[at] for at in used])]
        for border in (borders[at] for at in used):
            within = self._within(border, number)
            parts.append((self._between(border, number) if within is None else within) or frozenset())
        if looked_at != BACKBONE:
            parts += [self._within(border, number) or frozenset() for border in borders]
        return frozenset().union(*parts)

    def _ways(self, area: int, process: int, targets: Sequence[tuple[int, int]]) -> Ports:
        graph = self.areas.graphs[area]
        vertices, costs = np.array(targets, np.int64).T
        return frozenset(ports_on_ways(graph, graph.local[process], vertices, costs))
