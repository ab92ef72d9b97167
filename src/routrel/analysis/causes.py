"""Causes: what exactly stops a flow, with its evidence, what nearly let it pass and where missing routes stopped.

A cause is data (device, stage, ACL and entry, route, place in the source); its message is made here from
that data. Remedies come from ``remedies``.
"""

from collections.abc import Sequence
from functools import cached_property

from routrel.analysis.answers import contests
from routrel.analysis.answers.walks import Cause, Remedy
from routrel.analysis.contest.absence import trails_towards
from routrel.analysis.contest.explainer import Explainer
from routrel.analysis.contest.trail import Step, step_answer
from routrel.analysis.mends import mended
from routrel.analysis.program_remedies import (
    ProgramRemedies,
    check_words,
    program_near_misses,
    state_words,
    unsure_words,
)
from routrel.analysis.remedies import RouteRemedies, missing_entry, near_misses
from routrel.analysis.virtual_routers import group_of, inactive_words
from routrel.forwarding.flow import GOOD, Walk
from routrel.forwarding.trace import Branch, Ending, SteeringCheck, Stop, Trace
from routrel.forwarding.walk import Walker
from routrel.model.addresses import Prefix
from routrel.model.devices import Device
from routrel.model.filters import PROTOCOL_NAMES, Header, PortRange
from routrel.model.findings import some_of
from routrel.model.network import InterfaceName
from routrel.model.places import Place
from routrel.routing.solve import Solved
from routrel.topology.wiring import Break, down_place

MOST_STEPS = 4
"""So many ends of trails stand with a cause; the route's own view has them all."""


def header_text(header: Header, ports: Sequence[PortRange] = (), is_reply: bool = False) -> str:
    """A header in words: ``tcp 10.0.0.1 > 10.0.1.1 port 443``; with the service's ``ports`` where it stands for all."""
    name = PROTOCOL_NAMES.get(header.protocol, f"protocol {header.protocol}")
    text = f"{name} {header.source} > {header.destination}"
    if ports and len(ports) + ports[0].high - ports[0].low > 1:
        return f"{text} {'source ports' if is_reply else 'ports'} {some_of(ports)}"
    return text if header.destination_port is None else f"{text} port {header.destination_port}"


def does_not_forward(device: Device, header: Header) -> str:
    """Of a host, or of a Linux router whose kernel does not forward what comes in by an interface."""
    if device.forwards:
        return f"{device.name} does not forward what comes in there by IPv{header.source.family}"
    return f"{device.name} is a host and does not forward"


