"""What a walk yields: stops joined by branches, one graph for all equal-cost ways of one direction."""

from dataclasses import dataclass
from functools import cached_property
from typing import Literal, NamedTuple

from msgspec import Struct

from routrel.forwarding.programs.engine import RuleCheck
from routrel.forwarding.programs.packets import PacketKind
from routrel.forwarding.programs.tracking import Tracker
from routrel.model.addresses import Address
from routrel.model.filters import Header
from routrel.model.kernel_routing import RoutingRule
from routrel.routing.routes import NextHop, Route

Verdict = Literal["arrives", "blocked", "unrouted", "discarded", "unresolved", "loops", "leaves", "mixed"]
Stage = Literal["acl_in", "filter", "delivery", "host", "steering", "route", "acl_out", "next_hop", "loop", ""]

MAX_PATHS = 64
MAX_CYCLE_PATHS = 20_000


class AclCheck(NamedTuple):
    """What an ACL did: ``entry`` is an index from 0, None where no entry matched (the closing drop).

    ``by_state`` means the packet is a reply that a stateful entry let in, and no entry was asked.
    """

    acl: str
    entry: int | None
    accepted: bool
    stateful: bool = False
    by_state: bool = False


class SteeringCheck(NamedTuple):
    """A forwarding policy asked: ``entry`` is None where none matched; ``used`` is False where the
    matching entry left the decision to the table."""

    policy: str
    entry: int | None
    used: bool


class Ruled(Struct):
    """What a Linux router's rules did at a stop, or on one way out of it; apart, for most stops have none."""

    header: Header | None = None
    filters: tuple[RuleCheck, ...] = ()
    stopped_by: RuleCheck | None = None
    rule: RoutingRule | None = None
    is_rule_sure: bool = True


class UnderRules:
    """A stop or a way out, where a Linux router's rules may act."""

    __slots__ = ()
    ruled: Ruled | None

    @property
    def filters(self) -> tuple[RuleCheck, ...]:
        """The base chains that the packet passed there."""
        return () if self.ruled is None else self.ruled.filters

    @property
    def stopped_by(self) -> RuleCheck | None:
        """The rule that ends it there too, as far as can be told: whether it does is not sure."""
        return None if self.ruled is None else self.ruled.stopped_by


class Branch(UnderRules, Struct):
    """One way out of a stop. ``target`` is the next stop's number, or -1 where the packet ends here.

    For a loop, ``target`` is the stop that is met again. ``via_next_hop`` tells a hop through a gateway
    from the destination itself on a connected subnet.
    """

    port: int
    address: Address
    via_next_hop: bool
    acl_out: AclCheck | None = None
    verdict: Verdict | None = None
    stage: Stage = ""
    target: int = -1
    mtu: int = 0
    ruled: Ruled | None = None
    """What a Linux router's rules did with the packet on its way out, where they did something."""

    @property
    def header(self) -> Header | None:
        """What the packet's header has become where rules translated it."""
        return None if self.ruled is None else self.ruled.header


class Stop(UnderRules, Struct):
    """A device on the way, with the decisions it made.

    ``ingress`` is the port it was first reached by, or -1 at the origin; others that treat the packet alike
    lead to the same stop. ``instance`` is the routing instance that forwards.
    """

    device: int
    ingress: int
    header: Header
    instance: int
    acl_in: AclCheck | None = None
    steering: SteeringCheck | None = None
    route: Route | None = None
    verdict: Verdict | None = None
    stage: Stage = ""
    branches: list[Branch] = []
    ruled: Ruled | None = None
    """What a Linux router's rules did with the packet before its ways part, where they did something."""

    @property
    def translated(self) -> Header | None:
        """The header by which it is delivered or routed, where rules translated it first."""
        return None if self.ruled is None else self.ruled.header

    @property
    def rule(self) -> RoutingRule | None:
        """The routing rule by which its table was asked, of a Linux router."""
        return None if self.ruled is None else self.ruled.rule

    @property
    def is_rule_sure(self) -> bool:
        return self.ruled is None or self.ruled.is_rule_sure


def by_rules(place: Stop | Branch) -> Ruled:
    """Where what rules do at a stop or on a way out is noted."""
    if place.ruled is None:
        place.ruled = Ruled()
    return place.ruled


class Start(NamedTuple):
    """Where a packet begins: at an instance of its own (``ingress`` -1), or coming in by a port.

    ``hops`` narrows the origin's choice, where different ways out mean different source addresses.
    """

    instance: int
    ingress: int
    header: Header
    hops: tuple[NextHop, ...] | None = None


class Ending(NamedTuple):
    """Where some path ends: at a stop, or on one of its branches (-1: at the stop itself)."""

    stop: int
    branch: int
    verdict: Verdict
    stage: Stage


