"""IS-IS solved: the two levels, what passes between them, and any router's routes.

RFC 5302 section 3.2 orders what a router prefers: level 1, then level 2, then what was leaked from level 2
into level 1; last of all the default of ISO 10589 section 7.2.9.2 towards the nearest attached router.
"""

from collections import defaultdict
from collections.abc import Iterable, Mapping, Sequence
from typing import NamedTuple

import numpy as np
import numpy.typing as npt

from routrel.model.addresses import Prefix
from routrel.model.findings import Doubt, Finding
from routrel.model.routing import Isis
from routrel.routing.arrays import UNSET, WORD, Column, Flags, Masks
from routrel.routing.isis.database import LEVEL_2, IsisArea, IsisDatabase, area_of
from routrel.routing.isis.system_ids import twice_given_system_ids
from routrel.routing.neighbors import edge_hop
from routrel.routing.policies import evaluate
from routrel.routing.prefixes.classes import PrefixClasses
from routrel.routing.protocol import ProtocolSolution
from routrel.routing.protocol_routes import NO_ROUTE, ProtocolRoutes, Ready
from routrel.routing.redistributed import Redistributed
from routrel.routing.routes import NextHop
from routrel.routing.spf.destinations import Destinations
from routrel.routing.spf.distances import UNREACHED
from routrel.routing.spf.graph import Graph

LEVEL_1_ROUTE, LEVEL_2_ROUTE, LEAKED, ATTACHED = 1, 2, 3, 4
NARROW_PATH = 1023
"""The longest path without wide metrics (RFC 1195 section 5.3.1: MaxPathMetric)."""

Hops = tuple[dict[int, list[NextHop | None]], dict[int, Masks]]
"""By family: the next hops behind a router's edges, and the bits of those that have an address."""


