"""Flows: what is asked, in words, and the starts and headers it means.

A place is a device, ``device:interface``, an address, or an endpoint's name; a service is ``icmp``,
``tcp/443``, a service's name, or a protocol. What a word does not name is a ``FlowError`` that says what
it could have been.
"""

import difflib
from dataclasses import dataclass, replace

from routrel.formats.network_grammar import service as parse_service
from routrel.forwarding.strand import Start, Strand
from routrel.forwarding.walk import ORIGIN, Walker, stateful_devices
from routrel.model.addresses import Address
from routrel.model.filters import ICMP, ICMPV6, PORTED, Header
from routrel.model.network import InterfaceName, Network, Service
from routrel.routing.routes import NextHop
from routrel.routing.solve import Solved
from routrel.routing.speaking import router_id
from routrel.topology.segments import Topology

DEFAULT_SOURCE_PORT = 49152
"""The first of the dynamic ports (RFC 6335 section 6), where a flow states none."""


class FlowError(Exception):
    """A flow that cannot be asked; the message says which word, and what is allowed."""


@dataclass(frozen=True, slots=True)
class Flow:
    """A question as it was asked. ``source_address`` overrides the address a device would choose."""

    source: str
    destination: str
    service: str = "icmp"
    source_port: int | None = None
    enter: str | None = None
    source_address: str | None = None


@dataclass(frozen=True, slots=True)
class Place:
    """One end of a flow, understood: the device it is on (None: outside), and its address if settled.

    ``instance`` is the routing instance of that device in which the flow begins or ends.
    """

    word: str
    device: int | None
    address: Address | None
    instance: int | None


@dataclass(frozen=True, slots=True)
class Walk:
    """A flow's answer: its strands. ``reply`` is None where it was not asked or cannot be."""

    flow: Flow
    source: Place
    destination: Place
    service: Service
    forward: Strand
    reply: Strand | None
    reply_note: str = ""
    stateful: frozenset[int] = frozenset()
    """Devices that let the answer pass by the state of the flow."""


def parse_place(solved: Solved, word: str) -> Place:
    """What a word names: an endpoint, a device, an interface or an address."""
    network, topology = solved.network, solved.topology
    if word in network.endpoints:
        return _address_place(solved, word, network.endpoints[word].address)
    if word in topology.device_index:
        return Place(word, topology.device_index[word], None, topology.device_index[word])
    device, colon, interface = word.partition(":")
    if colon and device in topology.device_index:
        name = InterfaceName(device, interface)
        if name not in topology.port_index:
            known = [topology.ports[port].name.interface for port in topology.ports_of[topology.device_index[device]]]
            raise FlowError(f"{device} has no interface {interface!r}{_nearest(interface, known)}")
        port = topology.ports[topology.port_index[name]]
        if not port.interface.addresses:
            raise FlowError(f"the interface {word} has no address to ask about")
        return Place(word, port.device, port.interface.addresses[0].address, port.instance)
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


def _nearest(word: str, names: list[str]) -> str:
    close = difflib.get_close_matches(word, names, 1)
    return f"; did you mean {close[0]}?" if close else ""


def parse_flow_service(network: Network, word: str) -> Service:
    """A service by name or in its written form."""
    if word in network.services:
        return network.services[word]
    try:
        return parse_service(word)
    except ValueError:
        names = ["icmp", "tcp/443", "udp/53", *network.services]
        hint = " (tcp and udp need a port, like tcp/443)" if word in ("tcp", "udp") else _nearest(word, names)
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
        """Walk a flow both ways; raises ``FlowError`` where its words name nothing."""
        source, destination = parse_place(self.solved, flow.source), parse_place(self.solved, flow.destination)
        service = parse_flow_service(self.solved.network, flow.service)
        if flow.source_address is not None:
            source = replace(source, address=self._own_address(source, flow.source_address))
        destination = self._settle_destination(source, destination)
        header = self._header(service, destination, flow.source_port)
        starts = self._starts(source, header, flow.enter)
        forward = self.walker.walk(starts)
        if not with_reply:
            return Walk(flow, source, destination, service, forward, None)
        reply_starts, note = self._reply_starts(destination, forward, starts)
        stateful = stateful_devices(forward)
        reply = self.walker.walk(reply_starts, stateful) if reply_starts else None
        return Walk(flow, source, destination, service, forward, reply, note, stateful)

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
        return Start(self.solved.topology.ports[port].instance, port, header._replace(source=source.address))

    def _originated(self, source: Place, header: Header) -> list[Start]:
        """A device as source: its address on the interface the packet leaves by, else its own."""
        assert source.instance is not None
        topology = self.solved.topology
        family = header.destination.family
        fallback = self._device_address(source.instance, family)
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

    def _entries(self, word: str, header: Header) -> list[Start]:
        """A source outside the model enters at every device that could have received it from there."""
        topology = self.solved.topology
        connected: list[Start] = []
        outside: list[Start] = []
        towards = header.reply()
        for instance in topology.instances:
            device = topology.devices[instance.device]
            if not device.forwards or device.kind == "switch":
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

    def _reply_starts(self, destination: Place, forward: Strand, starts: list[Start]) -> tuple[list[Start], str]:
        """The answer starts where the packet was delivered, or comes in where it left the model."""
        replies: dict[Start, None] = {}
        for ending in forward.endings:
            stop = forward.stops[ending.stop]
            if ending.verdict == "arrives":
                replies.setdefault(Start(stop.instance, ORIGIN, stop.header.reply()))
            elif ending.verdict == "leaves":
                replies.setdefault(Start(stop.instance, stop.branches[ending.branch].port, stop.header.reply()))
        if replies:
            return list(replies), ""
        if destination.instance is None:
            return [], "the packet reaches no place from which an answer could come"
        for start in starts:
            replies.setdefault(Start(destination.instance, ORIGIN, start.header.reply()))
        return list(replies), "the answer is walked as if the packet had arrived"
