"""Who hears RIP of whom: every interface of a segment that speaks is heard where no access list is in the way."""

from collections import defaultdict
from collections.abc import Sequence
from typing import NamedTuple

from msgspec import Struct

from routrel.model.addresses import Address, Prefix
from routrel.model.filters import UDP, Header
from routrel.model.findings import Finding
from routrel.model.routing import RipInterface
from routrel.routing.neighbors import SOME_LINK_LOCAL, Obstacle, crowded, dropped_by, own_prefixes
from routrel.routing.prefixes.distinctions import PrefixDistinctions
from routrel.routing.protocol import OwnPackets, Process, ProtocolDatabase
from routrel.routing.routes import NextHop
from routrel.topology.ports import Port
from routrel.topology.segments import Topology

PORTS = {4: 520, 6: 521}
EVERYONE = {4: Address.parse("224.0.0.9"), 6: Address.parse("ff02::9")}


class RipNeighbor(Struct, frozen=True):
    """What one router hears of another by one port: one directed edge."""

    sender: int
    receiver: int
    metric: int
    hop: NextHop
    sender_port: int


class RipPort(NamedTuple):
    """An interface that takes part in RIP, with its settings."""

    process: int
    settings: RipInterface


class RipDatabase(ProtocolDatabase):
    """Who hears whom, and which networks are whose."""

    own_packets = (OwnPackets(UDP, tuple(PORTS.values())),)

    def __init__(self, topology: Topology, base: "RipDatabase | None" = None):
        super().__init__(topology)
        self.ports: dict[int, RipPort] = {}
        """By port."""
        self.networks: dict[tuple[int, Prefix], int] = {}
        """The port that brings a process's own network."""
        self.neighbors: dict[int, list[RipNeighbor]] = {4: [], 6: []}
        """By family, sorted by receiver, then next hop."""
        self.apart: dict[tuple[int, int], Obstacle] = {}
        """Why two ports that stand in it on one segment do not hear each other, by (sender, receiver)."""
        by_segment: dict[int, list[Port]] = defaultdict(list)
        for instance in topology.instances:
            rip = instance.routing.rip if instance.routing else None
            if rip is None:
                continue
            number = len(self.processes)
            self.processes.append(
                Process(number, instance.index, "rip", "default", (4, 6), rip.redistribute, rip.place)
            )
            device = topology.devices[instance.device]
            for settings in rip.interfaces:
                port = topology.port(device.name, settings.name)
                if not port.up:
                    continue
                self.ports[port.index] = RipPort(number, settings)
                for prefix in own_prefixes(port):
                    self.networks.setdefault((number, prefix), port.index)
                if topology.segment_of[port.index] >= 0:
                    by_segment[topology.segment_of[port.index]].append(port)
        for segment in sorted(by_segment):
            crowd = crowded("RIP", by_segment[segment], self.ports[by_segment[segment][0].index].settings.place)
            if crowd is not None:
                self.findings.append(crowd)
                continue
            for sender in by_segment[segment]:
                for receiver in by_segment[segment]:
                    if sender.index != receiver.index:
                        self._hear(sender, receiver)
        for neighbors in self.neighbors.values():
            neighbors.sort(key=lambda h: (h.receiver, h.hop.address or Address(9, 0), h.hop.port, h.hop.neighbor))

    def content(self) -> Sequence[object]:
        return [*super().content(), self.networks, self.neighbors, self.apart]

    def may_bring(self, prefix: Prefix) -> bool:
        return any(own == prefix for _, own in self.networks)

    def add_distinctions(self, distinctions: PrefixDistinctions) -> None:
        """What RIP itself tells of prefixes: whose own networks they are."""
        for process, prefix in self.networks:
            distinctions.add(prefix, ("rip", process))

    def _hear(self, sender: Port, receiver: Port) -> None:
        process, settings = self.ports[sender.index]
        other, own = self.ports[receiver.index]
        if process == other or settings.passive:
            return
        for family in (4, 6):
            if not all(_has_family(port, family) for port in (sender, receiver)):
                continue
            address = self.topology.neighbor_address(receiver.index, sender.index, family)
            # RFC 2453 section 3.9.2: the sender must be on a directly connected network.
            if family == 4 and not any(
                address is not None and mine.prefix.contains(address) for mine in receiver.interface.addresses
            ):
                text = f"{address} is on no subnet of the receiver (RFC 2453 3.9.2)"
                self.apart[sender.index, receiver.index] = Obstacle(text)
                continue
            devices = self.topology.devices[sender.device], self.topology.devices[receiver.device]
            header = Header(UDP, address or SOME_LINK_LOCAL, EVERYONE[family], PORTS[family], PORTS[family])
            dropped = dropped_by(header, "its updates", (devices[0], sender), (devices[1], receiver))
            if dropped is not None:
                self.apart[sender.index, receiver.index] = dropped
                self.findings.append(
                    Finding(
                        "rip-neighbours",
                        "error",
                        f"{receiver.name} does not hear RIP from {sender.name}: {dropped.text}",
                        receiver.name.device,
                        receiver.name.interface,
                        (*dropped.places, own.place, settings.place),
                    )
                )
                continue
            hop = NextHop(receiver.index, address, -1 if address is not None else sender.index)
            self.neighbors[family].append(RipNeighbor(process, other, own.metric, hop, sender.index))


def _has_family(port: Port, family: int) -> bool:
    return any(address.family == family for address in port.interface.addresses)
