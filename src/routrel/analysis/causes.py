"""Causes: what exactly stops a flow, and a remedy where one is evident.

A cause is data (device, stage, ACL and entry, route, place in the source); its message is made here from
that data. A remedy is the missing or changed text as the network file would have it. A near miss is an
entry that fits the packet in all fields but one: often the slip that is looked for.
"""

from dataclasses import dataclass, field, replace

from routrel.forwarding.strand import Branch, Ending, Stage, Stop, Strand, Verdict
from routrel.forwarding.walk import Start, Walker
from routrel.model.addresses import Address, Prefix
from routrel.model.devices import Device
from routrel.model.filters import PORTED, PROTOCOL_NAMES, Acl, AclEntry, Header, HeaderMatch, PortRange
from routrel.model.network import InterfaceName
from routrel.model.places import NOWHERE, Place
from routrel.routing.solve import Solved
from routrel.topology.wiring import Break

MISS_ORDER = ("protocol", "source", "destination", "destination_ports", "source_ports")
GOOD: tuple[Verdict, ...] = ("arrives", "leaves")


@dataclass(frozen=True, slots=True)
class Remedy:
    """``text`` is what to write and ``where`` says at which device and list; ``place`` is near it."""

    message: str
    text: str
    place: Place = NOWHERE


@dataclass(frozen=True, slots=True)
class NearMiss:
    """An accepting entry that one field alone keeps from matching."""

    entry: int
    field: str
    has: str
    needs: str
    place: Place


@dataclass(frozen=True, slots=True)
class Cause:
    """``entry`` counts from 1; None is the closing drop (or no ACL at all). ``stop`` numbers the strand."""

    device: str
    interface: str | None
    stage: Stage
    verdict: Verdict
    message: str
    stop: int
    branch: int
    acl: str | None = None
    entry: int | None = None
    place: Place = NOWHERE
    near_misses: tuple[NearMiss, ...] = ()
    remedy: Remedy | None = None
    notes: tuple[str, ...] = field(default=())


def protocol_name(protocol: int | None) -> str:
    """A protocol as the network file names it."""
    return "any" if protocol is None else PROTOCOL_NAMES.get(protocol, str(protocol))


def header_text(header: Header) -> str:
    """A header in words: ``tcp 10.0.0.1 > 10.0.1.1 port 443``."""
    name = PROTOCOL_NAMES.get(header.protocol, f"protocol {header.protocol}")
    text = f"{name} {header.source} > {header.destination}"
    return text if header.destination_port is None else f"{text} port {header.destination_port}"


def match_text(match: HeaderMatch) -> str:
    """A match as the network file writes it."""
    parts = []
    if match.protocol is not None:
        parts.append(f"protocol: {protocol_name(match.protocol)}")
    if match.source is not None:
        parts.append(f"source: {match.source}")
    if match.destination is not None:
        parts.append(f"destination: {match.destination}")
    for name, ports in (("source_ports", match.source_ports), ("destination_ports", match.destination_ports)):
        if ports:
            parts.append(f"{name}: [{', '.join(_port_text(ports_range) for ports_range in ports)}]")
    return ", ".join(parts)


def _port_text(ports: PortRange) -> str:
    return str(ports) if ports.low == ports.high else f'"{ports}"'


def entry_text(entry: AclEntry) -> str:
    """An ACL entry as the network file writes it."""
    match = match_text(entry.match)
    name = f", name: {entry.name}" if entry.name else ""
    stateful = ", stateful: true" if entry.stateful else ""
    return f"{{action: {entry.action}{', ' + match if match else ''}{name}{stateful}}}"


