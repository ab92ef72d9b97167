"""Flows: what is asked, in words, and the starts and headers it means.

A place is a device, ``device:interface``, an address, or an endpoint's name; a service is ``icmp``,
``tcp/443``, a service's name, or a protocol. What a word does not name is a ``FlowError`` that says what
it could have been.
"""

from dataclasses import dataclass, replace

from routrel.formats.errors import nearest
from routrel.formats.network_grammar import service as parse_service
from routrel.forwarding.kernel_tables import fitting_address
from routrel.forwarding.port_ranges import MOST_PARTS, joined, likeness, strand_same_up_to
from routrel.forwarding.programs.tracking import Tracker
from routrel.forwarding.strand import Start, Strand, Verdict
from routrel.forwarding.walk import ORIGIN, Walker, stateful_devices
from routrel.model.addresses import Address
from routrel.model.filters import ICMP, ICMPV6, PORTED, PROTOCOL_NUMBERS, TCP, Header, PortRange
from routrel.model.findings import some_of
from routrel.model.network import InterfaceName, Network, Service
from routrel.routing.routes import NextHop
from routrel.routing.solve import Solved
from routrel.routing.speaking import router_id
from routrel.topology.segments import Port, Topology

DEFAULT_SOURCE_PORT = 49152
"""The first of the dynamic ports (RFC 6335 section 6), where a flow states none."""


ALL_PORTS = PortRange(0, 65535)
FOLLOWING = "the first packet of the flow gets through and is answered; this is the way of those that follow it"
LATER_REPLIES = "the first answer gets through; this is the way of those that follow it"
LATER = "later packets of the same flow do not get through: rules let only its first pass"
GOOD: tuple[Verdict, ...] = ("arrives", "leaves")


class FlowError(Exception):
    """A flow that cannot be asked; the message says which word, and what is allowed."""


@dataclass(frozen=True, slots=True)
class Flow:
    """A question as it was asked. ``source_address`` overrides the address a device would choose; ``vrf`` names
    the routing instance that the source is in, where its word leaves that open."""

    source: str
    destination: str
    service: str = "icmp"
    source_port: int | None = None
    enter: str | None = None
    source_address: str | None = None
    vrf: str | None = None


@dataclass(frozen=True, slots=True)
class Place:
    """One end of a flow, understood: the device it is on (None: outside), and its address if settled.

    ``instance`` is the routing instance of that device in which the flow begins or ends.
    """

    word: str
    device: int | None
    address: Address | None
    instance: int | None
    ends: frozenset[int] | None = None
    """The routing instances at which a packet for it has arrived; None: any that owns the address."""


@dataclass(frozen=True, slots=True)
class PortsPart:
    """The ports of a flow's range that are walked alike, and their walk."""

    ports: tuple[PortRange, ...]
    walk: "Walk"


@dataclass(frozen=True, slots=True)
class Walk:
    """A flow's answer: its strands. ``reply`` is None where it was not asked or cannot be.

    Of a range of ports that are not all walked alike, ``parts`` has every port once, and the strands are those
    of the first part with a fault.
    """

    flow: Flow
    source: Place
    destination: Place
    service: Service
    forward: Strand
    reply: Strand | None
    reply_note: str = ""
    forward_note: str = ""
    stateful: frozenset[int] = frozenset()
    """Devices that let the answer pass by the state of the flow."""
    parts: tuple[PortsPart, ...] = ()
    ports: tuple[PortRange, ...] = ()
    """Of a range: the ports that are walked as this, the header's own among them."""
    unexamined: PortRange | None = None
    """Ports that were not looked into, since too many parts came before."""

    @property
    def forward_verdict(self) -> Verdict:
        """The verdict over all ports that were asked."""
        return self._joined({part.walk.forward.verdict for part in self.parts} or {self.forward.verdict})

    @property
    def reply_verdict(self) -> Verdict | None:
        """The same of the answer, None where there is none."""
        replies = [walk.reply for walk in ([part.walk for part in self.parts] or [self])]
        found = {reply.verdict for reply in replies if reply is not None}
        return self._joined(found) if found else None

    @property
    def is_good(self) -> bool:
        """Whether the flow works as far as the model can tell: there, and back where that was walked.

        Handing a packet to a next hop beyond the model is all that can be had for an address outside.
        """
        if self.parts:
            return self.unexamined is None and all(part.walk.is_good for part in self.parts)
        forward = self.forward.verdict
        reached = forward == "arrives" or (forward == "leaves" and self.destination.device is None)
        if self.reply is None:
            return reached and not self.reply_note
        return reached and self.reply.verdict in GOOD

    def _joined(self, verdicts: set[Verdict]) -> Verdict:
        return verdicts.pop() if len(verdicts) == 1 and self.unexamined is None else "mixed"


