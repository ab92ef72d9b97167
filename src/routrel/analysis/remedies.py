"""Remedies: a change that cures what stops a flow, offered only after it was made and the flow asked again.

A remedy of an ACL is one more accepting entry, so that nothing that passed the list before is stopped by it;
it is asked of the changed list. A remedy of a table is a static route; the network is solved with it and the
flow walked anew from where it began: the stop must be gone, and nothing new may stop the flow instead.
"""

from typing import Any

from routrel.analysis.answers.walks import NearMiss, Remedy
from routrel.analysis.offered_changes import entry_added, entry_mended, static_added
from routrel.forwarding.flow import GOOD
from routrel.forwarding.trace import Ending, Start, Stop, Trace, Verdict
from routrel.forwarding.walk import Walker
from routrel.model.addresses import Address, Prefix
from routrel.model.devices import Device
from routrel.model.fields import replace
from routrel.model.filters import PORTED, PROTOCOL_NAMES, Acl, AclEntry, Header, HeaderMatch, PortRange
from routrel.model.network import Network
from routrel.model.places import Place
from routrel.model.routing import DEFAULT_INSTANCE, RoutingInstance, StaticRoute
from routrel.routing.solve import Solved
from routrel.solving import solve

MISS_ORDER = ("order", "protocol", "source", "destination", "destination_ports", "source_ports")
MOST_NEIGHBORS = 64
"""So many neighbours of a router are tried as the next hop of a static route."""

MOST_DEVICES = 1500
"""Larger networks are not solved again to try a static route: an answer would wait for seconds."""


def protocol_name(protocol: int | None) -> str:
    """A protocol as the network file names it."""
    return "any" if protocol is None else PROTOCOL_NAMES.get(protocol, str(protocol))


def match_text(match: HeaderMatch) -> str:
    """A match as the network file writes it."""
    parts = []
    if match.protocol is not None:
        parts.append(f"protocol: {protocol_name(match.protocol)}")
    if match.source is not None:
        parts.append(f"source: {braced(match.source)}")
    if match.destination is not None:
        parts.append(f"destination: {braced(match.destination)}")
    for name, ports in (("source_ports", match.source_ports), ("destination_ports", match.destination_ports)):
        if ports:
            parts.append(f"{name}: [{', '.join(_port_text(ports_range) for ports_range in ports)}]")
    return ", ".join(parts)


def braced(prefix: Prefix) -> str:
    """A prefix as it can stand in a list in braces: IPv6 in quotes."""
    return str(prefix) if prefix.family == 4 else f'"{prefix}"'


def _port_text(ports: PortRange) -> str:
    return str(ports) if ports.low == ports.high else f'"{ports}"'


def entry_text(entry: AclEntry) -> str:
    """An ACL entry as the network file writes it."""
    match = match_text(entry.match)
    name = f", name: {entry.name}" if entry.name else ""
    stateful = ", stateful: true" if entry.stateful else ""
    return f"{{action: {entry.action}{', ' + match if match else ''}{name}{stateful}}}"


def missing_entry(
    device: str, acl: Acl, decider: int | None, header: Header, is_reply: bool, ports: tuple[PortRange, ...] = ()
) -> Remedy | None:
    """The entry that lets a packet pass and where to put it: a near one with its protocol set right, else the
    narrowest. ``decider`` is the index of the entry that drops the packet, None for the closing drop; ``ports``
    are the service's, where all of them are treated as the header's own.
    """
    at = len(acl.entries) if decider is None else decider
    for miss in near_misses(device, acl, header, decider):
        near = acl.entries[miss.entry - 1]
        if miss.field == "protocol" and miss.entry <= at:
            added = replace(near, match=replace(near.match, protocol=header.protocol), name="")
            if _takes_all(added.match, is_reply, ports) and _passes(acl, miss.entry, added, header):
                text = f"add to ACL {acl.name}, after entry {miss.entry}"
                change = entry_added(device, acl, miss.entry, added)
                return Remedy(text, f"- {entry_text(added)}", near.place or None, [change])
    added = AclEntry("accept", _exact_match(header, is_reply, ports))
    if not _passes(acl, at, added, header):
        return None
    where = f"before entry {at + 1}" if decider is not None else "at the end"
    place = acl.entries[at].place if decider is not None else acl.place
    change = entry_added(device, acl, at, added)
    return Remedy(f"add to ACL {acl.name}, {where}", f"- {entry_text(added)}", place or None, [change])


def _passes(acl: Acl, at: int, added: AclEntry, header: Header) -> bool:
    """Whether a packet passes a list with an entry put in."""
    return replace(acl, entries=(*acl.entries[:at], added, *acl.entries[at:])).accepts(header)


def _takes_all(match: HeaderMatch, is_reply: bool, ports: tuple[PortRange, ...]) -> bool:
    """Whether a match that takes a packet takes it with every port of the service."""
    named = match.source_ports if is_reply else match.destination_ports
    return not named or all(any(low <= one.low and one.high <= high for low, high in named) for one in ports)


