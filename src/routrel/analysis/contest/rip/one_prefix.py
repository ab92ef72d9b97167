"""RIP for one prefix in plain code: announcements go from router to router until none changes."""

from collections.abc import Iterator, Mapping

from routrel.analysis.contest.candidates import Candidate
from routrel.analysis.contest.paths import Leg, Way
from routrel.analysis.contest.protocol import SolvedProtocol
from routrel.model.addresses import Prefix
from routrel.routing.arrays import UNSET
from routrel.routing.redistributed import Redistributed
from routrel.routing.rip.database import RipNeighbor
from routrel.routing.rip.solution import INFINITY, OWN_METRIC, RipSolution
from routrel.topology.segments import Topology


class RipOnePrefix:
    """RIP asked one prefix at a time: announcements go from router to router until none changes."""

    def __init__(
        self,
        solved: SolvedProtocol,
        prefix: Prefix,
    ):
        self.solution: RipSolution = solved.solution
        self.topology: Topology = self.solution.topology
        self.prefix = prefix
        self.costs = solved.costs
        self.metrics = solved.metrics
        self.origins = self._origins(solved.redistributed)
        column = self.solution.prefixes.column_of(prefix)
        self.silent = {process for process, unused in self.solution.silent.items() if unused[column]}
        self.heard: dict[int, tuple[int, RipNeighbor]] = {}
        self._settle()

    def _origins(self, redistributed: Mapping[int, Redistributed]) -> dict[int, tuple[int, int, str]]:
        """(metric, tag, words) of routers that say the prefix on their own account."""
        number = self.solution.prefixes.column_of(self.prefix)
        origins: dict[int, tuple[int, int, str]] = {}
        for process, found in redistributed.items():
            at = found.position(number)
            if at is not None:
                metric = self.solution.default_metric(process) if found.metric[at] == UNSET else int(found.metric[at])
                metric = self.metrics.get(process, metric)
                origins[process] = (min(metric, INFINITY), max(0, int(found.tag[at])), "redistributes it")
        for (process, prefix), port in self.solution.database.networks.items():
            if prefix == self.prefix:
                interface = self.topology.ports[port].name.interface
                origins[process] = (OWN_METRIC, 0, f"has it on {interface}")
        return origins

    def says(self, neighbor: RipNeighbor) -> int:
        """The metric at which a sender announces the prefix where it is heard, 16 if it does not."""
        process = neighbor.sender
        if process in self.origins:
            return self.origins[process][0]
        if process in self.silent or process not in self.heard:
            return INFINITY
        metric, by = self.heard[process]
        # RFC 2453 section 3.4.3, split horizon: not out of the interface it was heard by.
        return INFINITY if by.hop.port == neighbor.sender_port else metric

    def adds(self, neighbor: RipNeighbor) -> int:
        return self.costs.get(neighbor.hop.port, neighbor.metric)

    def _settle(self) -> None:
        neighbors = self.solution.database.neighbors[self.prefix.family]
        for _ in range(INFINITY + 2):
            now: dict[int, tuple[int, RipNeighbor]] = {}
            for neighbor in neighbors:
                metric = min(self.says(neighbor) + self.adds(neighbor), INFINITY)
                standing = now.get(neighbor.receiver)
                if metric < INFINITY and (standing is None or metric < standing[0]):
                    now[neighbor.receiver] = (metric, neighbor)
            if now == self.heard:
                return
            self.heard = now

    def candidates(self, process: int, preference: int) -> Iterator[Candidate]:
        if (process, self.prefix) in self.solution.database.networks:
            return
        for order, neighbor in enumerate(self.solution.database.neighbors[self.prefix.family]):
            if neighbor.receiver != process:
                continue
            said = self.says(neighbor)
            name = self.name(neighbor.sender)
            if said >= INFINITY:
                continue
            total = said + self.adds(neighbor)
            candidate = Candidate(
                "rip",
                "default",
                "",
                preference,
                min(total, INFINITY),
                f"{name} says it at {said}",
                (neighbor.hop,),
                tag=self._tag(neighbor.sender) or None,
                origin_device=name,
                place=self.solution.database.ports[neighbor.hop.port].settings.place,
                ways=(Way((Leg(neighbor.hop.port, self.adds(neighbor)), *self._way(neighbor.sender))),),
                ranks={
                    "metric": (total, str(total)),
                    "next hop": (order, str(neighbor.hop.address or "link-local, unknown")),
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
            neighbor = self.heard[process][1]
            legs.append(Leg(neighbor.hop.port, self.adds(neighbor)))
            process = neighbor.sender
        if process in self.origins:
            legs.append(Leg(-1, self.origins[process][0], f"{self.name(process)} says it at that"))
        return tuple(legs)
