"""The walk: one packet's header through the network, over every equal-cost way at once.

At each stop, in the order a packet meets it: the ACL of the interface it came in by; delivery, where the
device owns the destination; a host's refusal to forward; the forwarding policy of that interface; the
longest match in the table; the ACL of the interface it goes out by; the next hop on its segment. This
order is the network file's (docs/network-file.md); ACL semantics are RFC 8519's. Where both the ACL and
the table would stop a packet at one device, the verdict is the table's, as with real routers.

States are (instance, way in, header): what a device does depends on nothing else, so equal states are
walked once, and the result is a graph. All interfaces without an ACL or policy are one way in. A state
met again on its own way is a loop.
"""

from collections.abc import Iterable, Mapping

from routrel.forwarding.filtered import FilteredDevice
from routrel.forwarding.kernel_tables import OWN, Asked, Found, KernelTables, asks_with_source
from routrel.forwarding.programs.engine import Engine
from routrel.forwarding.programs.packets import PacketKind
from routrel.forwarding.programs.tracking import Tracker
from routrel.forwarding.run import NOBODY, Run, WalkedPacket
from routrel.forwarding.trace import AclCheck, Branch, Start, SteeringCheck, Stop, Trace, by_rules
from routrel.model.addresses import Address
from routrel.model.devices import Device
from routrel.model.filter_programs import FilterProgram
from routrel.model.filters import Acl, ForwardingPolicy, Header
from routrel.routing.rib.forwarding_tables import ForwardingTables
from routrel.routing.routes import NextHop, Route

ORIGIN = -1
"""The way in of a packet that its device makes itself."""

MOST_HEADERS = 256
"""Headers that one walk's packet may be translated to; one that is given ever new ones goes round."""


