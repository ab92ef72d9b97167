"""RIP version 2 and RIPng.

Every router announces its own networks at metric 1, what it redistributes at the metric given, and the
RIP routes its table uses, but not out of the interface it heard them by; a receiver adds the metric of
the interface it hears by. 16 is unreachable (RFC 2453 section 3.6). Announcements go round by round, for
all prefixes at once, until nothing changes: since every hop adds at least 1, what is heard at a metric of
k stands after k rounds. Of equal metrics the lowest next hop stays.

What is peculiar:

- Both families are one process here: version 2 runs where interfaces have IPv4 addresses, RIPng where they
  have IPv6 ones.
- A passive interface hears and does not speak (RFC 2453 section 3.10.2 calls such a router silent).
- Hearing is one-way: an access list may stop one direction alone.
- Split horizon, with or without poisoned reverse (RFC 2453 section 3.4.3): where the route was heard by an
  interface, nobody behind that interface is offered it. What a router says on its own account, its
  networks and what it redistributes, it says out of every interface.

Standards: RFC 2453 (RIP version 2), RFC 2080 (RIPng).
"""

from collections import defaultdict
from collections.abc import Sequence
from dataclasses import dataclass
from typing import NamedTuple

import numpy as np
import numpy.typing as npt

from routrel.model.addresses import Address, Prefix
from routrel.model.filters import UDP, Header
from routrel.model.findings import Finding
from routrel.model.places import NOWHERE, Place
from routrel.model.routing import RipInterface
from routrel.routing.graph import WORD
from routrel.routing.representatives import Representatives
from routrel.routing.routes import NextHop
from routrel.routing.rows import NONE, UNSET, Injected, Process, ProtocolRoutes
from routrel.routing.speaking import SOME_LINK_LOCAL, crowded, dropped_by, own_prefixes
from routrel.routing.traits import Traits
from routrel.topology.segments import Port, Topology

INFINITY = 16
OWN_METRIC = 1
RIP_ROUTE = 1
PORTS = {4: 520, 6: 521}
EVERYONE = {4: Address.parse("224.0.0.9"), 6: Address.parse("ff02::9")}


@dataclass(frozen=True, slots=True)
class Hearing:
    """What one router hears of another by one port: one directed edge."""

    sender: int
    receiver: int
    metric: int
    hop: NextHop
    sender_port: int


class RipDatabase:
    """Who hears whom, and which networks are whose."""

    def __init__(self, topology: Topology):
        self.topology = topology
        self.processes: list[Process] = []
        self.findings: list[Finding] = []
        self.speakers: dict[int, tuple[int, RipInterface]] = {}
        """(process, settings) by port."""
        self.networks: dict[tuple[int, Prefix], int] = {}
        """The port that brings a process's own network."""
        self.hearings: dict[int, list[Hearing]] = {4: [], 6: []}
        """By family, sorted by receiver, then next hop."""
        self.apart: dict[tuple[int, int], str] = {}
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
                self.speakers[port.index] = (number, settings)
                for prefix in own_prefixes(port):
                    self.networks.setdefault((number, prefix), port.index)
                if topology.segment_of[port.index] >= 0:
                    by_segment[topology.segment_of[port.index]].append(port)
        for segment in sorted(by_segment):
            crowd = crowded("RIP", by_segment[segment], self.speakers[by_segment[segment][0].index][1].place)
            if crowd is not None:
                self.findings.append(crowd)
                continue
            for sender in by_segment[segment]:
                for receiver in by_segment[segment]:
                    if sender.index != receiver.index:
                        self._hear(sender, receiver)
        for hearings in self.hearings.values():
            hearings.sort(key=lambda h: (h.receiver, h.hop.address or Address(9, 0), h.hop.port, h.hop.neighbor))

    def add_traits(self, traits: Traits) -> None:
        """What RIP itself tells of prefixes: whose own networks they are."""
        for process, prefix in self.networks:
            traits.add(prefix, ("rip", process))

    def _hear(self, sender: Port, receiver: Port) -> None:
        process, settings = self.speakers[sender.index]
        other, own = self.speakers[receiver.index]
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
                self.apart[sender.index, receiver.index] = f"{address} is on no subnet of the receiver (RFC 2453 3.9.2)"
                continue
            devices = self.topology.devices[sender.device], self.topology.devices[receiver.device]
            header = Header(UDP, address or SOME_LINK_LOCAL, EVERYONE[family], PORTS[family], PORTS[family])
            dropped = dropped_by(header, (devices[0], sender), (devices[1], receiver))
            if dropped:
                self.apart[sender.index, receiver.index] = dropped.format("its updates")
                self.findings.append(
                    Finding(
                        "rip-neighbours",
                        "error",
                        f"{receiver.name} does not hear RIP from {sender.name}: {dropped.format('its updates')}",
                        receiver.name.device,
                        receiver.name.interface,
                        (own.place, settings.place),
                    )
                )
                continue
            hop = NextHop(receiver.index, address, -1 if address is not None else sender.index)
            self.hearings[family].append(Hearing(process, other, own.metric, hop, sender.index))


