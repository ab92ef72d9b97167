"""IS-IS solved: the two levels, what passes between them, and any router's routes.

RFC 5302 section 3.2 orders what a router prefers: level 1, then level 2, then what was leaked from level 2
into level 1; last of all the default of ISO 10589 section 7.2.9.2 towards the nearest attached router.
"""

from collections import defaultdict
from collections.abc import Sequence

import numpy as np
import numpy.typing as npt

from routrel.model.addresses import Prefix
from routrel.model.places import NOWHERE, Place
from routrel.model.routing import Isis
from routrel.routing.graph import WORD, Destinations, Graph
from routrel.routing.grouping import Masks
from routrel.routing.isis.database import LEVEL_2, Domain, IsisDatabase, domain_of
from routrel.routing.policies import evaluate
from routrel.routing.representatives import Representatives
from routrel.routing.routes import NextHop
from routrel.routing.rows import NONE, UNSET, Injected, Process, ProtocolRoutes, Ready
from routrel.routing.shortest_paths import UNREACHED
from routrel.routing.speaking import edge_hop
from routrel.topology.segments import Topology

LEVEL_1_ROUTE, LEVEL_2_ROUTE, LEAKED, ATTACHED = 1, 2, 3, 4
NARROW_PATH = 1023
"""The longest path without wide metrics (RFC 1195 section 5.3.1: MaxPathMetric)."""

DEFAULT_METRIC = 0

Hops = tuple[dict[int, list[NextHop | None]], dict[int, Masks]]
"""By family: the next hops behind a router's edges, and the bits of those that have an address."""


