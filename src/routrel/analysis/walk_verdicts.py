"""Flows answered: what became of each direction, what stops it, and what of it is not sure."""

from typing import Any

from routrel.analysis.answers import walks
from routrel.analysis.causes import CauseFinder
from routrel.forwarding.flow import Asker, Flow, Walk
from routrel.forwarding.flow_words import FlowError
from routrel.forwarding.trace import Stop, Trace
from routrel.model.devices import Gap
from routrel.model.places import Place
from routrel.routing.solve import Solved
from routrel.topology.segments import Topology

Fields = dict[str, Any]
"""What several shapes have in common, by name."""


def gaps_on_the_way(topology: Topology, stop: Stop) -> list[Gap]:
    """What the model leaves out of a device, as far as it could act on a packet there."""
    device = topology.devices[stop.device]
    if not device.gaps:
        return []
    passed = [stop.ingress, *(branch.port for branch in stop.branches)]
    names = {"", *(topology.ports[port].name.interface for port in passed if port >= 0)}
    return [gap for gap in device.gaps if gap.affects in names]


def _not_represented(solved: Solved, strand: Trace) -> list[walks.NotRepresented]:
    """What the model leaves out of the devices and interfaces that a strand passes, each with its place."""
    found = {
        (stop.device, gap): walks.NotRepresented(solved.topology.devices[stop.device].name, gap.what, gap.place or None)
        for stop in strand.stops
        for gap in gaps_on_the_way(solved.topology, stop)
    }
    return list(found.values())


def strand_doubts(solved: Solved, strand: Trace) -> list[str]:
    """Why the routes that a strand used are not sure, each reason once."""
    if not solved.doubts:
        return []
    routes = ((stop.instance, stop.route.protocol) for stop in strand.stops if stop.route is not None)
    return list(dict.fromkeys(doubt for used in dict.fromkeys(routes) for doubt in solved.doubts_about(*used)))


class Answerer:
    """Answers flows of one solved network."""

    def __init__(self, solved: Solved):
        self.solved = solved
        self.asker = Asker(solved)
        self.finder = CauseFinder(solved, self.asker.walker)

    def verdict(self, walk: Walk) -> walks.WalkVerdict:
        """What became of a flow; of a range of ports with what becomes of each part of it."""
        return walks.WalkVerdict(**self._verdict(walk))

    def listed(self, flow: Flow, with_reply: bool = True) -> walks.ListedWalk | walks.RefusedFlow:
        """One flow of a list: its answer with the flow beside it, or why it cannot be asked."""
        try:
            return walks.ListedWalk(flow=asked_flow(flow), **self._verdict(self.asker.ask(flow, with_reply)))
        except FlowError as error:
            return walks.RefusedFlow(asked_flow(flow), str(error))

    def answer(self, flow: Flow) -> walks.FlowAnswer:
        """One flow of many, both ways, its answer or its refusal in one shape."""
        try:
            return walks.FlowAnswer(asked_flow(flow), self.verdict(self.asker.ask(flow)), "")
        except FlowError as error:
            return walks.FlowAnswer(asked_flow(flow), None, str(error))

    def _verdict(self, walk: Walk) -> Fields:
        reply = walk.reply
        return {
            **self.outcome(walk),
            "forward": walks.StrandVerdict(**self.strand(walk, walk.forward)),
            "reply": None if reply is None else walks.StrandVerdict(**self.strand(walk, reply)),
        }

    def strand(self, walk: Walk, strand: Trace) -> Fields:
        """The fields of either strand of a walk that every answer has."""
        names = self.solved.topology.devices
        return {
            "verdict": walk.forward_verdict if strand is walk.forward else walk.reply_verdict,
            "path_count": strand.path_count,
            "paths": [[names[device].name for device in path] for path in strand.paths()],
            "causes": self.finder.causes(walk, strand),
            "doubts": strand_doubts(self.solved, strand),
            "not_represented": _not_represented(self.solved, strand),
        }

    def outcome(self, walk: Walk) -> Fields:
        """The fields of a walk that no strand has."""
        return {
            "good": walk.is_good,
            "return_note": walk.reply_note,
            "forward_note": walk.forward_note,
            "parts": [
                walks.PortsPart(
                    [str(ports) for ports in part.ports],
                    part.walk.forward.verdict,
                    None if part.walk.reply is None else part.walk.reply.verdict,
                    part.walk.is_good,
                    [cause for strand in part.walk.strands for cause in self.finder.causes(part.walk, strand)],
                    self._deciders(part.walk),
                )
                for part in walk.parts
            ],
            "unexamined_ports": None if walk.unexamined is None else str(walk.unexamined),
        }

    def _deciders(self, walk: Walk) -> list[walks.Decider]:
        """The entries and rules that decided on the way there, in its order."""
        found: dict[tuple[str, str, int | None], walks.Decider] = {}

        def add(device: str, name: str, number: int | None, accepted: bool, place: Place, is_rule: bool) -> None:
            found[device, name, number] = walks.Decider(device, name, number, accepted, place or None, is_rule)

        for stop in walk.forward.stops:
            device = self.solved.topology.devices[stop.device]
            for check in (stop.acl_in, *(branch.acl_out for branch in stop.branches)):
                if check is None:
                    continue
                acl = device.acls[check.acl]
                place = acl.place if check.entry is None else acl.entries[check.entry].place
                number = None if check.entry is None else check.entry + 1
                add(device.name, acl.name, number, check.accepted, place, False)
            for ruled in (*stop.filters, *(one for branch in stop.branches for one in branch.filters)):
                chain, rule = ruled.located, ruled.rule
                if rule is not None:
                    add(device.name, str(chain), rule.number, ruled.accepted, rule.place, True)
                elif not ruled.accepted:  # else a chain that has nothing to say of the packet
                    add(device.name, str(chain), None, False, chain.place, True)
        return list(found.values())


def asked_flow(flow: Flow) -> walks.AskedFlow:
    """A flow as it was asked."""
    return walks.AskedFlow(
        source=flow.source,
        to=flow.destination,
        service=flow.service,
        source_port=flow.source_port,
        enter=flow.enter,
        vrf=flow.vrf,
    )
