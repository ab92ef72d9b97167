"""What IS-IS routers advertise: neighbours and prefixes per level (ISO 10589 section 7.3, RFC 1195)."""

from collections import defaultdict
from collections.abc import Iterable, Sequence
from dataclasses import dataclass, field
from typing import NamedTuple

from routrel.model.addresses import Prefix
from routrel.model.findings import Finding
from routrel.model.routing import Isis, IsisInterface
from routrel.routing.neighbors import Obstacle, crowded, network_type, own_prefixes
from routrel.routing.prefixes.distinctions import PrefixDistinctions
from routrel.routing.protocol import FloodingScope, Process, ProtocolDatabase
from routrel.routing.spf.advertised import AdvertisedPrefixes
from routrel.routing.spf.graph import Edge
from routrel.topology.ports import Instance, Port, Segment
from routrel.topology.segments import Topology

HIGHEST = 0xFFFFFE
"""A link of the highest wide metric is left out of shortest paths (RFC 5305 section 3)."""

NARROW_HIGHEST = 63
"""The highest metric of a link without wide metrics (RFC 1195 section 3.2: six bits)."""


class IsisArea(NamedTuple):
    """A flooding scope: level 1 of one area, or level 2 (area '')."""

    level: int
    area: str


LEVEL_2 = IsisArea(2, "")


@dataclass(slots=True)
class IsisAreaDatabase:
    """All that is advertised in one area; routers are process numbers, in ascending order."""

    routers: list[int] = field(default_factory=list)
    edges: list[Edge] = field(default_factory=list)
    reachable: AdvertisedPrefixes = field(default_factory=AdvertisedPrefixes)


@dataclass(frozen=True, slots=True)
class IsisPort:
    """An interface that takes part in IS-IS, with its settings."""

    port: Port = field(compare=False)
    process: int
    isis: Isis
    settings: IsisInterface


