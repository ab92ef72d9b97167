"""RIP's part of explanations: what each neighbour says, what the receiver makes of it, and where it stops."""

from collections.abc import Iterator

from routrel.analysis.contest.candidates import Candidate
from routrel.analysis.contest.kept import Kept
from routrel.analysis.contest.protocol import InterfaceCost, ProtocolContest, SolvedProtocol
from routrel.analysis.contest.rip.one_prefix import RipOnePrefix
from routrel.analysis.contest.separation import Neighbors, instances_running
from routrel.analysis.contest.trail import Step, separated
from routrel.model.addresses import Prefix
from routrel.routing.protocol_routes import NO_ROUTE
from routrel.routing.rip.database import RipDatabase
from routrel.routing.rip.solution import INFINITY, RipSolution
from routrel.routing.solve import Solved


class RipContest(ProtocolContest):
    """RIP, asked for what is offered for a prefix."""

    rounds = (
        ("metric", "the lowest metric (RFC 2453 section 3.9.2)"),
        ("next hop", "of equal metrics the lowest next hop is kept"),
    )
    cost_word = "metric"
    metrics_tried = 1, INFINITY
    solution: RipSolution
    database: RipDatabase

    def __init__(self, solved: SolvedProtocol, base: "RipContest | None" = None):
        super().__init__(solved, base)
        self._prefixes: Kept[Prefix, RipOnePrefix] = Kept()

    def of(self, prefix: Prefix) -> RipOnePrefix:
        """RIP for one prefix, over the whole network."""
        return self._prefixes.get_or_make(prefix, lambda: RipOnePrefix(self.solved, prefix))

    def candidates(self, process: int, prefix: Prefix) -> Iterator[Candidate]:
        return self.of(prefix).candidates(process, self.solution.preference(process, NO_ROUTE))

    def interface_cost(self, port: int) -> InterfaceCost | None:
        found = self.database.ports.get(port)
        return None if found is None else InterfaceCost(found.settings.metric, found.settings.place, INFINITY)

    def brings(self, process: int, prefix: Prefix) -> bool:
        return (process, prefix) in self.database.networks

    def stops(self, network: Solved, prefix: Prefix, origin: int, process: int) -> list[Step]:
        """Who on the way does not hand the prefix on, else what keeps routers apart."""
        of, far = self.solution.processes[process], self.solution.processes[origin].instance
        text = f"no RIP neighbour of {self.name(process)} announces it"
        neighbors = rip_neighbors(self.database, prefix.family)
        return self._unsaid(prefix, process) or separated(network, neighbors, of.instance, [far], text, of.place)

    def _unsaid(self, prefix: Prefix, process: int) -> list[Step]:
        """Where RIP has the prefix and hands it on no further: out of reach, or not used by a table."""
        plain, database = self.of(prefix), self.database
        neighbors = database.neighbors[prefix.family]
        steps = []
        for neighbor in sorted(neighbors, key=lambda neighbor: neighbor.receiver != process):
            said = plain.says(neighbor)
            place = database.ports[neighbor.hop.port].settings.place
            instance = database.processes[neighbor.receiver].instance
            if neighbor.receiver in plain.heard or neighbor.receiver in plain.origins:
                continue
            sender = plain.name(neighbor.sender)
            if said < INFINITY:
                total = said + plain.adds(neighbor)
                text = f"{sender} says it at {said}: {total} is out of reach (RFC 2453 section 3.6)"
                steps.append(Step(instance, text, place, True))
            elif neighbor.sender in plain.heard and neighbor.sender in plain.silent:
                text = f"{sender} hears it by RIP and does not say it on: its table uses another route"
                steps.append(Step(database.processes[neighbor.sender].instance, text, place, True))
        return steps


def rip_neighbors(database: RipDatabase, family: int) -> Neighbors:
    """Of one address family."""
    return Neighbors(
        "RIP",
        "rip-neighbours",
        instances_running(database.processes),
        {(one.sender_port, one.hop.port) for one in database.neighbors[family]},
        {port: (settings.passive, settings.place) for port, (_, settings) in database.ports.items()},
        database.apart,
        silence_is_one_way=True,
    )
