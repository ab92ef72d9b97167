"""Flows: what is asked, and its answer: the ways of its packets and of the answer to them."""

from collections.abc import Sequence
from typing import NamedTuple

from msgspec import Struct

from routrel.forwarding.flow_words import FlowEnd, FlowError, owning_instances, parse_end, parse_flow_service
from routrel.forwarding.port_ranges import MOST_PARTS, joined, likeness, trace_same_up_to
from routrel.forwarding.programs.tracking import Tracker
from routrel.forwarding.starts import Starts
from routrel.forwarding.trace import Start, Trace, Verdict
from routrel.forwarding.walk import Walker, stateful_devices
from routrel.model.addresses import Address
from routrel.model.fields import replace
from routrel.model.filters import ICMP, ICMPV6, PORTED, TCP, Header, PortRange
from routrel.model.findings import some_of
from routrel.model.network import Service
from routrel.routing.solve import Solved

DEFAULT_SOURCE_PORT = 49152
"""The first of the dynamic ports (RFC 6335 section 6), where a flow states none."""


FOLLOWING = "the first packet of the flow gets through and is answered; this is the way of those that follow it"
LATER_REPLIES = "the first answer gets through; this is the way of those that follow it"
LATER = "later packets of the same flow do not get through: rules let only its first pass"
GOOD: tuple[Verdict, ...] = ("arrives", "leaves")


class Flow(Struct, frozen=True):
    """A question as it was asked. ``source_address`` overrides the address a device would choose; ``vrf`` names
    the routing instance that the source is in, where its word leaves that open."""

    source: str
    destination: str
    service: str = "icmp"
    source_port: int | None = None
    enter: str | None = None
    source_address: str | None = None
    vrf: str | None = None


def parse_flow(text: str) -> Flow:
    """A flow on one line: ``from > to``, a service behind it or icmp."""
    source, arrow, rest = (part.strip() for part in text.partition(">"))
    words = rest.split()
    if not source or not arrow or not 1 <= len(words) <= 2:
        raise FlowError(f"{text!r} is no flow; allowed: from > to, or from > to service, like a > b tcp/443")
    return Flow(source, words[0], words[1] if len(words) > 1 else "icmp")


class PortsPart(Struct, frozen=True):
    """The ports of a flow's range that are walked alike, and their walk."""

    ports: tuple[PortRange, ...]
    walk: "Walk"


class Walk(Struct, frozen=True):
    """A flow's answer: its traces. ``reply`` is None where it was not asked or cannot be.

    Of a range of ports that are not all walked alike, ``parts`` has every port once, and the traces are those
    of the first part with a fault.
    """

    flow: Flow
    source: FlowEnd
    destination: FlowEnd
    service: Service
    forward: Trace
    reply: Trace | None
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
    def strands(self) -> tuple[Trace, ...]:
        """The directions that were walked."""
        return (self.forward,) if self.reply is None else (self.forward, self.reply)

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


class Standing(NamedTuple):
    """A flow's walk in another state of the same network, and which of its ways go alike here as long as they start
    alike; of flows without parts, where no device has rules."""

    walk: Walk
    there: bool
    back: bool

    def forward(self, destination: FlowEnd, starts: Sequence[Start]) -> Trace | None:
        """The way there, where it goes alike."""
        was = self.walk.forward
        is_same = self.there and self.walk.destination == destination and was.asked == tuple(starts)
        return was if is_same else None

    def reply(self, destination: FlowEnd, starts: Sequence[Start], stateful: frozenset[int]) -> Trace | None:
        """The way back, where it goes alike; devices in ``stateful`` let it pass."""
        was = self.walk.reply
        is_same = self.back and (self.walk.destination, self.walk.stateful) == (destination, stateful)
        return was if is_same and was is not None and was.asked == tuple(starts) else None


