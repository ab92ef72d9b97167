"""Every device's best route for one destination at once: a forest towards it, grouped by what they do.

Tables alone are followed, no access list and no steering: the question is where routing leads. Devices are
of one group where their traffic ends in the same way at the same places.
"""

from collections.abc import Iterable
from typing import NamedTuple

from routrel.analysis.answers import destinations
from routrel.analysis.answers.destinations import Exit
from routrel.analysis.table_rows import table_row
from routrel.model.addresses import Address, Prefix
from routrel.model.routing import DEFAULT_INSTANCE
from routrel.routing.routes import NextHop, Route
from routrel.routing.solve import Solved


class Border(NamedTuple):
    """Where traffic passes from one AS to another: the last device of the first, and the next one."""

    device: str
    interface: str
    onward: str
    number: int
    """The AS that it goes into."""


WORDS = {
    "delivered": "to {place}",
    "discarded": "discarded at {place}",
    "unrouted": "no route at {place}",
    "unresolved": "next hop of {place} not there",
    "leaves": "leaves by {place}",
    "loops": "goes round at {place}",
}


class Forest:
    """The forest towards one destination."""

    def __init__(self, solved: Solved, asked: Prefix | Address):
        self.solved = solved
        self.topology = solved.topology
        self.asked = asked
        self.address = asked if isinstance(asked, Address) else Address(asked.family, asked.network)
        self.routes = {instance.index: self._route(instance.index) for instance in self.topology.instances}
        self.exits = self._follow()
        """Where traffic from each instance ends, over all equal ways."""

    def borders(self) -> dict[int, frozenset[Border]]:
        """Where traffic from each instance first passes into another AS, over all equal ways."""
        crossing: dict[int, set[Border]] = {instance: set() for instance in self.routes}
        before: dict[int, set[int]] = {instance: set() for instance in self.routes}
        for instance, route in self.routes.items():
            if route is None or route.action != "forward" or self._delivers(route):
                continue
            for hop in route.next_hops:
                target = self.target(hop)
                if target is None:
                    continue
                own, far = self._as_number(instance), self._as_number(target)
                if own is not None and far is not None and own != far:
                    port = self.topology.ports[hop.port].name
                    crossing[instance].add(
                        Border(port.device, port.interface, self.topology.instance_name(target), far)
                    )
                else:
                    before[target].add(instance)
        waiting = list(self.routes)
        while waiting:
            instance = waiting.pop()
            for other in before[instance]:
                if not crossing[instance] <= crossing[other]:
                    crossing[other] |= crossing[instance]
                    waiting.append(other)
        return {instance: frozenset(found) for instance, found in crossing.items()}

    def _as_number(self, instance: int) -> int | None:
        routing = self.topology.instances[instance].routing
        return routing.bgp.number if routing is not None and routing.bgp is not None else None

    def _route(self, instance: int) -> Route | None:
        """The route an instance uses: the longest match that holds all of what was asked."""
        if isinstance(self.asked, Address):
            return self.solved.lookup(instance, self.asked)
        table = self.solved.table(instance)
        for number in self.solved.prefixes.chain(self.address):
            prefix = self.solved.prefixes.prefixes[number]
            if prefix.covers(self.asked):
                route = table.get(number)
                if route is not None and route.protocol != "local":
                    return route
        return None

    def _follow(self) -> dict[int, frozenset[Exit]]:
        """What every instance does itself, handed back along the ways that lead to it."""
        exits: dict[int, set[Exit]] = {instance: self._own_exits(instance) for instance in self.routes}
        targets = {instance: set(self._targets(instance)) for instance in self.routes}
        before: dict[int, set[int]] = {instance: set() for instance in self.routes}
        for instance, ends in targets.items():
            for end in ends:
                before[end].add(instance)
        for instance in _circling(targets, before):
            exits[instance].add(Exit("loops", self.topology.instance_name(instance)))
        waiting = list(self.routes)
        while waiting:
            instance = waiting.pop()
            for other in before[instance]:
                if not exits[instance] <= exits[other]:
                    exits[other] |= exits[instance]
                    waiting.append(other)
        return {instance: frozenset(found) for instance, found in exits.items()}

    def _targets(self, instance: int) -> list[int]:
        route = self.routes[instance]
        if route is None or route.action != "forward" or self._delivers(route):
            return []
        targets = [self.target(hop) for hop in route.next_hops]
        return [target for target in targets if target is not None and self._forwards(target)]

    def _forwards(self, instance: int) -> bool:
        return self.topology.devices[self.topology.instances[instance].device].forwards

    def _delivers(self, route: Route) -> bool:
        return route.protocol in ("connected", "local")

    def target(self, hop: NextHop) -> int | None:
        """The instance a next hop leads to, or None."""
        if hop.neighbor >= 0:
            return self.topology.ports[hop.neighbor].instance
        segment = self.topology.segment_of[hop.port]
        if hop.address is None or segment < 0:
            return None
        port = self.topology.on_segment(segment, hop.address)
        return None if port is None or port == hop.port else self.topology.ports[port].instance

    def steps(self, route: Route | None) -> list[destinations.ForestStep]:
        """The next devices of a route."""
        found = []
        for hop in () if route is None else route.next_hops:
            target = self.target(hop)
            if target is not None:
                name = self.topology.devices[self.topology.instances[target].device].name
                links = list(self.topology.segments[self.topology.segment_of[hop.port]].links)
                found.append(destinations.ForestStep(name, self.topology.ports[hop.port].name.interface, links))
        return found

    def _own_exits(self, instance: int) -> set[Exit]:
        name = self.topology.instance_name(instance)
        route = self.routes[instance]
        if route is None:
            return {Exit("unrouted", name)}
        if route.action != "forward":
            return {Exit("discarded", name)}
        if self._delivers(route):
            return {Exit("delivered", name, self.topology.ports[route.next_hops[0].port].name.interface)}
        found: set[Exit] = set()
        for hop in route.next_hops:
            target = self.target(hop)
            interface = self.topology.ports[hop.port].name.interface
            if target is None:
                found.add(Exit("leaves" if self._is_alone(hop) else "unresolved", name, interface))
            elif not self._forwards(target):
                found.add(Exit("delivered", self.topology.instance_name(target)))
        return found

    def _is_alone(self, hop: NextHop) -> bool:
        """Whether the model knows no other device on the segment of a next hop: the network ends there."""
        segment = self.topology.segment_of[hop.port]
        port = self.topology.ports[hop.port]
        if (port.name.interface, hop.address) in self.topology.devices[port.device].neighbors:
            return True
        ports = self.topology.segments[segment].ports if segment >= 0 else ()
        return port.up and all(self.topology.ports[one].device == port.device for one in ports)