@dataclass
class Trace:
    """All ways of one direction.

    ``asked`` are the starts as given, ``starts`` the numbers of stops where the packet can begin; ``finished``
    has all numbers, each after those its branches lead to (but for loops).
    """

    stops: list[Stop]
    starts: list[int]
    finished: list[int]
    has_loop: bool
    asked: tuple[Start, ...]
    ends: frozenset[int] | None = None
    """The routing instances at which the packet has arrived; None: any owner of its destination."""
    kind: PacketKind = "first"
    """Which packet of its flow this is, for devices that track connections."""
    tracker: Tracker | None = None
    expected: frozenset[Header] | None = None
    """Of an answer: the headers that its asker waits for."""

    @cached_property
    def endings(self) -> list[Ending]:
        found = []
        for number, stop in enumerate(self.stops):
            if stop.verdict is not None:
                found.append(Ending(number, -1, stop.verdict, stop.stage))
            if stop.stopped_by is not None:
                found.append(Ending(number, -1, "blocked", "filter"))
            for index, branch in enumerate(stop.branches):
                if branch.verdict is not None:
                    found.append(Ending(number, index, branch.verdict, branch.stage))
                if branch.stopped_by is not None:
                    found.append(Ending(number, index, "blocked", "filter"))
        return found

    @cached_property
    def verdict(self) -> Verdict:
        verdicts = {ending.verdict for ending in self.endings}
        return verdicts.pop() if len(verdicts) == 1 else "mixed"

    @cached_property
    def smallest_mtu(self) -> int | None:
        """The largest packet in bytes that survives every way; None where none crosses a link."""
        crossed = (
            branch.mtu for stop in self.stops for branch in stop.branches if branch.mtu and branch.verdict != "blocked"
        )
        return min(crossed, default=None)

    @cached_property
    def longest(self) -> int:
        """Links of the longest way; of ways that do not go round."""
        lengths = [0] * len(self.stops)
        for number in self.finished:
            onward = [branch.target for branch in self.stops[number].branches if branch.verdict is None]
            lengths[number] = max((1 + lengths[target] for target in onward), default=0)
        return max((lengths[start] for start in self.starts), default=0)

    @cached_property
    def path_count(self) -> int:
        """Exact number of ways, parallel cables counted apart; on a graph with a loop, of ways up to the first stop
        met again (inside a loop those are walked one by one, at most ``MAX_CYCLE_PATHS``)."""
        if self.has_loop:
            return self._count_with_loops()
        counts = [0] * len(self.stops)
        for number in self.finished:
            stop = self.stops[number]
            count = 0 if stop.verdict is None else 1
            for branch in stop.branches:
                count += counts[branch.target] if branch.verdict is None else 1
            counts[number] = count
        return sum(counts[start] for start in self.starts)

    def _count_with_loops(self) -> int:
        """Ways into a loop are as many as lead to it; only those within are walked one by one."""
        from scipy.sparse import csr_array
        from scipy.sparse.csgraph import connected_components

        edges = [(n, b.target) for n, stop in enumerate(self.stops) for b in stop.branches if b.target >= 0]
        sources, targets = zip(*edges, strict=True)
        n = len(self.stops)
        graph = csr_array(([1] * len(edges), (sources, targets)), shape=(n, n))
        component: list[int] = connected_components(graph, connection="strong")[1].tolist()
        counts: dict[int, int] = {}

        def within(start: int) -> int:
            """Ways from a stop on: walked one by one while they stay in its component."""
            total, looping = 0, 0
            ways = [(start, frozenset([start]))]
            while ways and looping < MAX_CYCLE_PATHS:
                number, on_way = ways.pop()
                total += self.stops[number].verdict is not None
                for branch in self.stops[number].branches:
                    target = branch.target
                    if target < 0 or target in on_way:
                        total += 1
                        looping += target >= 0
                    elif component[target] == component[start]:
                        ways.append((target, on_way | {target}))
                    else:
                        total += counts[target]
            return total

        # Depth first from the starts: what a component leads to is counted before the component itself.
        stack = [(start, False) for start in reversed(self.starts)]
        while stack:
            number, is_ready = stack.pop()
            if number in counts:
                continue
            if is_ready:
                counts[number] = within(number)
                continue
            stack.append((number, True))
            inside, seen = [number], {number}
            while inside:
                one = inside.pop()
                for branch in self.stops[one].branches:
                    target = branch.target
                    if target < 0:
                        continue
                    if component[target] != component[number]:
                        if target not in counts:
                            stack.append((target, False))
                    elif target not in seen:
                        seen.add(target)
                        inside.append(target)
        return sum(counts[start] for start in self.starts)

    def paths(self, limit: int = MAX_PATHS) -> list[list[int]]:
        """Device numbers along each way, up to where the verdict fell, at most ``limit`` distinct ones.

        A way that loops ends with the first device met again.
        """
        found: dict[tuple[int, ...], None] = {}
        # Parallel cables give the same devices: ask for more ways than are to be shown.
        for route in self._routes(4 * limit):
            stops, looped = route
            devices = [self.stops[number].device for number in stops]
            if looped:
                seen: set[int] = set()
                for position, device in enumerate(devices):
                    if device in seen:
                        devices = devices[: position + 1]
                        break
                    seen.add(device)
            found.setdefault(tuple(devices))
            if len(found) == limit:
                break
        return [list(devices) for devices in found]

    def _routes(self, limit: int) -> list[tuple[list[int], bool]]:
        """Up to ``limit`` ways as stop numbers, each with whether it ends by meeting a stop again."""
        routes: list[tuple[list[int], bool]] = []
        stack: list[tuple[int, list[int]]] = [(start, [start]) for start in reversed(self.starts)]
        while stack and len(routes) < limit:
            number, path = stack.pop()
            stop = self.stops[number]
            if stop.verdict is not None:
                routes.append((path, False))
            ahead = []
            for branch in stop.branches:
                if branch.target >= 0 and branch.target in path:
                    routes.append(([*path, branch.target], True))
                elif branch.target >= 0:
                    ahead.append((branch.target, [*path, branch.target]))
                else:
                    routes.append((path, False))
            stack.extend(reversed(ahead))
        return routes[:limit]