class IsisSolution:
    """IS-IS solved; what is put in and passed between levels is computed again when it changes."""

    protocol = "isis"
    kind_names = {LEVEL_1_ROUTE: "level 1", LEVEL_2_ROUTE: "level 2", LEAKED: "leaked", ATTACHED: "attached default"}

    def __init__(
        self,
        topology: Topology,
        database: IsisDatabase,
        prefixes: Representatives,
        graphs: dict[Domain, Graph] | None = None,
    ):
        self.topology = topology
        self.database = database
        self.prefixes = prefixes
        self.processes: Sequence[Process] = database.processes
        self.graphs = graphs or {
            domain: Graph(found.routers, found.edges) for domain, found in database.domains.items()
        }
        self.brought: dict[Domain, Destinations] = {}
        self.leaked: dict[Domain, Destinations] = {}
        self._hops: dict[int, Hops] = {}
        self.attached = self._find_attached()
        self._defaults = {family: prefixes.number.get(Prefix(family, 0, 0), -1) for family in (4, 6)}
        self._ready = Ready()
        self._own = {domain: self._own_rows(domain) for domain in database.domains}
        self.inject({}, {})

    def over(self, prefixes: Representatives) -> "IsisSolution":
        """The same over other columns, with nothing put in."""
        solution = IsisSolution(self.topology, self.database, prefixes, self.graphs)
        solution._hops = self._hops
        return solution

    def own_columns(self) -> npt.NDArray[np.bool_]:
        """The columns that routers bring in themselves: bool (c,)."""
        own = np.zeros(len(self.prefixes), np.bool_)
        for database in self.database.domains.values():
            numbers, _, _ = database.reachable.columns(self.prefixes.whole)
            own[self.prefixes.column[numbers]] = True
        return own

    def preference(self, process: int, kind: int) -> int:
        routing = self.topology.instances[self.processes[process].instance].routing
        assert routing is not None
        return routing.preference("isis")

    def multipath(self, process: int) -> int:
        return self.database.configured[process].multipath

    def place_of(self, process: int, number: int, kind: int) -> Place:
        return NOWHERE

    def _find_attached(self) -> dict[Domain, list[int]]:
        """ISO 10589 section 7.2.9.2: level 1-2 routers that reach another area at level 2, per area."""
        attached: dict[Domain, list[int]] = defaultdict(list)
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
                attached[domain_of(isis, 1)].append(router)
        return attached

    def inject(self, injected: dict[int, Injected], blocked: dict[int, npt.NDArray[np.bool_]]) -> None:
        """Fill both levels: what routers bring and put in, level 1 passed up, level 2 leaked down."""
        self._ready.clear()
        rows = {domain: [own] for domain, own in self._own.items()}
        for process, found in injected.items():
            isis = self.database.configured[process]
            domain = domain_of(isis, max(isis.levels))
            vertex = np.full(len(found.numbers), self.graphs[domain].local[process])
            metric = found.of(found.metric, DEFAULT_METRIC)
            if not isis.wide_metrics:
                metric = np.minimum(metric, 63)
            rows[domain].append(np.stack([vertex, found.numbers, metric, found.of(found.tag, 0)]))
        self.brought = {domain: _brought(rows[domain]) for domain in self.graphs if domain.level == 1}
        if LEVEL_2 in self.graphs:
            self.brought[LEVEL_2] = _brought([*rows[LEVEL_2], *self._passed_up(rows[LEVEL_2])])
        self.leaked = {}
        leaked: dict[Domain, list[npt.NDArray[np.int64]]] = defaultdict(list)
        for process, isis in enumerate(self.database.configured):
            if isis.leak is not None:
                leaked[domain_of(isis, 1)].append(self._leaked_by(process))
        self.leaked = {domain: _brought(parts) for domain, parts in leaked.items()}

    def _own_rows(self, domain: Domain) -> npt.NDArray[np.int64]:
        """What routers bring into a domain themselves: (4, n) of vertices, columns, metrics, and tags of 0."""
        numbers, routers, metrics = self.database.domains[domain].reachable.columns(self.prefixes.whole)
        columns = self.prefixes.standing[numbers]
        rows = np.stack([self.graphs[domain].vertices(routers), columns, metrics, np.zeros_like(metrics)])
        own: npt.NDArray[np.int64] = rows[:, columns >= 0]
        return own

    def _passed_up(self, own_rows: list[npt.NDArray[np.int64]]) -> list[npt.NDArray[np.int64]]:
        """RFC 1195 section 3.2: a level 1-2 router says its level 1 routes at level 2, by its cost to them.

        What it brings into level 2 itself, as ``own_rows`` have it, it says at its own metric.
        """
        rows = []
        own = np.concatenate([part[0] * len(self.prefixes) + part[1] for part in own_rows])
        upper = self.graphs[LEVEL_2].local
        for process, isis in enumerate(self.database.configured):
            if isis.levels != (1, 2):
                continue
            domain = domain_of(isis, 1)
            graph, brought = self.graphs[domain], self.brought[domain]
            local = graph.local[process]
            costs, tags = brought.costs(graph, local), brought.tags(graph, local)
            kept = costs < (UNREACHED if isis.wide_metrics else NARROW_PATH + 1)
            kept &= ~np.isin(upper[process] * len(self.prefixes) + brought.numbers, own)
            vertex = np.full(int(kept.sum()), upper[process])
            rows.append(np.stack([vertex, brought.numbers[kept], costs[kept], tags[kept]]))
        return rows

    def _leaked_by(self, process: int) -> npt.NDArray[np.int64]:
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
        vertex = np.full(len(numbers), self.graphs[domain_of(isis, 1)].local[process])
        rows: npt.NDArray[np.int64] = np.stack([vertex, numbers, metric, tag])[:, verdicts.accepted]
        return rows

    def prepare(self, processes: list[int]) -> None:
        """Make the routes of several routers together and keep them until something is put in: of level 2 alone."""
        of_level_2 = (process for process in processes if self.database.configured[process].levels == (2,))
        alike = self._ready.missing(of_level_2, len(self.prefixes))
        if not alike:
            return
        graph, brought, p = self.graphs[LEVEL_2], self.brought[LEVEL_2], len(self.prefixes)
        local = graph.vertices(np.array(alike))
        costs, words = brought.row(graph, local)
        limits = [_limit(self.database.configured[process]) for process in alike]
        chosen = costs < np.array(limits, np.int32)[:, None]
        kind, metric = np.zeros((len(alike), p), np.int8), np.full((len(alike), p), np.int64(UNREACHED))
        kind[:, brought.numbers] = np.where(chosen, LEVEL_2_ROUTE, NONE)
        metric[:, brought.numbers] = np.where(chosen, costs, UNREACHED)
        masks = np.zeros((graph.words, len(alike), p), np.uint64)
        masks[..., brought.numbers] = words * chosen
        usable = [self._hops_of(process, [LEVEL_2])[1] for process in alike]
        self._leave_usable(masks, {family: np.stack([one[family] for one in usable], axis=1) for family in (4, 6)})
        tag = np.full((len(alike), p), UNSET)
        if brought.has_tags:
            tags = brought.tags(graph, local)
            tag[:, brought.numbers] = np.where(chosen & (tags > 0), tags, UNSET)
        for at, process in enumerate(alike):
            hops, _ = self._hops_of(process, [LEVEL_2])
            self._ready[process] = ProtocolRoutes(kind[at], metric[at], masks[:, at], hops, tag[at])

    def routes_of(self, process: int) -> ProtocolRoutes:
        """All IS-IS routes of a process over all prefixes, in the order of RFC 5302 section 3.2."""
        if process in self._ready:
            return self._ready[process]
        isis = self.database.configured[process]
        domains = [domain_of(isis, level) for level in isis.levels]
        offsets, width = {}, 0
        for domain in domains:
            offsets[domain] = width
            width += self.graphs[domain].words
        p = len(self.prefixes)
        hops, usable = self._hops_of(process, domains)
        routes = ProtocolRoutes(
            np.zeros(p, np.int8),
            np.full(p, np.int64(UNREACHED)),
            np.zeros((width, p), np.uint64),
            hops,
            np.full(p, UNSET),
        )
        for domain in domains:
            kind = LEVEL_1_ROUTE if domain.level == 1 else LEVEL_2_ROUTE
            self._fill(routes, process, domain, self.brought[domain], kind, offsets[domain])
        if domains[0].level == 1:
            if domains[0] in self.leaked:
                self._fill(routes, process, domains[0], self.leaked[domains[0]], LEAKED, 0)
            if len(domains) == 1:
                self._fill_default(routes, process, domains[0])
        self._leave_usable(routes.masks, usable)
        return routes

    def _leave_usable(self, masks: Masks, usable: dict[int, Masks]) -> None:
        """Take away next hops without an address of the prefix's family: ``usable`` (w, ...) of masks (w, ..., p)."""
        for family, words in usable.items():
            of_family = self.prefixes.of_family(family)
            if of_family.start < of_family.stop:
                masks[..., of_family] &= words[..., None]

    def _fill(
        self, routes: ProtocolRoutes, process: int, domain: Domain, brought: Destinations, kind: int, offset: int
    ) -> None:
        """Let a group of prefixes in where no better one stands."""
        graph = self.graphs[domain]
        local = graph.local[process]
        costs, words = brought.row(graph, local)
        chosen = (costs < _limit(self.database.configured[process])) & (routes.kind[brought.numbers] == NONE)
        numbers = brought.numbers[chosen]
        routes.kind[numbers] = kind
        routes.metric[numbers] = costs[chosen]
        routes.masks[offset : offset + graph.words, numbers] = words[:, chosen]
        if brought.has_tags and routes.tag is not None:
            tags = brought.tags(graph, local)[chosen]
            routes.tag[numbers] = np.where(tags > 0, tags, UNSET)

    def _fill_default(self, routes: ProtocolRoutes, process: int, domain: Domain) -> None:
        """ISO 10589 section 7.2.9.2: a level 1 router sends what it does not know to the nearest attached."""
        graph = self.graphs[domain]
        local = graph.local[process]
        attached = [graph.local[router] for router in self.attached.get(domain, [])]
        if not attached:
            return
        distances = graph.distance[local, attached]
        nearest = int(distances.min())
        if nearest >= UNREACHED:
            return
        words = np.bitwise_or.reduce(
            graph.masks_from(local)[:, [a for a, d in zip(attached, distances.tolist(), strict=True) if d == nearest]],
            axis=1,
        )
        for family in self._families(process):
            number = self._defaults[family]
            if number >= 0 and routes.kind[number] == NONE:
                routes.kind[number] = ATTACHED
                routes.metric[number] = nearest
                routes.masks[: graph.words, number] = words

    def _families(self, process: int) -> set[int]:
        """The address families that IS-IS carries for a router: those of its interfaces."""
        instance = self.topology.instances[self.processes[process].instance]
        ports = self.topology.ports_named[instance.device]
        taking_part = (ports[settings.name] for settings in self.database.configured[process].interfaces)
        return {
            address.family for port in taking_part if port.index in self.database.speakers for address in port.addresses
        }

    def _hops_of(self, process: int, domains: list[Domain]) -> Hops:
        """The next hops behind a router's edges, and the bits of those that have an address: uint64 (w,)."""
        if process not in self._hops:
            hops: dict[int, list[NextHop | None]] = {4: [], 6: []}
            usable: dict[int, Masks] = {}
            for family, found in hops.items():
                for domain in domains:
                    graph = self.graphs[domain]
                    edges = graph.first_hops(graph.local[process])
                    found += [edge_hop(self.topology, edge, family) for edge in edges]
                    found += [None] * (graph.words * WORD - len(edges))
                bits = np.array([hop is not None for hop in found], np.uint64).reshape(-1, WORD)
                usable[family] = np.bitwise_or.reduce(bits << np.arange(WORD, dtype=np.uint64), axis=1)
            self._hops[process] = hops, usable
        return self._hops[process]


def _limit(isis: Isis) -> int:
    """Paths of this metric and above are none."""
    return int(UNREACHED) if isis.wide_metrics else NARROW_PATH + 1


def _brought(rows: list[npt.NDArray[np.int64]]) -> Destinations:
    """Matrices (4, n) of vertices, prefix numbers, metrics and tags, joined."""
    vertex, number, metric, tag = np.concatenate([np.zeros((4, 0), np.int64), *rows], axis=1)
    return Destinations(vertex, number, metric, tag)
