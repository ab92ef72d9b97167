"""What OSPF routers advertise: adjacencies and prefixes per area (RFC 2328 sections 9, 10 and 12.4)."""

from collections import Counter, defaultdict
from collections.abc import Hashable, Iterable
from dataclasses import dataclass, field
from itertools import combinations
from typing import NamedTuple

from routrel.model.addresses import Address, Prefix
from routrel.model.filters import OSPF as OSPF_PROTOCOL
from routrel.model.filters import Header
from routrel.model.findings import Finding
from routrel.model.routing import Ospf, OspfArea, OspfInterface
from routrel.routing.brought import BroughtPrefixes
from routrel.routing.graph import Edge, Member, SharedNetwork
from routrel.routing.rows import Process
from routrel.routing.speaking import SOME_LINK_LOCAL, dropped_by, network_type, router_id
from routrel.routing.traits import Traits
from routrel.topology.segments import Instance, Port, Segment, Topology

ALL_SPF_ROUTERS = {4: Address.parse("224.0.0.5"), 6: Address.parse("ff02::5")}
DEFAULT_COST = 10

MANY = 64
"""OSPF interfaces on one segment from which on they are joined as a shared network."""

MOST_PAIRS = 200_000
"""Pairs of interfaces of one segment that are compared one by one."""

NO_LINK_FINDING = "ospf-neighbours"


@dataclass(slots=True)
class AreaDatabase:
    """All that is advertised in one area; routers are process numbers, in ascending order."""

    number: int
    routers: list[int] = field(default_factory=list)
    edges: list[Edge] = field(default_factory=list)
    networks: list[SharedNetwork] = field(default_factory=list)
    """Segments of many routers that are all neighbours of each other: what is among them is in no edge."""
    stubs: BroughtPrefixes = field(default_factory=BroughtPrefixes)
    """Section 12.4.1: the networks of its routers."""


class Speaker(NamedTuple):
    """An interface that takes part in OSPF, with its settings."""

    port: Port
    process: int
    ospf: Ospf
    area: OspfArea
    settings: OspfInterface

    @property
    def cost(self) -> int:
        return interface_cost(self.ospf, self.settings, self.port)

    @property
    def prefixes(self) -> tuple[Prefix, ...]:
        return told_by(self.port, self.ospf.family)[0]

    @property
    def addresses(self) -> tuple[Address, ...]:
        return told_by(self.port, self.ospf.family)[1]


