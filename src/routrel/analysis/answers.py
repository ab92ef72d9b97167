"""Answers as plain data, in the shapes of the command line's page: routes, walks and findings."""

from collections.abc import Iterable, Iterator
from typing import Any

from routrel.analysis.causes import Cause, CauseFinder
from routrel.forwarding.flow import Asker, Flow, Walk
from routrel.forwarding.flow_words import FlowError
from routrel.forwarding.strand import Stop, Strand
from routrel.model.devices import Gap
from routrel.model.filters import PortRange
from routrel.model.findings import Finding
from routrel.model.places import Place
from routrel.routing.routes import NextHop, Route
from routrel.routing.solve import Solved
from routrel.topology.segments import Topology

Json = dict[str, Any]


def place_json(place: Place) -> Json | None:
    """A place as data, None where no text states the thing."""
    return {"file": place.file, "line": place.line, "column": place.column} if place.line else None


def next_hop_json(solved: Solved, hop: NextHop) -> Json:
    """A next hop with the device that answers for it, where the model knows one."""
    topology = solved.topology
    device = None
    if hop.neighbor >= 0:
        device = topology.ports[hop.neighbor].name.device
    elif hop.address is not None:
        segment = topology.segment_of[hop.port]
        owner = topology.on_segment(segment, hop.address) if segment >= 0 else None
        device = None if owner is None else topology.ports[owner].name.device
    return {
        "address": None if hop.address is None else str(hop.address),
        "interface": topology.ports[hop.port].name.interface,
        "device": device,
    }


def route_json(solved: Solved, instance: int, route: Route) -> Json:
    """A route in the shape of ``routrel routes``."""
    found = solved.topology.instances[instance]
    return {
        "device": solved.topology.devices[found.device].name,
        "vrf": found.vrf,
        "prefix": str(route.prefix),
        "protocol": route.protocol,
        "kind": route.origin,
        "tag": route.tag,
        "preference": route.preference,
        "metric": route.metric,
        "action": route.action,
        "next_hops": [next_hop_json(solved, hop) for hop in route.next_hops],
    }


def routes_json(solved: Solved, instances: Iterable[int]) -> Iterator[Json]:
    """Every best route of the given routing instances, sorted by device, VRF, then prefix."""
    topology = solved.topology

    def name(instance: int) -> tuple[str, str]:
        found = topology.instances[instance]
        return topology.devices[found.device].name, found.vrf

    for instance in sorted(instances, key=name):
        for route in solved.table(instance):
            yield route_json(solved, instance, route)


def cause_json(cause: Cause) -> Json:
    """A cause with its evidence; the contract's keys come first."""
    return {
        "device": cause.device,
        "interface": cause.interface,
        "stage": cause.stage,
        "verdict": cause.verdict,
        "acl": cause.acl,
        "entry": cause.entry,
        "chain": cause.chain,
        "rule": cause.rule,
        "unsure": cause.unsure,
        "message": cause.message,
        "place": place_json(cause.place),
        "stop": cause.stop,
        "branch": cause.branch,
        "near_misses": [
            {"entry": miss.entry, "field": miss.field, "has": miss.has, "needs": miss.needs}
            | {"place": place_json(miss.place)}
            for miss in cause.near_misses
        ],
        "remedy": None
        if cause.remedy is None
        else {"message": cause.remedy.message, "text": cause.remedy.text, "place": place_json(cause.remedy.place)},
        "notes": list(cause.notes),
        "trail": [
            {"message": step.text, "place": place_json(step.place), "other_places": list(map(place_json, step.others))}
            for step in cause.trail
        ],
    }


def strand_json(
    solved: Solved,
    finder: CauseFinder,
    strand: Strand,
    is_reply: bool,
    stateful: frozenset[int] = frozenset(),
    ports: tuple[PortRange, ...] = (),
) -> Json:
    """A strand in the shape of ``routrel walk``."""
    names = solved.topology.devices
    return {
        "verdict": strand.verdict,
        "path_count": strand.path_count,
        "paths": [[names[device].name for device in path] for path in strand.paths()],
        "causes": [cause_json(cause) for cause in finder.causes(strand, is_reply, stateful, ports)],
        "doubts": strand_doubts(solved, strand),
        "not_represented": _not_represented(solved, strand),
    }


def gaps_on_the_way(topology: Topology, stop: Stop) -> list[Gap]:
    """What the model leaves out of a device, as far as it could act on a packet there."""
    device = topology.devices[stop.device]
    if not device.gaps:
        return []
    passed = [stop.ingress, *(branch.port for branch in stop.branches)]
    names = {"", *(topology.ports[port].name.interface for port in passed if port >= 0)}
    return [gap for gap in device.gaps if gap.affects in names]


