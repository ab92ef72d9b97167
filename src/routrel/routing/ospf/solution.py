"""One version of OSPF solved: any process's routes, within areas, between them and from outside.

RFC 2328 section 11: intra-area before inter-area before external routes.
"""

from collections import defaultdict
from collections.abc import Iterable, Mapping, Sequence
from functools import cached_property

import numpy as np
import numpy.typing as npt
from msgspec import Struct

from routrel.model.addresses import Address
from routrel.model.fields import replace
from routrel.model.findings import Doubt, Finding
from routrel.model.places import NOWHERE, Place
from routrel.routing.arrays import UNSET, WORD, Column
from routrel.routing.ospf.areas import Areas
from routrel.routing.ospf.database import OspfDatabase
from routrel.routing.ospf.externals import (
    DEFAULT_METRIC,
    EXTERNAL_1,
    EXTERNAL_2,
    NEVER,
    NSSA_1,
    NSSA_2,
    ExternalRoutes,
    Externals,
)
from routrel.routing.ospf.flooding import areas_joined_without_backbone, twice_given_router_ids
from routrel.routing.ospf.route_maker import INTER, INTRA, RouteMaker
from routrel.routing.ospf.supports import Supports
from routrel.routing.prefixes.classes import PrefixClasses
from routrel.routing.protocol import ProtocolSolution
from routrel.routing.protocol_routes import DISCARD, NO_ROUTE, ProtocolRoutes, Ready, SomeRoutes
from routrel.routing.redistributed import Redistributed
from routrel.routing.routes import NextHop, Route

WORTHWHILE = 2
"""Routes over some columns alone are made where all are so many times as many."""


