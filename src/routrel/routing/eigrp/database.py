"""Who hears EIGRP of whom, what each interface adds to a vector, and whose the networks are."""

from collections import defaultdict
from collections.abc import Sequence
from dataclasses import dataclass, field
from typing import NamedTuple

from routrel.model.addresses import Address, Prefix
from routrel.model.filters import Header
from routrel.model.findings import Finding
from routrel.model.routing import Eigrp, EigrpInterface
from routrel.routing.neighbors import SOME_LINK_LOCAL, Obstacle, crowded, dropped_by, hop_to, own_prefixes
from routrel.routing.prefixes.distinctions import PrefixDistinctions
from routrel.routing.protocol import OwnPackets, Process, ProtocolDatabase
from routrel.routing.routes import NextHop
from routrel.topology.ports import Instance, Port
from routrel.topology.segments import Topology

EIGRP_PROTOCOL = 88
EVERYONE = {4: Address.parse("224.0.0.10"), 6: Address.parse("ff02::a")}
REFERENCE_KBIT = 10_000_000
DEFAULT_BANDWIDTH = 100_000_000
"""Bit/s of an interface for which neither EIGRP nor the interface says one: it goes with the delay of 10."""


class InterfaceMetric(NamedTuple):
    """What an interface adds to a vector: inverse bandwidth (10^7 / kbit/s) and delay (tens of µs)."""

    slowness: int
    delay: int


@dataclass(frozen=True, slots=True)
class EigrpNeighbor:
    """What one router hears of a neighbour by one port, and what its own interface adds."""

    sender: int
    receiver: int
    adds: InterfaceMetric
    hop: NextHop
    sender_port: int


@dataclass(frozen=True, slots=True)
class EigrpPort:
    """An interface that takes part in EIGRP, with its settings."""

    port: Port = field(compare=False)
    process: int
    eigrp: Eigrp
    settings: EigrpInterface