def _circling(targets: dict[int, set[int]], before: dict[int, set[int]]) -> set[int]:
    """Instances that packets can come back to: what is left once all that ends or begins is taken away."""
    left = set(targets)
    for onward in (targets, before):
        count = {instance: len(onward[instance] & left) for instance in left}
        back = before if onward is targets else targets
        waiting = [instance for instance in left if not count[instance]]
        while waiting:
            instance = waiting.pop()
            left.discard(instance)
            for other in back[instance]:
                if other in left:
                    count[other] -= 1
                    if not count[other]:
                        waiting.append(other)
    return left


def routes_to(solved: Solved, asked: Prefix | Address) -> destinations.Forest:
    """Every routing instance's route for a destination, and the groups they form."""
    forest = Forest(solved, asked)
    topology = solved.topology
    rows: list[destinations.ForestRow] = []
    groups: dict[tuple[bool, frozenset[Exit]], list[int]] = {}
    without: list[int] = []
    """Rows without any route: one group, whichever device it is."""
    for instance in topology.instances:
        device = topology.devices[instance.device]
        if not device.forwards or (device.kind == "switch" and instance.routing is None):
            continue
        route, exits = forest.routes[instance.index], forest.exits[instance.index]
        by_default = (
            route is not None and route.prefix.is_default and not (isinstance(asked, Prefix) and asked.is_default)
        )
        (without if route is None else groups.setdefault((by_default, exits), [])).append(len(rows))
        shown = None if route is None else table_row(solved, instance.index, route)
        rows.append(destinations.ForestRow(device.name, instance.vrf, shown, forest.steps(route), by_default))
    ordered = sorted(groups.items(), key=lambda item: (-len(item[1]), [*map(_order, _in_order(item[0][1]))]))
    shown_groups = [
        destinations.ForestGroup(_label(by_default, exits), by_default, _in_order(exits), members)
        for (by_default, exits), members in ordered
    ]
    if without:
        exits = frozenset(Exit("unrouted", _instance_name(rows[row])) for row in without)
        shown_groups.append(destinations.ForestGroup("no route", False, _in_order(exits), without))
    return destinations.Forest(str(asked), _sites(forest), rows, shown_groups)


def _sites(forest: Forest) -> list[destinations.SiteExits]:
    """From each site: where traffic passes into another AS, and where it ends without doing so.

    Empty for a destination inside the model, and where no traffic passes from one AS to another.
    """
    topology, borders = forest.topology, forest.borders()
    found: dict[str, dict[Border, int]] = {}
    ends: dict[str, set[Exit]] = {}
    is_inside = any(one.how == "delivered" for exits in forest.exits.values() for one in exits)
    if is_inside or not any(borders.values()):
        return []
    for number, device in enumerate(topology.devices):
        if device.site is None or not device.forwards or (device.kind == "switch" and device.routing is None):
            continue
        if not borders[number]:
            ends.setdefault(device.site, set()).update(forest.exits[number])
        of_site = found.setdefault(device.site, {})
        for border in borders[number]:
            of_site[border] = of_site.get(border, 0) + 1
    sites = topology.network.sites
    return [
        destinations.SiteExits(
            name,
            sites[name].label if name in sites and sites[name].label else name,
            [destinations.Border(*border, count) for border, count in sorted(of_site.items())],
            [_label(False, [one]) for one in _in_order(ends.get(name, ()))],
        )
        for name, of_site in sorted(found.items())
    ]


def _instance_name(row: destinations.ForestRow) -> str:
    return row.device if row.vrf == DEFAULT_INSTANCE else f"{row.device} (VRF {row.vrf})"


def _order(one: Exit) -> tuple[str, str, str]:
    return one.how, one.device, one.interface or ""


def _in_order(exits: Iterable[Exit]) -> list[Exit]:
    return sorted(exits, key=_order)


def _label(by_default: bool, exits: Iterable[Exit]) -> str:
    words = " and ".join(WORDS[one.how].format(place=one) for one in _in_order(exits))
    return ("by default " if by_default else "") + words