def _has_family(port: Port, family: int) -> bool:
    return any(address.family == family for address in port.interface.addresses)


class RipSolution:
    """RIP solved for all routers and prefixes at once; solved again when what is put in changes."""

    protocol = "rip"
    kind_names = {RIP_ROUTE: ""}

    def __init__(self, topology: Topology, database: RipDatabase, prefixes: Representatives):
        self.topology = topology
        self.database = database
        self.prefixes = prefixes
        self.processes: Sequence[Process] = database.processes
        self._columns: dict[int, npt.NDArray[np.int64]] = {}
        self._metric: dict[int, npt.NDArray[np.uint8]] = {}
        self._tag: dict[int, npt.NDArray[np.int64]] = {}
        self._via: dict[int, npt.NDArray[np.int16]] = {}
        self._heard: dict[int, list[list[Hearing]]] = {family: [[] for _ in self.processes] for family in (4, 6)}
        for family, hearings in database.hearings.items():
            for hearing in hearings:
                self._heard[family][hearing.receiver].append(hearing)
        self._own = [
            np.array(
                sorted(
                    prefixes.number[p] for n, p in database.networks if n == process.number and p in prefixes.number
                ),
                np.int64,
            )
            for process in self.processes
        ]
        self.inject({}, {})

    def preference(self, process: int, kind: int) -> int:
        routing = self.topology.instances[self.processes[process].instance].routing
        assert routing is not None
        return routing.preference("rip")

    def multipath(self, process: int) -> int:
        return 1

    def place_of(self, process: int, number: int, kind: int) -> Place:
        return NOWHERE

    def inject(self, injected: dict[int, Injected], blocked: dict[int, npt.NDArray[np.bool_]]) -> None:
        for family in (4, 6):
            self._solve(family, injected, blocked)

    def _solve(self, family: int, injected: dict[int, Injected], blocked: dict[int, npt.NDArray[np.bool_]]) -> None:
        of_family = self.prefixes.of_family(family)

        def within(numbers: npt.NDArray[np.int64]) -> npt.NDArray[np.int64]:
            kept: npt.NDArray[np.int64] = numbers[(numbers >= of_family.start) & (numbers < of_family.stop)]
            return kept

        origins = [*self._own, *(found.numbers for found in injected.values())]
        columns = np.unique(within(np.concatenate(origins))) if origins else np.zeros(0, np.int64)
        shape = len(self.processes), len(columns)
        announced = np.full(shape, INFINITY, np.uint8)
        tags = np.zeros(shape, np.int64)
        for process, found in injected.items():
            rip = self._default_metric(process)
            numbers = within(found.numbers)
            at = np.searchsorted(columns, numbers)
            kept = np.isin(found.numbers, numbers)
            announced[process, at] = np.minimum(found.of(found.metric, rip)[kept], INFINITY)
            tags[process, at] = found.of(found.tag, 0)[kept]
        is_origin = announced < INFINITY
        for process, own in enumerate(self._own):
            at = np.searchsorted(columns, within(own))
            announced[process, at] = OWN_METRIC
            tags[process, at] = 0
            is_origin[process, at] = True
        silent = is_origin.copy()
        for process, unused in blocked.items():
            silent[process] |= unused[columns]
        layers = _layers(self._heard[family])
        metric, via, tag = _rounds(announced, tags, silent, layers)
        self._columns[family], self._metric[family], self._via[family], self._tag[family] = columns, metric, via, tag

    def _default_metric(self, process: int) -> int:
        routing = self.topology.instances[self.processes[process].instance].routing
        assert routing is not None and routing.rip is not None
        return routing.rip.default_metric

    def routes_of(self, process: int) -> ProtocolRoutes:
        p = len(self.prefixes)
        width = max(1, *(-(-len(self._heard[family][process]) // WORD) for family in (4, 6)))
        kind = np.zeros(p, np.int8)
        metric = np.full(p, INFINITY, np.int32)
        masks = np.zeros((width, p), np.uint64)
        tag = np.full(p, UNSET, np.int64)
        hops: dict[int, list[NextHop | None]] = {}
        for family in (4, 6):
            columns = self._columns[family]
            reached = self._via[family][process] >= 0
            numbers, via = columns[reached], self._via[family][process][reached].astype(np.int64)
            kind[numbers] = RIP_ROUTE
            metric[numbers] = self._metric[family][process][reached]
            tag[numbers] = self._tag[family][process][reached]
            masks[via // WORD, numbers] = np.uint64(1) << (via % WORD).astype(np.uint64)
            hops[family] = [hearing.hop for hearing in self._heard[family][process]]
        kind[self._own[process]] = NONE
        return ProtocolRoutes(kind, metric, masks, hops, tag)


class Layer(NamedTuple):
    """The k-th hearing of every receiver that has more than k, (r,) each; ports are those of its two ends."""

    receivers: npt.NDArray[np.int64]
    senders: npt.NDArray[np.int64]
    metrics: npt.NDArray[np.uint8]
    sender_ports: npt.NDArray[np.int32]
    receiver_ports: npt.NDArray[np.int32]


def _layers(heard: list[list[Hearing]]) -> list[Layer]:
    layers = []
    for depth in range(max((len(hearings) for hearings in heard), default=0)):
        kth = [hearings[depth] for hearings in heard if len(hearings) > depth]
        rows = [(one.receiver, one.sender, one.metric, one.sender_port, one.hop.port) for one in kth]
        receivers, senders, metrics, sender_ports, receiver_ports = np.array(rows, np.int64).T
        ends = sender_ports.astype(np.int32), receiver_ports.astype(np.int32)
        layers.append(Layer(receivers, senders, metrics.astype(np.uint8), *ends))
    return layers


def _rounds(
    announced: npt.NDArray[np.uint8],
    tags: npt.NDArray[np.int64],
    silent: npt.NDArray[np.bool_],
    layers: list[Layer],
) -> tuple[npt.NDArray[np.uint8], npt.NDArray[np.int16], npt.NDArray[np.int64]]:
    """Metrics, the hearing used (-1 none) and tags (n, a), once nothing changes any more.

    ``announced`` (n, a) is what routers say on their own account; where ``silent``, they say nothing else.
    """
    best = np.full_like(announced, INFINITY)
    heard_by = np.full(best.shape, -1, np.int32)
    """The port of the hearing used; what a router says on its own account comes by none."""
    while True:
        said = np.where(silent, announced, best)
        now = np.full_like(best, INFINITY)
        via = np.full(best.shape, -1, np.int16)
        now_by = np.full_like(heard_by, -1)
        for depth, (receivers, senders, metrics, sender_ports, receiver_ports) in enumerate(layers):
            offered = np.minimum(said[senders] + metrics[:, None], INFINITY)
            offered[(heard_by[senders] == sender_ports[:, None]) & ~silent[senders]] = INFINITY
            better = offered < now[receivers]
            now[receivers] = np.where(better, offered, now[receivers])
            via[receivers] = np.where(better, np.int16(depth), via[receivers])
            now_by[receivers] = np.where(better, receiver_ports[:, None], now_by[receivers])
        if (now == best).all() and (now_by == heard_by).all():
            break
        best, heard_by = now, now_by
    tag = tags
    if tags.any():
        tag = _tags(tags, silent, via, layers)
    return best, via, tag


def _tags(
    tags: npt.NDArray[np.int64],
    silent: npt.NDArray[np.bool_],
    via: npt.NDArray[np.int16],
    layers: list[Layer],
) -> npt.NDArray[np.int64]:
    """Tags travel with the announcements that are used."""
    heard = np.zeros_like(tags)
    for _ in range(INFINITY + 1):
        said = np.where(silent, tags, heard)
        now = np.zeros_like(heard)
        for depth, (receivers, senders, *_) in enumerate(layers):
            now[receivers] = np.where(via[receivers] == depth, said[senders], now[receivers])
        if (now == heard).all():
            break
        heard = now
    return heard
