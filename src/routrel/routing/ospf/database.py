"""What OSPF routers advertise: adjacencies and prefixes per area (RFC 2328 sections 9, 10 and 12.4)."""

from collections import defaultdict
from collections.abc import Collection, Iterable, Iterator, Mapping, Sequence
from dataclasses import dataclass, field
from functools import cached_property
from itertools import chain
from typing import TypeVar

import numpy as np
from msgspec import Struct

from routrel.model.addresses import Address, Prefix
from routrel.model.filters import OSPF as OSPF_PROTOCOL
from routrel.model.findings import Finding
from routrel.model.routing import Ospf, OspfArea
from routrel.routing.arrays import Column
from routrel.routing.neighbors import Obstacle, router_id
from routrel.routing.ospf.adjacencies import Adjacencies, AdjacencyFinder
from routrel.routing.ospf.ports import OspfPort, area_name, interface_cost, told_by
from routrel.routing.prefixes.distinctions import PrefixDistinctions
from routrel.routing.protocol import FloodingScope, OwnPackets, Process, ProtocolDatabase
from routrel.routing.spf.advertised import AdvertisedPrefixes
from routrel.routing.spf.graph import Edge, SharedNetwork
from routrel.topology.ports import Instance
from routrel.topology.segments import Topology

Key = TypeVar("Key")
Value = TypeVar("Value")

HIGHEST_COST = 0xFFFF
"""The metric of a link in a router-LSA has 16 bits (RFC 2328 section A.4.2)."""


@dataclass
class AreaDatabase:
    """All that is advertised in one area; routers are process numbers, in ascending order."""

    number: int
    routers: list[int] = field(default_factory=list)
    edges: list[Edge] = field(default_factory=list)
    networks: list[SharedNetwork] = field(default_factory=list)
    """Segments of many routers that are all neighbours of each other: what is among them is in no edge."""
    stubs: AdvertisedPrefixes = field(default_factory=AdvertisedPrefixes)
    """Section 12.4.1: the networks of its routers."""

    @cached_property
    def neighbors(self) -> Column:
        """Routers that are neighbours, once all are known: int64 (2, n), each pair one way at least."""
        pairs = [edge[:2] for edge in self.edges if edge.source < edge.target]  # the other half says the same
        pairs += [(network[0].router, member.router) for network in self.networks for member in network]
        return np.array(pairs, np.int64).reshape(-1, 2).T


class Membership(Struct):
    """What one process takes part in, of interfaces that are up."""

    ports: dict[int, OspfPort] = {}
    hello_ports: list[OspfPort] = []
    """Those that look for neighbours."""
    areas: list[tuple[OspfArea, list[Prefix], list[int], list[int]]] = []
    """Each area with the prefixes that the process brings there, their costs and ports."""
    settings: list[tuple[tuple[int, int], OspfArea]] = []
    """Of each area, by the process and the area's number."""
    findings: list[Finding] = []


