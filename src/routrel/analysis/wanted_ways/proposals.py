"""What may lead a flow as wanted, put into changes: each solved with and walked, in the order of what else it moves."""

import time
from collections.abc import Iterator, Mapping, Sequence
from typing import Any, NamedTuple

from routrel.analysis.answers.held import Held
from routrel.analysis.answers.wanted_ways import WantedWay, WayProposal
from routrel.analysis.contest.explainer import Explainer
from routrel.analysis.contest.tipping import points_of_choice
from routrel.analysis.held.asked import AskedTraffic
from routrel.analysis.held.groups import comparing
from routrel.analysis.ranked_remedies import moves_words
from routrel.analysis.trial import Trial
from routrel.analysis.wanted_ways.link_costs import Task, fewest_costs, paths_as_wanted
from routrel.formats.changes.reading import changes_of
from routrel.formats.errors import nearest
from routrel.forwarding.flow import GOOD, Asker, Flow, Walk
from routrel.forwarding.flow_words import FlowError
from routrel.forwarding.passing import Passed
from routrel.forwarding.trace import Stop, Trace
from routrel.model.changes import Change
from routrel.model.filters import PORTED, PROTOCOL_NAMES
from routrel.routing.protocol import FloodingScope, ProtocolDatabase
from routrel.routing.solve import Solved
from routrel.routing.spf.graph import Edge

SECONDS = 8.0
"""So long proposals are held against all traffic; those after it are tried, but not held."""

PATHS, COSTS_OF_PATH = 2, 2
"""Paths as wanted that costs are found for, and sets of costs for each."""

MOST_CHOICES, CHOICE_SECONDS = 40, 4.0
"""Changes of what a router chooses that are tried, and so long they are looked for."""

THE_END = -1
"""What stands for the destination in a graph of routers."""

NO_ANSWER = "no costs were found in the time that there is, in"

HIGH, LOW = 250, 50
"""Local preferences above and below those that are usual."""

Changes = list[dict[str, Any]]


class _Wanted(NamedTuple):
    passes: frozenset[int]
    avoids: frozenset[int]

    def holds(self, trace: Trace) -> bool:
        """Whether every way of a walk passes and avoids what is wanted, however many there are."""
        if Passed(self.avoids).on_some_way(trace):
            return False
        return all(Passed(frozenset([device])).on_every_way(trace) for device in self.passes)


def wanted_way(
    files: Mapping[str, bytes],
    as_it_is: Solved,
    flow: Flow,
    passes: Sequence[str],
    avoids: Sequence[str],
    tried: Trial | None = None,
) -> WantedWay:
    """How a flow may be led by some devices and past others; raises ``FlowError`` where a word names nothing.

    ``tried`` is a trial of the network, and asked of it.
    """
    solved = as_it_is if tried is None else tried.after
    wanted = _Wanted(_devices(solved, passes), _devices(solved, avoids))
    if not wanted.passes and not wanted.avoids:
        raise FlowError("it is not said which devices the flow is to pass or to avoid")
    walk = Asker(solved).ask(flow)
    if wanted.holds(walk.forward) and walk.forward.verdict in GOOD:
        return WantedWay(True, "", [])
    made = [] if tried is None else [outcome.change for outcome in tried.applied.outcomes]
    search = _Search(files, as_it_is, made, solved, flow, walk, wanted)
    costs, by_costs = search.by_costs()
    offered = [*by_costs, *search.by_local_preference(), *search.by_choice(), *search.by_steering()]
    distinct = [one for at, one in enumerate(offered) if one not in offered[:at]]
    search.end = time.monotonic() + SECONDS
    proposals = [one for one in map(search.proposed, distinct) if one is not None]
    if by_costs and not costs and not any(one.by == "cost" for one in proposals):
        costs = "costs make the shortest path as wanted, and the flow does not take it: something else decides"
    return WantedWay(False, costs, sorted(proposals, key=_order))


def wanted_lines(found: WantedWay) -> Iterator[str]:
    """The answer as lines for a terminal or a ticket."""
    if found.is_so_already:
        yield "it goes that way already"
        return
    if found.costs:
        yield found.costs
    for number, one in enumerate(found.proposals, 1):
        yield f"{number}. {'; '.join(one.words)}"
        yield f"   {' or '.join(' > '.join(way) for way in one.ways[:2])}; {one.moves}"
    if not found.proposals:
        yield "no change that is offered leads it that way"