def parse_place(solved: Solved, word: str) -> Place:
    """What a word names: an endpoint, a device, an interface or an address.

    Of an address with several owners the first is the place; ``owning_instances`` has them all.
    """
    network, topology = solved.network, solved.topology
    if word in network.endpoints:
        return _address_place(solved, word, network.endpoints[word].address)
    if word in topology.device_index:
        instance = topology.device_index[word]
        return Place(word, instance, None, instance, frozenset([instance]))
    device, colon, interface = word.partition(":")
    if colon and device in topology.device_index:
        name = InterfaceName(device, interface)
        if name not in topology.port_index:
            known = [topology.ports[port].name.interface for port in topology.ports_of[topology.device_index[device]]]
            raise FlowError(f"{device} has no interface {interface!r}{_nearest(interface, known)}")
        port = topology.ports[topology.port_index[name]]
        if not port.interface.addresses:
            raise FlowError(f"the interface {word} has no address to ask about")
        return Place(word, port.device, port.addresses[0], port.instance, frozenset([port.instance]))
    try:
        return _address_place(solved, word, Address.parse(word))
    except ValueError:
        names = [*network.endpoints, *topology.device_index]
        raise FlowError(
            f"{word!r} is no device, device:interface, address or endpoint of this network{_nearest(word, names)}"
        ) from None


def _address_place(solved: Solved, word: str, address: Address) -> Place:
    owner = solved.topology.owner(address)
    if owner is None:
        return Place(word, None, address, None)
    port = solved.topology.ports[owner]
    return Place(word, port.device, address, port.instance)


def owning_instances(topology: Topology, address: Address) -> dict[int, Port]:
    """The routing instances that own an address, each with the first interface that has it."""
    found: dict[int, Port] = {}
    for number in topology.owners.get(address, ()):
        found.setdefault(topology.ports[number].instance, topology.ports[number])
    return found


def _nearest(word: str, names: list[str]) -> str:
    close = nearest(word, names)
    return f"; did you mean {close[0]}?" if close else ""


def parse_flow_service(network: Network, word: str) -> Service:
    """A service by name or in its written form; tcp or udp alone stands for all its ports."""
    if word in network.services:
        return network.services[word]
    if word in ("tcp", "udp"):
        return Service("", PROTOCOL_NUMBERS[word], ALL_PORTS)
    try:
        return parse_service(word)
    except ValueError:
        names = ["icmp", "tcp/443", "udp/53", *network.services]
        hint = _nearest(word, names)
        raise FlowError(f"{word!r} is no service of this network and none like tcp/443 or icmp{hint}") from None


def device_address(topology: Topology, instance: int, family: int) -> Address | None:
    """The address that stands for an instance: its router id's where it owns that, else the lowest loopback,
    else its first address of the family."""
    found = topology.instances[instance]
    own = [
        (interface.is_loopback, address.address)
        for interface in topology.devices[found.device].interfaces.values()
        if interface.enabled and interface.vrf == found.vrf
        for address in interface.addresses
        if address.family == family and not address.address.is_link_local
    ]
    identifier = router_id(topology, instance) if found.routing else None
    if identifier is not None and any(address == identifier for _, address in own):
        return identifier
    loopbacks = sorted(address for is_loopback, address in own if is_loopback)
    return loopbacks[0] if loopbacks else (own[0][1] if own else None)


