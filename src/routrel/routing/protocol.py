"""The contract of a routing protocol: what the tables, redistribution and the numbering of prefixes ask of it.

A protocol has a *database*, derived from the topology: its processes, who hears whom, what is advertised. Over
classes of prefixes a database is solved; the *solution* says any process's routes and takes in what processes
redistribute. What a solution can do beyond that are named properties and methods with a default here: no caller
asks which protocol it has. ``registry.py`` lists the protocols.

What hangs on tables is said by *participants* of the fixed point of redistribution: each looks at tables between
rounds and says a value with a key; where a key is new, the solution takes the values and is solved again.
"""

from abc import ABC, abstractmethod
from collections.abc import Callable, Hashable, Iterable, Mapping, Sequence
from typing import TYPE_CHECKING, Any, ClassVar, Generic, NamedTuple, TypeVar

import numpy as np
from msgspec import Struct

from routrel.model.addresses import Address, Prefix
from routrel.model.filters import Header
from routrel.model.findings import Doubt, Finding
from routrel.model.places import NOWHERE, Place
from routrel.model.redistribution import OriginateDefault, Redistribution
from routrel.routing.arrays import Column, Digests, Flags
from routrel.routing.neighbors import Obstacle
from routrel.routing.prefixes.classes import PrefixClasses
from routrel.routing.prefixes.distinctions import PrefixDistinctions
from routrel.routing.prefixes.index import PrefixIndex
from routrel.routing.protocol_routes import PathAttributes, ProtocolRoutes, SomeRoutes
from routrel.routing.redistributed import Redistributed
from routrel.routing.routes import NextHop, Route
from routrel.routing.spf.graph import Edge
from routrel.topology.segments import Topology

if TYPE_CHECKING:
    from routrel.routing.rib.table import Table

Tables = Callable[[int], "Table"]
"""The table of the moment of any routing instance, by its number."""

Value = TypeVar("Value")


class Connections(ABC):
    """TCP connections of routers themselves, by the tables of the moment; forwarding walks their packets."""

    @abstractmethod
    def __init__(self, topology: Topology, prefixes: PrefixIndex, tables: Tables): ...

    @abstractmethod
    def connect(self, caller: int, called: int, call: Header) -> tuple[Obstacle | None, int]:
        """Why a call from one routing instance to another fails, and how many hops the longer way takes."""

    @abstractmethod
    def connect_outside(self, caller: int, call: Header) -> tuple[Obstacle | None, int]:
        """The same of a connection with an address that no device of the network has, whoever calls."""


class OwnPackets(NamedTuple):
    """Packets that a protocol sends: their IP protocol, and the ports that either end may use."""

    protocol: int
    ports: tuple[int, ...] = ()


class Process(Struct, frozen=True):
    """One protocol instance in one routing instance; ``number`` counts within its solution."""

    number: int
    instance: int
    protocol: str
    name: str
    families: tuple[int, ...]
    redistribute: tuple[Redistribution, ...]
    place: Place
    originate_default: OriginateDefault | None = None

    @property
    def takes_routes(self) -> bool:
        """Whether it can put routes of others into its protocol."""
        return bool(self.redistribute) or self.originate_default is not None


class Participant(ABC, Generic[Value]):
    """Somebody who looks at tables between the rounds of redistribution and tells a solution what it saw.

    ``instance`` is the routing instance whose table is looked at; None looks at any, before the others do.
    ``is_columnwise``: what is said of a column hangs on the routes of that column alone.
    """

    instance: int | None
    is_columnwise = True

    @abstractmethod
    def look(self, tables: Tables) -> tuple[Value, bytes]:
        """What is seen now, and a key that is equal while it means the same. Nothing changes by looking."""

    @abstractmethod
    def take(self, value: Value) -> None:
        """Let the solution have what was seen, for when it is solved next."""

    def taken_over(self, value: Value, key: bytes, tables: Tables) -> tuple[Value, bytes]:
        """What was seen in the network this one is solved from, of a table that is the same here; as ``look`` says."""
        return value, key

    def alike(self) -> Hashable:
        """Equal for participants of one class that may look together; None looks alone."""
        return None

    @classmethod
    def look_together(cls, participants: Sequence[Any], tables: Tables) -> list[tuple[Any, bytes]]:
        """The looks of several that are alike."""
        return [participant.look(tables) for participant in participants]

    def digests(self, value: Value, count: int) -> Digests:
        """What is said of each column as a number, 0 where nothing is: uint64 (c,). Asked of columnwise ones."""
        raise NotImplementedError


class PathExports(ABC):
    """What a protocol whose routes have path attributes makes of the routes it redistributes."""

    @abstractmethod
    def said(self, count: int, rule: Redistribution | None) -> PathAttributes:
        """The attributes of what a process says itself: its networks, or what a rule brings in."""

    @abstractmethod
    def numbers(self, said: Any, gateways: Column, hops: Sequence[NextHop]) -> Column:
        """Path numbers of what is said; ``gateways`` point into ``hops``, the table's next hops, or are UNSET."""


