"""Where a flow begins: at its device with an address that this chooses, or where one from outside comes in."""

from routrel.forwarding.flow_words import FlowEnd, FlowError, device_address, owning_instances
from routrel.forwarding.kernel_tables import fitting_address
from routrel.forwarding.trace import Start, Trace
from routrel.forwarding.walk import ORIGIN, Walker
from routrel.model.addresses import Address
from routrel.model.filters import ICMP, Header
from routrel.model.network import InterfaceName
from routrel.routing.routes import NextHop
from routrel.routing.solve import Solved


class Starts:
    """Finds the starts of flows over one solved network, and of their answers."""

    def __init__(self, solved: Solved, walker: Walker):
        self.solved = solved
        self.walker = walker
        self._addresses: dict[tuple[int, int], Address | None] = {}

    def device_address(self, instance: int, family: int) -> Address | None:
        """The address that stands for an instance."""
        key = (instance, family)
        if key not in self._addresses:
            self._addresses[key] = device_address(self.solved.topology, instance, family)
        return self._addresses[key]

    def refuse_disabled(self, instance: int) -> None:
        """Say of a device that is off that it is."""
        topology = self.solved.topology
        device = topology.devices[topology.instances[instance].device]
        if not device.enabled:
            raise FlowError(f"{device.name} is disabled: none of its addresses is up")

    def owns(self, instance: int, address: Address) -> bool:
        """Whether an address is one of an instance's."""
        ports = self.solved.topology.owners.get(address, ())
        return any(self.solved.topology.ports[port].instance == instance for port in ports)

    def of(self, source: FlowEnd, header: Header, enter: str | None) -> list[Start]:
        """The packets that a source may send; ``enter`` is where one from outside comes in."""
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

    def _entering(self, source: FlowEnd, header: Header, enter: str) -> Start:
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

    def _originated(self, source: FlowEnd, header: Header) -> list[Start]:
        """A device as source: its address on the interface the packet leaves by, else its own."""
        assert source.instance is not None
        topology = self.solved.topology
        family = header.destination.family
        fallback = self.device_address(source.instance, family)
        chosen_by_kernel = self._originated_by_kernel(source, header, fallback)
        if chosen_by_kernel is not None:
            return chosen_by_kernel
        route = self.solved.lookup(source.instance, header.destination)
        by_source: dict[Address, list[NextHop]] = {}
        if route is not None and not self.owns(source.instance, header.destination):
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
                self.refuse_disabled(source.instance)
                raise FlowError(f"{source.word} has no IPv{family} address to send from")
            return [Start(source.instance, ORIGIN, header._replace(source=fallback))]
        return [
            Start(source.instance, ORIGIN, header._replace(source=address), tuple(hops))
            for address, hops in by_source.items()
        ]

    def _originated_by_kernel(self, source: FlowEnd, header: Header, fallback: Address | None) -> list[Start] | None:
        """A Linux device as source: the route's preferred source, else the address that fits the way out
        (ip-route(8), inet_select_addr); the rules are asked again with it. None of any other device."""
        assert source.instance is not None
        found = self.walker.origin(source.instance, header, False)
        if found is None or self.owns(source.instance, header.destination):
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

    def of_reply(self, destination: FlowEnd, forward: Trace, starts: list[Start]) -> tuple[list[Start], str]:
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