class IsisSolution(ProtocolSolution[IsisDatabase]):
    """IS-IS solved; what is put in and passed between levels is computed again when it changes."""

    protocol = "isis"
    kind_names = {LEVEL_1_ROUTE: "level 1", LEVEL_2_ROUTE: "level 2", LEAKED: "leaked", ATTACHED: "attached default"}
    is_restrictable = True

    def __init__(self, database: IsisDatabase, prefixes: PrefixClasses, base: "IsisSolution | None" = None):
        """Graphs of areas that are as they were in ``base`` are taken over."""
        super().__init__(database, prefixes, base)
        self.graphs: dict[IsisArea, Graph] = {}
        for area, found in database.areas.items():
            before = base.graphs.get(area) if base is not None else None
            if before is not None and before.is_of(found.routers, found.edges, ()):
                self.graphs[area] = before
                self.taken_over += 1
            else:
                self.graphs[area] = Graph(found.routers, found.edges, (), before)
        self.brought: dict[IsisArea, Destinations] = {}
        self.leaked: dict[IsisArea, Destinations] = {}
        self._hops: dict[int, Hops] = {}
        self.attached = self._find_attached()
        self._defaults = {family: prefixes.number.get(Prefix(family, 0, 0), -1) for family in (4, 6)}
        self._ready = Ready()
        self._own = {area: self._own_rows(area) for area in database.areas}
        self.announce({})

    def over(self, prefixes: PrefixClasses) -> "IsisSolution":
        """The same over other columns, with nothing put in."""
        solution = IsisSolution(self.database, prefixes, self)
        solution._hops = self._hops
        return solution

    def competing_columns(self) -> Flags:
        """What routers bring in themselves: there the lower cost counts, whoever says it."""
        own = np.zeros(len(self.prefixes), np.bool_)
        for database in self.database.areas.values():
            numbers, _, _ = database.reachable.columns(self.prefixes.whole)
            own[self.prefixes.column[numbers]] = True
        return own

    def multipath(self, process: int) -> int:
        return self.database.configured[process].multipath

    def instances_asking_policies(self) -> Iterable[int]:
        """Those that leak by a policy."""
        return (self.processes[n].instance for n, isis in enumerate(self.database.configured) if isis.leak is not None)

    def problems(self) -> tuple[list[Finding], list[Doubt]]:
        return twice_given_system_ids(self.database)

    def _find_attached(self) -> dict[IsisArea, list[int]]:
        """ISO 10589 section 7.2.9.2: level 1-2 routers that reach another area at level 2, per area."""
        attached: dict[IsisArea, list[int]] = defaultdict(list)
        graph = self.graphs.get(LEVEL_2)
        if graph is None:
            return attached
        areas = np.array([int(self.database.configured[router].area, 16) % (2**61 - 1) for router in graph.routers])
        for router in graph.routers:
            isis = self.database.configured[router]
            if isis.levels != (1, 2):
                continue
            local = graph.local[router]
            reached = graph.distance[local] < UNREACHED
            if (areas[reached] != areas[local]).any():
                attached[area_of(isis, 1)].append(router)
        return attached

    def announce(self, redistributed: Mapping[int, Redistributed]) -> None:
        """Fill both levels: what routers bring and put in, level 1 passed up, level 2 leaked down."""
        self._ready.clear()
        rows = {area: [own] for area, own in self._own.items()}
        for process, found in redistributed.items():
            isis = self.database.configured[process]
            area = area_of(isis, max(isis.levels))
            vertex = np.full(len(found.numbers), self.graphs[area].local[process])
            metric = found.of(found.metric, self.default_metric(process))
            if not isis.wide_metrics:
                metric = np.minimum(metric, 63)
            rows[area].append(np.stack([vertex, found.numbers, metric, found.of(found.tag, 0)]))
        self.brought = {area: _brought(rows[area]) for area in self.graphs if area.level == 1}
        if LEVEL_2 in self.graphs:
            self.brought[LEVEL_2] = _brought([*rows[LEVEL_2], *self._passed_up(rows[LEVEL_2])])
        self.leaked = {}
        leaked: dict[IsisArea, list[Column]] = defaultdict(list)
        for process, isis in enumerate(self.database.configured):
            if isis.leak is not None:
                leaked[area_of(isis, 1)].append(self._leaked_by(process))
        self.leaked = {area: _brought(parts) for area, parts in leaked.items()}

    def _own_rows(self, area: IsisArea) -> Column:
        """What routers bring into a area themselves: (4, n) of vertices, columns, metrics, and tags of 0."""
        numbers, routers, metrics = self.database.areas[area].reachable.columns(self.prefixes.whole)
        columns = self.prefixes.standing[numbers]
        rows = np.stack([self.graphs[area].vertices(routers), columns, metrics, np.zeros_like(metrics)])
        own: Column = rows[:, columns >= 0]
        return own

    def _passed_up(self, own_rows: list[Column]) -> list[Column]:
        """RFC 1195 section 3.2: a level 1-2 router says its level 1 routes at level 2, by its cost to them.

        What it brings into level 2 itself, as ``own_rows`` have it, it says at its own metric.
        """
        rows = []
        own = np.concatenate([part[0] * len(self.prefixes) + part[1] for part in own_rows])
        upper = self.graphs[LEVEL_2].local
        for process, isis in enumerate(self.database.configured):
            if isis.levels != (1, 2):
                continue
            area = area_of(isis, 1)
            graph, brought = self.graphs[area], self.brought[area]
            local = graph.local[process]
            costs, tags = brought.costs(graph, local), brought.tags(graph, local)
            kept = costs < (UNREACHED if isis.wide_metrics else NARROW_PATH + 1)
            kept &= ~np.isin(upper[process] * len(self.prefixes) + brought.numbers, own)
            vertex = np.full(int(kept.sum()), upper[process])
            rows.append(np.stack([vertex, brought.numbers[kept], costs[kept], tags[kept]]))
        return rows

    def _leaked_by(self, process: int) -> Column:
        """RFC 5302 section 3.1: the level 2 routes a router says at level 1, as its policy lets them."""
        isis = self.database.configured[process]
        instance = self.topology.instances[self.processes[process].instance]
        policies = self.topology.devices[instance.device].policies
        routes = self.routes_of(process)
        numbers = np.flatnonzero((routes.kind == LEVEL_2_ROUTE) & routes.present())
        metric = routes.metric[numbers].astype(np.int64)
        tag = np.full(len(numbers), UNSET, np.int64) if routes.tag is None else routes.tag[numbers]
        assert isis.leak is not None
        policy = policies[isis.leak.policy] if isis.leak.policy is not None else None
        hop_match = routes.hop_match(numbers, self.prefixes)
        verdicts = evaluate(policy, self.prefixes, numbers, "isis", metric, tag, hop_match)
        metric = np.where(verdicts.metric == UNSET, metric, verdicts.metric)
        tag = np.maximum(np.where(verdicts.tag == UNSET, tag, verdicts.tag), 0)
        vertex = np.full(len(numbers), self.graphs[area_of(isis, 1)].local[process])
        rows: Column = np.stack([vertex, numbers, metric, tag])[:, verdicts.accepted]
        return rows

    def prepare(self, processes: Sequence[int], columns: Column | None = None) -> None:
        """Make the routes of several routers together and keep them until something is put in."""
        alike: dict[tuple[IsisArea, ...], list[int]] = defaultdict(list)
        for process in self._ready.missing(processes, len(self.prefixes)):
            alike[self._areas_of(process)].append(process)
        for members in alike.values():
            self._ready.update(zip(members, self._make(members), strict=True))

    def routes_of(self, process: int) -> ProtocolRoutes:
        return self._ready[process] if process in self._ready else self._make([process])[0]

    def _areas_of(self, process: int) -> tuple[IsisArea, ...]:
        isis = self.database.configured[process]
        return tuple(area_of(isis, level) for level in isis.levels)

    def _make(self, processes: Sequence[int]) -> list[ProtocolRoutes]:
        """All routes of b routers in the same areas, in the order of RFC 5302 section 3.2."""
        areas, p = self._areas_of(processes[0]), len(self.prefixes)
        shape = len(processes), p
        masks = np.zeros((sum(self.graphs[area].words for area in areas), *shape), np.uint64)
        routes = _Rows(np.zeros(shape, np.int8), np.full(shape, np.int64(UNREACHED)), np.full(shape, UNSET))
        offset = 0
        for area in areas:
            kind = LEVEL_1_ROUTE if area.level == 1 else LEVEL_2_ROUTE
            words = masks[offset : offset + self.graphs[area].words]
            self._fill(routes, words, processes, area, self.brought[area], kind)
            offset += len(words)
        if areas[0].level == 1:
            words = masks[: self.graphs[areas[0]].words]
            if areas[0] in self.leaked:
                self._fill(routes, words, processes, areas[0], self.leaked[areas[0]], LEAKED)
            if len(areas) == 1:
                self._fill_defaults(routes, words, processes, areas[0])
        hops = [self._hops_of(process, areas) for process in processes]
        for family in (4, 6):
            of_family = self.prefixes.of_family(family)
            if of_family.any():
                usable = np.stack([usable[family] for _, usable in hops], axis=1)
                np.bitwise_and(masks, usable[..., None], out=masks, where=of_family)
        return [
            ProtocolRoutes(routes.kind[at], routes.metric[at], masks[:, at], hops[at][0], routes.tag[at])
            for at in range(len(processes))
        ]

    def _fill(
        self,
        routes: "_Rows",
        masks: Masks,
        processes: Sequence[int],
        area: IsisArea,
        brought: Destinations,
        kind: int,
    ) -> None:
        """Let a group of prefixes in where no better one stands; ``masks`` (w, b, p) are the area's words."""
        graph, numbers = self.graphs[area], brought.numbers
        local = graph.vertices(np.array(processes))
        costs, words = brought.row(graph, local)
        limits = np.array([_limit(self.database.configured[process]) for process in processes], np.int32)
        chosen = (costs < limits[:, None]) & (routes.kind[:, numbers] == NO_ROUTE)
        routes.kind[:, numbers] = np.where(chosen, kind, routes.kind[:, numbers])
        routes.metric[:, numbers] = np.where(chosen, costs, routes.metric[:, numbers])
        masks[..., numbers] = np.where(chosen, words, masks[..., numbers])
        if brought.has_tags:
            tags = brought.tags(graph, local)
            routes.tag[:, numbers] = np.where(chosen & (tags > 0), tags, routes.tag[:, numbers])

    def _fill_defaults(self, routes: "_Rows", masks: Masks, processes: Sequence[int], area: IsisArea) -> None:
        """ISO 10589 section 7.2.9.2: a level 1 router sends what it does not know to the nearest attached."""
        graph = self.graphs[area]
        attached = np.array([graph.local[router] for router in self.attached.get(area, ())], np.int64)
        for row, process in enumerate(processes if len(attached) else ()):
            local = graph.local[process]
            distances = graph.distance[local, attached]
            nearest = distances.min()
            if nearest >= UNREACHED:
                continue
            words = np.bitwise_or.reduce(graph.masks_from(local)[:, attached[distances == nearest]], axis=1)
            for number in self._defaults.values():
                if number >= 0 and routes.kind[row, number] == NO_ROUTE:
                    routes.kind[row, number] = ATTACHED
                    routes.metric[row, number] = nearest
                    masks[:, row, number] = words

    def _hops_of(self, process: int, areas: Sequence[IsisArea]) -> Hops:
        """The next hops behind a router's edges, and the bits of those that have an address: uint64 (w,)."""
        if process not in self._hops:
            hops: dict[int, list[NextHop | None]] = {4: [], 6: []}
            usable: dict[int, Masks] = {}
            for family, found in hops.items():
                for area in areas:
                    graph = self.graphs[area]
                    edges = graph.first_hops(graph.local[process])
                    found += [edge_hop(self.topology, edge, family) for edge in edges]
                    found += [None] * (graph.words * WORD - len(edges))
                bits = np.array([hop is not None for hop in found], np.uint64).reshape(-1, WORD)
                usable[family] = np.bitwise_or.reduce(bits << np.arange(WORD, dtype=np.uint64), axis=1)
            self._hops[process] = hops, usable
        return self._hops[process]


class _Rows(NamedTuple):
    """Routes of b routers, each (b, p)."""

    kind: npt.NDArray[np.int8]
    metric: Column
    tag: Column


def _limit(isis: Isis) -> int:
    """Paths of this metric and above are none."""
    return int(UNREACHED) if isis.wide_metrics else NARROW_PATH + 1


def _brought(rows: list[Column]) -> Destinations:
    """Matrices (4, n) of vertices, prefix numbers, metrics and tags, joined."""
    vertex, number, metric, tag = np.concatenate([np.zeros((4, 0), np.int64), *rows], axis=1)
    return Destinations(vertex, number, metric, tag)
