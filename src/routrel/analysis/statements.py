"""From the source text to what it does: the devices of a file, and of a line its statements with their effect."""

from collections import Counter
from collections.abc import Iterable, Iterator
from dataclasses import dataclass
from typing import Any

from routrel.analysis.answers.statements import Heading, Offer, Statement, StatementKind
from routrel.analysis.contest.why import hops_text
from routrel.analysis.offered_changes import in_list, switched
from routrel.analysis.table_rows import table_row
from routrel.model.addresses import Prefix
from routrel.model.bgp import Bgp, BgpNeighbor
from routrel.model.devices import Device, Interface
from routrel.model.findings import Finding
from routrel.model.network import InterfaceName, Link
from routrel.model.places import Place
from routrel.model.policies import Policy
from routrel.model.routing import DEFAULT_INSTANCE, Ospf, RoutingInstance, StaticRoute
from routrel.routing.solve import Solved

MOST_STATEMENTS = 50
"""Statements that one question gives: a file may be a single line."""


@dataclass(frozen=True)
class Span:
    """A part of a line, from a column up to another, columns from 1."""

    line: int
    column: int
    end: int

    def holds(self, place: Place) -> bool:
        return place.line == self.line and self.column <= place.column < self.end


def outline(solved: Solved, file: str) -> list[Heading]:
    """The devices that a file states, in its order."""
    found = [
        Heading(device.name, device.kind, device.place.line, device.place.column)
        for device in solved.network.devices.values()
        if device.place.file == file
    ]
    return sorted(found, key=lambda heading: (heading.line, heading.column))


def statements_at(solved: Solved, findings: Iterable[Finding], file: str, span: Span) -> list[Statement]:
    """What stands in a part of a line and what it does; where nothing begins there, what began last before it."""
    reader = _Statements(solved, file)
    every = list(reader.places())
    chosen = [one for one in every if span.holds(one.place)]
    if not chosen:
        before = [one.place for one in every if (one.place.line, one.place.column) < (span.line, span.column)]
        last = max(before, key=lambda place: (place.line, place.column), default=None)
        chosen = [one for one in every if one.place == last]
    chosen = sorted(chosen, key=lambda one: one.place)[:MOST_STATEMENTS]
    wrong: dict[Place, list[str]] = {}
    for finding in findings:
        for place in finding.places:
            wrong.setdefault(place, []).append(finding.message)
    return [reader.effect(one, wrong.get(one.place, [])) for one in chosen]


@dataclass(frozen=True)
class _Stated:
    """A part of the model where the text states it; ``what`` is that part, ``index`` its place in a list."""

    place: Place
    kind: StatementKind
    name: str
    what: object
    device: Device | None = None
    vrf: str = DEFAULT_INSTANCE
    index: int = 0


