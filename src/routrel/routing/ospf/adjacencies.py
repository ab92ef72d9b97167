"""Which OSPF interfaces of a segment become neighbours (RFC 2328 sections 9 and 10), and what keeps others apart."""

from collections import Counter, defaultdict
from collections.abc import Callable, Hashable, Iterable
from itertools import combinations

from msgspec import Struct

from routrel.model.addresses import Address
from routrel.model.filters import OSPF as OSPF_PROTOCOL
from routrel.model.filters import Header
from routrel.model.findings import Finding
from routrel.routing.neighbors import SOME_LINK_LOCAL, Obstacle, dropped_by, network_type
from routrel.routing.ospf.ports import OspfPort, area_name
from routrel.routing.spf.graph import Edge, Member, SharedNetwork
from routrel.topology.ports import Segment
from routrel.topology.segments import Topology

ALL_SPF_ROUTERS = {4: Address.parse("224.0.0.5"), 6: Address.parse("ff02::5")}
MANY = 64
"""OSPF interfaces on one segment from which on they are joined as a shared network."""

MOST_PAIRS = 200_000
"""Pairs of interfaces of one segment that are compared one by one."""

NO_LINK_FINDING = "ospf-neighbours"


class Adjacencies(Struct):
    """What the interfaces of one segment are to each other; edges and shared networks by area."""

    segment: Segment
    ospf_ports: list[OspfPort]
    edges: dict[int, list[Edge]] = {}
    networks: list[tuple[int, SharedNetwork]] = []
    apart: dict[tuple[int, int], Obstacle] = {}
    findings: list[Finding] = []


