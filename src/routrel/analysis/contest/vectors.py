"""Candidates of RIP and EIGRP for one prefix: what each neighbour says, and what the receiver makes of it."""

from collections.abc import Iterator, Mapping

from routrel.analysis.contest.candidates import Candidate
from routrel.analysis.contest.paths import Leg, Way
from routrel.model.addresses import Address, Prefix
from routrel.routing.eigrp import SCALE, EigrpSolution
from routrel.routing.eigrp import Hearing as EigrpHearing
from routrel.routing.rip import INFINITY, OWN_METRIC, Hearing, RipSolution
from routrel.routing.rows import UNSET, Injected
from routrel.topology.segments import Topology

RIP_ROUNDS = (
    ("metric", "the lowest metric (RFC 2453 section 3.9.2)"),
    ("next hop", "of equal metrics the lowest next hop is kept"),
)
EIGRP_ROUNDS = (
    ("kind", "internal before external (RFC 7868 section 3)"),
    ("feasibility", "the neighbour reports less than the router's own best (RFC 7868 section 4.1)"),
    ("metric", "the lowest composite metric, or within the variance of it (RFC 7868 section 5.6.1)"),
    ("own preference", "the lowest preference that 'distance' gives"),
)


class RipPlain:
    """RIP asked one prefix at a time: announcements go from router to router until none changes."""

    def __init__(
        self,
        solution: RipSolution,
        injected: Mapping[int, Injected],
        silent: Mapping[int, bool],
        prefix: Prefix,
        costs: Mapping[int, int] | None = None,
        metrics: Mapping[int, int] | None = None,
    ):
        self.solution = solution
        self.topology: Topology = solution.topology
        self.prefix = prefix
        self.costs = costs or {}
        self.metrics = metrics or {}
        self.origins = self._origins(injected)
        self.silent = silent
        self.heard: dict[int, tuple[int, Hearing]] = {}
        self._settle()

    def _origins(self, injected: Mapping[int, Injected]) -> dict[int, tuple[int, int, str]]:
        """(metric, tag, words) of routers that say the prefix on their own account."""
        number = self.solution.prefixes.column_of(self.prefix)
        origins: dict[int, tuple[int, int, str]] = {}
        for process, found in injected.items():
            at = found.numbers.searchsorted(number)
            if at < len(found.numbers) and found.numbers[at] == number:
                routing = self.topology.instances[self.solution.processes[process].instance].routing
                assert routing is not None and routing.rip is not None
                metric = routing.rip.default_metric if found.metric[at] == UNSET else int(found.metric[at])
                metric = self.metrics.get(process, metric)
                origins[process] = (min(metric, INFINITY), max(0, int(found.tag[at])), "redistributes it")
        for (process, prefix), port in self.solution.database.networks.items():
            if prefix == self.prefix:
                interface = self.topology.ports[port].name.interface
                origins[process] = (OWN_METRIC, 0, f"has it on {interface}")
        return origins

    def says(self, hearing: Hearing) -> int:
        """The metric at which a sender announces the prefix where it is heard, 16 if it does not."""
        process = hearing.sender
        if process in self.origins:
            return self.origins[process][0]
        if self.silent.get(process, False) or process not in self.heard:
            return INFINITY
        metric, by = self.heard[process]
        # RFC 2453 section 3.4.3, split horizon: not out of the interface it was heard by.
        return INFINITY if by.hop.port == hearing.sender_port else metric

    def adds(self, hearing: Hearing) -> int:
        return self.costs.get(hearing.hop.port, hearing.metric)

    def _settle(self) -> None:
        hearings = self.solution.database.hearings[self.prefix.family]
        for _ in range(INFINITY + 2):
            now: dict[int, tuple[int, Hearing]] = {}
            for hearing in hearings:
                metric = min(self.says(hearing) + self.adds(hearing), INFINITY)
                standing = now.get(hearing.receiver)
                if metric < INFINITY and (standing is None or metric < standing[0]):
                    now[hearing.receiver] = (metric, hearing)
            if now == self.heard:
                return
            self.heard = now

    def candidates(self, process: int, preference: int) -> Iterator[Candidate]:
        if (process, self.prefix) in self.solution.database.networks:
            return
        for order, hearing in enumerate(self.solution.database.hearings[self.prefix.family]):
            if hearing.receiver != process:
                continue
            said = self.says(hearing)
            name = self.name(hearing.sender)
            if said >= INFINITY:
                continue
            total = said + self.adds(hearing)
            candidate = Candidate(
                "rip",
                "default",
                "",
                preference,
                min(total, INFINITY),
                f"{name} says it at {said}",
                (hearing.hop,),
                tag=self._tag(hearing.sender) or None,
                origin_device=name,
                place=self.solution.database.speakers[hearing.hop.port][1].place,
                ways=(Way((Leg(hearing.hop.port, self.adds(hearing)), *self._way(hearing.sender))),),
                ranks={
                    "metric": (total, str(total)),
                    "next hop": (order, str(hearing.hop.address or "link-local, unknown")),
                },
            )
            if total >= INFINITY:
                candidate.out = f"{total} is {INFINITY} or more: unreachable (RFC 2453 section 3.6)"
            yield candidate

    def name(self, process: int) -> str:
        return self.topology.instance_name(self.solution.processes[process].instance)

    def _tag(self, process: int) -> int:
        seen = set()
        while process not in self.origins and process in self.heard and process not in seen:
            seen.add(process)
            process = self.heard[process][1].sender
        return self.origins[process][1] if process in self.origins else 0

    def _way(self, process: int) -> tuple[Leg, ...]:
        """The sum behind what a router says: the interfaces that heard, then the origin's metric."""
        legs: list[Leg] = []
        seen = set()
        while process not in self.origins and process in self.heard and process not in seen:
            seen.add(process)
            hearing = self.heard[process][1]
            legs.append(Leg(hearing.hop.port, self.adds(hearing)))
            process = hearing.sender
        if process in self.origins:
            legs.append(Leg(-1, self.origins[process][0], f"{self.name(process)} says it at that"))
        return tuple(legs)


