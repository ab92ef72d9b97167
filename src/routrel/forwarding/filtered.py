"""A device with a filter program on the way of a walk: its hooks in the kernel's order.

What comes in meets ingress and prerouting; then it is delivered (input) or routed, and meets forward and
postrouting with the interface it leaves by. What the device makes itself is routed first, meets output, is
routed again where a rule changed its destination or mark, and meets postrouting.
"""

from collections.abc import Iterable
from functools import cached_property
from typing import Protocol

from routrel.forwarding.kernel_tables import Found, asks_with_source, fitting_address
from routrel.forwarding.programs.engine import Engine, Passage
from routrel.forwarding.programs.packets import Packet
from routrel.forwarding.run import WalkedPacket
from routrel.forwarding.trace import Branch, Stop, by_rules
from routrel.model.addresses import Address
from routrel.model.filter_programs import FilterProgram, Hook
from routrel.model.filters import Header
from routrel.routing.rib.forwarding_tables import ForwardingTables
from routrel.routing.routes import NextHop, Route

LOOPBACK = "lo"
COMING_IN: tuple[Hook, ...] = ("ingress", "prerouting")
GOING_OUT: tuple[Hook, ...] = ("output", "postrouting")
UNICAST, LOCAL, BROADCAST, MULTICAST = 1, 2, 3, 5
"""Types of addresses as ``fib`` numbers them."""


class Forwarder(Protocol):
    """What a walk does at any device, with a program or without."""

    solved: ForwardingTables

    def routes(
        self,
        stop: Stop,
        packet: WalkedPacket,
        mark: int | None = 0,
        dscp: int | None = 0,
        has_source: bool = True,
    ) -> Iterable[Route]:
        """The route that leads on, several where that is not sure; without one the stop has its verdict."""

    def ends_here(self, stop: Stop, packet: WalkedPacket) -> bool:
        """Whether a packet goes no further: it is delivered, or at a host that is not meant."""

    def origin(self, instance: int, header: Header, has_source: bool, mark: int | None = 0) -> list[Found] | None:
        """Where a Linux device would send a packet of its own; None of any other device."""

    def branch(self, device: int, hop: NextHop, header: Header, is_reply: bool) -> Branch:
        """One way out."""


