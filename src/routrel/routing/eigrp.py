"""EIGRP with the classic composite metric.

A route carries a vector: the least bandwidth and the sum of delays on its way, and for external routes a
base metric. Each router takes the vector with the lowest composite metric and passes that one on; so the
best way of a neighbour, not every way, is what a router can build on. Starting from the routers' own
networks, vectors go round until nothing changes: every hop adds delay, so this ends.

What is peculiar:

- Both families are one process here, as with RIP.
- ``feasibility``: a neighbour is a feasible successor where what it reports of itself is less than the
  router's own best metric (section 4.1); with a variance, feasible successors within it are used too.
- Internal routes are preferred to external ones of the same prefix (section 3).
- ``distance`` gives routes of one neighbour a preference of their own; of several successors those with
  the lowest preference are used.
- The topology table stands apart from the routing table: a route that another protocol beats there is
  still passed on.

Standard: RFC 7868 (section 5.6.1 for the classic metric: K1 = K3 = 1, the others 0).
"""

from collections import defaultdict
from collections.abc import Sequence
from dataclasses import dataclass
from typing import NamedTuple

import numpy as np
import numpy.typing as npt

from routrel.model.addresses import Address, Prefix
from routrel.model.filters import Header
from routrel.model.findings import Finding
from routrel.model.places import NOWHERE, Place
from routrel.model.routing import Eigrp, EigrpInterface
from routrel.routing.graph import WORD
from routrel.routing.representatives import Representatives
from routrel.routing.routes import NextHop
from routrel.routing.rows import NONE, UNSET, Injected, Process, ProtocolRoutes
from routrel.routing.speaking import SOME_LINK_LOCAL, crowded, dropped_by, hop_to, own_prefixes
from routrel.routing.traits import Traits
from routrel.topology.segments import Instance, Port, Topology

EIGRP_PROTOCOL = 88
EVERYONE = {4: Address.parse("224.0.0.10"), 6: Address.parse("ff02::a")}
INTERNAL, EXTERNAL = 1, 2
SCALE = 256
REFERENCE_KBIT = 10_000_000
DEFAULT_BANDWIDTH = 100_000_000
"""Bit/s of an interface for which neither EIGRP nor the interface says one: it goes with the delay of 10."""

DEFAULT_METRIC = 0
NEVER = np.int64(2**60)
EXTERNAL_KEY = np.int64(2**50)
Column = npt.NDArray[np.int64]


class Leg(NamedTuple):
    """What an interface adds to a vector: inverse bandwidth (10^7 / kbit/s) and delay (tens of µs)."""

    slowness: int
    delay: int


@dataclass(frozen=True, slots=True)
class Hearing:
    """What one router hears of a neighbour by one port, and what its own interface adds."""

    sender: int
    receiver: int
    leg: Leg
    hop: NextHop
    sender_port: int


@dataclass(frozen=True, slots=True)
class Speaker:
    port: Port
    process: int
    eigrp: Eigrp
    settings: EigrpInterface