class Asker:
    """Asks flows of one solved network."""

    def __init__(self, solved: Solved):
        self.solved = solved
        self.walker = Walker(solved)
        self._addresses: dict[tuple[int, int], Address | None] = {}

    def _device_address(self, instance: int, family: int) -> Address | None:
        key = (instance, family)
        if key not in self._addresses:
            self._addresses[key] = device_address(self.solved.topology, instance, family)
        return self._addresses[key]

    def ask(self, flow: Flow, with_reply: bool = True) -> Walk:
        """Walk a flow both ways, all its ports; raises ``FlowError`` where its words name nothing."""
        source, destination = self._source(flow), parse_place(self.solved, flow.destination)
        service = parse_flow_service(self.solved.network, flow.service)
        if flow.source_address is not None:
            source = replace(source, address=self._own_address(source, flow.source_address))
        destination = self._settle_destination(source, destination)
        header = self._header(service, destination, flow.source_port)
        ports = service.ports
        if ports is None or ports.low == ports.high:
            return self._ask_one(flow, source, destination, service, header, with_reply)
        return self._ask_range(flow, source, destination, service, header, with_reply)

    def _ask_one(
        self, flow: Flow, source: Place, destination: Place, service: Service, header: Header, with_reply: bool
    ) -> Walk:
        starts = self._starts(source, header, flow.enter)
        tracker = Tracker() if self.walker.has_programs else None
        forward = self.walker.walk(starts, ends=destination.ends, tracker=tracker)
        if not with_reply:
            return Walk(flow, source, destination, service, forward, None)
        reply_starts, note = self._reply_starts(destination, forward, starts)
        stateful = stateful_devices(forward)
        asker = None if source.instance is None else frozenset([source.instance])
        reply = None
        if reply_starts:
            expected = None
            if tracker is not None:
                tracker.assumes_request = bool(note)
                if header.protocol in PORTED:  # who sends an echo takes any reply to it
                    expected = frozenset(start.header.reply() for start in starts)
            reply = self.walker.walk(reply_starts, stateful, asker, "reply", tracker, expected)
        walk = Walk(flow, source, destination, service, forward, reply, note, stateful=stateful)
        if reply is None or tracker is None or not walk.is_good:
            return walk
        return self._followed(walk, tracker)

    def _followed(self, walk: Walk, tracker: Tracker) -> Walk:
        """A flow whose first packet gets through and is answered, and what becomes of those that follow.

        TCP needs them; of other protocols one question and its answer stand by themselves.
        """
        assert walk.reply is not None
        forward, reply, is_tcp = walk.forward, walk.reply, walk.service.protocol == TCP
        following = self.walker.walk(forward.asked, frozenset(), forward.ends, "following", tracker)
        if following.verdict != forward.verdict and forward.verdict != "mixed":
            return (
                replace(walk, forward=following, forward_note=FOLLOWING)
                if is_tcp
                else replace(walk, forward_note=LATER)
            )
        if not is_tcp:
            return walk
        later = self.walker.walk(reply.asked, frozenset(), reply.ends, "later reply", tracker, reply.expected)
        if later.verdict != reply.verdict and reply.verdict != "mixed":
            return replace(walk, reply=later, reply_note=LATER_REPLIES)
        return walk

    def _ask_range(
        self, flow: Flow, source: Place, destination: Place, service: Service, header: Header, with_reply: bool
    ) -> Walk:
        """Every port of a range, in as few walks as what is on the way tells ports apart."""
        assert service.ports is not None
        found: dict[tuple[object, ...], tuple[list[PortRange], Walk]] = {}
        port, walked = service.ports.low, 0
        while port <= service.ports.high and walked < MOST_PARTS:
            at = header._replace(destination_port=port)
            walk = self._ask_one(flow, source, destination, service, at, with_reply)
            high = min(service.ports.high, strand_same_up_to(self.walker, walk.forward, "destination_port", port))
            if walk.reply is not None:
                high = min(high, strand_same_up_to(self.walker, walk.reply, "source_port", port))
            key = likeness(walk.forward), walk.reply and likeness(walk.reply)
            found.setdefault(key, ([], walk))[0].append(PortRange(port, high))
            port, walked = high + 1, walked + 1
        ports = [(joined(ranges), walk) for ranges, walk in found.values()]
        parts = tuple(PortsPart(ranges, replace(walk, ports=ranges)) for ranges, walk in ports)
        rest = PortRange(port, service.ports.high) if port <= service.ports.high else None
        if len(parts) == 1 and rest is None:
            return parts[0].walk
        shown = next((part.walk for part in parts if not part.walk.is_good), parts[0].walk)
        return replace(shown, parts=parts, unexamined=rest)

    def _source(self, flow: Flow) -> Place:
        """The source, which must be one: an address with several owners needs more said."""
        topology = self.solved.topology
        place = parse_place(self.solved, flow.source)
        if place.ends is not None:
            if flow.vrf is None or place.address is not None or place.device is None:
                return place
            instance = topology.instance_index.get((flow.source, flow.vrf))
            if instance is None:
                vrfs = ", ".join(topology.instances[one].vrf for one in topology.instances_of(place.device))
                raise FlowError(f"{flow.source} has no routing instance {flow.vrf!r}; allowed: {vrfs}")
            return replace(place, instance=instance)
        if place.address is None:
            return place
        owners = owning_instances(topology, place.address)
        if flow.vrf is not None:
            owners = {one: port for one, port in owners.items() if topology.instances[one].vrf == flow.vrf}
            if not owners:
                raise FlowError(f"no routing instance {flow.vrf!r} owns {flow.source}")
        if len(owners) > 1 and flow.enter is None:
            shown = some_of([port.name for port in owners.values()])
            raise FlowError(
                f"{flow.source} is an address of {len(owners)} routing instances, at {shown}: say which sends, as"
                " device:interface"
            )
        for instance, port in owners.items():
            return replace(place, device=port.device, instance=instance)
        return place

    def _own_address(self, source: Place, text: str) -> Address:
        try:
            address = Address.parse(text)
        except ValueError:
            raise FlowError(f"the source address {text!r} is no IPv4 or IPv6 address") from None
        if source.instance is not None and not self._owns(source.instance, address):
            raise FlowError(f"{source.word} does not own the source address {text}")
        return address

    def _owns(self, instance: int, address: Address) -> bool:
        ports = self.solved.topology.owners.get(address, ())
        return any(self.solved.topology.ports[port].instance == instance for port in ports)

    def _settle_destination(self, source: Place, destination: Place) -> Place:
        """Give a destination device an address of a family that the source has too."""
        if destination.address is not None or destination.instance is None:
            return destination
        families: tuple[int, ...] = (4, 6) if source.address is None else (source.address.family,)
        if source.address is None and source.instance is not None:
            origin = source.instance
            families = tuple(family for family in (4, 6) if self._device_address(origin, family)) or families
        for family in families:
            address = self._device_address(destination.instance, family)
            if address is not None:
                return replace(destination, address=address)
        raise FlowError(f"{destination.word} has no address of the family the source has")

    def _header(self, service: Service, destination: Place, source_port: int | None) -> Header:
        """The header but for its source, which is settled start by start."""
        assert destination.address is not None
        address = destination.address
        protocol = service.protocol
        if protocol in (ICMP, ICMPV6):
            protocol = ICMP if address.family == 4 else ICMPV6
        if protocol not in PORTED:
            return Header(protocol, address, address, None, None)
        if source_port is not None and not 0 <= source_port <= 65535:
            raise FlowError(f"the source port {source_port} is out of range; allowed: 0 to 65535")
        assert service.ports is not None
        port = DEFAULT_SOURCE_PORT if source_port is None else source_port
        return Header(protocol, address, address, port, service.ports.low)

    def _starts(self, source: Place, header: Header, enter: str | None) -> list[Start]:
        destination = header.destination
        if source.address is not None and source.address.family != destination.family:
            raise FlowError(f"{source.word} and {destination} are of different families")
        if enter is not None:
            return [self._entering(source, header, enter)]
        if source.instance is None:
            assert source.address is not None
            return self._entries(source.word, header._replace(source=source.address))
        if source.address is not None:
            return [Start(source.instance, ORIGIN, header._replace(source=source.address))]
        return self._originated(source, header)

    def _entering(self, source: Place, header: Header, enter: str) -> Start:
        device, _, interface = enter.partition(":")
        port = self.solved.topology.port_index.get(InterfaceName(device, interface))
        if port is None:
            raise FlowError(f"{enter!r} is no device:interface of this network to enter by")
        if not self.solved.topology.ports[port].up:
            raise FlowError(f"nothing can enter by {enter}: {self.solved.topology.ports[port].down}")
        if source.address is None:
            raise FlowError(f"a flow that enters by {enter} needs an address as its source")
        port = self._routed(port)
        return Start(self.solved.topology.ports[port].instance, port, header._replace(source=source.address))

    def _routed(self, number: int) -> int:
        """The interface by which what enters a port is routed: of a switchport its VLAN's, of a member its bundle."""
        topology = self.solved.topology
        port = topology.ports[number]
        others = [topology.ports[other] for other in topology.ports_of[port.device]]
        bundle = next((one for one in others if port.name.interface in one.interface.members), None)
        if bundle is not None:
            return self._routed(bundle.index)
        if port.interface.switchport is None:
            return number
        vlan = port.interface.switchport.vlan_by_tag[0]
        routed = next((one for one in others if one.interface.vlan == vlan and one.interface.parent is None), None)
        if routed is None or not routed.up:
            raise FlowError(
                f"{port.name} is a switchport of VLAN {vlan}, which {port.name.device} does not route: say the"
                " interface by which the packet comes to a router"
            )
        return routed.index

    def _originated(self, source: Place, header: Header) -> list[Start]:
        """A device as source: its address on the interface the packet leaves by, else its own."""
        assert source.instance is not None
        topology = self.solved.topology
        family = header.destination.family
        fallback = self._device_address(source.instance, family)
        chosen_by_kernel = self._originated_by_kernel(source, header, fallback)
        if chosen_by_kernel is not None:
            return chosen_by_kernel
        route = self.solved.lookup(source.instance, header.destination)
        by_source: dict[Address, list[NextHop]] = {}
        if route is not None and not self._owns(source.instance, header.destination):
            for hop in route.next_hops:
                addresses = [
                    address.address
                    for address in topology.ports[hop.port].interface.addresses
                    if address.family == family and not address.address.is_link_local
                ]
                chosen = addresses[0] if addresses else fallback
                if chosen is not None:
                    by_source.setdefault(chosen, []).append(hop)
        if not by_source:
            if fallback is None:
                raise FlowError(f"{source.word} has no IPv{family} address to send from")
            return [Start(source.instance, ORIGIN, header._replace(source=fallback))]
        return [
            Start(source.instance, ORIGIN, header._replace(source=address), tuple(hops))
            for address, hops in by_source.items()
        ]

    def _originated_by_kernel(self, source: Place, header: Header, fallback: Address | None) -> list[Start] | None:
        """A Linux device as source: the route's preferred source, else the address that fits the way out
        (ip-route(8), inet_select_addr); the rules are asked again with it. None of any other device."""
        assert source.instance is not None
        found = self.walker.origin(source.instance, header, False)
        if found is None or self._owns(source.instance, header.destination):
            return None
        by_source: dict[Address, list[NextHop]] = {}
        family = header.destination.family
        for one in found:
            for hop in one.route.next_hops if one.route is not None else ():
                towards = header.destination if hop.address is None else hop.address
                port = self.solved.topology.ports[hop.port]
                address = one.source or fitting_address(port, family, towards) or fallback
                if address is not None:
                    by_source.setdefault(address, []).append(hop)
        if not by_source and family == 6:
            # IPv6 forgets an answer that leads nowhere, and asks again with a source (ip6_dst_lookup_tail).
            own = self._address_near(source.instance, header.destination) or fallback
            return None if own is None else [Start(source.instance, ORIGIN, header._replace(source=own))]
        if not by_source and fallback is not None:
            return [Start(source.instance, ORIGIN, header._replace(source=fallback), ())]
        is_split = len(by_source) > 1 or header.destination.family == 6 or header.protocol == ICMP
        return [
            Start(source.instance, ORIGIN, header._replace(source=address), tuple(hops) if is_split else None)
            for address, hops in by_source.items()
        ] or None

    def _address_near(self, instance: int, destination: Address) -> Address | None:
        """An own address in the destination's subnet (RFC 6724 section 5, rule 8)."""
        topology = self.solved.topology
        for number in topology.ports_of[topology.instances[instance].device]:
            port = topology.ports[number]
            for prefix, address in zip(port.prefixes, port.addresses, strict=True):
                if port.up and port.instance == instance and prefix.contains(destination):
                    return address
        return None

    def _entries(self, word: str, header: Header) -> list[Start]:
        """A source outside the model enters at every device that could have received it from there."""
        topology = self.solved.topology
        connected: list[Start] = []
        outside: list[Start] = []
        towards = header.reply()
        for instance in topology.instances:
            device = topology.devices[instance.device]
            if not device.forwards or (device.kind == "switch" and not self._is_routing(instance.device)):
                continue
            route = self.solved.lookup(instance.index, header.source)
            if route is None or route.action != "forward":
                continue
            for hop in route.next_hops:
                if route.protocol == "connected" and hop.address is None:
                    connected.append(Start(instance.index, hop.port, header))
                elif self.walker.leaves_by(instance.device, hop, towards):
                    outside.append(Start(instance.index, hop.port, header))
        starts = connected or outside
        if not starts:
            raise FlowError(
                f"{word} is an address that no device owns, and no device has a route for it that leaves the"
                " network; say where it comes in, as device:interface"
            )
        return list(dict.fromkeys(starts))

    def _is_routing(self, device: int) -> bool:
        """Whether a switch routes: it has addresses in more than one place, not for its management alone."""
        ports = (self.solved.topology.ports[number] for number in self.solved.topology.ports_of[device])
        return sum(bool(port.addresses) and not port.interface.is_loopback for port in ports) > 1

    def _reply_starts(self, destination: Place, forward: Strand, starts: list[Start]) -> tuple[list[Start], str]:
        """The answer starts where the packet was delivered, or comes in where it left the model."""
        replies: dict[Start, None] = {}
        for ending in forward.endings:
            stop = forward.stops[ending.stop]
            delivered = stop.translated or stop.header
            if ending.verdict == "arrives":
                replies.setdefault(Start(stop.instance, ORIGIN, delivered.reply()))
            elif ending.verdict == "leaves":
                branch = stop.branches[ending.branch]
                replies.setdefault(Start(stop.instance, branch.port, (branch.header or delivered).reply()))
        if replies:
            return list(replies), ""
        if destination.instance is None:
            return [], "the packet reaches no place from which an answer could come"
        assert destination.address is not None
        if destination.ends is None and len(owning_instances(self.solved.topology, destination.address)) > 1:
            return [], f"{destination.address} has several owners, and the packet reaches none that could answer"
        for start in starts:
            replies.setdefault(Start(destination.instance, ORIGIN, start.header.reply()))
        return list(replies), "the answer is walked as if the packet had arrived"
