"""From the source text to what it does: the devices of a file, and of a line its statements with their effect."""

from collections import Counter
from collections.abc import Iterable, Iterator
from dataclasses import dataclass

from routrel.analysis.answers.offers import Offer
from routrel.analysis.answers.statements import Heading, Statement
from routrel.analysis.contest.why import hops_text
from routrel.analysis.expectations.words import expectation_words
from routrel.analysis.stated import Stated, stated_offers, stated_parts
from routrel.analysis.table_rows import table_row
from routrel.analysis.virtual_routers import part_words, port_of, virtual_router_offers
from routrel.model.addresses import Prefix
from routrel.model.devices import Device, Interface
from routrel.model.expectations import Expectation
from routrel.model.findings import Finding
from routrel.model.network import InterfaceName, Link
from routrel.model.places import Place
from routrel.model.policies import Policy
from routrel.model.routing import DEFAULT_INSTANCE, StaticRoute
from routrel.model.virtual_routers import VirtualRouter
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


class _Statements:
    """The statements of one file and their effects."""

    def __init__(self, solved: Solved, file: str):
        self.solved = solved
        self.file = file

    def places(self) -> Iterator[Stated]:
        """All statements of the file that do something."""
        return (one for one in stated_parts(self.solved.network) if one.place.file == self.file)

    def effect(self, one: Stated, problems: list[str]) -> Statement:
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
            list(self._offers(one)),
        )

    def _offers(self, one: Stated) -> Iterator[Offer]:
        if isinstance(one.what, VirtualRouter) and one.device is not None:
            yield from virtual_router_offers(self.solved.topology, one.device, one.what)
        else:
            yield from stated_offers(one)

    def _does(self, one: Stated, problems: list[str]) -> str:
        what, device = one.what, one.device
        if isinstance(what, Link):
            down = next(filter(None, (self.solved.topology.link_state(end) for end in what.ends)), "")
            return f"joins {' and '.join(map(str, what.ends))}" + (f"; {down}" if down else "")
        if isinstance(what, Expectation):
            return f"expects {expectation_words(what)}"
        if device is None:
            return f"can be asked about as {one.name}"
        if isinstance(what, Device):
            routes = sum(1 for _ in self.solved.table(self.solved.topology.device_index[device.name]))
            return f"{device.kind} with {_counted(len(device.interfaces), 'interface')}, {_counted(routes, 'route')}"
        if isinstance(what, Interface):
            return self._interface(device, what)
        if isinstance(what, VirtualRouter):
            return part_words(self.solved.topology, port_of(self.solved.topology, device, what), what)
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

    def _protocol(self, device: Device, one: Stated) -> str:
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