class FilteredDevice:
    """Runs a device's filter program for a walker; also what its rules may ask of the device."""

    def __init__(self, walker: Forwarder, device: int, program: FilterProgram):
        self.walker = walker
        self.topology = walker.solved.topology
        self.device = device
        self.program = program
        self._reroutes = any(chain.kind == "route" for chain in program.base_chains("output"))

    @cached_property
    def engine(self) -> Engine:
        """The program compiled, once a packet comes."""
        return Engine(self.device, self.program, self)

    def decide(self, stop: Stop, packet: WalkedPacket, hops: tuple[NextHop, ...] | None) -> None:
        """Everything the device does with a packet at one stop."""
        run = packet.run
        if stop.ingress < 0:
            self._originate(stop, packet, hops)
            return
        iif = self.topology.ports[stop.ingress].name.interface
        passages = [Passage(Packet(stop.header, run.kind, iif))]
        for hook in COMING_IN:
            passages = self.engine.run(hook, passages, run.tracker)
        for passage in _passing(stop, passages):
            onward = self._translated(stop, packet, passage)
            if stop.instance in onward.owners:
                self._deliver(stop, onward, passage)
            elif not self.walker.ends_here(stop, onward):
                self._forward(stop, onward, passage, None, ("forward", "postrouting"))

    def _translated(self, stop: Stop, packet: WalkedPacket, passage: Passage) -> WalkedPacket:
        header = passage.packet.header
        if header == stop.header:
            return packet
        by_rules(stop).header = header
        onward = packet.run.packet(header)
        onward.is_translated = True
        return onward

    def _deliver(self, stop: Stop, packet: WalkedPacket, passage: Passage) -> None:
        passage.packet.oif = ""
        found = self.engine.run("input", [passage], packet.run.tracker)
        for one in _passing(stop, found):
            packet.run.tracker.confirm(self.device, one.packet)
            self.walker.ends_here(stop, self._translated(stop, packet, one))

    def _forward(
        self,
        stop: Stop,
        packet: WalkedPacket,
        passage: Passage,
        hops: tuple[NextHop, ...] | None,
        hooks: tuple[Hook, ...],
    ) -> None:
        mark, dscp = (one if isinstance(one, int) else None for one in (passage.packet.mark, passage.packet.dscp))
        for route in self.walker.routes(stop, packet, mark, dscp):
            chosen = route.next_hops if hops is None else hops
            for hop in chosen:
                self._leave(stop, packet, Passage(passage.packet.copy(), passage.checks), hop, hooks)
            if not chosen:
                stop.verdict, stop.stage = "unresolved", "next_hop"

    def _leave(self, stop: Stop, packet: WalkedPacket, passage: Passage, hop: NextHop, hooks: tuple[Hook, ...]) -> None:
        """One way out, with what the hooks on it make of the packet."""
        before = len(passage.checks)
        passage.packet.oif = self.topology.ports[hop.port].name.interface
        passage.packet.towards = passage.packet.header.destination if hop.address is None else hop.address
        passages = [passage]
        for hook in hooks:
            passages = self.engine.run(hook, passages, packet.run.tracker)
        passing, over = [one for one in passages if not one.is_over], [one for one in passages if one.is_over]
        for one in passing or over[:1]:
            header = one.packet.header
            branch = self.walker.branch(self.device, hop, header, False)
            ruled = by_rules(branch)
            ruled.filters = one.checks[before:]
            ruled.header = None if header == stop.header else header
            if one.is_over:
                _block(branch)
            elif over:
                ruled.stopped_by = over[0].checks[-1]
            if not one.is_over:
                packet.run.tracker.confirm(self.device, one.packet)
            stop.branches.append(branch)

    def _originate(self, stop: Stop, packet: WalkedPacket, hops: tuple[NextHop, ...] | None) -> None:
        """A packet of the device itself; one to an own address goes round by the loopback interface."""
        run = packet.run
        if stop.instance in packet.owners:
            own = Packet(stop.header, run.kind, "", LOOPBACK, own=True)
            passages = [Passage(own)]
            for hook in GOING_OUT:
                passages = self.engine.run(hook, passages, run.tracker)
            for one in passages:
                one.packet.iif, one.packet.oif = LOOPBACK, ""
            passages = self.engine.run("prerouting", passages, run.tracker)
            for passage in _passing(stop, passages):
                self._deliver(stop, self._translated(stop, packet, passage), passage)
            return
        for route in self.walker.routes(stop, packet, has_source=asks_with_source(stop.header, hops)):
            chosen = route.next_hops if hops is None else hops
            for hop in chosen:
                self._leave_origin(stop, packet, hop)
            if not chosen:
                stop.verdict, stop.stage = "unresolved", "next_hop"

    def _leave_origin(self, stop: Stop, packet: WalkedPacket, hop: NextHop) -> None:
        """One way out of a packet of the device's own, through output, where it may be routed anew."""
        run = packet.run
        made = Packet(stop.header, run.kind, "", self.topology.ports[hop.port].name.interface, own=True)
        for one in self.engine.run("output", [Passage(made)], run.tracker):
            header = one.packet.header
            # A mark alone leads a packet anew only where a chain of type route set it (nft_chain_route.c).
            is_moved = header.destination != stop.header.destination or (self._reroutes and one.packet.mark != 0)
            if one.is_over or not is_moved:
                self._leave_own(stop, packet, one, hop)
                continue
            onward = self._translated(stop, packet, one)
            if stop.instance in onward.owners:
                one.packet.iif, one.packet.oif = LOOPBACK, ""
                self._deliver(stop, onward, one)
            else:
                self._forward(stop, onward, one, None, ("postrouting",))

    def _leave_own(self, stop: Stop, packet: WalkedPacket, passage: Passage, hop: NextHop) -> None:
        if not passage.is_over:
            self._leave(stop, packet, passage, hop, ("postrouting",))
            self._show_output(stop, passage)
            return
        known = next((one for one in stop.branches if one.port == hop.port and one.address == hop.address), None)
        if known is not None:
            by_rules(known).stopped_by = passage.checks[-1]
            return
        branch = self.walker.branch(self.device, hop, passage.packet.header, False)
        by_rules(branch).filters = passage.checks
        _block(branch)
        stop.branches.append(branch)

    @staticmethod
    def _show_output(stop: Stop, passage: Passage) -> None:
        """The checks at output stand with the way out, as those of postrouting do."""
        branch = stop.branches[-1]
        by_rules(branch).filters = (*passage.checks, *branch.filters)

    def route_interface(self, header: Header, interface: str | None, mark: int | None) -> str:
        """The interface that its tables send a destination out of, '' where they have none: asked as if the packet
        were the device's own (kernel: nft_fib_ipv4.c)."""
        destination = header.destination
        found = self.walker.origin(self._instance(interface), header, True, mark)
        route = self.walker.solved.lookup(self._instance(interface), destination) if found is None else found[0].route
        is_own = any(
            self.topology.ports[port].device == self.device for port in self.topology.owners.get(destination, ())
        )
        if is_own or route is None or route.action != "forward" or not route.next_hops:
            return ""
        names = [self.topology.ports[hop.port].name.interface for hop in route.next_hops]
        return interface if interface is not None and interface in names else names[0]

    def address_type(self, address: Address, iif: str | None) -> int:
        """Local, broadcast, multicast or unicast, on one interface or any."""
        ports = [self.topology.ports[number] for number in self.topology.ports_of[self.device]]
        if address.is_multicast:
            return MULTICAST
        for port in ports:
            if iif is not None and port.name.interface != iif:
                continue
            if address in port.addresses:
                return LOCAL
            if any(p.family == 4 and not p.is_host and p.last == address.value for p in port.prefixes):
                return BROADCAST
        return UNICAST

    def own_address(self, interface: str, family: int, towards: Address | None) -> Address | None:
        """The address of an interface that is in the subnet of what it sends to, else its first."""
        port = self.topology.ports_named[self.device].get(interface)
        return None if port is None else fitting_address(port, family, towards)

    def _instance(self, interface: str | None) -> int:
        port = self.topology.ports_named[self.device].get(interface or "")
        return self.device if port is None else port.instance


def _passing(stop: Stop, passages: list[Passage]) -> list[Passage]:
    """The ways that pass; where none does the stop is the end, and where some do not it says so."""
    passing, over = [one for one in passages if not one.is_over], [one for one in passages if one.is_over]
    shown = (passing or over)[0]
    by_rules(stop).filters = shown.checks
    if over and passing:
        by_rules(stop).stopped_by = over[0].checks[-1]
    elif over:
        stop.verdict, stop.stage = "blocked", "filter"
    return passing


def _block(branch: Branch) -> None:
    branch.verdict, branch.stage, branch.target, branch.mtu = "blocked", "filter", -1, 0