class Lineage:
    """Stands for the content of a solution, and of those that came out the same: compared by identity."""


class Session(NamedTuple):
    """A configured session of a routing instance with a neighbour: whether it is up, and why it is not."""

    instance: int
    neighbor: Address
    is_up: bool
    reason: str = ""
    own: Address | None = None
    """The address that a session which is up is spoken from."""


class FloodingScope(NamedTuple):
    """Routers that compute shortest paths over one graph: an area, or a level of one; ``highest`` is the most that an
    interface may cost in it. Edges join processes."""

    name: str
    highest: int
    edges: Sequence[Edge]


class ProtocolDatabase(ABC):
    """What a protocol's routers are told and hear, derived from the topology."""

    mtu_rule: ClassVar[str] = ""
    """What follows where two neighbours have different MTUs, in words, where the protocol looks at them."""
    ports: Mapping[int, Any]
    """The interfaces that take part, by port, where the protocol runs on interfaces."""

    def __init__(self, topology: Topology):
        self.topology = topology
        self.processes: list[Process] = []
        self.ports = {}
        self.findings: list[Finding] = []
        """Neighbours that should be but are not."""

    own_packets: ClassVar[tuple[OwnPackets, ...]] = ()
    """What filters may keep from neighbours: on its interfaces, of ``has_sessions`` anywhere on the way."""
    connections: type[Connections]
    """By which it finds out whether its sessions' packets get through."""
    has_sessions: ClassVar[bool] = False
    """Whether packets of its own are walked while it is solved, past all that filters on the way."""

    def content(self) -> Sequence[object]:
        """All that solving and explaining read of the database, to be compared with that of another topology."""
        ports = [
            (number, one, self.topology.ports[number].addresses, self.topology.ports[number].interface.mac)
            for number, one in self.ports.items()
        ]
        return [self.processes, self.findings, ports]

    def is_same(self, other: "ProtocolDatabase") -> bool:
        """Whether all that is solved from one holds for the other, places of the text included."""
        return type(self) is type(other) and self.content() == other.content()

    def prefixes(self) -> Iterable[Prefix]:
        """Prefixes that only this protocol's configuration brings into tables."""
        return ()

    def brings_prefixes_of(self, other: "ProtocolDatabase") -> bool:
        """Whether ``prefixes`` are those of another."""
        return list(self.prefixes()) == list(other.prefixes())

    def may_bring(self, prefix: Prefix) -> bool:
        """Whether routers may announce a prefix of themselves, whichever interfaces and sessions go down."""
        return True

    def scopes(self) -> Iterable[FloodingScope]:
        """Where the protocol computes shortest paths by costs of interfaces."""
        return ()

    def highest_cost(self, port: int) -> int:
        """The highest cost of an interface by which traffic still passes; 0 where it has none that others see."""
        return 0

    @abstractmethod
    def add_distinctions(self, distinctions: PrefixDistinctions) -> None:
        """All that the protocol tells apart about prefixes: prefixes of one class get the same routes everywhere."""


Database = TypeVar("Database", bound=ProtocolDatabase)


