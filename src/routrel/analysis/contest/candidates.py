"""Candidates and rounds as data: what a contest is made of."""

from dataclasses import dataclass, field

from routrel.analysis.contest.paths import Leg, PlainGraph, Way
from routrel.analysis.contest.policies import PathSeen
from routrel.model.addresses import Address, Prefix
from routrel.model.places import NOWHERE, Place
from routrel.model.routing import RouteAction
from routrel.routing.routes import NextHop


@dataclass(slots=True)
class Candidate:
    """One way to reach the prefix, as one announcement or statement offers it.

    ``origin`` says in words who offers it; ``origin_device`` and ``place`` point there. ``attributes`` are
    names and values in the order they are shown. ``ways`` spell out the sum where the protocol adds up.
    ``out`` says why it never took part, or is ''. ``beaten`` is the round that it lost, an index, or -1.
    """

    protocol: str
    process: str
    kind: str
    preference: int
    metric: int
    origin: str
    next_hops: tuple[NextHop, ...] = ()
    action: RouteAction = "forward"
    tag: int | None = None
    origin_device: str = ""
    place: Place = NOWHERE
    attributes: dict[str, str] = field(default_factory=dict)
    ways: tuple[Way, ...] = ()
    ports: frozenset[int] = frozenset()
    """Interfaces whose cost counts, where no sum is spelled out."""
    ranks: dict[str, tuple[int, str]] = field(default_factory=dict)
    """Per round within the protocol: a number, lower is better, and how it is written."""
    graph: PlainGraph | None = None
    """Of a link-state protocol: the graph that its way goes through, from one vertex to another."""
    ends: tuple[int, int] = (-1, -1)
    beyond: tuple[Leg, ...] = ()
    """What comes after the last vertex."""
    out: str = ""
    beaten: int = -1
    margin: str = ""
    unsaid: tuple[str, ...] = ()
    """Of a route read off a device: which of preference and metric it lacks; 0 stands for them."""
    has_own_preference: bool = False
    is_detour: bool = False
    """The same offer by another first hop."""
    med_group: int | None = None
    """Of BGP: the neighbouring AS, among whose paths MEDs are compared; None where among all."""
    path: PathSeen | None = None
    """Of BGP: what policies see of it."""
    turn: tuple[int, int] = (0, 0)
    """Of BGP: its place where paths are compared one after the other."""
    processes: tuple[int, int] = (-1, -1)
    """(solution, process) numbers; (-1, -1) for connected and static routes."""

    @property
    def counted_ports(self) -> set[int]:
        """The interfaces whose cost, metric or delay is in this candidate's way."""
        return {leg.port for way in self.ways for leg in way.legs if leg.port >= 0} | self.ports

    @property
    def is_process(self) -> bool:
        return self.processes[0] >= 0


@dataclass(frozen=True, slots=True)
class Unsent:
    """A BGP path that a neighbour holds and never sent here, and why."""

    neighbor: Address
    device: str
    as_path: tuple[int, ...]
    reason: str
    place: Place


@dataclass(frozen=True, slots=True)
class PathTip:
    """A path's attribute, its value now, and the nearest at which ``contest`` comes out otherwise."""

    what: str
    candidate: Candidate
    now: int
    value: int
    above: bool
    contest: "Contest"


@dataclass(frozen=True, slots=True)
class Round:
    """One comparison: ``scope`` names the protocol it stays within, or is '' for the table's own.

    ``values`` are (candidate, value in words) of all that stood in it; ``lost`` are those it put out.
    ``chosen`` is False where the comparison only breaks a tie that nobody chose.
    """

    name: str
    scope: str
    rule: str
    values: tuple[tuple[int, str], ...]
    lost: tuple[int, ...]
    chosen: bool = True
    place: Place = NOWHERE
    """Of a policy that decided: the statement."""


@dataclass(frozen=True, slots=True)
class Contest:
    """Candidates of one prefix in one instance, the rounds, and who won: several where ways are merged."""

    instance: int
    prefix: Prefix
    candidates: tuple[Candidate, ...]
    rounds: tuple[Round, ...]
    winners: tuple[int, ...]
    next_hops: tuple[NextHop, ...]
    notes: tuple[str, ...] = ()
