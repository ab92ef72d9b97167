"""What OSPF routers advertise: adjacencies and prefixes per area (RFC 2328 sections 9, 10 and 12.4)."""

from collections import defaultdict
from dataclasses import dataclass, field
from typing import NamedTuple

from routrel.model.addresses import Address, Prefix
from routrel.model.devices import Device, Ospf, OspfInterface
from routrel.model.filters import OSPF as OSPF_PROTOCOL
from routrel.model.filters import Header
from routrel.model.findings import Finding
from routrel.topology.segments import Port, Segment, Topology

ALL_SPF_ROUTERS = Address.parse("224.0.0.5")
DEFAULT_COST = 10
NO_LINK_FINDING = "ospf-neighbours"


class Edge(NamedTuple):
    """A directed edge: from one router out of ``port`` at ``cost`` to the router at ``neighbor``."""

    source: int
    target: int
    cost: int
    port: int
    neighbor: Address


class Stub(NamedTuple):
    """A prefix that a router brings into the area at ``cost`` (section 12.4.1)."""

    router: int
    prefix: Prefix
    cost: int


@dataclass(slots=True)
class AreaDatabase:
    """All that is advertised in one area; routers are device numbers, in ascending order."""

    number: int
    routers: list[int] = field(default_factory=list)
    edges: list[Edge] = field(default_factory=list)
    stubs: list[Stub] = field(default_factory=list)


@dataclass(frozen=True, slots=True)
class Speaker:
    """An interface that takes part in OSPF, with its settings."""

    port: Port
    device: Device
    area: int
    settings: OspfInterface
    cost: int
    prefixes: tuple[Prefix, ...]
    addresses: tuple[Address, ...]