Vector = tuple[int, int, int, int, int]
"""Slowness, delay, base, external (0 or 1), tag."""


class EigrpPlain:
    """EIGRP asked one prefix at a time: routers send each other their best vector until none changes.

    ``delays`` overrides interface delays, by port.
    """

    def __init__(
        self,
        solution: EigrpSolution,
        injected: Mapping[int, Injected],
        prefix: Prefix,
        delays: Mapping[int, int] | None = None,
        metrics: Mapping[int, int] | None = None,
    ):
        self.delays = delays or {}
        self.metrics = metrics or {}
        self.solution = solution
        self.topology: Topology = solution.topology
        self.prefix = prefix
        self.own = self._own(injected)
        self.best: dict[int, Vector] = {}
        self.via: dict[int, EigrpHearing] = {}
        self._settle()

    def _own(self, injected: Mapping[int, Injected]) -> dict[int, Vector]:
        number = self.solution.prefixes.column_of(self.prefix)
        own: dict[int, Vector] = {}
        for process, found in injected.items():
            at = found.numbers.searchsorted(number)
            if at < len(found.numbers) and found.numbers[at] == number:
                base = 0 if found.metric[at] == UNSET else int(found.metric[at])
                base = self.metrics.get(process, base)
                own[process] = (0, 0, base, 1, max(0, int(found.tag[at])))
        for (process, prefix), (leg, port) in self.solution.database.networks.items():
            if prefix == self.prefix:
                own[process] = (leg.slowness, self.delays.get(port, leg.delay), 0, 0, 0)
        return own

    @staticmethod
    def key(vector: Vector) -> tuple[int, int]:
        """Internal before external, then the composite metric."""
        return vector[3], SCALE * (vector[0] + vector[1]) + vector[2]

    def over(self, vector: Vector, hearing: EigrpHearing) -> Vector:
        delay = self.delays.get(hearing.hop.port, hearing.leg.delay)
        return (max(vector[0], hearing.leg.slowness), vector[1] + delay, *vector[2:])

    def _settle(self) -> None:
        hearings = self.solution.database.hearings[self.prefix.family]
        self.best = dict(self.own)
        for _ in range(len(self.solution.processes) + 2):
            now = dict(self.own)
            via: dict[int, EigrpHearing] = {}
            for hearing in hearings:
                if hearing.sender in self.best:
                    vector = self.over(self.best[hearing.sender], hearing)
                    standing = now.get(hearing.receiver)
                    if standing is None or self.key(vector) < self.key(standing):
                        now[hearing.receiver] = vector
                        via[hearing.receiver] = hearing
            self.via = via
            if now == self.best:
                return
            self.best = now

    def name(self, process: int) -> str:
        return self.topology.instance_name(self.solution.processes[process].instance)

    def _ports_behind(self, process: int) -> frozenset[int]:
        """The interfaces whose delays are in what a router reports."""
        ports: set[int] = set()
        seen: set[int] = set()
        while process in self.via and process not in seen:
            seen.add(process)
            ports.add(self.via[process].hop.port)
            process = self.via[process].sender
        network = self.solution.database.networks.get((process, self.prefix))
        return frozenset(ports | ({network[1]} if network else set()))

    def candidates(self, process: int, internal: int, external: int) -> Iterator[Candidate]:
        if (process, self.prefix) in self.solution.database.networks:
            return
        eigrp = self.solution.database.configured[process]
        mine = self.best.get(process)
        if mine is None:
            return
        limit = self.key(mine)[1]
        if process in self.own:
            yield self._own_candidate(process, external, limit)
        for hearing in self.solution.database.hearings[self.prefix.family]:
            if hearing.receiver != process or hearing.sender not in self.best:
                continue
            reported = self.best[hearing.sender]
            vector = self.over(reported, hearing)
            is_external, total = self.key(vector)
            preference = self._preference(process, hearing.hop.address)
            default = external if is_external else internal
            is_feasible = self.key(reported) < self.key(mine)
            within = total <= limit * eigrp.variance
            if process in self.own and self.key(self.own[process]) < self.key(vector):
                is_feasible = False
            has_own = preference is not None
            slow = 10_000_000 // vector[0] if vector[0] else 0
            yield Candidate(
                "eigrp",
                str(eigrp.number),
                "external" if is_external else "internal",
                default if preference is None else preference,
                limit if is_external == mine[3] and within else total,
                f"{self.name(hearing.sender)} reports {self.key(reported)[1]}",
                (hearing.hop,),
                tag=vector[4] or None,
                origin_device=self.name(hearing.sender),
                place=self.solution.database.speakers[hearing.hop.port].settings.place,
                has_own_preference=has_own,
                ports=self._ports_behind(hearing.sender) | {hearing.hop.port},
                attributes={
                    "reported": str(self.key(reported)[1]),
                    "by this way": str(total),
                    "slowest link": f"{slow} kbit/s" if slow else "faster than 10 Gbit/s",
                    "delay": f"{vector[1]} tens of µs",
                },
                ranks={
                    "kind": (is_external, "external" if is_external else "internal"),
                    "feasibility": (
                        0 if is_feasible else 1,
                        f"reports {self.key(reported)[1]}, the best here is {limit}",
                    ),
                    "metric": (0 if within else total, str(total)),
                    "own preference": (default if preference is None else preference, str(preference or default)),
                },
            )

    def _own_candidate(self, process: int, preference: int, best: int) -> Candidate:
        """What a router puts in itself: its topology table holds that beside what neighbours report."""
        vector, of = self.own[process], self.solution.processes[process]
        total = self.key(vector)[1]
        is_best = vector == self.best[process]
        return Candidate(
            "eigrp",
            of.name,
            "external",
            preference,
            total,
            f"{self.name(process)} puts it into EIGRP itself",
            tag=vector[4] or None,
            origin_device=self.name(process),
            place=of.redistribute[0].place if of.redistribute else of.place,
            attributes={"by this way": str(total)},
            ranks={
                "kind": (1, "external"),
                "feasibility": (0, "its own"),
                "metric": (0 if is_best else total, str(total)),
                "own preference": (preference, str(preference)),
            },
        )

    def _preference(self, process: int, neighbor: Address | None) -> int | None:
        for distance in self.solution.database.configured[process].distances:
            if distance.neighbor == neighbor and (
                not distance.prefixes or any(prefix.covers(self.prefix) for prefix in distance.prefixes)
            ):
                return distance.preference
        return None