class CauseFinder:
    """Finds the causes on strands of one solved network."""

    def __init__(self, solved: Solved, walker: Walker):
        self.solved = solved
        self.walker = walker
        self.topology = solved.topology
        self.routes = RouteRemedies(solved, walker)
        self.rules = ProgramRemedies(solved, walker)

    def causes(self, walk: Walk, strand: Trace) -> list[Cause]:
        """One cause per bad ending of either strand of a walk, in its order, none named twice.

        Where some ways arrive and others leave the model, the leaving ones are named too.
        """
        is_reply = strand is walk.reply
        stateful = walk.stateful if is_reply else frozenset()
        found: dict[tuple[object, ...], Cause] = {}
        bad = [ending for ending in strand.endings if ending.verdict not in GOOD]
        if not bad and strand.verdict == "mixed":
            bad = [ending for ending in strand.endings if ending.verdict == "leaves"]
        for ending in bad:
            cause = self._cause(strand, ending, is_reply, stateful, walk.ports)
            key = (cause.device, cause.stage, cause.interface, cause.acl, cause.entry, cause.message)
            found.setdefault(key, cause)
        return list(found.values())

    def _cause(
        self,
        strand: Trace,
        ending: Ending,
        is_reply: bool,
        stateful: frozenset[int],
        ports: tuple[PortRange, ...],
    ) -> Cause:
        stop = strand.stops[ending.stop]
        branch = stop.branches[ending.branch] if ending.branch >= 0 else None
        if ending.stage in ("acl_in", "acl_out"):
            return self._blocked(stop, branch, ending, is_reply, ports)
        if ending.stage == "filter":
            return self._filtered(strand, stop, branch, ending, is_reply, ports)
        message, place = self._said(strand, ending, stop, branch)
        device = self.topology.devices[stop.device]
        interface = self._interface(stop, branch)
        remedy: Remedy | None = None
        trail: tuple[contests.Step, ...] = ()
        if ending.stage not in ("steering", "host", "delivery"):
            if ending.verdict == "unrouted":
                prefix, trail = self._trail(stop)
                remedy = mended(self.solved, strand, stop, stateful, trail, prefix)
                remedy = remedy or self.routes.missing_route(strand, stop, stateful)
            elif ending.verdict == "discarded" and not _is_by_rule(stop):
                remedy = self.routes.longer_route(strand, stop, stateful)
        return Cause(
            device=device.name,
            interface=interface,
            stage=ending.stage,
            verdict=ending.verdict,
            message=message,
            stop=ending.stop,
            branch=ending.branch,
            place=place or None,
            remedy=remedy,
            notes=self._gap_notes(device, interface),
            trail=trail,
        )

    def _said(self, strand: Trace, ending: Ending, stop: Stop, branch: Branch | None) -> tuple[str, Place]:
        """What ended the packet where no filter did, and the statement that did it."""
        device, header, route = self.topology.devices[stop.device], stop.header, stop.route
        if ending.stage == "steering":
            assert stop.steering is not None and stop.steering.entry is not None
            text, place = _steering_entry(device, stop.steering)
            return f"{text} discards {header_text(header)}", place
        if ending.stage == "host":
            return f"{does_not_forward(device, header)}; {header.destination} is not its address", device.place
        if ending.stage == "delivery" and strand.expected is not None and ending.verdict == "discarded":
            wanted = some_of(sorted({f"{one.source} port {one.source_port}" for one in strand.expected}))
            came = stop.translated or stop.header
            text = f"the answer comes from {came.source} port {came.source_port}, and not from {wanted} that was asked"
            return text, device.place
        if ending.stage == "delivery":
            return self._elsewhere_text(strand, stop), device.place
        place = route.place if route else (device.routing or device).place
        if ending.verdict == "unrouted":
            return f"{device.name} has no route for {header.destination}", place
        if ending.verdict == "discarded" and stop.rule is not None and _is_by_rule(stop):
            text = f"routing rule {stop.rule.priority} ({stop.rule.text}) ends {header_text(header)}"
            return text, stop.rule.place
        if ending.verdict == "discarded":
            assert route is not None
            what = "discards" if route.action == "discard" else "rejects"
            text = f"the longest match for {header.destination} is {route.prefix}, a {route.protocol} route that {what}"
            return text, place
        if ending.verdict == "loops":
            assert branch is not None
            again = self.topology.devices[strand.stops[branch.target].device].name
            return f"the packet comes back to {again}: it goes round until its lifetime ends", place
        text = self._unresolved_text(device, branch, header)
        if stop.steering is not None and stop.steering.used and stop.steering.entry is not None:
            entry, place = _steering_entry(device, stop.steering)
            return f"{entry} steers it there, whatever the table says, and {text}", place
        apart = self._kept_apart(branch) if branch is not None else None
        return text, place if apart is None else apart[1].places[0]

    def _elsewhere_text(self, strand: Trace, stop: Stop) -> str:
        """Of a packet that another owner of its destination keeps: who, and who was meant."""
        destination = (stop.translated or stop.header).destination
        source = (stop.translated or stop.header).source
        if any(self.topology.ports[port].instance == stop.instance for port in self.topology.owners.get(source, ())):
            return f"it comes to {source}, its own sender, which does not believe it (RFC 1812 section 5.3.7)"
        owners = [self.topology.ports[number] for number in self.topology.owners.get(destination, ())]
        here = next(port.name for port in owners if port.instance == stop.instance)
        others = [str(port.name) for port in owners if port.instance != stop.instance]
        name = self.topology.instance_name(stop.instance)
        if destination not in {start.header.destination for start in strand.asked}:
            return (
                f"rules on the way gave it the destination {destination}, an address of {here}: it ends at {name}, and"
                " not where it was meant"
            )
        meant = f", and not at the one that was meant: {some_of(others)} has it too" if others else ""
        return f"{destination} is an address of {here} in this part of the network, so it ends at {name}{meant}"

    def _idle(self, stop: Stop) -> list[Step]:
        """Routes of the instance itself that would lead there and are not active, the longest match first."""
        destination, found = stop.header.destination, []
        self.solved.table(stop.instance)
        for route, reason in self.solved.unresolved.get(stop.instance, ()):
            if route.prefix.contains(destination):
                text = f"{route.prefix} is stated here and not active: {reason}"
                found.append((route.prefix.length, Step(stop.instance, text, route.place, True)))
        for number in self.topology.ports_of[stop.device]:
            port = self.topology.ports[number]
            for prefix in port.prefixes if port.instance == stop.instance and not port.up else ():
                if prefix.contains(destination):
                    text = f"{port.name} has {prefix} and is down: {port.down}"
                    found.append((prefix.length, Step(stop.instance, text, down_place(self.topology, port), True)))
        return [step for _, step in sorted(found, key=lambda one: -one[0])]

    def _trail(self, stop: Stop) -> tuple[Prefix | None, tuple[contests.Step, ...]]:
        """What keeps a route out of a table that has none: its own that are idle, and where those of others stopped;
        and the prefix by which others would tell of the destination."""
        prefix, found = trails_towards(self._explain, stop.instance, stop.header.destination)
        idle = self._idle(stop)
        said = {(step.instance, step.place) for step in idle}
        stopped = dict.fromkeys(step for trail in found[:MOST_STEPS] for step in trail.steps if step.stopped)
        further = [step for step in stopped if (step.instance, step.place) not in said]
        return prefix, tuple(step_answer(self.topology, step) for step in (*idle[:MOST_STEPS], *further))

    @cached_property
    def _explain(self) -> Explainer:
        return Explainer(self.solved)

    def _interface(self, stop: Stop, branch: Branch | None) -> str | None:
        if branch is not None:
            return self.topology.ports[branch.port].name.interface
        return self.topology.ports[stop.ingress].name.interface if stop.ingress >= 0 else None

    def _gap_notes(self, device: Device, interface: str | None) -> tuple[str, ...]:
        return tuple(gap.what for gap in device.gaps if gap.affects in ("", interface))

    def _unresolved_text(self, device: Device, branch: Branch | None, header: Header) -> str:
        if branch is None:
            return f"the route for {header.destination} has no next hop left"
        port = self.topology.ports[branch.port]
        if not port.up:
            return f"the route leads out of {port.name}, which is down: {port.down}"
        if branch.verdict == "leaves":
            return f"{device.name} hands it to {branch.address}, which is beyond the model"
        segment = self.topology.segment_of[branch.port]
        group = group_of(self.topology, segment, branch.address)
        if group is not None and group.active.port == branch.port:
            return (
                f"{branch.address} is an address of {group.name}: {device.name} is active for it and passes on what is"
                " sent by way of it, but takes no packets to it itself ('accept' is off, RFC 9568 section 6.4.3)"
            )
        what = "next hop" if branch.via_next_hop else "destination"
        inactive = inactive_words(self.topology, segment, branch.address)
        text = inactive or f"no device on the segment of {port.name} has the {what} {branch.address}"
        apart = None if inactive else self._kept_apart(branch)
        return text if apart is None else f"{text}: {apart[0]} has it, and {apart[1].text}"

    def _kept_apart(self, branch: Branch) -> tuple[InterfaceName, Break] | None:
        """The interface that has what a branch leads to and is cabled there, and what keeps the two apart."""
        holder = self.solved.wiring.holder(branch.port, branch.address)
        found = None if holder is None else self.solved.wiring.apart(branch.port, holder)
        return None if holder is None or found is None else (self.topology.ports[holder].name, found)

    def _blocked(
        self, stop: Stop, branch: Branch | None, ending: Ending, is_reply: bool, ports: tuple[PortRange, ...]
    ) -> Cause:
        device = self.topology.devices[stop.device]
        check = stop.acl_in if branch is None else branch.acl_out
        assert check is not None
        acl = device.acls[check.acl]
        interface = self._interface(stop, branch)
        direction = "coming in by" if branch is None else "going out by"
        what = f"{header_text(stop.header, ports, is_reply)}, {direction} {interface}"
        if check.entry is None:
            message = f"no entry of ACL {acl.name} matches {what}: its closing drop decides"
            place = acl.place
        else:
            entry = acl.entries[check.entry]
            named = f" ({entry.name})" if entry.name else ""
            message = f"entry {check.entry + 1}{named} of ACL {acl.name} {entry.action}s {what}"
            place = entry.place
        return Cause(
            device=device.name,
            interface=interface,
            stage=ending.stage,
            verdict="blocked",
            message=message,
            stop=ending.stop,
            branch=ending.branch,
            acl=acl.name,
            entry=None if check.entry is None else check.entry + 1,
            place=place or None,
            near_misses=near_misses(device.name, acl, stop.header, check.entry),
            remedy=missing_entry(device.name, acl, check.entry, stop.header, is_reply, ports),
            notes=self._gap_notes(device, interface),
        )

    def _filtered(
        self,
        strand: Trace,
        stop: Stop,
        branch: Branch | None,
        ending: Ending,
        is_reply: bool,
        ports: tuple[PortRange, ...],
    ) -> Cause:
        """A rule of a filter program, or a chain's policy; of several outcomes it says that it is one."""
        asked = stop if branch is None else branch
        check = asked.stopped_by or next(one for one in reversed(asked.filters) if not one.accepted)
        device, interface = self.topology.devices[stop.device], self._interface(stop, branch)
        what = header_text(check.header or stop.header, ports, is_reply)
        if interface is not None:
            what += f", {'coming in by' if branch is None else 'going out by'} {interface}"
        state = f", ct state {state_words(check.packet.state)}" if check.packet is not None else ""
        message = f"{check_words(check)} {check.action}s {what}, at {check.hook}{state}"
        if check.rule is not None:
            message += f": {check.rule.text}"
        if check.unsure:
            message = f"it may end here, for {unsure_words(check)}. Then {message}"
        place = check.located.place if check.rule is None else check.rule.place
        if check.unsure:
            place = check.unsure[0][1].place
        engine = self.walker.engine(stop.device)
        return Cause(
            device=device.name,
            interface=interface,
            stage="filter",
            verdict="blocked",
            message=message,
            stop=ending.stop,
            branch=ending.branch,
            place=place or None,
            near_misses=() if engine is None else program_near_misses(engine, check),
            remedy=self.rules.missing_rule(strand, ending.stop, check, ports),
            notes=self._gap_notes(device, interface),
            chain=str(check.located),
            rule=None if check.rule is None else check.rule.number,
            unsure=bool(check.unsure),
        )


def _is_by_rule(stop: Stop) -> bool:
    """Whether a routing rule ended the packet, before any table."""
    return stop.rule is not None and stop.rule.action != "table"


def _steering_entry(device: Device, check: SteeringCheck) -> tuple[str, Place]:
    """The entry of a forwarding policy that decided, in words, and where it stands."""
    assert check.entry is not None
    place = device.forwarding_policies[check.policy].entries[check.entry].place
    return f"entry {check.entry + 1} of forwarding policy {check.policy}", place