def interface_metric(settings: EigrpInterface, port: Port) -> InterfaceMetric:
    """RFC 7868 section 5.6.1.1: the interface's part of the metric."""
    bandwidth = settings.bandwidth or port.interface.bandwidth or DEFAULT_BANDWIDTH
    return InterfaceMetric(REFERENCE_KBIT // max(1, bandwidth // 1000), settings.delay)


class EigrpDatabase(ProtocolDatabase):
    """Who hears whom, and which networks are whose."""

    own_packets = (OwnPackets(EIGRP_PROTOCOL),)

    def __init__(self, topology: Topology, base: "EigrpDatabase | None" = None):
        super().__init__(topology)
        self.configured: list[Eigrp] = []
        self.ports: dict[int, EigrpPort] = {}
        """By port."""
        self.networks: dict[tuple[int, Prefix], tuple[InterfaceMetric, int]] = {}
        """(interface's adds, port) of a process's own networks."""
        self.neighbors: dict[int, list[EigrpNeighbor]] = {4: [], 6: []}
        """By family, sorted by receiver, then next hop."""
        self.apart: dict[tuple[int, int], Obstacle] = {}
        """Why two ports that stand in it on one segment do not hear each other, by (sender, receiver)."""
        by_segment: dict[int, list[EigrpPort]] = defaultdict(list)
        for instance in topology.instances:
            if instance.routing and instance.routing.eigrp:
                self._add(instance, instance.routing.eigrp)
        for eigrp_port in self.ports.values():
            segment = topology.segment_of[eigrp_port.port.index]
            if segment >= 0 and not eigrp_port.settings.passive:
                by_segment[segment].append(eigrp_port)
        for segment in sorted(by_segment):
            eigrp_ports = by_segment[segment]
            crowd = crowded("EIGRP", [eigrp_port.port for eigrp_port in eigrp_ports], eigrp_ports[0].settings.place)
            if crowd is not None:
                self.findings.append(crowd)
                continue
            for one in range(len(eigrp_ports)):
                for other in range(one + 1, len(eigrp_ports)):
                    self._meet(eigrp_ports[one], eigrp_ports[other])
        for neighbors in self.neighbors.values():
            neighbors.sort(key=lambda h: (h.receiver, h.hop.address or Address(9, 0), h.hop.port, h.hop.neighbor))

    def _add(self, instance: Instance, eigrp: Eigrp) -> None:
        number = len(self.processes)
        self.configured.append(eigrp)
        self.processes.append(
            Process(number, instance.index, "eigrp", str(eigrp.number), (4, 6), eigrp.redistribute, eigrp.place)
        )
        device = self.topology.devices[instance.device]
        for settings in eigrp.interfaces:
            port = self.topology.port(device.name, settings.name)
            if not port.up:
                continue
            self.ports[port.index] = EigrpPort(port, number, eigrp, settings)
            adds = interface_metric(settings, port)
            for prefix in own_prefixes(port):
                standing = self.networks.get((number, prefix))
                if standing is None or sum(adds) < sum(standing[0]):
                    self.networks[number, prefix] = adds, port.index

    def content(self) -> Sequence[object]:
        return [*super().content(), self.configured, self.networks, self.neighbors, self.apart]

    def may_bring(self, prefix: Prefix) -> bool:
        return any(own == prefix for _, own in self.networks)

    def add_distinctions(self, distinctions: PrefixDistinctions) -> None:
        """What EIGRP itself tells of prefixes: whose own networks they are, and lists with a preference."""
        for (process, prefix), (adds, _) in self.networks.items():
            distinctions.add(prefix, ("eigrp", process, adds))
        for process, eigrp in enumerate(self.configured):
            for distance in eigrp.distances:
                for prefix in distance.prefixes:
                    distinctions.add_covered(prefix, ("eigrp", process, prefix))

    def _meet(self, first: EigrpPort, second: EigrpPort) -> None:
        if first.process == second.process:
            return
        obstacle: Obstacle | None = None
        if first.eigrp.number != second.eigrp.number:
            obstacle = Obstacle(f"AS {first.eigrp.number} against AS {second.eigrp.number}")
        families = [
            family
            for family in (4, 6)
            if all(any(a.family == family for a in s.port.interface.addresses) for s in (first, second))
        ]
        if not obstacle and families == [4] and not self._share_subnet(first, second):
            obstacle = Obstacle("they share no subnet")
        for family in families:
            if obstacle or (family == 4 and not self._share_subnet(first, second)):
                continue
            obstacle = self._filtered(first, second, family) or self._filtered(second, first, family)
            if obstacle:
                break
            for sender, receiver in ((first, second), (second, first)):
                hop = hop_to(self.topology, receiver.port.index, sender.port.index, family)
                assert hop is not None
                adds = interface_metric(receiver.settings, receiver.port)
                self.neighbors[family].append(
                    EigrpNeighbor(sender.process, receiver.process, adds, hop, sender.port.index)
                )
        if obstacle:
            self.apart[first.port.index, second.port.index] = obstacle
            self.apart[second.port.index, first.port.index] = obstacle
            self.findings.append(
                Finding(
                    "eigrp-neighbours",
                    "error",
                    f"{first.port.name} and {second.port.name} are no EIGRP neighbours: {obstacle.text}",
                    first.port.name.device,
                    first.port.name.interface,
                    (*obstacle.places, first.settings.place, second.settings.place),
                )
            )

    def _share_subnet(self, first: EigrpPort, second: EigrpPort) -> bool:
        subnets = [{a.prefix for a in s.port.interface.addresses if a.family == 4} for s in (first, second)]
        return bool(subnets[0] & subnets[1])

    def _filtered(self, sender: EigrpPort, receiver: EigrpPort, family: int) -> Obstacle | None:
        """Hellos go to all EIGRP routers, the rest of the exchange to the neighbour (RFC 7868 section 5.3)."""
        ports = sender.port.index, receiver.port.index
        source = self.topology.neighbor_address(*ports[::-1], family) or SOME_LINK_LOCAL
        target = self.topology.neighbor_address(*ports, family) or SOME_LINK_LOCAL
        devices = self.topology.devices[sender.port.device], self.topology.devices[receiver.port.device]
        for destination in (EVERYONE[family], target):
            header = Header(EIGRP_PROTOCOL, source, destination, None, None)
            packets = f"EIGRP packets to {destination}"
            dropped = dropped_by(header, packets, (devices[0], sender.port), (devices[1], receiver.port))
            if dropped is not None:
                return dropped
        return None
