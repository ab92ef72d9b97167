"""What becomes of a flow in one state of a network, in what is the same wherever the state is: names, no numbers."""

from typing import NamedTuple

from routrel.analysis.walk_verdicts import Answerer
from routrel.forwarding.flow import Flow, Walk
from routrel.forwarding.flow_words import FlowError
from routrel.forwarding.trace import Trace, Verdict
from routrel.model.addresses import Prefix
from routrel.topology.segments import Topology

PATHS_SHOWN = 4


class Way(NamedTuple):
    """The way of one direction: every interface that packets leave by, with the device behind it; '' outside."""

    hops: frozenset[tuple[str, str, str]]
    paths: tuple[tuple[str, ...], ...]
    path_count: int
    exits: tuple[str, ...]
    """Interfaces by which it leaves the model."""

    def is_like(self, other: "Way") -> bool:
        """Whether packets go the same way."""
        return self.hops == other.hops and self.paths == other.paths


class RouteUsed(NamedTuple):
    """The route by which a device sends a flow on."""

    prefix: Prefix
    protocol: str


class Outcome(NamedTuple):
    """What became of a flow; ``error`` where it cannot be asked."""

    forward: Verdict | None
    reply: Verdict | None
    good: bool
    ways: tuple[Way, ...]
    words: str
    routes: dict[str, RouteUsed]
    """By device, there."""
    error: str = ""

    @property
    def shown(self) -> tuple[object, ...]:
        """What tells one state of a flow from another."""
        return self.forward, self.reply, self.good, self.words, tuple((way.hops, way.paths) for way in self.ways)


def outcome_of(answerer: Answerer, flow: Flow) -> Outcome:
    """What becomes of a flow in a solved network."""
    try:
        walk = answerer.asker.ask(flow)
    except FlowError as error:
        return Outcome(None, None, False, (), str(error), {}, str(error))
    topology = answerer.solved.topology
    ways = tuple(_way(topology, strand) for strand in walk.strands)
    routes = {
        topology.devices[stop.device].name: RouteUsed(stop.route.prefix, stop.route.protocol)
        for stop in walk.forward.stops
        if stop.route is not None
    }
    return Outcome(walk.forward_verdict, walk.reply_verdict, walk.is_good, ways, _words(answerer, walk), routes)


def _way(topology: Topology, strand: Trace) -> Way:
    names, ports = topology.devices, topology.ports
    hops, exits = set[tuple[str, str, str]](), dict[str, None]()
    for stop in strand.stops:
        device = names[stop.device].name
        for branch in stop.branches:
            interface = ports[branch.port].name.interface
            beyond = names[strand.stops[branch.target].device].name if branch.target >= 0 else ""
            hops.add((device, interface, beyond))
            if branch.verdict == "leaves":
                exits[f"{device}:{interface}"] = None
    paths = tuple(tuple(names[device].name for device in path) for path in strand.paths()[:PATHS_SHOWN])
    return Way(frozenset(hops), paths, strand.path_count, tuple(sorted(exits)))


def _words(answerer: Answerer, walk: Walk) -> str:
    """Verdicts there and back, and the first cause of what is not good."""
    back = f", answer {walk.reply_verdict}" if walk.reply_verdict else ""
    words = f"{walk.forward_verdict}{back}"
    if walk.is_good:
        return words
    causes = (cause for strand in walk.strands for cause in answerer.finder.causes(walk, strand))
    cause = next(causes, None)
    return words if cause is None else f"{words}: {cause.message}"