def _exact_match(header: Header, is_reply: bool, ports: tuple[PortRange, ...]) -> HeaderMatch:
    """The narrowest match a person would write: hosts, and the service's ports on the server's side."""
    own = header.source_port if is_reply else header.destination_port
    if not ports and own is not None:
        ports = (PortRange(own, own),)
    return HeaderMatch(
        header.protocol,
        header.source.host_prefix(),
        header.destination.host_prefix(),
        ports if is_reply else (),
        () if is_reply else ports,
    )


def near_misses(device: str, acl: Acl, header: Header, decider: int | None = None) -> tuple[NearMiss, ...]:
    """Accepting entries that one field alone keeps from matching, or that the entry ``decider`` stands before."""
    found = []
    for index, entry in enumerate(acl.entries):
        if entry.action != "accept":
            continue
        # Ports are compared as if the protocol were right; tcp for udp is a slip, tcp for icmp is not.
        failed = entry.match.failed_fields(header)
        if not failed and decider is not None and index > decider:
            place = f"behind entry {decider + 1}", f"before entry {decider + 1}"
            change = entry_mended(device, acl, index, "order", header, decider)
            found.append(NearMiss(index + 1, "order", *place, entry.place or None, change))
        if len(failed) != 1:
            continue
        if failed[0] == "protocol" and (entry.match.protocol in PORTED) != (header.protocol in PORTED):
            continue
        change = entry_mended(device, acl, index, failed[0], header, decider)
        found.append(_near_miss(index, entry, failed[0], header, change))
    return tuple(sorted(found, key=lambda miss: (MISS_ORDER.index(miss.field), miss.entry)))


def _near_miss(index: int, entry: AclEntry, name: str, header: Header, change: dict[str, Any]) -> NearMiss:
    match = entry.match
    has: object
    needs: object
    if name == "protocol":
        has, needs = protocol_name(match.protocol), protocol_name(header.protocol)
    elif name in ("source", "destination"):
        has, needs = getattr(match, name), getattr(header, name)
    elif name == "source_ports":
        has, needs = ", ".join(map(str, match.source_ports)), header.source_port
    else:
        has, needs = ", ".join(map(str, match.destination_ports)), header.destination_port
    return NearMiss(index + 1, name, str(has), str(needs), entry.place or None, change)


MOST_KEPT = 6
"""Changed networks that are kept solved."""


