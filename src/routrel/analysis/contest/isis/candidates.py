"""IS-IS's candidates for one prefix, rule by rule (RFC 1195, RFC 5302 section 3.2)."""

from collections import defaultdict
from collections.abc import Iterator, Sequence

import numpy as np

from routrel.analysis.contest.candidates import Candidate
from routrel.analysis.contest.isis.stops import IsisStops
from routrel.analysis.contest.paths import Leg, PlainGraph, Way
from routrel.analysis.contest.policies import Asked, Decision, PolicyUse, ask, routes_met
from routrel.analysis.contest.protocol import InterfaceCost, ProtocolContest, SolvedProtocol
from routrel.analysis.contest.trail import Step
from routrel.model.addresses import Prefix
from routrel.model.fields import replace
from routrel.model.places import NOWHERE, Place
from routrel.model.policies import Policy
from routrel.routing.arrays import UNSET
from routrel.routing.isis.database import LEVEL_2, IsisArea, IsisDatabase, area_of
from routrel.routing.isis.solution import LEVEL_2_ROUTE, NARROW_PATH, IsisSolution
from routrel.routing.neighbors import edge_hop
from routrel.routing.protocol import Process
from routrel.routing.protocol_routes import NO_ROUTE
from routrel.routing.routes import NextHop
from routrel.routing.solve import Solved
from routrel.routing.spf.advertised import Advertised

ISIS_ROUNDS = (
    ("kind", "level 1 before level 2 before leaked routes before the attached default (RFC 5302 section 3.2)"),
    ("cost", "the lowest sum of the metrics of outgoing interfaces"),
)
NARROW_METRIC = 63
LEVEL_1_RANK, LEVEL_2_RANK, LEAKED_RANK, ATTACHED_RANK = range(4)