class Database:
    """The areas of a network, and findings about neighbours that should be but are not."""

    def __init__(self, topology: Topology):
        self.topology = topology
        self.areas: dict[int, AreaDatabase] = {}
        self.findings: list[Finding] = []
        by_segment: dict[int, list[Speaker]] = defaultdict(list)
        for speaker in self._speakers():
            area = self.areas.setdefault(speaker.area, AreaDatabase(speaker.area))
            if not area.routers or area.routers[-1] != speaker.port.device:
                area.routers.append(speaker.port.device)
            if speaker.port.interface.is_loopback:
                # Section 12.4.1.3: a loopback is a host route at cost 0, unless the file says otherwise.
                cost = speaker.settings.cost or 0
                area.stubs += [Stub(speaker.port.device, a.host_prefix(), cost) for a in speaker.addresses]
                continue
            area.stubs += [Stub(speaker.port.device, prefix, speaker.cost) for prefix in speaker.prefixes]
            if not speaker.settings.passive:
                by_segment[topology.segment_of[speaker.port.index]].append(speaker)
        for number in sorted(by_segment):
            if number >= 0:
                self._connect(topology.segments[number], by_segment[number])
        for area in self.areas.values():
            area.edges.sort()

    def _speakers(self) -> list[Speaker]:
        speakers = []
        for index, device in enumerate(self.topology.devices):
            ospf = device.routing.ospf if device.routing else None
            if ospf is None:
                continue
            for area in ospf.areas:
                for settings in area.interfaces:
                    port = self.topology.port(device.name, settings.name)
                    addresses = [a for a in port.interface.addresses if a.family == 4]
                    if not port.up:
                        continue
                    if not addresses:
                        self.findings.append(
                            Finding(
                                "ospf-no-address",
                                "warning",
                                f"{port.name} stands in OSPF area {area_name(area.number)} but has no IPv4 address",
                                device.name,
                                settings.name,
                                (settings.place,),
                            )
                        )
                        continue
                    speakers.append(
                        Speaker(
                            port,
                            device,
                            area.number,
                            settings,
                            interface_cost(ospf, settings, port),
                            tuple(a.prefix for a in addresses),
                            tuple(a.address for a in addresses),
                        )
                    )
            assert index == self.topology.device_index[device.name]
        return speakers

    def _network_type(self, segment: Segment, speaker: Speaker) -> str:
        if speaker.settings.network is not None:
            return speaker.settings.network
        return "point-to-point" if len(segment.ports) == 2 else "broadcast"

    def _connect(self, segment: Segment, speakers: list[Speaker]) -> None:
        """Adjacencies of one segment: every pair that would become neighbours gets its two edges."""
        if len(speakers) < 2:
            return
        kinds = [self._network_type(segment, speaker) for speaker in speakers]
        for one in range(len(speakers)):
            for other in range(one + 1, len(speakers)):
                first, second = speakers[one], speakers[other]
                if first.port.device == second.port.device:
                    continue
                pair = self._matching_addresses(first, second, kinds[one])
                obstacle = self._obstacle(first, second, kinds[one], kinds[other], pair, speakers)
                if obstacle:
                    self.findings.append(
                        Finding(
                            NO_LINK_FINDING,
                            "error",
                            f"{first.port.name} and {second.port.name} cannot become OSPF neighbours: {obstacle}",
                            first.device.name,
                            first.port.interface.name,
                            (first.settings.place, second.settings.place),
                        )
                    )
                    continue
                assert pair is not None
                edges = self.areas[first.area].edges
                edges.append(Edge(first.port.device, second.port.device, first.cost, first.port.index, pair[1]))
                edges.append(Edge(second.port.device, first.port.device, second.cost, second.port.index, pair[0]))

    def _matching_addresses(self, first: Speaker, second: Speaker, kind: str) -> tuple[Address, Address] | None:
        for prefix, address in zip(first.prefixes, first.addresses, strict=True):
            for other_prefix, other in zip(second.prefixes, second.addresses, strict=True):
                if prefix == other_prefix:
                    return address, other
        # Section 8.2 and 10.5: a point-to-point link does not compare subnets.
        return (first.addresses[0], second.addresses[0]) if kind == "point-to-point" else None

    def _obstacle(
        self,
        first: Speaker,
        second: Speaker,
        kind: str,
        other_kind: str,
        pair: tuple[Address, Address] | None,
        speakers: list[Speaker],
    ) -> str:
        if first.area != second.area:
            return f"area {area_name(first.area)} against area {area_name(second.area)}"
        if kind != other_kind:
            return f"network type {kind} against {other_kind}"
        if pair is None:
            return f"subnet {first.prefixes[0]} against {second.prefixes[0]}"
        if pair[0] == pair[1]:
            return f"both have the address {pair[0]}"
        if kind == "point-to-point" and len(speakers) > 2:
            return f"network type point-to-point with {len(speakers) - 1} neighbours on the segment"
        if kind == "broadcast" and not any(
            speaker.settings.priority for speaker in speakers if speaker.area == first.area
        ):
            return "no router on the segment has a priority above 0, so none is designated"
        identifiers = (router_id(first.device), router_id(second.device))
        if identifiers[0] == identifiers[1] and identifiers[0] is not None:
            return f"both have the router id {identifiers[0]}"
        return self._filtered(first, second, kind, *pair) or self._filtered(second, first, kind, pair[1], pair[0])

    def _filtered(self, sender: Speaker, receiver: Speaker, kind: str, source: Address, target: Address) -> str:
        """Which ACL drops the sender's OSPF packets, or ''.

        Section 8.1: all go to AllSPFRouters on a point-to-point network; elsewhere the exchange is unicast.
        """
        for destination in (ALL_SPF_ROUTERS,) if kind == "point-to-point" else (ALL_SPF_ROUTERS, target):
            header = Header(OSPF_PROTOCOL, source, destination, None, None)
            for speaker, name in (
                (sender, sender.port.interface.acl_out),
                (receiver, receiver.port.interface.acl_in),
            ):
                if name is not None and not speaker.device.acls[name].accepts(header):
                    index = speaker.device.acls[name].first_match(header)
                    what = "its closing drop" if index is None else f"entry {index + 1}"
                    return f"ACL {name} of {speaker.device.name} drops OSPF packets to {destination} ({what})"
        return ""


def interface_cost(ospf: Ospf, settings: OspfInterface, port: Port) -> int:
    """The cost as the network file's page defines it; at most 65535 (RFC 2328 appendix C.3)."""
    if settings.cost is not None:
        return settings.cost
    if ospf.reference_bandwidth and port.interface.bandwidth:
        return min(65535, max(1, ospf.reference_bandwidth // port.interface.bandwidth))
    return DEFAULT_COST


def router_id(device: Device) -> Address | None:
    """The router id: configured, else the highest loopback IPv4 address, else the highest IPv4 address."""
    if device.routing and device.routing.router_id:
        return device.routing.router_id
    addresses = [
        (interface.is_loopback, address.value)
        for interface in device.interfaces.values()
        for address in interface.addresses
        if address.family == 4
    ]
    return Address(4, max(addresses)[1]) if addresses else None


def area_name(number: int) -> str:
    """An area id in its dotted form."""
    return str(Address(4, number))