class CauseFinder:
    """Finds the causes on strands of one solved network."""

    def __init__(self, solved: Solved, walker: Walker):
        self.solved = solved
        self.walker = walker
        self.topology = solved.topology

    def causes(self, strand: Strand, is_reply: bool, stateful: frozenset[int] = frozenset()) -> list[Cause]:
        """One cause per bad ending, in the order of the walk, none named twice.

        Where some ways arrive and others leave the model, the leaving ones are named too.
        """
        found: dict[tuple[object, ...], Cause] = {}
        bad = [ending for ending in strand.endings if ending.verdict not in GOOD]
        if not bad and strand.verdict == "mixed":
            bad = [ending for ending in strand.endings if ending.verdict == "leaves"]
        for ending in bad:
            cause = self._cause(strand, ending, is_reply, stateful)
            key = (cause.device, cause.stage, cause.interface, cause.acl, cause.entry, cause.message)
            found.setdefault(key, cause)
        return list(found.values())

    def _cause(self, strand: Strand, ending: Ending, is_reply: bool, stateful: frozenset[int]) -> Cause:
        stop = strand.stops[ending.stop]
        branch = stop.branches[ending.branch] if ending.branch >= 0 else None
        if ending.stage in ("acl_in", "acl_out"):
            return self._blocked(stop, branch, ending, is_reply)
        device = self.topology.devices[stop.device]
        route = stop.route
        place = route.place if route else (device.routing or device).place
        remedy = None
        header = stop.header
        if ending.stage == "steering":
            assert stop.steering is not None and stop.steering.entry is not None
            entry = device.forwarding_policies[stop.steering.policy].entries[stop.steering.entry]
            place = entry.place
            message = (
                f"entry {stop.steering.entry + 1} of forwarding policy {stop.steering.policy}"
                f" discards {header_text(header)}"
            )
        elif ending.stage == "host":
            message = f"{device.name} is a host and does not forward; {header.destination} is not its address"
            place = device.place
        elif ending.verdict == "unrouted":
            message = f"{device.name} has no route for {header.destination}"
            remedy = self._missing_route(stop, stateful)
        elif ending.verdict == "discarded":
            assert route is not None
            message = (
                f"the longest match for {header.destination} is {route.prefix}, a {route.protocol} route"
                f" that {'discards' if route.action == 'discard' else 'rejects'}"
            )
            remedy = self._longer_route(stop, stateful)
        elif ending.verdict == "loops":
            assert branch is not None
            again = self.topology.devices[strand.stops[branch.target].device].name
            message = f"the packet comes back to {again}: it goes round until its lifetime ends"
        else:
            message = self._unresolved_text(device, branch, header)
            apart = self._kept_apart(branch) if branch is not None else None
            if apart is not None:
                place = apart[1].places[0]
        interface = self._interface(stop, branch)
        return Cause(
            device.name,
            interface,
            ending.stage,
            ending.verdict,
            message,
            ending.stop,
            ending.branch,
            place=place,
            remedy=remedy,
            notes=self._gap_notes(device, interface),
        )

    def _interface(self, stop: Stop, branch: Branch | None) -> str | None:
        if branch is not None:
            return self.topology.ports[branch.port].name.interface
        return self.topology.ports[stop.ingress].name.interface if stop.ingress >= 0 else None

    def _gap_notes(self, device: Device, interface: str | None) -> tuple[str, ...]:
        return tuple(gap.message for gap in device.gaps if gap.affects in ("", interface))

    def _unresolved_text(self, device: Device, branch: Branch | None, header: Header) -> str:
        if branch is None:
            return f"the route for {header.destination} has no next hop left"
        port = self.topology.ports[branch.port]
        if not port.up:
            return f"the route leads out of {port.name}, which is down: {port.down}"
        if branch.verdict == "leaves":
            return f"{device.name} hands it to {branch.address}, which is beyond the model"
        what = "next hop" if branch.via_next_hop else "destination"
        text = f"no device on the segment of {port.name} has the {what} {branch.address}"
        apart = self._kept_apart(branch)
        return text if apart is None else f"{text}: {apart[0]} has it, and {apart[1].text}"

    def _kept_apart(self, branch: Branch) -> tuple[InterfaceName, Break] | None:
        """The interface that has what a branch leads to and is cabled there, and what keeps the two apart."""
        holder = self.solved.wiring.holder(branch.port, branch.address)
        found = None if holder is None else self.solved.wiring.apart(branch.port, holder)
        return None if holder is None or found is None else (self.topology.ports[holder].name, found)

    def _blocked(self, stop: Stop, branch: Branch | None, ending: Ending, is_reply: bool) -> Cause:
        device = self.topology.devices[stop.device]
        check = stop.acl_in if branch is None else branch.acl_out
        assert check is not None
        acl = device.acls[check.acl]
        interface = self._interface(stop, branch)
        direction = "coming in by" if branch is None else "going out by"
        what = f"{header_text(stop.header)}, {direction} {interface}"
        if check.entry is None:
            message = f"no entry of ACL {acl.name} matches {what}: its closing drop decides"
            place = acl.place
        else:
            entry = acl.entries[check.entry]
            named = f" ({entry.name})" if entry.name else ""
            message = f"entry {check.entry + 1}{named} of ACL {acl.name} {entry.action}s {what}"
            place = entry.place
        return Cause(
            device.name,
            interface,
            ending.stage,
            "blocked",
            message,
            ending.stop,
            ending.branch,
            acl.name,
            None if check.entry is None else check.entry + 1,
            place,
            near_misses(acl, stop.header),
            self._missing_entry(acl, check.entry, stop.header, is_reply),
            self._gap_notes(device, interface),
        )

    def _missing_entry(self, acl: Acl, entry: int | None, header: Header, is_reply: bool) -> Remedy:
        """A near entry with its protocol set right; else the entry that lets just this packet pass, and where."""
        for miss in near_misses(acl, header):
            if miss.field == "protocol" and (entry is None or miss.entry <= entry):
                near = acl.entries[miss.entry - 1]
                mended = replace(near, match=replace(near.match, protocol=header.protocol))
                return Remedy(f"change entry {miss.entry} of ACL {acl.name}", f"- {entry_text(mended)}", near.place)
        accepting = AclEntry("accept", _exact_match(header, is_reply))
        where = f"before entry {entry + 1}" if entry is not None else "at the end"
        place = acl.entries[entry].place if entry is not None else acl.place
        return Remedy(f"add to ACL {acl.name}, {where}", f"- {entry_text(accepting)}", place)

    def _missing_route(self, stop: Stop, stateful: frozenset[int]) -> Remedy | None:
        """A static route by a neighbour from which the same packet arrives."""
        device = self.topology.devices[stop.device]
        neighbor = self._arriving_neighbor(stop, stateful)
        if neighbor is None:
            return None
        prefix = self._prefix_at_destination(stop.header.destination)
        place = device.routing.place if device.routing else device.place
        return Remedy(
            f"add to the static routes of {device.name}", f"- {{prefix: {prefix}, next_hop: {neighbor}}}", place
        )

    def _longer_route(self, stop: Stop, stateful: frozenset[int]) -> Remedy | None:
        """Past a discarding route: a longer route by a neighbour, where one leads on."""
        assert stop.route is not None
        device = self.topology.devices[stop.device]
        neighbor = self._arriving_neighbor(stop, stateful)
        prefix = self._prefix_at_destination(stop.header.destination)
        if neighbor is None or not stop.route.prefix.covers(prefix):
            return None
        if prefix == stop.route.prefix:
            return Remedy(
                f"take the {stop.route.action}ing route out of {device.name}", f"# {prefix}", stop.route.place
            )
        return Remedy(
            f"add to the static routes of {device.name}",
            f"- {{prefix: {prefix}, next_hop: {neighbor}}}",
            stop.route.place,
        )

    def _prefix_at_destination(self, destination: Address) -> Prefix:
        """The subnet the destination stands in, where the model knows it; else the address alone."""
        port = self.topology.owner(destination)
        if port is not None:
            for address in self.topology.ports[port].interface.addresses:
                if address.prefix.contains(destination):
                    return address.prefix
        return destination.host_prefix()

    def _arriving_neighbor(self, stop: Stop, stateful: frozenset[int]) -> Address | None:
        """The first neighbour's address from which the packet arrives without coming back here."""
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
                onward = self.walker.walk([Start(neighbor.instance, other, stop.header)], stateful)
                back = any(s.device == stop.device for s in onward.stops)
                if onward.verdict in GOOD and not back:
                    return addresses[0]
        return None