class Database:
    """The areas of all processes of one version, and findings about neighbours that should be but are not."""

    def __init__(self, topology: Topology, version: int = 2):
        self.topology = topology
        self.version = version
        self.family = 4 if version == 2 else 6
        self.areas: dict[int, AreaDatabase] = {}
        self.findings: list[Finding] = []
        self.processes: list[Process] = []
        self.configured: list[Ospf] = []
        """Per process, its part of the network file."""
        self.speakers: dict[int, Speaker] = {}
        """By port."""
        self.area_settings: dict[tuple[int, int], OspfArea] = {}
        """By process and area number."""
        self.apart: dict[tuple[int, int], str] = {}
        """Why two ports that stand in it on one segment do not hear each other, by (sender, receiver)."""
        self._router_ids: dict[int, Address | None] = {}
        self._on_segment: dict[int, list[Speaker]] = defaultdict(list)
        for instance in topology.instances:
            for ospf in instance.routing.ospf if instance.routing else ():
                if ospf.version == version:
                    self._add(instance, ospf)
        for number in sorted(self._on_segment):
            if number >= 0 and len(self._on_segment[number]) > 1:
                self._connect(topology.segments[number], self._on_segment[number])

    def ports_of(self, process: int) -> frozenset[int]:
        """The ports of a process."""
        ports = self.topology.ports_named[self.topology.instances[self.processes[process].instance].device]
        named = (ports[one.name].index for area in self.configured[process].areas for one in area.interfaces)
        return frozenset(port for port in named if port in self.speakers)

    def add_traits(self, traits: Traits) -> None:
        """What OSPF itself tells of prefixes: who brings them into which area at what cost, and ranges."""
        for area in self.areas.values():
            traits.add_columns(*area.stubs.columns(traits.index))
        for settings in self.area_settings.values():
            for configured in settings.ranges:
                traits.add_single(configured.prefix)
                traits.add_covered(configured.prefix, configured.prefix)

    def _add(self, instance: Instance, ospf: Ospf) -> None:
        device = self.topology.devices[instance.device]
        named = self.topology.ports_named[instance.device]
        number = len(self.processes)
        self.configured.append(ospf)
        self.processes.append(
            Process(
                number,
                instance.index,
                "ospf",
                ospf.name,
                (self.family,),
                ospf.redistribute,
                ospf.place,
                ospf.originate_default,
            )
        )
        for area in ospf.areas:
            prefixes: list[Prefix] = []
            costs: list[int] = []
            ports: list[int] = []
            takes_part = False
            for settings in area.interfaces:
                port = named[settings.name]
                if port.down:
                    continue
                told, addresses = told_by(port, self.family)
                if not told and not any(address.family == self.family for address in port.addresses):
                    self.findings.append(
                        Finding(
                            "ospf-no-address",
                            "warning",
                            f"{port.name} stands in OSPF area {area_name(area.number)}"
                            f" but has no IPv{self.family} address",
                            device.name,
                            settings.name,
                            (settings.place,),
                        )
                    )
                    continue
                takes_part = True
                speaker = self.speakers[port.index] = Speaker(port, number, ospf, area, settings)
                if port.interface.kind == "loopback":
                    # Section 12.4.1.3: a loopback is a host route at cost 0, unless the file says otherwise.
                    prefixes += [own.host_prefix() for own in addresses]
                    cost = settings.cost or 0
                else:
                    prefixes += told
                    cost = settings.cost if settings.cost is not None else interface_cost(ospf, settings, port)
                    if not settings.passive:
                        self._on_segment[self.topology.segment_of[port.index]].append(speaker)
                for _ in told:
                    costs.append(cost)
                    ports.append(port.index)
            if takes_part:
                self._join(number, area).stubs.bring(number, prefixes, costs, ports)

    def _join(self, process: int, settings: OspfArea) -> AreaDatabase:
        """The area's database, with a process in it."""
        self.area_settings[process, settings.number] = settings
        area = self.areas.setdefault(settings.number, AreaDatabase(settings.number))
        area.routers.append(process)
        return area

    def _connect(self, segment: Segment, speakers: list[Speaker]) -> None:
        """Adjacencies of one segment: every pair that would become neighbours gets its two edges."""
        kinds = {speaker.port.index: network_type(segment, speaker.settings.network) for speaker in speakers}
        pairs = combinations(speakers, 2) if len(speakers) <= MANY else self._join_alike(segment, speakers)
        self._connect_pairs(pairs, kinds, speakers)

    def _join_alike(self, segment: Segment, speakers: list[Speaker]) -> list[tuple[Speaker, Speaker]]:
        """Of many routers those that are alike are joined as one shared network.

        Left to be looked at are the pairs among the rest and with one of each such group.
        """
        groups = self._alike(segment, speakers)
        for group in groups:
            members = tuple(Member(speaker.process, speaker.port.index, speaker.cost) for speaker in group)
            self.areas[group[0].area.number].networks.append(members)
        grouped = {speaker.port.index: number for number, group in enumerate(groups) for speaker in group}
        singles = [speaker for speaker in speakers if speaker.port.index not in grouped]
        if len(singles) * len(speakers) > MOST_PAIRS:
            self._give_up(segment, singles)
            singles = []
        return [
            *combinations(singles, 2),
            *((one, other) for one in singles for group in groups for other in group),
            *combinations([group[0] for group in groups], 2),
        ]

    def _give_up(self, segment: Segment, speakers: list[Speaker]) -> None:
        first = speakers[0]
        self.findings.append(
            Finding(
                "not-represented",
                "error",
                f"{len(speakers)} OSPF routers on the segment of {first.port.name} differ from each other and from the"
                f" rest: which of them are neighbours was not looked into, and none is taken for one (at most"
                f" {MOST_PAIRS:,} pairs are compared)",
                first.port.name.device,
                first.port.interface.name,
                (first.settings.place,),
            )
        )

    def _alike(self, segment: Segment, speakers: list[Speaker]) -> list[list[Speaker]]:
        """Groups of many broadcast interfaces with equal settings and subnets, addresses and ids of their own each.

        Any two of a group are neighbours: nothing that ``_obstacle`` looks at differs or stands in the way.
        """
        found: dict[Hashable, list[Speaker]] = defaultdict(list)
        for speaker in speakers:
            interface = speaker.port.interface
            kind = network_type(segment, speaker.settings.network)
            if kind == "broadcast" and not (interface.acl_in or interface.acl_out) and len(speaker.prefixes) <= 1:
                area = speaker.area
                found[area.number, area.type, frozenset(speaker.prefixes)].append(speaker)
        groups = []
        for group in found.values():
            addresses = Counter(speaker.port.addresses[:1] for speaker in group)
            identifiers = Counter(self.router_id(speaker.process) for speaker in group)
            processes = Counter(speaker.process for speaker in group)
            alone = [
                speaker
                for speaker in group
                if addresses[speaker.port.addresses[:1]] == identifiers[self.router_id(speaker.process)] == 1
                and processes[speaker.process] == 1
            ]
            if len(alone) > MANY and any(speaker.settings.priority for speaker in alone):
                groups.append(alone)
        return groups

    def _connect_pairs(
        self, pairs: Iterable[tuple[Speaker, Speaker]], kinds: dict[int, str], speakers: list[Speaker]
    ) -> None:
        for first, second in pairs:
            one, other = first.port.index, second.port.index
            if first.process == second.process:
                continue
            obstacle = self._obstacle(first, second, kinds[one], kinds[other], speakers)
            if obstacle:
                self.apart[first.port.index, second.port.index] = obstacle
                self.apart[second.port.index, first.port.index] = obstacle
                self.findings.append(
                    Finding(
                        NO_LINK_FINDING,
                        "error",
                        f"{first.port.name} and {second.port.name} cannot become OSPF neighbours: {obstacle}",
                        first.port.name.device,
                        first.port.interface.name,
                        (first.settings.place, second.settings.place),
                    )
                )
                continue
            edges = self.areas[first.area.number].edges
            ports = first.port.index, second.port.index
            for own, far in self._gateways(first, second):
                edges.append(Edge(first.process, second.process, first.cost, *ports, far))
                edges.append(Edge(second.process, first.process, second.cost, *ports[::-1], own))

    def _gateways(self, first: Speaker, second: Speaker) -> list[tuple[Address | None, Address | None]]:
        """Both addresses of each neighbourhood of two interfaces: version 2 has one in every subnet they share."""
        if self.family == 4 and len(first.port.addresses) > 1 and len(second.port.addresses) > 1:
            theirs = dict(zip(second.prefixes, second.addresses, strict=True))
            pairs = zip(first.prefixes, first.addresses, strict=True)
            found = {prefix: (own, theirs[prefix]) for prefix, own in pairs if prefix in theirs}
            if len(found) > 1:
                return [pair for pair in found.values() if pair[0] != pair[1]]
        return [(None, None)]

    def _obstacle(self, first: Speaker, second: Speaker, kind: str, other_kind: str, speakers: list[Speaker]) -> str:
        if first.area.number != second.area.number:
            return f"area {area_name(first.area.number)} against area {area_name(second.area.number)}"
        if first.area.type != second.area.type:
            # Section 10.5 and RFC 3101 section 2.4: the E- and N-bits of their hellos must agree.
            return f"area type {first.area.type} against {second.area.type}"
        if kind != other_kind:
            return f"network type {kind} against {other_kind}"
        if self.family == 4:
            obstacle = self._addresses_differ(first, second, kind)
            if obstacle:
                return obstacle
        if kind == "point-to-point" and len(speakers) > 2:
            return f"network type point-to-point with {len(speakers) - 1} neighbours on the segment"
        if kind == "broadcast" and not any(
            speaker.settings.priority for speaker in speakers if speaker.area.number == first.area.number
        ):
            return "no router on the segment has a priority above 0, so none is designated"
        identifiers = self.router_id(first.process), self.router_id(second.process)
        if identifiers[0] == identifiers[1] and identifiers[0] is not None:
            return f"both have the router id {identifiers[0]}"
        return self._filtered(first, second, kind) or self._filtered(second, first, kind)

    def router_id(self, process: int) -> Address | None:
        if process not in self._router_ids:
            self._router_ids[process] = router_id(self.topology, self.processes[process].instance)
        return self._router_ids[process]

    def _addresses_differ(self, first: Speaker, second: Speaker, kind: str) -> str:
        """Section 8.2 and 10.5: a point-to-point link does not compare subnets; version 3 never does."""
        own, other = first.port, second.port
        if len(own.prefixes) == 1 and own.prefixes == other.prefixes and own.addresses != other.addresses:
            return ""  # as nearly all are
        if kind != "point-to-point" and set(first.prefixes).isdisjoint(second.prefixes):
            return f"subnet {first.prefixes[0]} against {second.prefixes[0]}"
        ports = own.index, other.index
        source = self.topology.neighbor_address(*ports[::-1], 4)
        if source == self.topology.neighbor_address(*ports, 4):
            return f"both have the address {source}"
        return ""

    def _filtered(self, sender: Speaker, receiver: Speaker, kind: str) -> str:
        """Which ACL drops the sender's OSPF packets, or ''.

        Section 8.1: all go to AllSPFRouters on a point-to-point network; elsewhere the exchange is unicast.
        """
        ports = sender.port.index, receiver.port.index
        if not (sender.port.interface.acl_out or receiver.port.interface.acl_in):
            return ""
        source = self.topology.neighbor_address(*ports[::-1], self.family) or SOME_LINK_LOCAL
        target = self.topology.neighbor_address(*ports, self.family) or SOME_LINK_LOCAL
        everyone = ALL_SPF_ROUTERS[self.family]
        for destination in (everyone,) if kind == "point-to-point" else (everyone, target):
            dropped = dropped_by(
                Header(OSPF_PROTOCOL, source, destination, None, None),
                (self.topology.devices[sender.port.device], sender.port),
                (self.topology.devices[receiver.port.device], receiver.port),
            )
            if dropped:
                return dropped.format(f"OSPF packets to {destination}")
        return ""


def told_by(port: Port, family: int) -> tuple[tuple[Prefix, ...], tuple[Address, ...]]:
    """The subnets and addresses of a port that OSPF of one family tells others."""
    if len(port.addresses) == 1 and family == 4 == port.addresses[0].family and not port.addresses[0].is_link_local:
        return port.prefixes, port.addresses
    told = [
        (prefix, address)
        for prefix, address in zip(port.prefixes, port.addresses, strict=True)
        if address.family == family and not address.is_link_local
    ]
    return tuple(prefix for prefix, _ in told), tuple(address for _, address in told)


def interface_cost(ospf: Ospf, settings: OspfInterface, port: Port) -> int:
    """The cost as the network file's page defines it; at most 65535 (RFC 2328 appendix C.3)."""
    if settings.cost is not None:
        return settings.cost
    if ospf.reference_bandwidth and port.interface.bandwidth:
        return min(65535, max(1, ospf.reference_bandwidth // port.interface.bandwidth))
    return DEFAULT_COST


def area_name(number: int) -> str:
    """An area id in its dotted form."""
    return str(Address(4, number))
