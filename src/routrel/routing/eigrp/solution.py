"""EIGRP solved: vectors go round until nothing changes, and any router's successors."""

from collections.abc import Mapping

import numpy as np
from msgspec import Struct

from routrel.routing.arrays import UNSET, WORD, Column
from routrel.routing.eigrp.database import EigrpDatabase, EigrpNeighbor
from routrel.routing.prefixes.classes import PrefixClasses
from routrel.routing.protocol import ProtocolSolution
from routrel.routing.protocol_routes import NO_ROUTE, ProtocolRoutes
from routrel.routing.redistributed import Redistributed

INTERNAL, EXTERNAL = 1, 2
SCALE = 256
NEVER = np.int64(2**60)
EXTERNAL_KEY = np.int64(2**50)


class _Vectors(Struct):
    """Vectors of n routers for a prefixes of one family, each (n, a); ``key`` orders them, NEVER is none."""

    slowness: Column
    delay: Column
    base: Column
    key: Column
    tag: Column

    @classmethod
    def none(cls, shape: tuple[int, int]) -> "_Vectors":
        def zeros() -> Column:
            return np.zeros(shape, np.int64)

        return cls(zeros(), zeros(), zeros(), np.full(shape, NEVER), zeros())


def composite(slowness: Column, delay: Column, base: Column) -> Column:
    """RFC 7868 section 5.6.1.1: 256 * (bandwidth + delay), and the base of an external route."""
    return SCALE * (slowness + delay) + base


class EigrpSolution(ProtocolSolution[EigrpDatabase]):
    """EIGRP solved for all routers and prefixes at once; solved again when what is put in changes."""

    protocol = "eigrp"
    kind_names = {INTERNAL: "internal", EXTERNAL: "external"}
    preference_names = {EXTERNAL: "eigrp_external"}

    def __init__(self, database: EigrpDatabase, prefixes: PrefixClasses, base: "EigrpSolution | None" = None):
        super().__init__(database, prefixes, base)
        self._networks = {key: one for key, one in database.networks.items() if key[1] in prefixes.number}
        self._columns: dict[int, Column] = {}
        self._said: dict[int, _Vectors] = {}
        self.heard: dict[int, list[list[EigrpNeighbor]]] = {family: [[] for _ in self.processes] for family in (4, 6)}
        for family, neighbors in database.neighbors.items():
            for neighbor in neighbors:
                self.heard[family][neighbor.receiver].append(neighbor)
        self.announce({})

    def lowest_preference(self, process: int) -> int | None:
        return None if self.database.configured[process].distances else super().lowest_preference(process)

    def multipath(self, process: int) -> int:
        return self.database.configured[process].multipath

    def announce(self, redistributed: Mapping[int, Redistributed]) -> None:
        for family in (4, 6):
            self._solve(family, redistributed)

    def _solve(self, family: int, redistributed: Mapping[int, Redistributed]) -> None:
        of_family = self.prefixes.of_family(family)
        numbers = {self.prefixes.number[p] for _, p in self._networks if p.family == family}
        for found in redistributed.values():
            numbers.update(found.numbers[of_family[found.numbers]].tolist())
        columns = np.array(sorted(numbers), np.int64)
        own = _Vectors.none((len(self.processes), len(columns)))
        for process, found in redistributed.items():
            kept = of_family[found.numbers]
            at = np.searchsorted(columns, found.numbers[kept])
            own.base[process, at] = found.of(found.metric, self.default_metric(process))[kept]
            own.tag[process, at] = found.of(found.tag, 0)[kept]
            own.key[process, at] = EXTERNAL_KEY + own.base[process, at]
        for (process, prefix), (adds, _) in self._networks.items():
            if prefix.family == family:
                column = int(np.searchsorted(columns, self.prefixes.number[prefix]))
                own.slowness[process, column], own.delay[process, column] = adds
                own.base[process, column] = own.tag[process, column] = 0
                own.key[process, column] = SCALE * sum(adds)
        self._columns[family] = columns
        self._said[family] = _settle(own, _layers(self.heard[family]))

    def routes_of(self, process: int) -> ProtocolRoutes:
        p = len(self.prefixes)
        width = max(1, *(-(-len(self.heard[family][process]) // WORD) for family in (4, 6)))
        routes = ProtocolRoutes(
            np.zeros(p, np.int8),
            np.zeros(p, np.int64),
            np.zeros((width, p), np.uint64),
            {family: [neighbor.hop for neighbor in self.heard[family][process]] for family in (4, 6)},
            np.full(p, UNSET, np.int64),
            np.full(p, UNSET, np.int64),
        )
        for family in (4, 6):
            self._fill(routes, process, family)
        for network_process, prefix in self._networks:
            if network_process == process:
                routes.kind[self.prefixes.number[prefix]] = NO_ROUTE
        return routes

    def _fill(self, routes: ProtocolRoutes, process: int, family: int) -> None:
        """The successors of one router: RFC 7868 sections 4.1 and 5.4, then variance and preferences."""
        said, columns, heard = self._said[family], self._columns[family], self.heard[family][process]
        if not heard or not len(columns):
            return
        eigrp = self.database.configured[process]
        senders = [neighbor.sender for neighbor in heard]
        added = np.array([neighbor.adds for neighbor in heard], np.int64)
        slowness = np.maximum(said.slowness[senders], added[:, :1])
        delay = said.delay[senders] + added[:, 1:]
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

    def _preferences(self, process: int, heard: list[EigrpNeighbor], columns: Column) -> Column:
        """Per way and prefix the preference ``distance`` gives it, or UNSET: (h, a)."""
        result = np.full((len(heard), len(columns)), UNSET, np.int64)
        for distance in reversed(self.database.configured[process].distances):
            inside = np.ones(len(columns), bool)
            if distance.prefixes:
                inside = np.isin(columns, np.concatenate([self.prefixes.covered(one) for one in distance.prefixes]))
            for index, neighbor in enumerate(heard):
                if neighbor.hop.address == distance.neighbor:
                    result[index, inside] = distance.preference
        return result


Layer = tuple[Column, Column, Column, Column]


def _layers(heard: list[list[EigrpNeighbor]]) -> list[Layer]:
    """Layer k: receivers with more than k neighbors; the sender and the adds of their k-th."""
    layers = []
    for depth in range(max((len(neighbors) for neighbors in heard), default=0)):
        rows = [(r, h[depth].sender, *h[depth].adds) for r, h in enumerate(heard) if len(h) > depth]
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
