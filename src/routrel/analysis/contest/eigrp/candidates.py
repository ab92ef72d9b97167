"""EIGRP's part of explanations: what each neighbour reports, what the router makes of it, and where it stops."""

from collections.abc import Iterator

from routrel.analysis.contest.candidates import Candidate
from routrel.analysis.contest.eigrp.one_prefix import EigrpOnePrefix
from routrel.analysis.contest.kept import Kept
from routrel.analysis.contest.protocol import InterfaceCost, ProtocolContest, SolvedProtocol
from routrel.analysis.contest.rounds import Elimination
from routrel.analysis.contest.separation import Neighbors, instances_running
from routrel.analysis.contest.trail import Step, separated
from routrel.model.addresses import Prefix
from routrel.routing.eigrp.database import EigrpDatabase
from routrel.routing.eigrp.solution import EXTERNAL, INTERNAL, EigrpSolution
from routrel.routing.solve import Solved


class EigrpContest(ProtocolContest):
    """EIGRP, asked for what is offered for a prefix."""

    rounds = (
        ("kind", "internal before external (RFC 7868 section 3)"),
        ("feasibility", "the neighbour reports less than the router's own best (RFC 7868 section 4.1)"),
        ("metric", "the lowest composite metric, or within the variance of it (RFC 7868 section 5.6.1)"),
        ("own preference", "the lowest preference that 'distance' gives"),
    )
    cost_word = "delay"
    metrics_tried = 0, 0xFFFFFFFE
    solution: EigrpSolution
    database: EigrpDatabase

    def __init__(self, solved: SolvedProtocol, base: "EigrpContest | None" = None):
        super().__init__(solved, base)
        self._prefixes: Kept[Prefix, EigrpOnePrefix] = Kept()

    def of(self, prefix: Prefix) -> EigrpOnePrefix:
        """EIGRP for one prefix, over the whole network."""
        return self._prefixes.get_or_make(prefix, lambda: EigrpOnePrefix(self.solved, prefix))

    def candidates(self, process: int, prefix: Prefix) -> Iterator[Candidate]:
        internal, external = (self.solution.preference(process, kind) for kind in (INTERNAL, EXTERNAL))
        return self.of(prefix).candidates(process, internal, external)

    def eliminate(self, elimination: Elimination, group: list[int]) -> list[int]:
        """Of feasible successors the best are kept, at most ``multipath``."""
        standing = super().eliminate(elimination, group)
        if not standing:
            return standing
        found = elimination.candidates
        ordered = sorted(standing, key=lambda index: int(found[index].attributes["by this way"]))
        return sorted(ordered[: self.solution.multipath(found[standing[0]].processes[1])])

    def interface_cost(self, port: int) -> InterfaceCost | None:
        found = self.database.ports.get(port)
        return None if found is None else InterfaceCost(found.settings.delay, found.settings.place, 0xFFFFFF)

    def brings(self, process: int, prefix: Prefix) -> bool:
        return (process, prefix) in self.database.networks

    def stops(self, network: Solved, prefix: Prefix, origin: int, process: int) -> list[Step]:
        of, far = self.solution.processes[process], self.solution.processes[origin].instance
        text = f"no EIGRP neighbour of {self.name(process)} reports it"
        neighbors = eigrp_neighbors(self.database, prefix.family)
        return separated(network, neighbors, of.instance, [far], text, of.place)


def eigrp_neighbors(database: EigrpDatabase, family: int) -> Neighbors:
    """Of one address family."""
    return Neighbors(
        "EIGRP",
        "eigrp-neighbours",
        instances_running(database.processes),
        {(one.sender_port, one.hop.port) for one in database.neighbors[family]},
        {port: (one.settings.passive, one.settings.place) for port, one in database.ports.items()},
        database.apart,
    )
