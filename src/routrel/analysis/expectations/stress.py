"""Flows under each failure of one thing alone: which still do what they should, and which go otherwise."""

from collections.abc import Container, Sequence
from typing import NamedTuple, get_args

from routrel.analysis.answers.expectations import Outcome
from routrel.analysis.expectations.conditions import does, parts_of
from routrel.analysis.expectations.failures import Failure, failed
from routrel.analysis.expectations.moved import Asked, Moved
from routrel.analysis.expectations.single_ways import SingleWays, ends_of_way
from routrel.forwarding.flow import Asker, Flow, Walk
from routrel.forwarding.flow_words import FlowError
from routrel.model.expectations import Expected
from routrel.model.network import Network
from routrel.routing.solve import Solved
from routrel.solving import solve

OUTCOMES: tuple[Outcome, ...] = get_args(Outcome)
"""From the worst to the least."""

BROKEN = ("loops", "breaks")


class Watched(NamedTuple):
    """A flow that does what it should, with its walk as the network is."""

    flow: Flow
    expected: Expected
    walk: Walk


class Hurt(NamedTuple):
    """What a failure does to a flow, by its number; nothing where it goes as before, and not by a single way newly."""

    number: int
    outcome: Outcome


class Stress:
    """One network as it is, and flows that are followed through failures."""

    def __init__(self, solved: Solved, flows: Sequence[Watched]):
        self.solved = solved
        self.flows = flows
        self._leans = [_Leaning(solved, one.walk) for one in flows]
        self._asked = Asked(solved, {pair for one in self._leans if not one.is_always_walked for pair in one.asked})
        self._ways = SingleWays(solved.topology)
        self.walked = 0
        """Walks under failures: what is the same where a flow goes is not walked again."""

    def under(self, failure: Failure) -> list[Hurt]:
        """What the failure of something does to the flows whose ends it leaves; of a host its own cable is an end."""
        return self._hurts(failed(self.solved.network, failure), failure.devices | failure.hosts, -1)

    def changed(self, network: Network, device: str) -> list[Hurt]:
        """What becomes of flows where the text of one device is another: it may treat packets otherwise."""
        return self._hurts(network, frozenset(), self.solved.topology.device_index[device])

    def _hurts(self, network: Network, gone: frozenset[str], changed: int) -> list[Hurt]:
        after = solve(network, self.solved)
        asker = Asker(after)
        moved = Moved(self.solved, after, self._asked)
        found = []
        for number, (watched, leaning) in enumerate(zip(self.flows, self._leans, strict=True)):
            if leaning.ends & gone:
                continue
            outcome: Outcome | None = None
            if changed in leaning.devices or not leaning.holds(moved):
                self.walked += 1
                outcome = _outcome(watched, asker)
            if outcome not in BROKEN and watched.expected != "never arrives" and leaning.routers is not None:
                outcome = "single" if self._ways.left(after.topology, *leaning.routers) else outcome
            if outcome is not None:
                found.append(Hurt(number, outcome))
        return found


class _Leaning:
    """What decides about a flow: if it is the same in another state of the network, so is the walk."""

    def __init__(self, solved: Solved, walk: Walk):
        topology = solved.topology
        stops = [stop for one in parts_of(walk) for strand in one.strands for stop in strand.stops]
        self.devices = {stop.device for stop in stops}
        self.devices |= {end.device for end in (walk.source, walk.destination) if end.device is not None}
        self.asked = {
            (stop.instance, address)
            for stop in stops
            for header in (stop.header, stop.translated or stop.header)
            for address in (header.destination, header.source)
        }
        self.is_always_walked = walk.source.device is None or any(topology.devices[one].program for one in self.devices)
        """What comes from outside may come in by any border, and rules may send later packets another way."""
        self.ends = ends_of(solved, walk)
        self.routers = ends_of_way(topology, walk)

    def holds(self, moved: Moved) -> bool:
        """Whether all devices on the way have the same ports up, with the same neighbours, and the same routes."""
        return not (self.is_always_walked or self.devices & moved.devices or self.asked & moved.routes)


def ends_of(solved: Solved, walk: Walk) -> set[str]:
    """The devices that a flow comes from and goes to, as far as they are in the model."""
    starts = (walk.forward.stops[number].device for number in walk.forward.starts)
    ends = {walk.destination.device, *(() if walk.source.device is None else starts)}
    return {solved.topology.devices[device].name for device in ends if device is not None}


def passes_ports(walk: Walk, ports: Container[int]) -> bool:
    """Whether a flow leaves a device by one of some ports, there or back."""
    return any(
        branch.port in ports
        for one in parts_of(walk)
        for strand in one.strands
        for stop in strand.stops
        for branch in stop.branches
    )


def _outcome(watched: Watched, asker: Asker) -> Outcome | None:
    """What became of a flow."""
    try:
        now = asker.ask(watched.flow)
    except FlowError:
        return "breaks"
    if not does(now, watched.expected):
        return "loops" if any(strand.has_loop for one in parts_of(now) for strand in one.strands) else "breaks"
    was = watched.walk
    if watched.expected == "never arrives" or course_of(was) == course_of(now):
        return None
    if _exits(was) != _exits(now):
        return "exit"
    return "longer" if any(a.longest < b.longest for a, b in zip(was.strands, now.strands, strict=False)) else "moves"


def course_of(walk: Walk) -> set[tuple[int, int, int]]:
    """All ports that packets leave by, with what comes in there, by part and direction."""
    return {
        (2 * at + direction, stop.device, branch.port)
        for at, one in enumerate(parts_of(walk))
        for direction, strand in enumerate(one.strands)
        for stop in strand.stops
        for branch in stop.branches
    }


def _exits(walk: Walk) -> set[tuple[int, int]]:
    return {
        (stop.device, branch.port)
        for one in parts_of(walk)
        for stop in one.forward.stops
        for branch in stop.branches
        if branch.verdict == "leaves"
    }
