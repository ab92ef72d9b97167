"""RIP solved: announcements go round by round, for all prefixes at once, until nothing changes."""

from collections.abc import Mapping
from typing import NamedTuple

import numpy as np
import numpy.typing as npt

from routrel.routing.arrays import UNSET, WORD, Column, Flags
from routrel.routing.prefixes.classes import PrefixClasses
from routrel.routing.protocol import ProtocolSolution
from routrel.routing.protocol_routes import NO_ROUTE, ProtocolRoutes
from routrel.routing.redistributed import Redistributed
from routrel.routing.rip.database import RipDatabase, RipNeighbor
from routrel.routing.routes import NextHop

INFINITY = 16
OWN_METRIC = 1
RIP_ROUTE = 1


class RipSolution(ProtocolSolution[RipDatabase]):
    """RIP solved for all routers and prefixes at once; solved again when what is put in changes."""

    protocol = "rip"
    kind_names = {RIP_ROUTE: ""}
    announces_only_installed = True

    def __init__(self, database: RipDatabase, prefixes: PrefixClasses, base: "RipSolution | None" = None):
        super().__init__(database, prefixes, base)
        self._columns: dict[int, Column] = {}
        self._metric: dict[int, npt.NDArray[np.uint8]] = {}
        self._tag: dict[int, Column] = {}
        self._via: dict[int, npt.NDArray[np.int16]] = {}
        self._heard: dict[int, list[list[RipNeighbor]]] = {family: [[] for _ in self.processes] for family in (4, 6)}
        for family, neighbors in database.neighbors.items():
            for neighbor in neighbors:
                self._heard[family][neighbor.receiver].append(neighbor)
        own: list[list[int]] = [[] for _ in self.processes]
        for process, prefix in database.networks:
            if prefix in prefixes.number:
                own[process].append(prefixes.number[prefix])
        self._own = [np.array(sorted(columns), np.int64) for columns in own]
        self.announce({})

    def announce(self, redistributed: Mapping[int, Redistributed]) -> None:
        for family in (4, 6):
            self._solve(family, redistributed)

    def _solve(self, family: int, redistributed: Mapping[int, Redistributed]) -> None:
        of_family = self.prefixes.of_family(family)

        def within(numbers: Column) -> Column:
            kept: Column = numbers[of_family[numbers]]
            return kept

        origins = [*self._own, *(found.numbers for found in redistributed.values())]
        columns = np.unique(within(np.concatenate(origins))) if origins else np.zeros(0, np.int64)
        shape = len(self.processes), len(columns)
        announced = np.full(shape, INFINITY, np.uint8)
        tags = np.zeros(shape, np.int64)
        for process, found in redistributed.items():
            rip = self.default_metric(process)
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
        for process, unused in self.silent.items():
            silent[process] |= unused[columns]
        layers = _layers(self._heard[family])
        metric, via, tag = _rounds(announced, tags, silent, layers)
        self._columns[family], self._metric[family], self._via[family], self._tag[family] = columns, metric, via, tag

    def default_metric(self, process: int) -> int:
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
            hops[family] = [neighbor.hop for neighbor in self._heard[family][process]]
        kind[self._own[process]] = NO_ROUTE
        return ProtocolRoutes(kind, metric, masks, hops, tag)


class Layer(NamedTuple):
    """The k-th neighbor of every receiver that has more than k, (r,) each; ports are those of its two ends."""

    receivers: Column
    senders: Column
    metrics: npt.NDArray[np.uint8]
    sender_ports: npt.NDArray[np.int32]
    receiver_ports: npt.NDArray[np.int32]


def _layers(heard: list[list[RipNeighbor]]) -> list[Layer]:
    layers = []
    for depth in range(max((len(neighbors) for neighbors in heard), default=0)):
        kth = [neighbors[depth] for neighbors in heard if len(neighbors) > depth]
        rows = [(one.receiver, one.sender, one.metric, one.sender_port, one.hop.port) for one in kth]
        receivers, senders, metrics, sender_ports, receiver_ports = np.array(rows, np.int64).T
        ends = sender_ports.astype(np.int32), receiver_ports.astype(np.int32)
        layers.append(Layer(receivers, senders, metrics.astype(np.uint8), *ends))
    return layers


def _rounds(
    announced: npt.NDArray[np.uint8],
    tags: Column,
    silent: Flags,
    layers: list[Layer],
) -> tuple[npt.NDArray[np.uint8], npt.NDArray[np.int16], Column]:
    """Metrics, the neighbor used (-1 none) and tags (n, a), once nothing changes any more.

    ``announced`` (n, a) is what routers say on their own account; where ``silent``, they say nothing else.
    """
    best = np.full_like(announced, INFINITY)
    heard_by = np.full(best.shape, -1, np.int32)
    """The port of the neighbor used; what a router says on its own account comes by none."""
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
    tags: Column,
    silent: Flags,
    via: npt.NDArray[np.int16],
    layers: list[Layer],
) -> Column:
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