class Walker:
    """Walks packets by the tables of one network."""

    def __init__(
        self,
        solved: ForwardingTables,
        programs: Mapping[int, FilterProgram] | None = None,
        base: "Walker | None" = None,
    ):
        """``programs`` stand in place of those of the devices themselves, by device; all others are those that
        ``base``, a walker of the same network, has compiled."""
        self.solved = solved
        topology = solved.topology
        self.topology = topology
        self._device_of = topology.devices_of_instances
        self._instance_of = topology.instances_of_ports
        self._answerers = topology.answerers
        self._forwards = [topology.devices[instance.device].forwards for instance in topology.instances]
        self._acl_in: dict[int, Acl] = {}
        self._acl_out: dict[int, Acl] = {}
        self._policy: dict[int, ForwardingPolicy] = {}
        """By port."""
        for number, device in enumerate(topology.devices):
            if device.acls or device.forwarding_policies:
                self._place_filters(device, topology.ports_of[number])
        ruled = {
            number: device
            for number, device in enumerate(topology.devices)
            if device.program is not None or device.kernel_routing is not None
        }
        self._filtered: dict[int, FilteredDevice] = {
            number: FilteredDevice(self, number, device.program)
            for number, device in ruled.items()
            if base is None and device.program is not None
        }
        if base is not None:
            self._filtered |= base._filtered
        self._filtered |= {number: FilteredDevice(self, number, one) for number, one in (programs or {}).items()}
        self.has_programs = bool(self._filtered)
        self._kernel: dict[int, KernelTables] = (
            base._kernel
            if base is not None
            else {
                number: KernelTables(topology, number, device.kernel_routing)
                for number, device in ruled.items()
                if device.kernel_routing is not None
            }
        )
        self._closed = {
            (topology.ports_named[number][name].index, family)
            for number, device in ruled.items()
            if device.kernel_routing is not None
            for family, name in device.kernel_routing.closed
            if name in topology.ports_named[number]
        }
        self._told_apart = {*self._acl_in, *self._policy}
        """Ports that are each a way in of its own; all others of an instance are one."""
        for number in (*self._filtered, *self._kernel):
            self._told_apart.update(topology.ports_of[number])

    def _place_filters(self, device: Device, ports: Iterable[int]) -> None:
        """Note the ACLs and forwarding policies that stand at a device's ports."""
        for port in ports:
            interface = self.topology.ports[port].interface
            for acls, name in ((self._acl_in, interface.acl_in), (self._acl_out, interface.acl_out)):
                if name:
                    acls[port] = device.acls[name]
            if interface.forwarding_policy:
                self._policy[port] = device.forwarding_policies[interface.forwarding_policy]

    def _way_in(self, port: int) -> int:
        """The way in as one number: below zero that of all ports of an instance that nothing tells apart."""
        return port if port in self._told_apart else -1 - self._instance_of[port]

    def _way_of(self, start: Start) -> int:
        """A packet's own device treats it as one that came in unfiltered, if it forwards and has no program."""
        if start.ingress != ORIGIN:
            return self._way_in(start.ingress)
        device = self._device_of[start.instance]
        alike = self._forwards[start.instance] and device not in self._filtered and device not in self._kernel
        return -1 - start.instance - (0 if alike else len(self._forwards))

    def walk(
        self,
        starts: Iterable[Start],
        stateful: frozenset[int] = frozenset(),
        ends: frozenset[int] | None = None,
        kind: PacketKind = "first",
        tracker: Tracker | None = None,
        expected: frozenset[Header] | None = None,
    ) -> Trace:
        """Walk from every start; devices in ``stateful`` let this packet pass as a reply.

        ``ends`` are the routing instances at which it has arrived; None stands for any owner of its destination.
        ``kind`` is which packet of its flow it is for devices that track connections, by ``tracker``; ``expected``
        are the headers by which an answer is taken for one.
        """
        starts = tuple(starts)
        if tracker is None:
            tracker = Tracker() if self._filtered else NOBODY
        run = Run(self.solved, stateful, ends, kind, tracker, expected)
        stops: list[Stop] = []
        first: list[int] = []
        finished: list[int] = []
        has_loop = False
        asked = {start.header for start in starts} if self._filtered else set()
        for start in starts:
            packet = run.packet(start.header)
            way = self._way_of(start)
            if way not in packet.numbers:
                root = packet.numbers[way] = len(stops)
                stops.append(Stop(self._device_of[start.instance], start.ingress, start.header, start.instance))
                self._decide(stops[root], packet, start.hops)
                first.append(root)
                has_loop |= self._follow(run, stops, finished, asked, root, packet)
            elif packet.numbers[way] not in first:
                first.append(packet.numbers[way])
        run.packets.clear()  # each knows the walk: left together they would wait for the garbage collection
        return Trace(stops, first, finished, has_loop, starts, ends, kind, run.tracker, expected)

    def _follow(
        self, run: Run, stops: list[Stop], finished: list[int], asked: set[Header], root: int, packet: WalkedPacket
    ) -> bool:
        """All ways on from a stop, depth first; whether one meets a stop of its own, which is a loop."""
        told_apart, instance_of, device_of = self._told_apart, self._instance_of, self._device_of
        has_loop = False
        on_way = {root}
        stack = [(root, iter(stops[root].branches), packet)]
        while stack:
            number, branches, packet = stack[-1]
            numbers, header = packet.numbers, packet.header
            for branch in branches:
                if branch.verdict is not None:
                    continue
                port, onward = branch.target, packet
                if branch.ruled is not None and branch.ruled.header is not None:
                    header = branch.ruled.header
                    if len(run.packets) >= MOST_HEADERS and header not in run.packets:
                        branch.verdict, branch.stage, branch.target = "loops", "loop", number
                        has_loop = True
                        continue
                    onward = run.packet(header)
                    onward.is_translated |= header not in asked
                    numbers = onward.numbers
                way = port if port in told_apart else -1 - instance_of[port]
                target = numbers.get(way)
                if target is None:
                    branch.target = target = numbers[way] = len(stops)
                    stop = Stop(device_of[instance_of[port]], port, header, instance_of[port])
                    stops.append(stop)
                    self._decide(stop, onward, None)
                    if stop.branches:
                        on_way.add(target)
                        stack.append((target, iter(stop.branches), onward))
                        break
                    finished.append(target)
                else:
                    branch.target = target
                    if target in on_way:
                        branch.verdict, branch.stage = "loops", "loop"
                        has_loop = True
            else:
                stack.pop()
                on_way.discard(number)
                finished.append(number)
        return has_loop

    def _decide(self, stop: Stop, packet: WalkedPacket, hops: tuple[NextHop, ...] | None) -> None:
        """Everything one stop decides; a branch that goes on holds its next port in ``target``."""
        device, ingress, header = stop.device, stop.ingress, packet.header
        if self._filtered and device in self._filtered:
            self._filtered[device].decide(stop, packet, hops)
            return
        is_reply = device in packet.stateful
        if ingress >= 0:
            acl = self._acl_in.get(ingress)
            if acl is not None:
                stop.acl_in = _check(acl, header, is_reply)
        self._forward(stop, packet, is_reply, hops)
        if stop.acl_in is not None and not stop.acl_in.accepted and stop.stage not in ("route", "steering", "host"):
            # Real routers drop forwarded packets after the table was asked: no way on is said first.
            stop.verdict, stop.stage = "blocked", "acl_in"
            stop.branches.clear()

    def _forward(self, stop: Stop, packet: WalkedPacket, is_reply: bool, hops: tuple[NextHop, ...] | None) -> None:
        """Delivery, steering and the table."""
        device, ingress, header = stop.device, stop.ingress, packet.header
        if stop.instance in packet.owners or (ingress >= 0 and not self._forwards[stop.instance]):
            self.ends_here(stop, packet)
            return
        if self._closed and self.ends_here(stop, packet):
            return
        if ingress >= 0:
            policy = self._policy.get(ingress)
            if policy is not None and self._steer(stop, policy, header, is_reply):
                return
        if self._kernel and device in self._kernel:
            for route in self.routes(stop, packet, has_source=asks_with_source(header, hops)):
                self._by_route(stop, route, header, hops)
            return
        best = self.solved.table(stop.instance).get
        for number in packet.chain:
            found = best(number)
            if found is not None:
                break
        else:
            stop.verdict, stop.stage = "unrouted", "route"
            return
        stop.route = found
        if found.action != "forward":
            stop.verdict, stop.stage = "discarded", "route"
            return
        for hop in found.next_hops if hops is None else hops:
            stop.branches.append(self.branch(device, hop, header, is_reply))
        if not stop.branches:
            stop.verdict, stop.stage = "unresolved", "next_hop"

    def _by_route(self, stop: Stop, route: Route, header: Header, hops: tuple[NextHop, ...] | None) -> None:
        for hop in route.next_hops if hops is None else hops:
            stop.branches.append(self.branch(stop.device, hop, header, False))
        if not stop.branches:
            stop.verdict, stop.stage = "unresolved", "next_hop"

    def routes(
        self,
        stop: Stop,
        packet: WalkedPacket,
        mark: int | None = 0,
        dscp: int | None = 0,
        has_source: bool = True,
    ) -> Iterable[Route]:
        """Of a Linux device the route that leads on, kept with the stop; without one the stop's verdict is given.

        ``has_source`` is False of an own packet whose way is chosen before its source. There are several routes only
        where a rule hangs on what no capture tells.
        """
        iif = OWN if stop.ingress < 0 else self.topology.ports[stop.ingress].name.interface
        found = self._kernel[stop.device].look_up(Asked(packet.header, iif, has_source, mark, dscp))
        leading = [one for one in found if one.route is not None and one.route.action == "forward"]
        shown = (leading or found)[0]
        stop.route, ruled = shown.route, by_rules(stop)
        ruled.rule, ruled.is_rule_sure = shown.rule, shown.is_sure
        others = [one for one in found if one not in leading]
        if others:
            _ends_at(stop, others[0].route)
        return [one.route for one in leading if one.route is not None]

    def origin(self, instance: int, header: Header, has_source: bool, mark: int | None = 0) -> list[Found] | None:
        """Where a Linux device would send a packet of its own; None of any other device."""
        kernel = self._kernel.get(self._device_of[instance])
        return None if kernel is None else kernel.look_up(Asked(header, OWN, has_source, mark))

    def ends_here(self, stop: Stop, packet: WalkedPacket) -> bool:
        """Whether a packet goes no further: it is delivered, or has come to a host that is not meant."""
        if stop.instance in packet.owners:
            expected = packet.run.expected
            if expected is not None and packet.header not in expected:
                stop.verdict, stop.stage = "discarded", "delivery"  # no socket waits for it
            elif stop.ingress >= 0 and self._is_own_source(stop.instance, packet):
                stop.verdict, stop.stage = "discarded", "delivery"
            elif stop.instance in packet.ends:
                stop.verdict = "arrives"
            else:
                # Another owner of the address keeps what was meant for the one that was asked.
                stop.verdict, stop.stage = "unresolved", "delivery"
            return True
        is_closed = (stop.ingress, packet.header.source.family) in self._closed
        if stop.ingress >= 0 and (is_closed or not self._forwards[stop.instance]):
            stop.verdict, stop.stage = "discarded", "host"
            return True
        return False

    def _is_own_source(self, instance: int, packet: WalkedPacket) -> bool:
        """Whether a translated packet comes in with an own address as source, which no device believes (RFC 1812
        section 5.3.7): it was sent back to its sender, and its source was left as it was."""
        if not packet.is_translated:
            return False
        owners = self.topology.owners.get(packet.header.source, ())
        return any(self._instance_of[port] == instance for port in owners)

    def _steer(self, stop: Stop, policy: ForwardingPolicy, header: Header, is_reply: bool) -> bool:
        """Whether a forwarding policy decided, and if so what it did."""
        for index, entry in enumerate(policy.entries):
            if not entry.match.matches(header):
                continue
            if entry.action == "discard":
                stop.steering = SteeringCheck(policy.name, index, True)
                stop.verdict, stop.stage = "discarded", "steering"
                return True
            if entry.action == "forward":
                for address in entry.next_hops:
                    hop = self.solved.connected_hop(stop.instance, address)
                    if hop is not None:
                        stop.steering = SteeringCheck(policy.name, index, True)
                        stop.branches.append(self.branch(stop.device, hop, header, is_reply))
                        return True
            stop.steering = SteeringCheck(policy.name, index, False)
            return False
        stop.steering = SteeringCheck(policy.name, None, False)
        return False

    def branch(self, device: int, hop: NextHop, header: Header, is_reply: bool) -> Branch:
        """One way out: the ACL there, and who answers for the next hop."""
        port, given, neighbor = hop
        address = header.destination if given is None else given
        if neighbor >= 0:
            address = self.topology.ports[neighbor].interface.addresses[0].address
        branch = Branch(port, address, given is not None or neighbor >= 0)
        acl = self._acl_out.get(port)
        if acl is not None:
            branch.acl_out = _check(acl, header, is_reply)
            if not branch.acl_out.accepted:
                branch.verdict, branch.stage = "blocked", "acl_out"
                return branch
        branch.mtu = self.topology.ports[port].interface.mtu
        target = self._answering(port, address) if neighbor < 0 else neighbor
        if target is None or target == port:
            branch.verdict = "leaves" if self._is_beyond(device, branch) else "unresolved"
            branch.stage = "next_hop"
            return branch
        branch.target = target
        branch.mtu = min(branch.mtu, self.topology.ports[target].interface.mtu)
        return branch

    def _answering(self, port: int, address: Address) -> int | None:
        """The port that answers for an address on a port's segment, while that is up."""
        segment = self.topology.segment_of[port] if self.topology.ports[port].up else -1
        return self._answerers.get((segment, address))

    def _is_beyond(self, device: int, branch: Branch) -> bool:
        """Whether an address nobody in the model answers for stands for the world outside.

        It does where the device has seen it alive, or where it is a next hop on a segment on which the
        model knows no other device: the network file ends there.
        """
        out = self.topology.ports[branch.port]
        if not out.up:
            return False
        if (out.name.interface, branch.address) in self.topology.devices[device].neighbors:
            return True
        if self.topology.is_heard_outside(out, branch.address):
            return True
        segment = self.topology.segment_of[branch.port]
        if not branch.via_next_hop or segment < 0:
            return False
        others = (self.topology.ports[port].device for port in self.topology.segments[segment].ports)
        # A device that is cabled there and has the address is not beyond the model, but out of earshot.
        return all(other == device for other in others) and self.solved.wiring.holder(out.index, branch.address) is None

    def is_answered(self, device: int, hop: NextHop) -> bool:
        """Whether some device answers for a gateway, in the model or beyond it."""
        assert hop.address is not None
        branch = Branch(hop.port, hop.address, True)
        return self._answering(hop.port, hop.address) is not None or self._is_beyond(device, branch)

    def engine(self, device: int) -> Engine | None:
        """What runs a device's filter program, where it has one."""
        filtered = self._filtered.get(device)
        return None if filtered is None else filtered.engine

    def leaves_by(self, device: int, hop: NextHop, header: Header) -> bool:
        """Whether a packet handed to this next hop leaves the model (ACLs aside)."""
        branch = Branch(hop.port, header.destination if hop.address is None else hop.address, hop.address is not None)
        segment = self.topology.segment_of[hop.port]
        known = segment >= 0 and self.topology.on_segment(segment, branch.address) is not None
        return not known and self._is_beyond(device, branch)