def _order(one: WayProposal) -> tuple[bool, bool, int, int]:
    if one.beyond is None:
        return True, True, 0, len(one.changes)
    return False, one.beyond.is_worse, one.beyond.changed, len(one.changes)


def _devices(solved: Solved, names: Sequence[str]) -> frozenset[int]:
    index = solved.topology.device_index
    for name in names:
        if name not in index:
            close = nearest(name, list(index))
            raise FlowError(f"there is no device {name!r}{f'; did you mean {close[0]}?' if close else ''}")
    return frozenset(index[name] for name in names)


class _Offered(NamedTuple):
    by: Any
    changes: Changes


class _Search:
    def __init__(
        self,
        files: Mapping[str, bytes],
        as_it_is: Solved,
        made: Sequence[Change],
        solved: Solved,
        flow: Flow,
        walk: Walk,
        wanted: _Wanted,
    ):
        self.files, self.as_it_is, self.made = files, as_it_is, made
        self.solved, self.flow, self.walk, self.wanted = solved, flow, walk, wanted
        self.topology = solved.topology
        self.end = 0.0
        """Until when what is found is held against all traffic."""
        routers = [stop for stop in walk.forward.stops if self.topology.devices[stop.device].forwards]
        self.first: Stop | None = routers[0] if routers else None
        """The first router that the flow comes to."""
        self.ends = self._ends(routers)
        self.paths: list[list[Edge]] = []
        """Over ports and routing instances: paths as wanted, the cheapest first."""

    def _ends(self, routers: list[Stop]) -> set[int]:
        """The routing instances at which the flow comes to its destination, or leaves the network."""
        destination = self.walk.forward.asked[0].header.destination
        connected = {
            instance.index
            for instance in self.topology.instances
            if (route := self.solved.lookup(instance.index, destination)) is not None
            and route.protocol in ("connected", "local")
            and self.topology.devices[instance.device].forwards
        }
        left = {stop.instance for stop in routers if any(branch.verdict == "leaves" for branch in stop.branches)}
        return connected or left or {stop.instance for stop in routers if not any(b.target >= 0 for b in stop.branches)}

    # Costs

    def by_costs(self) -> tuple[str, list[_Offered]]:
        """Sets of costs, and what is known where there are none."""
        if self.first is None:
            return "no router is on the way", []
        said, offered = list[str](), list[_Offered]()
        for database in self.solved.databases:
            for scope in database.scopes():
                there = {router for edge in scope.edges for router in edge[:2]}
                instance_of = {one: database.processes[one].instance for one in there}
                start = next((one for one, instance in instance_of.items() if instance == self.first.instance), None)
                ends = {one for one, instance in instance_of.items() if instance in self.ends}
                family = self.first.header.destination.family
                if start is None or not ends or family not in database.processes[start].families:
                    continue
                name = f"{database.processes[start].protocol} {scope.name}"
                known = {device for _, device in self._near(database, scope.edges, start)}
                missing = sorted(self.topology.devices[one].name for one in self.wanted.passes - known)
                if start in ends:
                    said.append(f"{self.topology.devices[self.first.device].name} has the destination itself")
                elif missing:
                    said.append(f"{', '.join(missing)} is not in {name}, and costs lead nothing out of it")
                else:
                    said.append(self._by_costs_of(database, scope, start, ends, offered))
        if not said:
            return "no costs were looked for: no protocol has them from where the flow comes in to where it ends", []
        words = "; ".join(one for one in dict.fromkeys(said) if one)
        is_proved = all(said) and not offered and NO_ANSWER not in words
        return f"costs alone cannot: {words}" if is_proved else words, offered

    def _by_costs_of(
        self, database: ProtocolDatabase, scope: FloodingScope, start: int, ends: set[int], offered: list[_Offered]
    ) -> str:
        """Costs of one graph; what is known where there are none, else nothing.

        Ends pass nothing on, and stand before one end of all at what the prefix costs there.
        """
        edges = [edge for edge in scope.edges if edge.source not in ends]
        beyond = [Edge(end, THE_END, self._cost_at(end, edges), -1 - end, -1) for end in sorted(ends)]
        near = list(self._near(database, edges, start))
        passes, avoids = ({one for one, device in near if device in devices} for devices in self.wanted)
        name = f"{database.processes[start].protocol} {scope.name}"
        fixed = [edge.port for edge in beyond]
        count, known = len(offered), len(self.paths)
        for outcome, path in paths_as_wanted(Task([*edges, *beyond], start, THE_END, passes, avoids), PATHS):
            if outcome == "impossible" and len(self.paths) == known:
                return f"no way in {name} goes so and passes every router once"
            if outcome != "found":
                break
            self.paths.append(path[:-1])
            for found, costs in fewest_costs([*edges, *beyond], path, COSTS_OF_PATH, fixed):
                if found == "found" and costs and max(costs.values()) <= scope.highest:
                    offered += self._cost_changes(database, costs, path[:-1])
        return "" if len(offered) > count else f"{NO_ANSWER} {name}"

    def _near(self, database: ProtocolDatabase, edges: Sequence[Edge], start: int) -> Iterator[tuple[int, int]]:
        """The processes that can be reached from one, each with its device; of a device with several the first."""
        onward: dict[int, list[int]] = {}
        for edge in edges:
            onward.setdefault(edge.source, []).append(edge.target)
        reached, waiting = {start}, [start]
        while waiting:
            new = set(onward.get(waiting.pop(), ())) - reached
            reached |= new
            waiting += new
        seen = set[int]()
        for one in sorted(reached):
            device = self.topology.instances[database.processes[one].instance].device
            if device not in seen:
                seen.add(device)
                yield one, device

    def _cost_at(self, end: int, edges: Sequence[Edge]) -> int:
        """What the prefix of the destination costs at an end: by what its neighbours that go there directly have."""
        destination = self.walk.forward.asked[0].header.destination
        for edge in edges:
            if edge.target == end:
                route = self.solved.lookup(self.topology.ports[edge.port].instance, destination)
                if route is not None and [hop.port for hop in route.next_hops] == [edge.port] and route.metric:
                    return max(1, route.metric - edge.cost)
        return 1

    def _cost_changes(self, database: ProtocolDatabase, costs: dict[int, int], path: list[Edge]) -> list[_Offered]:
        """Costs as changes, one way, and with the same at the other ends, so that answers go the same way."""
        one_way = [self._cost_change(database, port, cost) for port, cost in costs.items()]
        peers = {edge.port: edge for edge in path} | {edge.port: edge for edge in _edges_of(database)}
        both = dict(costs)
        for port, cost in costs.items():
            both.setdefault(peers[port].peer, cost)
        both_ways = [self._cost_change(database, port, cost) for port, cost in both.items()]
        return [_Offered("cost", one_way), _Offered("cost", both_ways)]

    def _cost_change(self, database: ProtocolDatabase, port: int, cost: int) -> dict[str, Any]:
        process = next(database.processes[edge.source] for edge in _edges_of(database) if edge.port == port)
        at = str(self.topology.ports[port].name)
        if process.protocol == "ospf":
            return {"set": "cost", "at": at, "to": cost, "instance": process.name}
        return {"set": "metric", "at": at, "to": cost, "protocol": process.protocol}

    # Other kinds

    def by_local_preference(self) -> Iterator[_Offered]:
        """What a border hears from other ASes preferred, or put off, for the prefix of the destination."""
        destination = self.walk.forward.asked[0].header.destination
        for devices, value in ((self.wanted.passes, HIGH), (self.wanted.avoids, LOW)):
            for device in sorted(devices):
                asked = (device, *(stop.instance for stop in self.walk.forward.stops))
                routes = (self.solved.lookup(instance, destination) for instance in asked)
                for prefix in dict.fromkeys(route.prefix for route in routes if route is not None):
                    for session in self._outer_sessions(device):
                        change = {"set": "local_preference", "at": session, "to": value, "for": str(prefix)}
                        yield _Offered("local_preference", [change])

    def by_choice(self) -> Iterator[_Offered]:
        """What makes a router choose another route for the flow: at those on the way, and those it is to pass."""
        destination = self.walk.forward.asked[0].header.destination
        explainer = Explainer(self.solved)
        wanted = [self.topology.instances_of(device)[0] for device in sorted(self.wanted.passes)]
        instances = dict.fromkeys([*(stop.instance for stop in self.walk.forward.stops), *wanted])
        end, count = time.monotonic() + CHOICE_SECONDS, 0
        for instance in instances:
            route = self.solved.lookup(instance, destination)
            if route is None or time.monotonic() > end:
                continue
            for point in points_of_choice(explainer, explainer.contest(instance, route.prefix)):
                if point.change is not None and count < MOST_CHOICES:
                    count += 1
                    yield _Offered(point.change["set"], [point.change])

    def _outer_sessions(self, device: int) -> Iterator[str]:
        routing = self.topology.devices[device].routing
        bgp = None if routing is None else routing.bgp
        if bgp is None:
            return
        for neighbor in bgp.neighbors:
            if neighbor.number != bgp.number:
                yield f"{self.topology.devices[device].name} {neighbor.address}"

    def by_steering(self) -> Iterator[_Offered]:
        """An entry at each router of the way that would send the flow elsewhere."""
        for path in self.paths[:1]:
            changes = self._steering_along(path)
            if changes:
                yield _Offered("steering", changes)

    def _steering_along(self, path: list[Edge]) -> Changes:
        assert self.first is not None
        header = self.walk.forward.asked[0].header
        ingress = self.first.ingress
        changes: Changes = []
        for edge in path:
            instance = self.topology.ports[edge.port].instance
            gateway = self.topology.neighbor_address(edge.port, edge.peer, header.destination.family)
            route = self.solved.lookup(instance, header.destination)
            hops = () if route is None else route.next_hops
            if gateway is None:
                return []
            if [(hop.port, hop.address) for hop in hops] != [(edge.port, gateway)]:
                if ingress < 0:
                    return []  # what a router sends itself is not steered
                changes += self._steering_at(ingress, str(gateway))
            ingress = edge.peer
        return changes

    def _steering_at(self, ingress: int, gateway: str) -> Changes:
        header = self.walk.forward.asked[0].header
        port = self.topology.ports[ingress]
        device = self.topology.devices[port.device]
        name = port.interface.forwarding_policy
        match: dict[str, Any] = {
            "source": str(header.source.host_prefix()),
            "destination": str(header.destination.host_prefix()),
            "protocol": PROTOCOL_NAMES.get(header.protocol, header.protocol),
        }
        if header.protocol in PORTED and self.walk.service.ports is not None:
            match["destination_ports"] = [str(self.walk.service.ports)]
        entry = {"match": match, "action": "forward", "next_hop": [gateway]}
        policy = name or f"lead-{port.name.interface}"
        while name is None and policy in device.forwarding_policies:
            policy += "-1"
        put = {"add": "steering_entry", "at": device.name, "policy": policy, "entry": entry}
        if name is not None:
            return [{**put, "before": 1}]
        return [put, {"set": "forwarding_policy", "at": str(port.name), "to": policy}]

    def proposed(self, offered: _Offered) -> WayProposal | None:
        """What is offered, tried; None where it does not lead the flow as wanted."""
        trial = Trial.of(self.files, self.as_it_is, [*self.made, *changes_of(offered.changes)])
        outcomes = trial.applied.outcomes[len(self.made) :]
        if any(outcome.state != "applied" for outcome in outcomes):
            return None
        after = Asker(trial.after).ask(self.flow)
        same = _Wanted(
            frozenset(trial.after.topology.device_index[self.topology.devices[one].name] for one in self.wanted.passes),
            frozenset(trial.after.topology.device_index[self.topology.devices[one].name] for one in self.wanted.avoids),
        )
        is_kept = self.walk.reply is None or self.walk.reply.verdict not in GOOD or after.is_good
        if not same.holds(after.forward) or after.forward.verdict not in GOOD or not is_kept:
            return None
        beyond: Held | None = None
        if time.monotonic() < self.end:
            for step in comparing(self.solved, trial.after, AskedTraffic.of(self.walk)):
                beyond = step.held
                if time.monotonic() > self.end:
                    break
        names = trial.after.topology.devices
        return WayProposal(
            by=offered.by,
            words=[outcome.words for outcome in outcomes],
            changes=offered.changes,
            ways=[[names[device].name for device in way] for way in after.forward.paths()],
            moves=moves_words(beyond),
            beyond=beyond,
        )


def _edges_of(database: ProtocolDatabase) -> Iterator[Edge]:
    for scope in database.scopes():
        yield from scope.edges