class AdjacencyFinder:
    """Looks at the interfaces of segments; ``router_id`` tells that of a process."""

    def __init__(self, topology: Topology, family: int, router_id: Callable[[int], Address | None]):
        self.topology = topology
        self.family = family
        self.router_id = router_id

    def find(self, segment: Segment, ospf_ports: list[OspfPort]) -> Adjacencies:
        """Every pair that would become neighbours gets its two edges."""
        found = Adjacencies(segment, ospf_ports)
        kinds = {one.port.index: network_type(segment, one.settings.network) for one in ospf_ports}
        is_few = len(ospf_ports) <= MANY
        self._connect_pairs(combinations(ospf_ports, 2) if is_few else self._join_alike(found), kinds, found)
        return found

    def _join_alike(self, found: "Adjacencies") -> list[tuple[OspfPort, OspfPort]]:
        """Of many routers those that are alike are joined as one shared network.

        Left to be looked at are the pairs among the rest and with one of each such group.
        """
        ospf_ports = found.ospf_ports
        groups = self._alike(found.segment, ospf_ports)
        for group in groups:
            members = tuple(Member(ospf_port.process, ospf_port.port.index, ospf_port.cost) for ospf_port in group)
            found.networks.append((group[0].area.number, members))
        grouped = {ospf_port.port.index: number for number, group in enumerate(groups) for ospf_port in group}
        singles = [ospf_port for ospf_port in ospf_ports if ospf_port.port.index not in grouped]
        if len(singles) * len(ospf_ports) > MOST_PAIRS:
            found.findings.append(_given_up(singles))
            singles = []
        return [
            *combinations(singles, 2),
            *((one, other) for one in singles for group in groups for other in group),
            *combinations([group[0] for group in groups], 2),
        ]

    def _alike(self, segment: Segment, ospf_ports: list[OspfPort]) -> list[list[OspfPort]]:
        """Groups of many broadcast interfaces with equal settings and subnets, addresses and ids of their own each.

        Any two of a group are neighbours: nothing that ``_obstacle`` looks at differs or stands in the way.
        """
        found: dict[Hashable, list[OspfPort]] = defaultdict(list)
        for ospf_port in ospf_ports:
            interface = ospf_port.port.interface
            kind = network_type(segment, ospf_port.settings.network)
            if kind == "broadcast" and not (interface.acl_in or interface.acl_out) and len(ospf_port.prefixes) <= 1:
                area = ospf_port.area
                found[area.number, area.type, frozenset(ospf_port.prefixes)].append(ospf_port)
        groups = []
        for group in found.values():
            addresses = Counter(ospf_port.port.addresses[:1] for ospf_port in group)
            identifiers = Counter(self.router_id(ospf_port.process) for ospf_port in group)
            processes = Counter(ospf_port.process for ospf_port in group)
            alone = [
                ospf_port
                for ospf_port in group
                if addresses[ospf_port.port.addresses[:1]] == identifiers[self.router_id(ospf_port.process)] == 1
                and processes[ospf_port.process] == 1
            ]
            if len(alone) > MANY and any(ospf_port.settings.priority for ospf_port in alone):
                groups.append(alone)
        return groups

    def _connect_pairs(
        self, pairs: Iterable[tuple[OspfPort, OspfPort]], kinds: dict[int, str], found: "Adjacencies"
    ) -> None:
        for first, second in pairs:
            one, other = first.port.index, second.port.index
            if first.process == second.process:
                continue
            obstacle = self._obstacle(first, second, kinds[one], kinds[other], found.ospf_ports)
            if obstacle:
                found.apart[one, other] = found.apart[other, one] = obstacle
                found.findings.append(
                    Finding(
                        NO_LINK_FINDING,
                        "error",
                        f"{first.port.name} and {second.port.name} cannot become OSPF neighbours: {obstacle.text}",
                        first.port.name.device,
                        first.port.interface.name,
                        (*obstacle.places, first.settings.place, second.settings.place),
                    )
                )
                continue
            edges = found.edges.setdefault(first.area.number, [])
            for own, far in self._gateways(first, second):
                edges.append(Edge(first.process, second.process, first.cost, one, other, far))
                edges.append(Edge(second.process, first.process, second.cost, other, one, own))

    def _gateways(self, first: OspfPort, second: OspfPort) -> list[tuple[Address | None, Address | None]]:
        """Both addresses of each neighbourhood of two interfaces: version 2 has one in every subnet they share."""
        if self.family == 4 and len(first.port.addresses) > 1 and len(second.port.addresses) > 1:
            theirs = dict(zip(second.prefixes, second.addresses, strict=True))
            pairs = zip(first.prefixes, first.addresses, strict=True)
            found = {prefix: (own, theirs[prefix]) for prefix, own in pairs if prefix in theirs}
            if len(found) > 1:
                return [pair for pair in found.values() if pair[0] != pair[1]]
        return [(None, None)]

    def _obstacle(
        self, first: OspfPort, second: OspfPort, kind: str, other_kind: str, ospf_ports: list[OspfPort]
    ) -> Obstacle | None:
        text = self._disagreement(first, second, kind, other_kind, ospf_ports)
        if text:
            return Obstacle(text)
        return self._filtered(first, second, kind) or self._filtered(second, first, kind)

    def _disagreement(
        self, first: OspfPort, second: OspfPort, kind: str, other_kind: str, ospf_ports: list[OspfPort]
    ) -> str:
        """What their settings and addresses do not agree on, or ''."""
        if first.area.number != second.area.number:
            return f"area {area_name(first.area.number)} against area {area_name(second.area.number)}"
        if first.area.type != second.area.type:
            # Section 10.5 and RFC 3101 section 2.4: the E- and N-bits of their hellos must agree.
            return f"area type {first.area.type} against {second.area.type}"
        if kind != other_kind:
            return f"network type {kind} against {other_kind}"
        if self.family == 4:
            text = self._addresses_differ(first, second, kind)
            if text:
                return text
        if kind == "point-to-point" and len(ospf_ports) > 2:
            return f"network type point-to-point with {len(ospf_ports) - 1} neighbours on the segment"
        if kind == "broadcast" and not any(
            ospf_port.settings.priority for ospf_port in ospf_ports if ospf_port.area.number == first.area.number
        ):
            return "no router on the segment has a priority above 0, so none is designated"
        identifiers = self.router_id(first.process), self.router_id(second.process)
        if identifiers[0] == identifiers[1] and identifiers[0] is not None:
            return f"both have the router id {identifiers[0]}"
        return ""

    def _addresses_differ(self, first: OspfPort, second: OspfPort, kind: str) -> str:
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

    def _filtered(self, sender: OspfPort, receiver: OspfPort, kind: str) -> Obstacle | None:
        """Which ACL drops the sender's OSPF packets.

        Section 8.1: all go to AllSPFRouters on a point-to-point network; elsewhere the exchange is unicast.
        """
        ports = sender.port.index, receiver.port.index
        if not (sender.port.interface.acl_out or receiver.port.interface.acl_in):
            return None
        source = self.topology.neighbor_address(*ports[::-1], self.family) or SOME_LINK_LOCAL
        target = self.topology.neighbor_address(*ports, self.family) or SOME_LINK_LOCAL
        everyone = ALL_SPF_ROUTERS[self.family]
        for destination in (everyone,) if kind == "point-to-point" else (everyone, target):
            dropped = dropped_by(
                Header(OSPF_PROTOCOL, source, destination, None, None),
                f"OSPF packets to {destination}",
                (self.topology.devices[sender.port.device], sender.port),
                (self.topology.devices[receiver.port.device], receiver.port),
            )
            if dropped is not None:
                return dropped
        return None


def _given_up(ospf_ports: list[OspfPort]) -> Finding:
    first = ospf_ports[0]
    return Finding(
        "not-represented",
        "error",
        f"{len(ospf_ports)} OSPF routers on the segment of {first.port.name} differ from each other and from"
        f" the rest: which of them are neighbours was not looked into, and none is taken for one (at most"
        f" {MOST_PAIRS:,} pairs are compared)",
        first.port.name.device,
        first.port.interface.name,
        (first.settings.place,),
    )