class ProtocolSolution(ABC, Generic[Database]):
    """A protocol solved over the whole network. Arrays are over the c columns of ``prefixes``."""

    protocol: ClassVar[str]
    kind_names: ClassVar[dict[int, str]]
    preference_names: ClassVar[dict[int, str]] = {}
    """Kinds whose preference has a name of its own in the network file; the others' is the protocol's."""
    announces_only_installed: ClassVar[bool] = False
    """Whether prefixes are announced only while the table uses the protocol's route; see ``silent``."""
    is_restrictable: ClassVar[bool] = False
    """Whether ``over`` makes the same over some of the columns."""
    carries_paths: ClassVar[bool] = False
    """Whether its routes have path attributes, told by ``ProtocolRoutes.attributes``."""

    def __init__(self, database: Database, prefixes: PrefixClasses, base: "ProtocolSolution[Database] | None" = None):
        """Solved with nothing redistributed; what of ``base`` holds here too is taken over."""
        self.database = database
        self.topology: Topology = database.topology
        self.processes: Sequence[Process] = database.processes
        self.prefixes = prefixes
        self.silent: dict[int, Flags] = {}
        """Per process, the columns that it does not announce since the table uses another route: bool (c,)."""
        self.taken_over = 0
        """Graphs and the like that came from ``base``."""
        self.lineage = Lineage()

    @abstractmethod
    def routes_of(self, process: int) -> ProtocolRoutes:
        """All routes of a process, over all columns."""

    def token(self, process: int) -> Hashable:
        """Equal for a process here and in the network this one was solved from while its routes are the same, whatever
        ``announce`` was told; None while that tells."""
        return None

    def inherit(self, base: "ProtocolSolution[Database]") -> None:
        """Take over what ``base`` came to, of a network that differs in sessions of protocols and in policies alone."""
        asks_policies = any(True for _ in self.instances_asking_policies())
        if not asks_policies and self.prefixes is base.prefixes and self.database.is_same(base.database):
            self.lineage = base.lineage

    def forget_base(self) -> None:
        """Let go of what is needed of ``base`` while this is solved."""

    @abstractmethod
    def announce(self, redistributed: Mapping[int, Redistributed]) -> None:
        """Solve with what processes put in now, in place of what they did, and with what participants saw."""

    def default_metric(self, process: int) -> int:
        """Of what a process redistributes where no rule and no policy says a metric."""
        return 0

    def multipath(self, process: int) -> int:
        """The most next hops of one route."""
        return 1

    def preference(self, process: int, kind: int) -> int:
        routing = self.topology.instances[self.processes[process].instance].routing
        assert routing is not None
        return routing.preference(self.preference_names.get(kind, self.protocol))

    def may_bring(self, prefix: Prefix) -> bool:
        """Whether a process may ever have a route for a prefix, whichever interfaces and sessions go down."""
        return any(process.takes_routes for process in self.processes) or self.database.may_bring(prefix)

    def supports(self, process: int, number: int) -> frozenset[int] | None:
        """The ports that a process's route for a prefix, by its number among all, rests on: whichever others go down,
        it stays the same. None where it has none, or that is not told."""
        return None

    def lowest_preference(self, process: int) -> int | None:
        """The lowest preference that any route of a process may come to have; None where policies may give any."""
        return min(self.preference(process, kind) for kind in self.kind_names)

    def place_of(self, process: int, number: int, kind: int) -> Place:
        """Where the text states a route of the process's own making, or NOWHERE."""
        return NOWHERE

    def prepare(self, processes: Sequence[int], columns: Column | None = None) -> None:
        """Make the routes of several processes together, where that is less work; ``columns`` are those that will be
        asked for, as far as that is known, for ``some_routes_of``."""

    def some_routes_of(self, process: int) -> SomeRoutes | None:
        """A process's routes over the columns that were last made ready alone, if any: what ``routes_of`` has there,
        but for the order of bits."""
        return None

    def participants(self) -> Sequence[Participant[Any]]:
        """Who looks at tables for this protocol, besides redistribution."""
        if not self.announces_only_installed:
            return ()
        return [InstalledOnly(self, process) for process in self.processes]

    announces_networks: ClassVar[bool] = False
    """Whether ``networks_of`` may tell of any."""

    def networks_of(self, process: int) -> Iterable[Prefix]:
        """Prefixes that a process announces while another protocol has them in the table."""
        return ()

    @property
    def path_exports(self) -> PathExports | None:
        """How what is redistributed gets path attributes, where the protocol has them."""
        return None

    def forwarding_ports(self, process: int) -> frozenset[int] | None:
        """Ports out of which next hops of others are handed on with what is redistributed; None: any."""
        return frozenset()

    def handed_on(self, process: int, route: Route) -> NextHop | None:
        """The next hop that a redistributed route is handed on with, where the protocol says one."""
        return None

    def forwarding_addresses(self) -> Iterable[Address]:
        """Own addresses that routers may say as next hops of what they redistribute."""
        return ()

    def over(self, prefixes: PrefixClasses) -> "ProtocolSolution[Database]":
        """The same over other columns, with nothing put in; of solutions that are restrictable."""
        raise NotImplementedError

    def competing_columns(self) -> Flags:
        """Columns at which what routers bring themselves competes with what is redistributed, by cost: bool (c,)."""
        return np.zeros(len(self.prefixes), np.bool_)

    def instances_asking_policies(self) -> Iterable[int]:
        """Routing instances whose policies the protocol itself asks of routes."""
        return ()

    def sessions(self) -> Iterable[Session]:
        """The sessions of protocols that have any, as they are once it is solved, told of at each end."""
        return ()

    def problems(self) -> tuple[list[Finding], list[Doubt]]:
        """Findings about the protocol as a whole once it is solved, and why routes of it are not sure."""
        return [], []

    def costly_findings(self) -> list[Finding]:
        """Problems that take long to look for: looked for when the network is checked."""
        return []


class InstalledOnly(Participant[Flags]):
    """A process that announces only what its table uses: the columns it is silent of."""

    def __init__(self, solution: ProtocolSolution[Any], process: Process):
        self.solution = solution
        self.process = process
        self.instance = process.instance

    def look(self, tables: Tables) -> tuple[Flags, bytes]:
        table = tables(self.process.instance)
        unused = table.unused(table.index_of(self.process))
        return unused, np.packbits(unused).tobytes()

    def take(self, value: Flags) -> None:
        self.solution.silent[self.process.number] = value

    def digests(self, value: Flags, count: int) -> Digests:
        return value.astype(np.uint64)


AnySolution = ProtocolSolution[Any]


class RoutingProtocol(NamedTuple):
    """A protocol as the registry has it."""

    database: Callable[[Topology, Any], ProtocolDatabase]
    """Of a topology and a database known before, of which it may take over what the same devices bring."""
    solution: Callable[[Any, PrefixClasses, Any], AnySolution]