def _ends_at(stop: Stop, route: Route | None) -> bool:
    """Whether a stop's route leads nowhere; its verdict is given then."""
    if route is None:
        stop.verdict, stop.stage = "unrouted", "route"
    elif route.action != "forward":
        stop.verdict, stop.stage = "discarded", "route"
    else:
        return False
    return True


def _check(acl: Acl, header: Header, is_reply: bool) -> AclCheck:
    if is_reply:
        return AclCheck(acl.name, None, True, by_state=True)
    index = acl.first_match(header)
    if index is None:
        return AclCheck(acl.name, None, False)
    entry = acl.entries[index]
    return AclCheck(acl.name, index, entry.action == "accept", entry.stateful)


def stateful_devices(trace: Trace) -> frozenset[int]:
    """Devices that will pass the reply: crossed by some branch that a stateful entry there accepted."""
    passing = set()
    for stop in trace.stops:
        if stop.verdict == "blocked":
            continue
        came_in = stop.acl_in is not None and stop.acl_in.stateful
        if stop.verdict == "arrives" and came_in:
            passing.add(stop.device)
        for branch in stop.branches:
            went_out = branch.acl_out is None or branch.acl_out.accepted
            if went_out and (came_in or (branch.acl_out is not None and branch.acl_out.stateful)):
                passing.add(stop.device)
    return frozenset(passing)