def _exact_match(header: Header, is_reply: bool) -> HeaderMatch:
    """The narrowest match a person would write: hosts, and the service's port on the server's side."""
    ports = (PortRange(header.destination_port, header.destination_port),) if header.destination_port else ()
    source_ports = (PortRange(header.source_port, header.source_port),) if header.source_port else ()
    return HeaderMatch(
        header.protocol,
        header.source.host_prefix(),
        header.destination.host_prefix(),
        source_ports if is_reply else (),
        () if is_reply else ports,
    )


def near_misses(acl: Acl, header: Header) -> tuple[NearMiss, ...]:
    """Accepting entries that one field alone keeps from matching."""
    found = []
    for index, entry in enumerate(acl.entries):
        if entry.action != "accept":
            continue
        # Ports are compared as if the protocol were right; tcp for udp is a slip, tcp for icmp is not.
        failed = entry.match.failed_fields(header)
        if len(failed) != 1:
            continue
        if failed[0] == "protocol" and (entry.match.protocol in PORTED) != (header.protocol in PORTED):
            continue
        found.append(_near_miss(index, entry, failed[0], header))
    return tuple(sorted(found, key=lambda miss: (MISS_ORDER.index(miss.field), miss.entry)))


def _near_miss(index: int, entry: AclEntry, name: str, header: Header) -> NearMiss:
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
    return NearMiss(index + 1, name, str(has), str(needs), entry.place)
