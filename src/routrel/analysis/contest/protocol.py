"""The contract of a protocol's part of explanations: plain code for one prefix at a time, apart from the solver.

What a part may read of the solver is a ``SolvedProtocol``. ``registry.py`` finds the parts by the protocols' names.
"""

from abc import ABC, abstractmethod
from collections.abc import Callable, Iterable, Mapping, Sequence
from dataclasses import dataclass, field
from typing import TYPE_CHECKING, Any, ClassVar, NamedTuple

from routrel.analysis.contest.candidates import Candidate, Contest, PathTip, Unsent
from routrel.analysis.contest.policies import PathSeen, PolicyUse
from routrel.analysis.contest.trail import Step
from routrel.model.addresses import Address, Prefix
from routrel.model.places import Place
from routrel.model.policies import Policy
from routrel.routing.protocol import Process
from routrel.routing.redistributed import Redistributed
from routrel.routing.solve import Solved

if TYPE_CHECKING:
    from routrel.analysis.contest.rounds import Elimination

Rounds = Sequence[tuple[str, str]]
"""Comparisons in order: the name of each and its rule."""


@dataclass(frozen=True, slots=True)
class SolvedProtocol:
    """All that an explanation reads of one solved protocol.

    To try values, ``costs`` overrides interface costs (metrics, delays), by port, and ``metrics`` those of what is
    redistributed, by process. Redistribution stays as it was settled.
    """

    number: int
    """The solution's place among all."""
    solution: Any
    redistributed: Mapping[int, Redistributed]
    costs: Mapping[int, int] = field(default_factory=dict)
    metrics: Mapping[int, int] = field(default_factory=dict)


class InterfaceCost(NamedTuple):
    """What an interface costs now, where that stands, and the highest it may."""

    now: int
    place: Place
    highest: int


class ProtocolContest(ABC):
    """One solved protocol, asked for what it offers for a prefix. ``base`` is the same without trial values."""

    rounds: ClassVar[Rounds] = ()
    """Within the protocol; candidates have a rank for each that they stand in."""
    cost_word: ClassVar[str] = "cost"
    metrics_tried: ClassVar[tuple[int, int] | None] = None
    """The lowest and highest metric at which a prefix may be redistributed, where such a metric counts."""
    own_rules: ClassVar[str] = ""
    """What besides 'redistribute' could announce a prefix, in words."""

    def __init__(self, solved: SolvedProtocol, base: Any = None):
        self.solved = solved
        self.base = base
        self.solution = solved.solution
        self.database = self.solution.database
        self.topology = self.solution.topology
        self.redistributed = solved.redistributed
        self.costs = solved.costs
        self.metrics = solved.metrics

    def name(self, process: int) -> str:
        """The routing instance of a process, in words."""
        return str(self.topology.instance_name(self.solution.processes[process].instance))

    @abstractmethod
    def candidates(self, process: int, prefix: Prefix) -> Iterable[Candidate]:
        """All that is offered to a process for a prefix, whether or not it wins."""

    @abstractmethod
    def brings(self, process: int, prefix: Prefix) -> bool:
        """Whether a prefix is one of a process's own networks."""

    def saying(self, prefix: Prefix) -> list[int]:
        """The processes that put a prefix into the protocol."""
        return [process for process in self.redistributed if self.puts_in(process, prefix)]

    def puts_in(self, process: int, prefix: Prefix) -> bool:
        """Whether a process redistributes a prefix, or originates it as the default."""
        put_in = self.redistributed.get(process)
        return put_in is not None and put_in.position(self.solution.prefixes.column_of(prefix)) is not None

    @abstractmethod
    def stops(self, network: Solved, prefix: Prefix, origin: int, process: int) -> list[Step]:
        """Why a prefix that one process announces does not come to another."""

    def eliminate(self, elimination: "Elimination", group: list[int]) -> list[int]:
        """The rounds within the protocol: the candidates that are left."""
        return elimination.by_rounds(group, self.rounds)

    def stands_for(self, candidates: Sequence[Candidate], process: Process, prefix: Prefix) -> tuple[str, str]:
        """A note, and why candidates are out, where what is left has no next hop: another's route stands for it."""
        is_put_in = any(one.origin.endswith("itself") for one in candidates)
        source = "another protocol's" if is_put_in else "the connected"
        what = "puts it in itself" if is_put_in else "has it as its own network"
        note = f"{process.protocol} {what}: {source} route stands for it"
        return note, f"it {what}, and {source} route stands for that"

    def without_origin(self, network: Solved, prefix: Prefix, processes: Sequence[int]) -> Iterable[Step]:
        """What would say a prefix that nothing says; ``processes`` are those of the instance that lacks it."""
        return ()

    def interface_cost(self, port: int) -> InterfaceCost | None:
        """Of an interface whose cost may be tried."""
        return None

    def shortening_ports(self, process: int, prefix: Prefix) -> set[int]:
        """Interfaces off the present way that a lower cost could bring in."""
        return set()

    def path_tips(self, contest: Contest, again: Callable[[list[Candidate]], Contest]) -> Iterable[PathTip]:
        """Of each path that lost to another, the least changes of its attributes with which it would be the best."""
        return ()

    def unsent(self, process: int, prefix: Prefix) -> Iterable[Unsent]:
        """Paths that neighbours hold and never sent to a process."""
        return ()

    def unheard(self, process: int, prefix: Prefix, neighbor: Address) -> str:
        """Why a process hears nothing about a prefix from a neighbour, where it does not."""
        return ""

    def notes(self, prefix: Prefix) -> list[str]:
        """What to say of every contest for a prefix."""
        return []

    def path_seen(self, process: int, column: int) -> PathSeen | None:
        """The BGP path of a process's best route as policies see it, where it has one."""
        return None

    def policy_uses(self, process: Process, policy: Policy) -> Iterable[PolicyUse]:
        """Where the protocol itself asks a policy, with the routes that meet it there."""
        return ()