class OspfDatabase(ProtocolDatabase):
    """The areas of all processes of one version, and findings about neighbours that should be but are not."""

    own_packets = (OwnPackets(OSPF_PROTOCOL),)
    mtu_rule = ", and OSPF neighbours that check it do not come up (RFC 2328 section 10.6)"

    def __init__(self, topology: Topology, base: "OspfDatabase | None" = None, version: int = 2):
        """Of ``base`` what its devices, segments and areas brought is taken over where they are the same."""
        super().__init__(topology)
        self.version = version
        self.family = 4 if version == 2 else 6
        self.areas: dict[int, AreaDatabase] = {}
        self.configured: list[Ospf] = []
        """Per process, its part of the network file."""
        self.ports: dict[int, OspfPort] = {}
        """By port."""
        self.area_settings: dict[tuple[int, int], OspfArea] = {}
        """By process and area number."""
        self.apart: dict[tuple[int, int], Obstacle] = {}
        """Why two ports that stand in it on one segment do not hear each other, by (sender, receiver)."""
        self._router_ids: dict[int, Address | None] = {}
        self._members: list[Membership] = []
        self._on_segment: dict[int, list[OspfPort]] = defaultdict(list)
        """By segment, the ports that look for neighbours there, in the order of processes."""
        self._adjacencies: dict[int, Adjacencies] = {}
        """By segment with several of these."""
        self.as_in_base: frozenset[int] = frozenset()
        """The areas no router of which is another than in the database that this one was made from."""
        changed = None if base is None else self._changed_since(base)
        if base is None or changed is None:
            self._begin()
            self._gather()
        else:
            self._begin_from(base, changed)
            touched = {number for one in (base, self) for process in changed for number in one._area_numbers(process)}
            self._gather(base, changed, touched)
            self.as_in_base = frozenset(base.areas.keys() - touched)

    def ports_of(self, process: int) -> frozenset[int]:
        """The ports of a process."""
        ports = self.topology.ports_named[self.topology.instances[self.processes[process].instance].device]
        named = (ports[one.name].index for area in self.configured[process].areas for one in area.interfaces)
        return frozenset(port for port in named if port in self.ports)

    def prefixes(self) -> Iterable[Prefix]:
        """Ranges, and the default where somebody may originate it."""
        for ospf in self.configured:
            yield from self._prefixes_of(ospf)

    def _prefixes_of(self, ospf: Ospf) -> Iterator[Prefix]:
        yield from (configured.prefix for area in ospf.areas for configured in area.ranges)
        if ospf.originate_default or any(area.type != "normal" for area in ospf.areas):
            yield Prefix(self.family, 0, 0)

    def brings_prefixes_of(self, other: ProtocolDatabase) -> bool:
        if not isinstance(other, OspfDatabase) or len(self.configured) != len(other.configured):
            return False
        pairs = zip(self.configured, other.configured, strict=True)
        return all(a is b or list(self._prefixes_of(a)) == list(self._prefixes_of(b)) for a, b in pairs)

    def may_bring(self, prefix: Prefix) -> bool:
        return prefix.family == self.family and (
            (prefix.length == 0 and any(area.type != "normal" for area in self.area_settings.values()))
            or any(one.prefix == prefix for settings in self.area_settings.values() for one in settings.ranges)
            or any(area.stubs.has(prefix) for area in self.areas.values())
        )

    def is_same(self, other: ProtocolDatabase) -> bool:
        # What is quick to tell goes first.
        return isinstance(other, OspfDatabase) and self.areas == other.areas and super().is_same(other)

    def highest_cost(self, port: int) -> int:
        return 0 if port not in self.ports else HIGHEST_COST

    def scopes(self) -> Iterable[FloodingScope]:
        """Its areas (RFC 2328 section 3)."""
        return [
            FloodingScope(f"area {number}", HIGHEST_COST, area.edges)
            for number, area in self.areas.items()
            if not area.networks  # segments of many routers are in no edge
        ]

    def content(self) -> Sequence[object]:
        return [*super().content(), self.configured, self.areas, self.area_settings, self.apart]

    def add_distinctions(self, distinctions: PrefixDistinctions) -> None:
        """What OSPF itself tells of prefixes: who brings them into which area at what cost, and ranges."""
        for area in self.areas.values():
            distinctions.add_rows(*area.stubs.rows(distinctions.index))
        for settings in self.area_settings.values():
            for configured in settings.ranges:
                distinctions.add_single(configured.prefix)
                distinctions.add_covered(configured.prefix, configured.prefix)

    def _configured_on(self, instance: Instance) -> list[Ospf]:
        """The processes of this version that an instance is told to run."""
        return [one for one in instance.routing.ospf if one.version == self.version] if instance.routing else []

    @cached_property
    def _processes_of(self) -> dict[int, list[int]]:
        """By instance."""
        found: dict[int, list[int]] = defaultdict(list)
        for process in self.processes:
            found[process.instance].append(process.number)
        return found

    def _area_numbers(self, process: int) -> list[int]:
        return [area.number for area, *_ in self._members[process].areas]

    def _begin(self) -> None:
        """All processes and segments."""
        for instance in self.topology.instances:
            for ospf in self._configured_on(instance):
                number = len(self.processes)
                self.configured.append(ospf)
                self.processes.append(self._process(number, instance, ospf))
                self._members.append(self._member(number, instance, ospf))
                for ospf_port in self._members[number].hello_ports:
                    self._on_segment[self.topology.segment_of[ospf_port.port.index]].append(ospf_port)
        for segment in sorted(self._on_segment):
            self._connect(segment)

    def _changed_since(self, base: "OspfDatabase") -> list[int] | None:
        """The processes of devices that are not as they were; None where processes have not the same numbers."""
        touched = self.topology.touched_since(base.topology)
        if touched is None:
            return None
        changed = []
        for device in sorted(touched):
            for instance in self.topology.instances_of(device):
                numbers = base._processes_of.get(instance, [])
                if len(numbers) != len(self._configured_on(self.topology.instances[instance])):
                    return None
                changed += numbers
        return changed

    def _begin_from(self, base: "OspfDatabase", changed: list[int]) -> None:
        """The processes and segments of ``base``; those that changed, and what they stand on, anew."""
        self.configured, self.processes = list(base.configured), list(base.processes)
        self._members = list(base._members)
        self._on_segment, self._adjacencies = defaultdict(list, base._on_segment), dict(base._adjacencies)
        again = frozenset(changed)
        self._router_ids = {process: known for process, known in base._router_ids.items() if process not in again}
        for number in changed:
            instance = self.topology.instances[base.processes[number].instance]
            at = base._processes_of[instance.index].index(number)
            ospf = self.configured[number] = self._configured_on(instance)[at]
            self.processes[number] = self._process(number, instance, ospf)
            self._members[number] = self._member(number, instance, ospf)
        gone = [one for number in changed for one in base._members[number].hello_ports]
        come = [one for number in changed for one in self._members[number].hello_ports]
        segment_of = self.topology.segment_of
        for segment in sorted({segment_of[one.port.index] for one in (*gone, *come)}):
            stay = [one for one in base._on_segment.get(segment, ()) if one.process not in again]
            stay += [one for one in come if segment_of[one.port.index] == segment]
            self._on_segment[segment] = sorted(stay, key=lambda one: one.process)
            self._connect(segment)

    def _gather(
        self, base: "OspfDatabase | None" = None, changed: Collection[int] = (), touched: Collection[int] = ()
    ) -> None:
        """What members and segments bring, joined; of processes that did not change and areas that are not ``touched``
        it is known."""
        known = {} if base is None else base.areas
        self.findings += [finding for member in self._members if member.findings for finding in member.findings]
        ports = settings = None
        if base is not None:
            pairs = [(base._members[number], self._members[number]) for number in changed]
            ports = _with_others(base.ports, [(old.ports, new.ports) for old, new in pairs])
            settings = _with_others(
                base.area_settings, [(dict(old.settings), dict(new.settings)) for old, new in pairs]
            )
        if ports is None or settings is None:
            ports = dict(chain.from_iterable([member.ports.items() for member in self._members]))
            settings = dict(chain.from_iterable([member.settings for member in self._members]))
        self.ports, self.area_settings = ports, settings
        adjacencies = [self._adjacencies[segment] for segment in sorted(self._adjacencies)]
        self.apart = dict(chain.from_iterable([found.apart.items() for found in adjacencies if found.apart]))
        self.findings += [finding for found in adjacencies if found.findings for finding in found.findings]
        numbers = dict.fromkeys([number for _, number in self.area_settings])
        made = {number: AreaDatabase(number) for number in numbers if number not in known or number in touched}
        self.areas = {number: made.get(number) or known[number] for number in numbers}
        taking_part: Iterable[int] = range(len(self._members))
        if base is not None:
            before = (known[number].routers for number in made if number in known)
            taking_part = sorted({*changed, *chain.from_iterable(before)})
        self._gather_areas(made, taking_part, adjacencies)
        for number, area in made.items():
            if area == known.get(number):
                self.areas[number] = known[number]  # with what is computed of it

    def _gather_areas(
        self, made: Mapping[int, AreaDatabase], taking_part: Iterable[int], adjacencies: Iterable[Adjacencies]
    ) -> None:
        """Some areas, of all processes that take part in them, ascending."""
        for process in taking_part:
            for area, prefixes, costs, ports in self._members[process].areas:
                if area.number in made:
                    made[area.number].routers.append(process)
                    made[area.number].stubs.advertise(process, prefixes, costs, ports)
        for found in adjacencies:
            for number, edges in found.edges.items():
                if number in made:
                    made[number].edges += edges
            for number, members in found.networks:
                if number in made:
                    made[number].networks.append(members)

    def _process(self, number: int, instance: Instance, ospf: Ospf) -> Process:
        return Process(
            number,
            instance.index,
            "ospf",
            ospf.name,
            (self.family,),
            ospf.redistribute,
            ospf.place,
            ospf.originate_default,
        )

    def _member(self, number: int, instance: Instance, ospf: Ospf) -> "Membership":
        device = self.topology.devices[instance.device]
        named = self.topology.ports_named[instance.device]
        member = Membership()
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
                    member.findings.append(
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
                ospf_port = member.ports[port.index] = OspfPort(port, number, ospf, area, settings)
                if port.interface.kind == "loopback":
                    # Section 12.4.1.3: a loopback is a host route at cost 0, unless the file says otherwise.
                    prefixes += [own.host_prefix() for own in addresses]
                    cost = settings.cost or 0
                else:
                    prefixes += told
                    cost = settings.cost if settings.cost is not None else interface_cost(ospf, settings, port)
                    if not settings.passive:
                        member.hello_ports.append(ospf_port)
                for _ in told:
                    costs.append(cost)
                    ports.append(port.index)
            if takes_part:
                member.areas.append((area, prefixes, costs, ports))
                member.settings.append(((number, area.number), area))
        return member

    def _connect(self, number: int) -> None:
        """Adjacencies of one segment, as far as there may be some."""
        ospf_ports = self._on_segment[number]
        self._adjacencies.pop(number, None)
        if number >= 0 and len(ospf_ports) > 1:
            finder = AdjacencyFinder(self.topology, self.family, self.router_id)
            self._adjacencies[number] = finder.find(self.topology.segments[number], ospf_ports)

    def router_id(self, process: int) -> Address | None:
        if process not in self._router_ids:
            self._router_ids[process] = router_id(self.topology, self.processes[process].instance)
        return self._router_ids[process]


def _with_others(
    known: Mapping[Key, Value], changed: Iterable[tuple[Mapping[Key, Value], Mapping[Key, Value]]]
) -> dict[Key, Value] | None:
    """What is known with some parts of it as they are now, each at its place; None where a part has something new."""
    made = dict(known)
    for old, new in changed:
        if not old.keys() >= new.keys():
            return None
        for key in old:
            if key in new:
                made[key] = new[key]
            else:
                del made[key]
    return made