class RouteRemedies:
    """Static routes that cure a stop at a table of one solved network."""

    def __init__(self, solved: Solved, walker: Walker):
        self.solved = solved
        self.walker = walker
        self.topology = solved.topology
        self._known: dict[tuple[int, StaticRoute | None, Prefix | None], Solved] = {}

    def missing_route(self, strand: Trace, stop: Stop, stateful: frozenset[int]) -> Remedy | None:
        """A static route by a neighbour from which the same packet arrives."""
        neighbor = self._arriving_neighbor(stop, stateful, strand.ends)
        if neighbor is None:
            return None
        added = StaticRoute(self._prefix_at_destination(stop.header.destination), neighbor)
        if not self._cures(strand, stop, stateful, added, None):
            return None
        message = f"add to the static routes of {self._where(stop)}"
        return Remedy(message, _static_text(added), self._near(stop) or None, self._changes(stop, added, None))

    def longer_route(self, strand: Trace, stop: Stop, stateful: frozenset[int]) -> Remedy | None:
        """Past a discarding route: without it, where that leads on; else by a longer route by a neighbour, or one in
        place of it."""
        route = stop.route
        assert route is not None
        if route.protocol == "static" and self._cures(strand, stop, stateful, None, route.prefix):
            message = f"take out of the static routes of {self._where(stop)}"
            changes = self._changes(stop, None, route.prefix)
            return Remedy(
                message, f"- {{prefix: {braced(route.prefix)}, action: {route.action}}}", route.place or None, changes
            )
        neighbor = self._arriving_neighbor(stop, stateful, strand.ends)
        prefix = self._prefix_at_destination(stop.header.destination)
        if neighbor is None or not route.prefix.covers(prefix):
            return None
        added = StaticRoute(prefix, neighbor)
        in_place = prefix == route.prefix and route.protocol == "static"
        if not self._cures(strand, stop, stateful, added, prefix if in_place else None):
            return None
        if in_place:
            message = f"in place of the {route.action}ing route for {prefix} of {self._where(stop)}"
        else:
            message = f"add to the static routes of {self._where(stop)}"
        changes = self._changes(stop, added, prefix if in_place else None)
        return Remedy(message, _static_text(added), route.place or self._near(stop) or None, changes)

    def _changes(self, stop: Stop, added: StaticRoute | None, without: Prefix | None) -> list[dict[str, Any]]:
        """A static route more, and those of one prefix taken out, as changes; a host's gateway is none."""
        instance = self.topology.instances[stop.instance]
        routes = instance.routing.static if instance.routing is not None else ()
        replaced = tuple(index for index, one in enumerate(routes) if _is_taken_out(one, without, added))
        return static_added(self.topology.devices[stop.device].name, instance.vrf, added, replaced)

    def _where(self, stop: Stop) -> str:
        """The device, with the instance where it is not the default one."""
        vrf = self.topology.instances[stop.instance].vrf
        name = self.topology.devices[stop.device].name
        return name if vrf == DEFAULT_INSTANCE else f"{name}, instance {vrf}"

    def _near(self, stop: Stop) -> Place:
        routing = self.topology.instances[stop.instance].routing
        return routing.place if routing is not None else self.topology.devices[stop.device].place

    def _cures(
        self, strand: Trace, stop: Stop, stateful: frozenset[int], added: StaticRoute | None, without: Prefix | None
    ) -> bool:
        """Whether the flow passes this stop once a route is there or gone."""
        if len(self.topology.devices) > MOST_DEVICES:
            return False
        return cures(self._solved_with(stop, added, without), strand, stop, stateful)

    def _solved_with(self, stop: Stop, added: StaticRoute | None, without: Prefix | None) -> Solved:
        """The network changed and solved; the last ones are kept, since many flows meet the same fault."""
        key = (stop.instance, added, without)
        found = self._known.pop(key, None) or solve(self._changed(stop, added, without), self.solved)
        self._known[key] = found
        if len(self._known) > MOST_KEPT:
            self._known.pop(next(iter(self._known)))
        return found

    def _changed(self, stop: Stop, added: StaticRoute | None, without: Prefix | None) -> Network:
        """The network with a static route more in the instance of a stop, or those of one prefix taken out, or both."""
        device = self.topology.devices[stop.device]
        vrf = self.topology.instances[stop.instance].vrf
        routing = self.topology.instances[stop.instance].routing or RoutingInstance()
        kept = tuple(one for one in routing.static if not _is_taken_out(one, without, added))
        routing = replace(routing, static=kept if added is None else (*kept, added))
        changed: Device = (
            replace(device, routing=routing)
            if vrf == DEFAULT_INSTANCE
            else replace(device, vrfs={**device.vrfs, vrf: routing})
        )
        return replace(self.solved.network, devices={**self.solved.network.devices, device.name: changed})

    def _prefix_at_destination(self, destination: Address) -> Prefix:
        """The subnet the destination stands in, where the model knows it; else the address alone."""
        port = self.topology.owner(destination)
        if port is not None:
            for address in self.topology.ports[port].interface.addresses:
                if address.prefix.contains(destination):
                    return address.prefix
        return destination.host_prefix()

    def _arriving_neighbor(self, stop: Stop, stateful: frozenset[int], ends: frozenset[int] | None) -> Address | None:
        """The first neighbour's address from which the packet arrives without coming back here."""
        tried = 0
        for number in self.topology.ports_of[stop.device]:
            segment = self.topology.segment_of[number]
            port = self.topology.ports[number]
            if segment < 0 or not port.up or number == stop.ingress or port.instance != stop.instance:
                continue
            for other in self.topology.segments[segment].ports:
                neighbor = self.topology.ports[other]
                if neighbor.instance == stop.instance or not neighbor.up:
                    continue
                addresses = [
                    a.address
                    for a in neighbor.interface.addresses
                    if a.family == stop.header.destination.family
                    and any(own.prefix.contains(a.address) for own in port.interface.addresses)
                ]
                if not addresses or not self.topology.devices[neighbor.device].forwards:
                    continue
                tried += 1
                if tried > MOST_NEIGHBORS:
                    return None
                onward = self.walker.walk([Start(neighbor.instance, other, stop.header)], stateful, ends)
                back = any(s.device == stop.device for s in onward.stops)
                if onward.verdict in GOOD and not back:
                    return addresses[0]
        return None


def cures(again: Solved, strand: Trace, stop: Stop, stateful: frozenset[int]) -> bool:
    """Whether the flow passes a stop in a network that was changed, with no new obstacle to its way."""
    tracker = None if strand.kind == "first" else strand.tracker
    walked = Walker(again).walk(strand.asked, stateful, strand.ends, strand.kind, tracker, strand.expected)
    before = {_obstacle(strand, ending) for ending in strand.endings if ending.verdict not in GOOD}
    after = {_obstacle(walked, ending) for ending in walked.endings if ending.verdict not in GOOD}
    return after < before and not any(instance == stop.instance for instance, _ in after)


def _is_taken_out(route: StaticRoute, without: Prefix | None, added: StaticRoute | None) -> bool:
    """Whether a static route goes: of a prefix, all that another takes the place of, else those that lead nowhere."""
    return route.prefix == without and (added is not None or route.action != "forward")


def _obstacle(strand: Trace, ending: Ending) -> tuple[int, Verdict]:
    return strand.stops[ending.stop].instance, ending.verdict


def _static_text(route: StaticRoute) -> str:
    prefix = braced(route.prefix)
    hop = str(route.next_hop) if route.next_hop is None or route.next_hop.family == 4 else f'"{route.next_hop}"'
    return f"- {{prefix: {prefix}, next_hop: {hop}}}"