class IsisContest(ProtocolContest):
    """IS-IS asked one prefix at a time; the work of ``base`` is shared."""

    rounds = ISIS_ROUNDS
    cost_word = "metric"
    metrics_tried = 0, 0xFFFFFF
    solution: IsisSolution
    database: IsisDatabase
    base: "IsisContest | None"

    def __init__(self, solved: SolvedProtocol, base: "IsisContest | None" = None):
        super().__init__(solved, base)
        self._graphs: dict[IsisArea, PlainGraph] = {}
        self._index: dict[IsisArea, dict[Prefix, list[Advertised]]] = {}
        self._level_1: dict[tuple[int, Prefix], tuple[int, int] | None] = {}

    def graph(self, area: IsisArea) -> PlainGraph:
        if area not in self._graphs:
            plain = self.base.graph(area) if self.base else PlainGraph(self.database.areas[area].edges)
            self._graphs[area] = plain.with_costs(self.costs)
        return self._graphs[area]

    def interface_cost(self, port: int) -> InterfaceCost | None:
        found = self.database.ports.get(port)
        if found is None or found.port.interface.is_loopback:
            return None
        highest = 0xFFFFFE if found.isis.wide_metrics else NARROW_METRIC
        return InterfaceCost(found.settings.metric, found.settings.place, highest)

    def brings(self, process: int, prefix: Prefix) -> bool:
        areas = self.database.areas.values()
        return any(one.router == process and one.prefix == prefix for area in areas for one in area.reachable)

    def attached_for(self, process: int) -> list[int]:
        """The routers by which one of level 1 alone leaves its area: attached to others (ISO 10589 section 7.2.9.2)."""
        isis = self.database.configured[process]
        return self.solution.attached.get(area_of(isis, 1), []) if isis.levels == (1,) else []

    def only_attached(self, process: int, prefix: Prefix) -> bool:
        """Whether a router says the default by being attached, and does not put one in besides."""
        attached = prefix.is_default and any(process in routers for routers in self.solution.attached.values())
        return attached and not self.puts_in(process, prefix)

    def saying(self, prefix: Prefix) -> list[int]:
        """Attached routers too, of the default."""
        attached = self.solution.attached.values() if prefix.is_default else ()
        return [*super().saying(prefix), *(router for routers in attached for router in routers)]

    def without_origin(self, network: Solved, prefix: Prefix, processes: Sequence[int]) -> Iterator[Step]:
        for process in processes if prefix.is_default else ():
            if self.database.configured[process].levels == (1,) and not self.attached_for(process):
                yield from IsisStops(network, self, prefix, process, process).not_attached()

    def stops(self, network: Solved, prefix: Prefix, origin: int, process: int) -> list[Step]:
        return IsisStops(network, self, prefix, origin, process).steps()

    def stands_for(self, candidates: Sequence[Candidate], process: Process, prefix: Prefix) -> tuple[str, str]:
        """Both families follow one shortest way (RFC 5308): where it lacks one, no longer way is taken."""
        if any(one.ends == (process.number, process.number) for one in candidates):
            return super().stands_for(candidates, process, prefix)
        reason = f"no neighbour on the shortest way has an IPv{prefix.family} address"
        return f"isis: {reason}, and no longer way is taken", reason

    def policy_uses(self, process: Process, policy: Policy) -> Iterator[PolicyUse]:
        """Level 2 leaked into level 1."""
        leak = self.database.configured[process.number].leak
        if leak is not None and leak.policy == policy.name:
            rows = self.solution.routes_of(process.number)
            found = np.flatnonzero((rows.kind == LEVEL_2_ROUTE) & rows.present()).tolist()
            routes = routes_met("isis", rows, found, self.solution.prefixes)
            yield PolicyUse("level 2 leaked into level 1 of IS-IS", leak.place, "isis", "isis", list(routes))

    def brought(self, area: IsisArea, prefix: Prefix) -> Iterator[tuple[int, int, int, int, str]]:
        """(router, metric, port or -1, tag, words) of all that say a prefix in a area of their own."""
        for one in self._reachable(area, prefix):
            interface = self.topology.ports[one.port].name.interface
            metric = self.costs.get(one.port, one.cost)
            yield one.router, metric, one.port, 0, f"{self.name(one.router)} brings it in by {interface}"
        number = self.solution.prefixes.column_of(prefix)
        for process, found in self.redistributed.items():
            isis = self.database.configured[process]
            if area_of(isis, max(isis.levels)) != area:
                continue
            at = found.position(number)
            if at is not None:
                metric = self.solution.default_metric(process) if found.metric[at] == UNSET else int(found.metric[at])
                metric = self.metrics.get(process, metric)
                metric = metric if isis.wide_metrics else min(metric, 63)
                tag = 0 if found.tag[at] == UNSET else int(found.tag[at])
                yield process, metric, -1, tag, f"{self.name(process)} redistributes it"

    def _reachable(self, area: IsisArea, prefix: Prefix) -> list[Advertised]:
        if self.base is not None:
            return self.base._reachable(area, prefix)
        if area not in self._index:
            by_prefix = self._index[area] = defaultdict(list)
            for one in self.database.areas[area].reachable:
                by_prefix[one.prefix].append(one)
        return self._index[area].get(prefix, [])

    def level_1_cost(self, process: int, prefix: Prefix) -> int | None:
        """The cost of the best level 1 route of a router to a prefix, its own included."""
        best = self._best_at_level_1(process, prefix)
        return None if best is None else best[0]

    def _best_at_level_1(self, process: int, prefix: Prefix) -> tuple[int, int] | None:
        """The least cost at level 1 and, of equal ways, the lowest tag (0 is none)."""
        key = (process, prefix)
        if key not in self._level_1:
            isis = self.database.configured[process]
            best = None
            if 1 in isis.levels:
                area = area_of(isis, 1)
                distance = self.graph(area).distances(process)
                found = (
                    (distance[r] + cost, tag) for r, cost, _, tag, _ in self.brought(area, prefix) if r in distance
                )
                best = min(found, default=None)
            self._level_1[key] = best if best is None or best[0] <= self._limit(process) else None
        return self._level_1[key]

    def _last_leg(self, router: int, port: int, metric: int) -> Leg:
        """What a router says of a prefix: of its own interface, or of what it redistributes."""
        return Leg(port, metric, "" if port >= 0 else f"{self.name(router)} says it at that")

    def legs_in_level_1(self, process: int, prefix: Prefix, cost: int) -> tuple[Leg, ...]:
        """One way of a router's level 1 route, as its sum."""
        area = area_of(self.database.configured[process], 1)
        distance = self.graph(area).distances(process)
        for router, metric, port, *_ in self.brought(area, prefix):
            if router in distance and distance[router] + metric == cost:
                return (*self.graph(area).ways(process, router, 1)[0], self._last_leg(router, port, metric))
        return (Leg(-1, cost, f"{self.name(process)} says it at that"),)

    def _limit(self, process: int) -> int:
        return 2**29 - 1 if self.database.configured[process].wide_metrics else NARROW_PATH

    def shortening_ports(self, process: int, prefix: Prefix) -> set[int]:
        """Interfaces off the present way that a lower metric could bring in, at the levels of the process."""
        found: set[int] = set()
        isis = self.database.configured[process]
        for level in isis.levels:
            area = area_of(isis, level)
            ends = {router: metric for router, metric, *_ in self.brought(area, prefix)}
            if level == 2:
                for router, other in enumerate(self.database.configured):
                    cost = self.level_1_cost(router, prefix) if other.levels == (1, 2) else None
                    if cost is not None:
                        ends.setdefault(router, cost)
            elif prefix.is_default:
                ends.update(dict.fromkeys(self.solution.attached.get(area, []), 0))
            found |= self.graph(area).shortening_ports(process, ends)
        return found

    def candidates(self, process: int, prefix: Prefix) -> Iterator[Candidate]:
        preference = self.solution.preference(process, NO_ROUTE)
        isis = self.database.configured[process]
        if 1 in isis.levels:
            area = area_of(isis, 1)
            for router, metric, port, tag, words in self.brought(area, prefix):
                yield from self._one(
                    process, area, router, prefix, metric, port, tag, words, "level 1", LEVEL_1_RANK, preference
                )
        if 2 in isis.levels:
            yield from self._level_2(process, prefix, preference)
        if 1 in isis.levels:
            yield from self._leaked(process, prefix, preference)
        if isis.levels == (1,) and prefix.is_default:
            yield from self._attached(process, prefix, preference)

    def _level_2(self, process: int, prefix: Prefix, preference: int) -> Iterator[Candidate]:
        for router, metric, port, tag, words in self.brought(LEVEL_2, prefix):
            yield from self._one(
                process, LEVEL_2, router, prefix, metric, port, tag, words, "level 2", LEVEL_2_RANK, preference
            )
        own = {router for router, *_ in self.brought(LEVEL_2, prefix)}
        for router, isis in enumerate(self.database.configured):
            if isis.levels != (1, 2):
                continue
            best = self._best_at_level_1(router, prefix)
            if best is not None and router not in own:
                cost, tag = best
                words = f"{self.name(router)} passes it up from level 1 of area {isis.area} at {cost}"
                beyond = self.legs_in_level_1(router, prefix, cost)
                yield from self._one(
                    process, LEVEL_2, router, prefix, cost, -1, tag, words, "level 2", LEVEL_2_RANK, preference, beyond
                )

    def level_2_route(self, process: int, prefix: Prefix) -> Candidate | None:
        """The level 2 route of a router that it would use: it has none of level 1, and says nothing better itself.

        Equal ways stand together, with the lowest of their tags.
        """
        if self.level_1_cost(process, prefix) is not None:
            return None
        found = [one for one in self._level_2(process, prefix, 0) if not one.out]
        least = min((one.metric for one in found), default=0)
        best = [one for one in found if one.metric == least]
        hops = tuple(dict.fromkeys(hop for one in best for hop in one.next_hops))
        tag = min((one.tag or 0 for one in best), default=0)
        return replace(best[0], next_hops=hops, tag=tag or None) if hops else None

    def leak_decision(self, process: int, prefix: Prefix) -> tuple[Candidate, Policy | None, Decision | None] | None:
        """What a router's leak policy says of its level 2 route, which is seen with its next hops; None without one."""
        isis = self.database.configured[process]
        found = self.level_2_route(process, prefix) if isis.leak is not None else None
        if isis.leak is None or found is None:
            return None
        if isis.leak.policy is None:
            return found, None, None
        instance = self.topology.instances[self.database.processes[process].instance]
        policy = self.topology.devices[instance.device].policies[isis.leak.policy]
        hops = tuple(hop.address for hop in found.next_hops if hop.address is not None)
        return found, policy, ask(policy, Asked(prefix, "isis", found.metric, found.tag, hops))

    def leaked_by(self, process: int, prefix: Prefix) -> tuple[int, int, str] | None:
        """(metric, tag, words) of a prefix that a router leaks into level 1, or None."""
        leak = self.leak_decision(process, prefix)
        if leak is None:
            return None
        found, _, decision = leak
        metric, tag = found.metric, found.tag or 0
        if decision is not None:
            if not decision.accepted:
                return None
            metric = metric if decision.set.metric is None else decision.set.metric
            tag = tag if decision.set.tag is None else decision.set.tag
        return metric, tag, f"{self.name(process)} leaks it from level 2 at {metric}"

    def _leaked(self, process: int, prefix: Prefix, preference: int) -> Iterator[Candidate]:
        area = area_of(self.database.configured[process], 1)
        for router in self.database.areas[area].routers:
            leaked = self.leaked_by(router, prefix) if router != process else None
            if leaked is not None:
                metric, tag, words = leaked
                yield from self._one(
                    process, area, router, prefix, metric, -1, tag, words, "leaked", LEAKED_RANK, preference
                )

    def _attached(self, process: int, prefix: Prefix, preference: int) -> Iterator[Candidate]:
        area = area_of(self.database.configured[process], 1)
        for router in self.solution.attached.get(area, []):
            words = f"{self.name(router)} says that it is attached to other areas"
            yield from self._one(
                process, area, router, prefix, 0, -1, 0, words, "attached default", ATTACHED_RANK, preference
            )

    def _one(
        self,
        process: int,
        area: IsisArea,
        router: int,
        prefix: Prefix,
        metric: int,
        port: int,
        tag: int,
        words: str,
        kind: str,
        rank: int,
        preference: int,
        beyond: tuple[Leg, ...] = (),
    ) -> Iterator[Candidate]:
        graph = self.graph(area)
        distance = graph.distances(process)
        if router not in distance:
            return
        total = distance[router] + metric
        hops = {edge_hop(self.topology, e, prefix.family) for e in graph.first_edges(process, router)}
        found: tuple[NextHop, ...] = tuple(hop for hop in hops if hop is not None)
        candidate = Candidate(
            "isis",
            "default",
            kind,
            preference,
            total,
            words,
            found,
            tag=tag or None,
            origin_device=self.name(router),
            place=self._place(router, port),
            ways=tuple(
                Way((*legs, *(beyond or (self._last_leg(router, port, metric),))))
                for legs in graph.ways(process, router)
            ),
            ranks={"kind": (rank, kind), "cost": (total, str(total))},
            graph=graph,
            ends=(process, router),
            beyond=beyond or (self._last_leg(router, port, metric),),
        )
        if total > self._limit(process):
            candidate.out = f"a path of {total} is longer than narrow metrics can say ({NARROW_PATH})"
        yield candidate

    def _place(self, router: int, port: int) -> Place:
        if port >= 0:
            return self.database.ports[port].settings.place
        isis = self.database.configured[router]
        return isis.redistribute[0].place if isis.redistribute else isis.place or NOWHERE