class IsisDatabase(ProtocolDatabase):
    """The areas of a network, and findings about neighbours that should be but are not."""

    def __init__(self, topology: Topology, base: "IsisDatabase | None" = None):
        super().__init__(topology)
        self.configured: list[Isis] = []
        self.ports: dict[int, IsisPort] = {}
        """By port."""
        self.areas: dict[IsisArea, IsisAreaDatabase] = {}
        self.apart: dict[tuple[int, int], Obstacle] = {}
        """Why two ports that stand in it on one segment do not hear each other, by (sender, receiver)."""
        self._on_segment: dict[int, list[IsisPort]] = defaultdict(list)
        for instance in topology.instances:
            if instance.routing and instance.routing.isis:
                self._add(instance, instance.routing.isis)
        for number in sorted(self._on_segment):
            if number >= 0:
                self._connect(topology.segments[number], self._on_segment[number])

    def prefixes(self) -> Iterable[Prefix]:
        """The defaults towards attached routers."""
        return (Prefix(family, 0, 0) for family in (4, 6) if self.processes)

    def may_bring(self, prefix: Prefix) -> bool:
        return prefix.length == 0 or any(area.reachable.has(prefix) for area in self.areas.values())

    def highest_cost(self, port: int) -> int:
        if port not in self.ports:
            return 0
        return HIGHEST if self.ports[port].isis.wide_metrics else NARROW_HIGHEST

    def scopes(self) -> Iterable[FloodingScope]:
        """Level 1 of each area, and level 2 (ISO 10589 section 7.1)."""
        return [
            FloodingScope(f"level {scope.level}{f' of area {scope.area}' if scope.area else ''}", HIGHEST, area.edges)
            for scope, area in self.areas.items()
        ]

    def content(self) -> Sequence[object]:
        return [*super().content(), self.configured, self.areas, self.apart]

    def add_distinctions(self, distinctions: PrefixDistinctions) -> None:
        """What IS-IS itself tells of prefixes: who brings them into which area at what metric."""
        for database in self.areas.values():
            distinctions.add_rows(*database.reachable.rows(distinctions.index))

    def _add(self, instance: Instance, isis: Isis) -> None:
        number = len(self.processes)
        self.configured.append(isis)
        self.processes.append(Process(number, instance.index, "isis", "default", (4, 6), isis.redistribute, isis.place))
        for level in isis.levels:
            self.areas.setdefault(area_of(isis, level), IsisAreaDatabase()).routers.append(number)
        device = self.topology.devices[instance.device]
        named = self.topology.ports_named[instance.device]
        brought: dict[int, tuple[list[Prefix], list[int], list[int]]] = {level: ([], [], []) for level in isis.levels}
        for settings in isis.interfaces:
            port = named[settings.name]
            if port.down:
                continue
            if not port.addresses:
                self.findings.append(
                    Finding(
                        "isis-no-address",
                        "warning",
                        f"{port.name} stands in IS-IS but has no address",
                        device.name,
                        settings.name,
                        (settings.place,),
                    )
                )
                continue
            isis_port = self.ports[port.index] = IsisPort(port, number, isis, settings)
            own = own_prefixes(port)
            for level in settings.levels:
                prefixes, costs, ports = brought[level]
                prefixes += own
                for _ in own:
                    costs.append(settings.metric)
                    ports.append(port.index)
            if not settings.passive:
                self._on_segment[self.topology.segment_of[port.index]].append(isis_port)
        for level, columns in brought.items():
            self.areas[area_of(isis, level)].reachable.advertise(number, *columns)

    def _connect(self, segment: Segment, isis_ports: list[IsisPort]) -> None:
        crowd = crowded("IS-IS", [isis_port.port for isis_port in isis_ports], isis_ports[0].settings.place)
        if crowd is not None:
            self.findings.append(crowd)
            return
        for one in range(len(isis_ports)):
            for other in range(one + 1, len(isis_ports)):
                first, second = isis_ports[one], isis_ports[other]
                if first.process == second.process:
                    continue
                obstacle = self._obstacle(segment, first, second, len(isis_ports))
                levels = [level for level in (1, 2) if self._hear_each_other(first, second, level)]
                if not levels and not obstacle:
                    obstacle = self._no_level(first, second)
                if obstacle:
                    self.apart[first.port.index, second.port.index] = Obstacle(obstacle)
                    self.apart[second.port.index, first.port.index] = Obstacle(obstacle)
                    self.findings.append(
                        Finding(
                            "isis-neighbours",
                            "error",
                            f"{first.port.name} and {second.port.name} are no IS-IS neighbours: {obstacle}",
                            first.port.name.device,
                            first.port.name.interface,
                            (first.settings.place, second.settings.place),
                        )
                    )
                    continue
                ports = first.port.index, second.port.index
                for level in levels:
                    edges = self.areas[area_of(first.isis, level)].edges
                    edges.append(Edge(first.process, second.process, first.settings.metric, *ports))
                    edges.append(Edge(second.process, first.process, second.settings.metric, *ports[::-1]))

    def _hear_each_other(self, first: IsisPort, second: IsisPort, level: int) -> bool:
        """ISO 10589 section 8.4: level 1 needs the same area, level 2 does not."""
        both = level in first.settings.levels and level in second.settings.levels
        return both and (level == 2 or first.isis.area == second.isis.area)

    def _no_level(self, first: IsisPort, second: IsisPort) -> str:
        if 1 in first.settings.levels and 1 in second.settings.levels:
            return f"area {first.isis.area} against area {second.isis.area} at level 1"
        levels = ["-".join(map(str, isis_port.settings.levels)) for isis_port in (first, second)]
        return f"level {levels[0]} against level {levels[1]}"

    def _obstacle(self, segment: Segment, first: IsisPort, second: IsisPort, isis_ports: int) -> str:
        kind, other = network_type(segment, first.settings.network), network_type(segment, second.settings.network)
        if kind != other:
            return f"network type {kind} against {other}"
        if kind == "point-to-point" and isis_ports > 2:
            return f"network type point-to-point with {isis_ports - 1} neighbours on the segment"
        if first.isis.system == second.isis.system:
            return f"both have the system id {first.isis.system}"
        if first.isis.wide_metrics != second.isis.wide_metrics:
            wide = [("narrow", "wide")[isis_port.isis.wide_metrics] for isis_port in (first, second)]
            return f"{wide[0]} metrics against {wide[1]}, which neither reads of the other"
        families = {address.family for address in first.port.addresses}
        if not any(address.family in families for address in second.port.addresses):
            return "they have no address family in common"
        return ""


def area_of(isis: Isis, level: int) -> IsisArea:
    """The flooding scope of a router at a level."""
    return LEVEL_2 if level == 2 else IsisArea(1, isis.area)
