"""EIGRP for one prefix in plain code: routers send each other their best vector until none changes."""

from collections.abc import Iterator, Mapping

from routrel.analysis.contest.candidates import Candidate
from routrel.analysis.contest.protocol import SolvedProtocol
from routrel.model.addresses import Address, Prefix
from routrel.routing.arrays import UNSET
from routrel.routing.eigrp.database import EigrpNeighbor
from routrel.routing.eigrp.solution import SCALE, EigrpSolution
from routrel.routing.redistributed import Redistributed
from routrel.topology.segments import Topology

Vector = tuple[int, int, int, int, int]
"""Slowness, delay, base, external (0 or 1), tag."""


class EigrpOnePrefix:
    """EIGRP asked one prefix at a time: routers send each other their best vector until none changes."""

    def __init__(self, solved: SolvedProtocol, prefix: Prefix):
        self.delays = solved.costs
        self.metrics = solved.metrics
        self.solution: EigrpSolution = solved.solution
        self.topology: Topology = self.solution.topology
        self.prefix = prefix
        self.own = self._own(solved.redistributed)
        self.best: dict[int, Vector] = {}
        self.via: dict[int, EigrpNeighbor] = {}
        self._settle()

    def _own(self, redistributed: Mapping[int, Redistributed]) -> dict[int, Vector]:
        number = self.solution.prefixes.column_of(self.prefix)
        own: dict[int, Vector] = {}
        for process, found in redistributed.items():
            at = found.position(number)
            if at is not None:
                base = self.solution.default_metric(process) if found.metric[at] == UNSET else int(found.metric[at])
                base = self.metrics.get(process, base)
                own[process] = (0, 0, base, 1, max(0, int(found.tag[at])))
        for (process, prefix), (adds, port) in self.solution.database.networks.items():
            if prefix == self.prefix:
                own[process] = (adds.slowness, self.delays.get(port, adds.delay), 0, 0, 0)
        return own

    @staticmethod
    def key(vector: Vector) -> tuple[int, int]:
        """Internal before external, then the composite metric."""
        return vector[3], SCALE * (vector[0] + vector[1]) + vector[2]

    def over(self, vector: Vector, neighbor: EigrpNeighbor) -> Vector:
        delay = self.delays.get(neighbor.hop.port, neighbor.adds.delay)
        return (max(vector[0], neighbor.adds.slowness), vector[1] + delay, *vector[2:])

    def _settle(self) -> None:
        neighbors = self.solution.database.neighbors[self.prefix.family]
        self.best = dict(self.own)
        for _ in range(len(self.solution.processes) + 2):
            now = dict(self.own)
            via: dict[int, EigrpNeighbor] = {}
            for neighbor in neighbors:
                if neighbor.sender in self.best:
                    vector = self.over(self.best[neighbor.sender], neighbor)
                    standing = now.get(neighbor.receiver)
                    if standing is None or self.key(vector) < self.key(standing):
                        now[neighbor.receiver] = vector
                        via[neighbor.receiver] = neighbor
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
        for neighbor in self.solution.database.neighbors[self.prefix.family]:
            if neighbor.receiver != process or neighbor.sender not in self.best:
                continue
            reported = self.best[neighbor.sender]
            vector = self.over(reported, neighbor)
            is_external, total = self.key(vector)
            preference = self._preference(process, neighbor.hop.address)
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
                f"{self.name(neighbor.sender)} reports {self.key(reported)[1]}",
                (neighbor.hop,),
                tag=vector[4] or None,
                origin_device=self.name(neighbor.sender),
                place=self.solution.database.ports[neighbor.hop.port].settings.place,
                has_own_preference=has_own,
                ports=self._ports_behind(neighbor.sender) | {neighbor.hop.port},
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