def leg_of(settings: EigrpInterface, port: Port) -> Leg:
    """RFC 7868 section 5.6.1.1: the interface's part of the metric."""
    bandwidth = settings.bandwidth or port.interface.bandwidth or DEFAULT_BANDWIDTH
    return Leg(REFERENCE_KBIT // max(1, bandwidth // 1000), settings.delay)


class EigrpDatabase:
    """Who hears whom, and which networks are whose."""

    def __init__(self, topology: Topology):
        self.topology = topology
        self.processes: list[Process] = []
        self.configured: list[Eigrp] = []
        self.findings: list[Finding] = []
        self.speakers: dict[int, Speaker] = {}
        """By port."""
        self.networks: dict[tuple[int, Prefix], tuple[Leg, int]] = {}
        """(interface's leg, port) of a process's own networks."""
        self.hearings: dict[int, list[Hearing]] = {4: [], 6: []}
        """By family, sorted by receiver, then next hop."""
        self.apart: dict[tuple[int, int], str] = {}
        """Why two ports that stand in it on one segment do not hear each other, by (sender, receiver)."""
        by_segment: dict[int, list[Speaker]] = defaultdict(list)
        for instance in topology.instances:
            if instance.routing and instance.routing.eigrp:
                self._add(instance, instance.routing.eigrp)
        for speaker in self.speakers.values():
            segment = topology.segment_of[speaker.port.index]
            if segment >= 0 and not speaker.settings.passive:
                by_segment[segment].append(speaker)
        for segment in sorted(by_segment):
            speakers = by_segment[segment]
            crowd = crowded("EIGRP", [speaker.port for speaker in speakers], speakers[0].settings.place)
            if crowd is not None:
                self.findings.append(crowd)
                continue
            for one in range(len(speakers)):
                for other in range(one + 1, len(speakers)):
                    self._meet(speakers[one], speakers[other])
        for hearings in self.hearings.values():
            hearings.sort(key=lambda h: (h.receiver, h.hop.address or Address(9, 0), h.hop.port, h.hop.neighbor))

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
            self.speakers[port.index] = Speaker(port, number, eigrp, settings)
            leg = leg_of(settings, port)
            for prefix in own_prefixes(port):
                standing = self.networks.get((number, prefix))
                if standing is None or sum(leg) < sum(standing[0]):
                    self.networks[number, prefix] = leg, port.index

    def add_traits(self, traits: Traits) -> None:
        """What EIGRP itself tells of prefixes: whose own networks they are, and lists with a preference."""
        for (process, prefix), (leg, _) in self.networks.items():
            traits.add(prefix, ("eigrp", process, leg))
        for process, eigrp in enumerate(self.configured):
            for distance in eigrp.distances:
                for prefix in distance.prefixes:
                    traits.add_covered(prefix, ("eigrp", process, prefix))

    def _meet(self, first: Speaker, second: Speaker) -> None:
        if first.process == second.process:
            return
        obstacle = ""
        if first.eigrp.number != second.eigrp.number:
            obstacle = f"AS {first.eigrp.number} against AS {second.eigrp.number}"
        families = [
            family
            for family in (4, 6)
            if all(any(a.family == family for a in s.port.interface.addresses) for s in (first, second))
        ]
        if not obstacle and families == [4] and not self._share_subnet(first, second):
            obstacle = "they share no subnet"
        for family in families:
            if obstacle or (family == 4 and not self._share_subnet(first, second)):
                continue
            obstacle = self._filtered(first, second, family) or self._filtered(second, first, family)
            if obstacle:
                break
            for sender, receiver in ((first, second), (second, first)):
                hop = hop_to(self.topology, receiver.port.index, sender.port.index, family)
                assert hop is not None
                leg = leg_of(receiver.settings, receiver.port)
                self.hearings[family].append(Hearing(sender.process, receiver.process, leg, hop, sender.port.index))
        if obstacle:
            self.apart[first.port.index, second.port.index] = obstacle
            self.apart[second.port.index, first.port.index] = obstacle
            self.findings.append(
                Finding(
                    "eigrp-neighbours",
                    "error",
                    f"{first.port.name} and {second.port.name} are no EIGRP neighbours: {obstacle}",
                    first.port.name.device,
                    first.port.name.interface,
                    (first.settings.place, second.settings.place),
                )
            )

    def _share_subnet(self, first: Speaker, second: Speaker) -> bool:
        subnets = [{a.prefix for a in s.port.interface.addresses if a.family == 4} for s in (first, second)]
        return bool(subnets[0] & subnets[1])

    def _filtered(self, sender: Speaker, receiver: Speaker, family: int) -> str:
        """Hellos go to all EIGRP routers, the rest of the exchange to the neighbour (RFC 7868 section 5.3)."""
        ports = sender.port.index, receiver.port.index
        source = self.topology.neighbor_address(*ports[::-1], family) or SOME_LINK_LOCAL
        target = self.topology.neighbor_address(*ports, family) or SOME_LINK_LOCAL
        devices = self.topology.devices[sender.port.device], self.topology.devices[receiver.port.device]
        for destination in (EVERYONE[family], target):
            header = Header(EIGRP_PROTOCOL, source, destination, None, None)
            dropped = dropped_by(header, (devices[0], sender.port), (devices[1], receiver.port))
            if dropped:
                return dropped.format(f"EIGRP packets to {destination}")
        return ""


@dataclass(slots=True)
class _Vectors:
    """Vectors of n routers for a prefixes of one family, each (n, a); ``key`` orders them, NEVER is none."""

    slowness: npt.NDArray[np.int64]
    delay: npt.NDArray[np.int64]
    base: npt.NDArray[np.int64]
    key: npt.NDArray[np.int64]
    tag: npt.NDArray[np.int64]

    @classmethod
    def none(cls, shape: tuple[int, int]) -> "_Vectors":
        def zeros() -> npt.NDArray[np.int64]:
            return np.zeros(shape, np.int64)

        return cls(zeros(), zeros(), zeros(), np.full(shape, NEVER), zeros())


def composite(slowness: Column, delay: Column, base: Column) -> Column:
    """RFC 7868 section 5.6.1.1: 256 * (bandwidth + delay), and the base of an external route."""
    return SCALE * (slowness + delay) + base


class EigrpSolution:
    """EIGRP solved for all routers and prefixes at once; solved again when what is put in changes."""

    protocol = "eigrp"
    kind_names = {INTERNAL: "internal", EXTERNAL: "external"}

    def __init__(self, topology: Topology, database: EigrpDatabase, prefixes: Representatives):
        self.topology = topology
        self.database = database
        self.prefixes = prefixes
        self.processes: Sequence[Process] = database.processes
        self._networks = {key: one for key, one in database.networks.items() if key[1] in prefixes.number}
        self._columns: dict[int, Column] = {}
        self._said: dict[int, _Vectors] = {}
        self.heard: dict[int, list[list[Hearing]]] = {family: [[] for _ in self.processes] for family in (4, 6)}
        for family, hearings in database.hearings.items():
            for hearing in hearings:
                self.heard[family][hearing.receiver].append(hearing)
        self.inject({}, {})

    def preference(self, process: int, kind: int) -> int:
        routing = self.topology.instances[self.processes[process].instance].routing
        assert routing is not None
        return routing.preference("eigrp" if kind == INTERNAL else "eigrp_external")

    def multipath(self, process: int) -> int:
        return self.database.configured[process].multipath

    def place_of(self, process: int, number: int, kind: int) -> Place:
        return NOWHERE

    def inject(self, injected: dict[int, Injected], blocked: dict[int, npt.NDArray[np.bool_]]) -> None:
        for family in (4, 6):
            self._solve(family, injected)

    def _solve(self, family: int, injected: dict[int, Injected]) -> None:
        of_family = self.prefixes.of_family(family)
        numbers = {self.prefixes.number[p] for _, p in self._networks if p.family == family}
        for found in injected.values():
            numbers.update(n for n in found.numbers.tolist() if of_family.start <= n < of_family.stop)
        columns = np.array(sorted(numbers), np.int64)
        own = _Vectors.none((len(self.processes), len(columns)))
        for process, found in injected.items():
            kept = (found.numbers >= of_family.start) & (found.numbers < of_family.stop)
            at = np.searchsorted(columns, found.numbers[kept])
            own.base[process, at] = found.of(found.metric, DEFAULT_METRIC)[kept]
            own.tag[process, at] = found.of(found.tag, 0)[kept]
            own.key[process, at] = EXTERNAL_KEY + own.base[process, at]
        for (process, prefix), (leg, _) in self._networks.items():
            if prefix.family == family:
                column = int(np.searchsorted(columns, self.prefixes.number[prefix]))
                own.slowness[process, column], own.delay[process, column] = leg
                own.base[process, column] = own.tag[process, column] = 0
                own.key[process, column] = SCALE * sum(leg)
        self._columns[family] = columns
        self._said[family] = _settle(own, _layers(self.heard[family]))

    def routes_of(self, process: int) -> ProtocolRoutes:
        p = len(self.prefixes)
        width = max(1, *(-(-len(self.heard[family][process]) // WORD) for family in (4, 6)))
        routes = ProtocolRoutes(
            np.zeros(p, np.int8),
            np.zeros(p, np.int64),
            np.zeros((width, p), np.uint64),
            {family: [hearing.hop for hearing in self.heard[family][process]] for family in (4, 6)},
            np.full(p, UNSET, np.int64),
            np.full(p, UNSET, np.int64),
        )
        for family in (4, 6):
            self._fill(routes, process, family)
        for network_process, prefix in self._networks:
            if network_process == process:
                routes.kind[self.prefixes.number[prefix]] = NONE
        return routes

    def _fill(self, routes: ProtocolRoutes, process: int, family: int) -> None:
        """The successors of one router: RFC 7868 sections 4.1 and 5.4, then variance and preferences."""
        said, columns, heard = self._said[family], self._columns[family], self.heard[family][process]
        if not heard or not len(columns):
            return
        eigrp = self.database.configured[process]
        senders = [hearing.sender for hearing in heard]
        legs = np.array([hearing.leg for hearing in heard], np.int64)
        slowness = np.maximum(said.slowness[senders], legs[:, :1])
        delay = said.delay[senders] + legs[:, 1:]
        reported = said.key[senders]
        is_external = np.where(reported >= EXTERNAL_KEY, EXTERNAL_KEY, 0)
        metric = composite(slowness, delay, said.base[senders]) + is_external
        metric[reported >= NEVER] = NEVER
        best = metric.min(axis=0)
        # A router that puts a prefix in itself uses others' routes for it only where they are better.
        reached = (best < NEVER) & (best <= said.key[process])
        kind_floor = np.where(best >= EXTERNAL_KEY, EXTERNAL_KEY, 0)
        limit = kind_floor + (best - kind_floor) * eigrp.variance
        usable = (metric <= limit) & (reported < best) & reached
        preference = self._preferences(process, heard, columns)
        default = np.where(best >= EXTERNAL_KEY, self.preference(process, EXTERNAL), self.preference(process, INTERNAL))
        by_way = np.where(preference == UNSET, default, preference)
        lowest = np.where(usable, by_way, 2**20).min(axis=0)
        usable &= by_way == lowest
        order = np.argsort(np.where(usable, metric, NEVER), axis=0, kind="stable")
        rank = np.empty_like(order)
        np.put_along_axis(rank, order, np.arange(len(heard))[:, None], axis=0)
        usable &= rank < eigrp.multipath
        numbers = columns[reached]
        routes.kind[numbers] = np.where(best[reached] >= EXTERNAL_KEY, EXTERNAL, INTERNAL)
        routes.metric[numbers] = (best - kind_floor)[reached]
        for index in range(len(heard)):
            at = columns[usable[index]]
            routes.masks[index // WORD, at] |= np.uint64(1) << np.uint64(index % WORD)
        if routes.preference is not None:
            changed = reached & (lowest != default)
            routes.preference[columns[changed]] = lowest[changed]
        if routes.tag is not None and said.tag.any():
            first = order[0]
            tags = said.tag[np.array(senders)[first], np.arange(len(columns))]
            routes.tag[numbers] = np.where(tags[reached] > 0, tags[reached], UNSET)

    def _preferences(self, process: int, heard: list[Hearing], columns: Column) -> npt.NDArray[np.int64]:
        """Per way and prefix the preference ``distance`` gives it, or UNSET: (h, a)."""
        result = np.full((len(heard), len(columns)), UNSET, np.int64)
        for distance in reversed(self.database.configured[process].distances):
            inside = np.ones(len(columns), bool)
            if distance.prefixes:
                inside[:] = False
                for prefix in distance.prefixes:
                    covered = self.prefixes.covered(prefix)
                    inside |= (columns >= covered.start) & (columns < covered.stop)
            for index, hearing in enumerate(heard):
                if hearing.hop.address == distance.neighbor:
                    result[index, inside] = distance.preference
        return result


Layer = tuple[Column, Column, Column, Column]


def _layers(heard: list[list[Hearing]]) -> list[Layer]:
    """Layer k: receivers with more than k hearings; the sender and the leg of their k-th."""
    layers = []
    for depth in range(max((len(hearings) for hearings in heard), default=0)):
        rows = [(r, h[depth].sender, *h[depth].leg) for r, h in enumerate(heard) if len(h) > depth]
        receivers, senders, slowness, delay = np.array(rows, np.int64).T
        layers.append((receivers, senders, slowness, delay))
    return layers


def _settle(own: _Vectors, layers: list[Layer]) -> _Vectors:
    """What every router says once nothing changes any more: the best of its own and what it hears."""
    said = own
    while True:
        now = _Vectors(own.slowness.copy(), own.delay.copy(), own.base.copy(), own.key.copy(), own.tag.copy())
        for receivers, senders, slow, more in layers:
            slowness = np.maximum(said.slowness[senders], slow[:, None])
            delay = said.delay[senders] + more[:, None]
            base, heard = said.base[senders], said.key[senders]
            key = composite(slowness, delay, base) + np.where(heard >= EXTERNAL_KEY, EXTERNAL_KEY, 0)
            better = (heard < NEVER) & (key < now.key[receivers])
            for column, values in (
                (now.slowness, slowness),
                (now.delay, delay),
                (now.base, base),
                (now.key, key),
                (now.tag, said.tag[senders]),
            ):
                column[receivers] = np.where(better, values, column[receivers])
        if all(
            (getattr(now, name) == getattr(said, name)).all() for name in ("key", "slowness", "delay", "base", "tag")
        ):
            return now
        said = now