class Asker:
    """Asks flows of one solved network."""

    def __init__(self, solved: Solved):
        self.solved = solved
        self.walker = Walker(solved)
        self.starts = Starts(solved, self.walker)

    def ask(self, flow: Flow, with_reply: bool = True, standing: Standing | None = None) -> Walk:
        """Walk a flow both ways, all its ports; raises ``FlowError`` where its words name nothing.

        What is ``standing`` of its ways is not walked again.
        """
        source, destination = self._source(flow), parse_end(self.solved, flow.destination)
        service = parse_flow_service(self.solved.network, flow.service)
        if flow.source_address is not None:
            source = replace(source, address=self._own_address(source, flow.source_address))
        destination = self._settle_destination(source, destination)
        header = self._header(service, destination, flow.source_port)
        ports = service.ports
        if ports is None or ports.low == ports.high:
            return self._ask_one(flow, source, destination, service, header, with_reply, standing)
        return self._ask_range(flow, source, destination, service, header, with_reply)

    def _ask_one(
        self,
        flow: Flow,
        source: FlowEnd,
        destination: FlowEnd,
        service: Service,
        header: Header,
        with_reply: bool,
        standing: Standing | None = None,
    ) -> Walk:
        starts = self.starts.of(source, header, flow.enter)
        tracker = Tracker() if self.walker.has_programs else None
        if tracker is not None:
            standing = None
        forward = standing.forward(destination, starts) if standing is not None else None
        if forward is None:
            forward = self.walker.walk(starts, ends=destination.ends, tracker=tracker)
        if not with_reply:
            return Walk(flow, source, destination, service, forward, None)
        reply_starts, note = self.starts.of_reply(destination, forward, starts)
        stateful = stateful_devices(forward)
        asker = None if source.instance is None else frozenset([source.instance])
        reply = None
        if reply_starts:
            expected = None
            if tracker is not None:
                tracker.assumes_request = bool(note)
                if header.protocol in PORTED:  # who sends an echo takes any reply to it
                    expected = frozenset(start.header.reply() for start in starts)
            reply = standing.reply(destination, reply_starts, stateful) if standing is not None else None
            if reply is None:
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
        self, flow: Flow, source: FlowEnd, destination: FlowEnd, service: Service, header: Header, with_reply: bool
    ) -> Walk:
        """Every port of a range, in as few walks as what is on the way tells ports apart."""
        assert service.ports is not None
        found: dict[tuple[object, ...], tuple[list[PortRange], Walk]] = {}
        port, walked = service.ports.low, 0
        while port <= service.ports.high and walked < MOST_PARTS:
            at = header._replace(destination_port=port)
            walk = self._ask_one(flow, source, destination, service, at, with_reply)
            high = min(service.ports.high, trace_same_up_to(self.walker, walk.forward, "destination_port", port))
            if walk.reply is not None:
                high = min(high, trace_same_up_to(self.walker, walk.reply, "source_port", port))
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

    def _source(self, flow: Flow) -> FlowEnd:
        """The source, which must be one: an address with several owners needs more said."""
        topology = self.solved.topology
        place = parse_end(self.solved, flow.source)
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

    def _own_address(self, source: FlowEnd, text: str) -> Address:
        try:
            address = Address.parse(text)
        except ValueError:
            raise FlowError(f"the source address {text!r} is no IPv4 or IPv6 address") from None
        if source.instance is not None and not self.starts.owns(source.instance, address):
            raise FlowError(f"{source.word} does not own the source address {text}")
        return address

    def _settle_destination(self, source: FlowEnd, destination: FlowEnd) -> FlowEnd:
        """Give a destination device an address of a family that the source has too."""
        if destination.address is not None or destination.instance is None:
            return destination
        families: tuple[int, ...] = (4, 6) if source.address is None else (source.address.family,)
        if source.address is None and source.instance is not None:
            origin = source.instance
            families = tuple(family for family in (4, 6) if self.starts.device_address(origin, family)) or families
        for family in families:
            address = self.starts.device_address(destination.instance, family)
            if address is not None:
                return replace(destination, address=address)
        self.starts.refuse_disabled(destination.instance)
        raise FlowError(f"{destination.word} has no address of the family the source has")

    def _header(self, service: Service, destination: FlowEnd, source_port: int | None) -> Header:
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