class _Statements:
    """The statements of one file and their effects."""

    def __init__(self, solved: Solved, file: str):
        self.solved = solved
        self.file = file

    def places(self) -> Iterator[_Stated]:
        """All statements of the file that do something."""
        return (one for one in self._all() if one.place.file == self.file)

    def _all(self) -> Iterator[_Stated]:
        network = self.solved.network
        for device in network.devices.values():
            yield _Stated(device.place, "device", device.name, device, device)
            for interface in device.interfaces.values():
                yield _Stated(interface.place, "interface", interface.name, interface, device, interface.vrf)
            for index, gateway in enumerate(device.gateways):
                yield _Stated(gateway.place, "route", str(gateway.prefix), gateway, device, index=index)
            for vrf, routing in {DEFAULT_INSTANCE: device.routing, **device.vrfs}.items():
                if routing is not None:
                    yield from self._routing(device, vrf, routing)
            yield from self._filters(device)
        for link in network.links:
            yield _Stated(link.place, "link", link.name or " - ".join(map(str, link.ends)), link)
        for endpoint in network.endpoints.values():
            yield _Stated(endpoint.place, "endpoint", endpoint.name, endpoint)

    def _routing(self, device: Device, vrf: str, routing: RoutingInstance) -> Iterator[_Stated]:
        for index, route in enumerate(routing.static):
            yield _Stated(route.place, "route", str(route.prefix), route, device, vrf, index)
        for protocol in routing.protocols:
            name = type(protocol).__name__.lower()
            yield _Stated(protocol.place, "protocol", name, name, device, vrf)
            if isinstance(protocol, Bgp):
                for prefix, place in protocol.networks:
                    yield _Stated(place, "route", str(prefix), prefix, device, vrf)
                for aggregate in protocol.aggregates:
                    yield _Stated(aggregate.place, "route", str(aggregate.prefix), aggregate.prefix, device, vrf)
                for neighbor in protocol.neighbors:
                    yield _Stated(neighbor.place, "session", str(neighbor.address), neighbor, device, vrf)
                continue
            parts = protocol.areas if isinstance(protocol, Ospf) else (protocol,)
            for part in parts:
                for interface in part.interfaces:
                    yield _Stated(interface.place, "protocol", f"{name} on {interface.name}", name, device, vrf)
            for area in protocol.areas if isinstance(protocol, Ospf) else ():
                for one in area.ranges:
                    yield _Stated(one.place, "route", str(one.prefix), one.prefix, device, vrf)

    def _filters(self, device: Device) -> Iterator[_Stated]:
        for acl in device.acls.values():
            yield _Stated(acl.place, "acl", acl.name, acl, device)
            for index, entry in enumerate(acl.entries):
                yield _Stated(entry.place, "entry", acl.name, acl, device, index=index)
        for steering in device.forwarding_policies.values():
            for index, rule in enumerate(steering.entries):
                yield _Stated(rule.place, "steering", steering.name, steering, device, index=index)
        for policy in device.policies.values():
            yield _Stated(policy.place, "policy", policy.name, policy, device, index=-1)
            for index, statement in enumerate(policy.statements):
                yield _Stated(statement.place, "policy", policy.name, policy, device, index=index)

    def effect(self, one: _Stated, problems: list[str]) -> Statement:
        """What a statement does, with the problems that were found of it."""
        is_route = one.kind == "route"
        return Statement(
            one.place.line,
            one.place.column,
            one.kind,
            one.name,
            self._does(one, problems),
            None if one.device is None else one.device.name,
            "" if one.vrf == DEFAULT_INSTANCE else one.vrf,
            one.name if is_route else None,
            one.name if one.kind == "policy" else None,
            problems,
            [Offer(label, change) for label, change in self._offers(one)],
        )

    def _offers(self, one: _Stated) -> Iterator[tuple[str, dict[str, Any]]]:
        """The changes that are at hand where a statement stands: it off or on, taken out, or before the one before."""
        what, device = one.what, one.device
        if isinstance(what, Link):
            yield switched("link", str(what.ends[0]), what.enabled)
        if device is None or device.program is not None or device.kernel_routing is not None:
            return
        where: dict[str, Any] = {"at": device.name, **({} if one.vrf == DEFAULT_INSTANCE else {"vrf": one.vrf})}
        if isinstance(what, Device):
            yield switched("device", device.name, device.enabled)
        elif isinstance(what, Interface):
            yield switched("interface", f"{device.name}:{what.name}", what.enabled)
        elif isinstance(what, BgpNeighbor):
            label, change = switched("session", f"{device.name} {what.address}", what.enabled)
            yield label, change | where | {"at": change["at"]}
        elif isinstance(what, StaticRoute) and what not in device.gateways:
            yield "take it out", {"remove": "static", **where, "number": one.index + 1}
        elif one.kind == "entry":
            yield from in_list("acl_entry", {**where, "acl": one.name}, one.index)
        elif one.kind == "steering":
            yield from in_list("steering_entry", {**where, "policy": one.name}, one.index)
        elif isinstance(what, Policy) and one.index >= 0:
            yield from in_list("statement", {**where, "policy": one.name}, one.index)

    def _does(self, one: _Stated, problems: list[str]) -> str:
        what, device = one.what, one.device
        if isinstance(what, Link):
            down = next(filter(None, (self.solved.topology.link_state(end) for end in what.ends)), "")
            return f"joins {' and '.join(map(str, what.ends))}" + (f"; {down}" if down else "")
        if device is None:
            return f"can be asked about as {one.name}"
        if isinstance(what, Device):
            routes = sum(1 for _ in self.solved.table(self.solved.topology.device_index[device.name]))
            return f"{device.kind} with {_counted(len(device.interfaces), 'interface')}, {_counted(routes, 'route')}"
        if isinstance(what, Interface):
            return self._interface(device, what)
        if isinstance(what, (StaticRoute, Prefix)):
            return self._route(device, one.vrf, what)
        if one.kind == "session":
            return "a session with problems" if problems else "a session; nothing was found against it"
        if one.kind == "policy" and isinstance(what, Policy):
            count = len(what.statements)
            return (
                f"a policy of {_counted(count, 'statement')}"
                if one.index < 0
                else f"statement {one.index + 1} of {count}"
            )
        if one.kind in ("acl", "entry"):
            asked = _asked_at(device, one.name)
            return f"entry {one.index + 1}, {asked}" if one.kind == "entry" else asked
        if one.kind == "steering":
            ports = [name for name, port in device.interfaces.items() if port.forwarding_policy == one.name]
            return f"entry {one.index + 1}, " + (f"steers what comes in at {', '.join(ports)}" if ports else "unused")
        return self._protocol(device, one)

    def _interface(self, device: Device, interface: Interface) -> str:
        topology = self.solved.topology
        port = topology.ports[topology.port_index[InterfaceName(device.name, interface.name)]]
        link = topology.link_of.get(port.name)
        others = [] if link is None else [end for end in self.solved.network.links[link].ends if end != port.name]
        cabled = f", cabled to {' and '.join(map(str, others))}" if others else ""
        return (f"down: {port.down}" if port.down else "up") + cabled

    def _route(self, device: Device, vrf: str, stated: StaticRoute | Prefix) -> str:
        """What stands in the table for the prefix that a statement names."""
        prefix = stated if isinstance(stated, Prefix) else stated.prefix
        instance = self.solved.topology.instance_index[device.name, vrf]
        number = self.solved.prefixes.number.get(prefix)
        route = None if number is None else self.solved.table(instance).get(number)
        if route is None:
            return f"{prefix} is not in the table of {device.name}"
        row = table_row(self.solved, instance, route)
        where = hops_text(row.next_hops) or row.action
        if isinstance(stated, StaticRoute) and route.protocol == "static":
            return f"in the table of {device.name}: {where}"
        return f"in the table of {device.name} {prefix} is by {route.protocol}: {where}"

    def _protocol(self, device: Device, one: _Stated) -> str:
        """How many of the device's routes a protocol brings, by one interface or all."""
        instance = self.solved.topology.instance_index[device.name, one.vrf]
        interface = one.name.partition(" on ")[2]
        ports = self.solved.topology.ports
        brought = Counter(
            hop
            for route in self.solved.table(instance)
            if route.protocol == one.what
            for hop in ({ports[hop.port].name.interface for hop in route.next_hops} if interface else {""})
        )
        by = f", out of {interface}" if interface else ""
        return f"brings {device.name} {_counted(brought[interface], 'route')}{by}"


def _asked_at(device: Device, acl: str) -> str:
    """Where an ACL is asked."""
    places = [
        f"{way} at {interface.name}"
        for interface in device.interfaces.values()
        for way, name in (("in", interface.acl_in), ("out", interface.acl_out))
        if name == acl
    ]
    return f"asked {', '.join(places)}" if places else "asked nowhere"


def _counted(count: int, noun: str) -> str:
    return f"{count:,} {noun}{'' if count == 1 else 's'}"