class OspfSolution(ProtocolSolution[OspfDatabase]):
    """OSPF solved: areas hold matrices, border routers their summaries; rows are made when asked for."""

    protocol = "ospf"
    kind_names = {
        INTRA: "intra-area",
        INTER: "inter-area",
        EXTERNAL_1: "external type 1",
        EXTERNAL_2: "external type 2",
        NSSA_1: "NSSA type 1",
        NSSA_2: "NSSA type 2",
        DISCARD: "range",
    }
    is_restrictable = True

    def __init__(
        self,
        database: OspfDatabase,
        prefixes: PrefixClasses,
        base: "OspfSolution | None" = None,
        areas: Areas | None = None,
    ):
        super().__init__(database, prefixes, base)
        self.areas: Areas = areas or Areas(database, prefixes, base.areas if base is not None else None)
        self.taken_over = self.areas.taken_over
        self.externals = Externals(self.areas)
        self._ready = Ready()
        self._asked: tuple[RouteMaker, Mapping[int, int]] | None = None
        """What makes routes over the columns that alone were asked for, and the place of each among these."""
        self._wanted: frozenset[int] = frozenset()
        """The processes whose routes will be asked for, as far as that is known."""
        self._some: dict[int, ProtocolRoutes] = {}

    def over(self, prefixes: PrefixClasses) -> "OspfSolution":
        """The same over other columns, with nothing put in."""
        return OspfSolution(self.database, prefixes, None, self.areas.over(prefixes))

    def announce(self, redistributed: Mapping[int, Redistributed]) -> None:
        """A link-state protocol announces what is put in, whatever tables use."""
        self.externals.announce(redistributed)
        self._ready.clear()
        self._asked, self._some = None, {}

    def prepare(self, processes: Sequence[int], columns: Column | None = None) -> None:
        """Make the routes of several processes together and keep them until something is put in."""
        if columns is not None:
            asked = np.array(sorted(self.externals.columns_asked().union(columns.tolist())), np.int64)
            if len(asked) * WORTHWHILE <= len(self.prefixes):
                self._asked = self.areas.maker(asked), {column: at for at, column in enumerate(asked.tolist())}
                self._some, self._wanted = {}, frozenset(processes)
                return
        alike: dict[tuple[int, ...], list[int]] = defaultdict(list)
        for process in self._ready.missing(processes, len(self.prefixes)):
            alike[tuple(self.externals.scopes_heard(process))].append(process)
        for members in alike.values():
            self._ready.update(zip(members, self._make(members), strict=True))

    def some_routes_of(self, process: int) -> SomeRoutes | None:
        if self._asked is None:
            return None
        maker, place = self._asked
        if process not in self._some:
            members = self._beside(process)
            self._some.update(zip(members, self._make(members, maker), strict=True))
        return SomeRoutes(place, self._some[process])

    def _beside(self, process: int) -> list[int]:
        """A process, and those in the same areas that will be asked as well: their routes take little more work."""
        areas, heard = self.areas.areas_of[process], self.externals.scopes_heard(process)
        beside = self.areas.graphs[areas[0]].routers if areas else [process]
        beside = [one for one in beside if one == process or one in self._wanted]
        return [
            one
            for one in beside
            if self.areas.areas_of[one] == areas and self.externals.scopes_heard(one) == heard and one not in self._some
        ]

    def default_metric(self, process: int) -> int:
        return DEFAULT_METRIC

    def problems(self) -> tuple[list[Finding], list[Doubt]]:
        findings, doubts = twice_given_router_ids(self.database)
        return areas_joined_without_backbone(self.database) + findings, doubts

    def forwarding_ports(self, process: int) -> frozenset[int]:
        return self.database.ports_of(process)

    def handed_on(self, process: int, route: Route) -> NextHop | None:
        """RFC 2328 section 12.4.4.1: the first next hop, where it leads out of the process's own ports."""
        first = next((hop for hop in route.next_hops if hop.address is not None), None)
        return first if first is not None and first.port in self.forwarding_ports(process) else None

    def forwarding_addresses(self) -> Iterable[Address]:
        """RFC 3101 section 2.3: own addresses in an NSSA."""
        for ospf_port in self.database.ports.values():
            if ospf_port.area.type == "nssa" and ospf_port.process in self.areas.boundary:
                yield from ospf_port.addresses

    @cached_property
    def _supports(self) -> Supports:
        return Supports(self.areas)

    def supports(self, process: int, number: int) -> frozenset[int] | None:
        """Of routes within and between areas, which no external one displaces (section 11)."""
        return self._supports.of(process, number)

    def multipath(self, process: int) -> int:
        return self.database.configured[process].multipath

    def place_of(self, process: int, number: int, kind: int) -> Place:
        return self.areas.range_place(process, number) if kind == DISCARD else NOWHERE

    def routes_of(self, process: int) -> ProtocolRoutes:
        """All OSPF routes of a process over all prefixes."""
        return self._ready[process] if process in self._ready else self._make([process])[0]

    def _make(self, processes: Sequence[int], maker: RouteMaker | None = None) -> list[ProtocolRoutes]:
        """The routes of processes that hear the same scopes, over all columns or those of ``maker``."""
        routes = self.areas.routes_of(processes) if maker is None else maker.routes_of(processes)
        family, count = self.database.family, routes.over.count
        heard = self.externals.scopes_heard(processes[0])
        if not heard:
            return [
                ProtocolRoutes(
                    routes.kind[at, :count],
                    routes.metric[at, :count],
                    routes.masks[:, at, :count],
                    {family: hops, 10 - family: []},
                )
                for at, hops in enumerate(routes.hops)
            ]
        routes = replace(routes, hops=[list(hops) for hops in routes.hops])
        choices = [self.externals.choose(routes, scope) for scope in heard]
        kind, metric = routes.kind[:, :count].copy(), routes.metric[:, :count].astype(np.int64)
        masks = np.zeros((max(len(hops) for hops in routes.hops) // WORD, *kind.shape), np.uint64)
        masks[: len(routes.masks)] = routes.masks[..., :count]
        taken = _Taken(np.where(kind == NO_ROUTE, NEVER, -1), kind, metric, masks, np.full(kind.shape, UNSET))
        for choice in choices:
            taken.take(choice, routes.over.place[choice.numbers])
        return [
            ProtocolRoutes(
                kind[at], metric[at], masks[: len(hops) // WORD, at], {family: hops, 10 - family: []}, taken.tag[at]
            )
            for at, hops in enumerate(routes.hops)
        ]


class _Taken(Struct):
    """Routes (b, p) into which external ones are let, the best of them by ``keys``; ``masks`` (w, b, p)."""

    keys: npt.NDArray[np.int64]
    kind: npt.NDArray[np.int8]
    metric: npt.NDArray[np.int64]
    masks: npt.NDArray[np.uint64]
    tag: npt.NDArray[np.int64]

    def take(self, choice: ExternalRoutes, place: Column) -> None:
        """Let the external routes of one scope compete with those that stand, where the system has none itself;
        ``place`` has where they stand here, -1 for what is left out."""
        is_asked, words = place >= 0, len(choice.masks)
        at, classes = place[is_asked], choice.classes[is_asked]
        keys, standing = choice.keys[:, classes], self.keys[:, at]
        better, equal = keys < standing, (keys == standing) & (keys < NEVER)
        for column, chosen in (
            (self.keys, choice.keys),
            (self.kind, choice.kind),
            (self.metric, choice.metric),
            (self.tag, choice.tag),
        ):
            column[:, at] = np.where(better, chosen[:, classes], column[:, at])
        masks = np.where(better, np.uint64(0), self.masks[..., at])
        masks[:words] |= np.where(better | equal, choice.masks[..., classes], np.uint64(0))
        self.masks[..., at] = masks