def _not_represented(solved: Solved, strand: Strand) -> list[Json]:
    """What the model leaves out of the devices and interfaces that a strand passes, each with its place."""
    found: dict[tuple[str, Gap], Json] = {}
    for stop in strand.stops:
        name = solved.topology.devices[stop.device].name
        for gap in gaps_on_the_way(solved.topology, stop):
            said = {"device": name, "message": gap.message, "place": place_json(gap.place)}
            found.setdefault((name, gap), said)
    return list(found.values())


def strand_doubts(solved: Solved, strand: Strand) -> list[str]:
    """Why the routes that a strand used are not sure, each reason once."""
    if not solved.doubts:
        return []
    routes = ((stop.instance, stop.route.protocol) for stop in strand.stops if stop.route is not None)
    return list(dict.fromkeys(doubt for used in dict.fromkeys(routes) for doubt in solved.doubts_about(*used)))


class Answerer:
    """Answers flows of one solved network as plain data."""

    def __init__(self, solved: Solved):
        self.solved = solved
        self.asker = Asker(solved)
        self.finder = CauseFinder(solved, self.asker.walker)

    def walk_json(self, walk: Walk) -> Json:
        """A walk in the shape of ``routrel walk``; of a range of ports with what becomes of each part of it."""
        answer: Json = {
            "forward": strand_json(self.solved, self.finder, walk.forward, False, ports=walk.ports),
            "return": None,
        }
        if walk.reply is not None:
            answer["return"] = strand_json(self.solved, self.finder, walk.reply, True, walk.stateful, walk.ports)
        answer |= self.parts_json(walk)
        if walk.parts:
            answer["forward"]["verdict"] = walk.forward_verdict
            if answer["return"] is not None:
                answer["return"]["verdict"] = walk.reply_verdict
        if walk.reply_note:
            answer["return_note"] = walk.reply_note
        if walk.forward_note:
            answer["forward_note"] = walk.forward_note
        return answer

    def parts_json(self, walk: Walk) -> Json:
        """The parts of a range of ports that are not all walked alike; empty of any other flow."""
        return {
            "parts": [
                {
                    "ports": [str(ports) for ports in part.ports],
                    "verdict": part.walk.forward.verdict,
                    "return_verdict": None if part.walk.reply is None else part.walk.reply.verdict,
                    "good": part.walk.is_good,
                    "causes": [cause_json(cause) for cause in self._causes(part.walk)],
                    "decided_by": self._deciders(part.walk),
                }
                for part in walk.parts
            ],
            "unexamined_ports": None if walk.unexamined is None else str(walk.unexamined),
        }

    def _causes(self, walk: Walk) -> list[Cause]:
        found = self.finder.causes(walk.forward, False, ports=walk.ports)
        if walk.reply is not None:
            found += self.finder.causes(walk.reply, True, walk.stateful, walk.ports)
        return found

    def _deciders(self, walk: Walk) -> list[Json]:
        """The entries and rules that decided on the way there, in its order; no entry is the closing drop."""
        found: dict[tuple[str, str, int | None], Json] = {}
        for stop in walk.forward.stops:
            device = self.solved.topology.devices[stop.device]
            for check in (stop.acl_in, *(branch.acl_out for branch in stop.branches)):
                if check is None:
                    continue
                acl = device.acls[check.acl]
                place = acl.place if check.entry is None else acl.entries[check.entry].place
                number = None if check.entry is None else check.entry + 1
                found[device.name, acl.name, number] = _decider(device.name, acl.name, number, check.accepted, place)
            for rule_check in (*stop.filters, *(one for branch in stop.branches for one in branch.filters)):
                chain, rule = rule_check.located, rule_check.rule
                if rule is None and rule_check.accepted:
                    continue  # a chain that has nothing to say of the packet
                number, place = (None, chain.place) if rule is None else (rule.number, rule.place)
                decider = _decider(device.name, str(chain), number, rule_check.accepted, place)
                found[device.name, str(chain), number] = decider | {"is_rule": True}
        return list(found.values())

    def flow_json(self, flow: Flow, with_reply: bool = True) -> Json:
        """One flow of a list: its answer with the flow beside it, or why it cannot be asked."""
        asked = {
            "from": flow.source,
            "to": flow.destination,
            "service": flow.service,
            "source_port": flow.source_port,
            "enter": flow.enter,
            "vrf": flow.vrf,
        }
        try:
            return {"flow": asked, **self.walk_json(self.asker.ask(flow, with_reply))}
        except FlowError as error:
            return {"flow": asked, "error": str(error)}


def _decider(device: str, name: str, number: int | None, accepted: bool, place: Place) -> Json:
    return {
        "device": device,
        "acl": name,
        "entry": number,
        "accepted": accepted,
        "place": place_json(place),
        "is_rule": False,
    }


def finding_json(finding: Finding) -> Json:
    """A finding in the shape of ``routrel check``."""
    return {
        "code": finding.code,
        "severity": finding.severity,
        "message": finding.message,
        "device": finding.device or None,
        "interface": finding.interface or None,
        "places": [place_json(place) for place in finding.places if place.line],
    }
