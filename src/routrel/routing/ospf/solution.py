"""One version of OSPF solved: any process's routes, within areas, between them and from outside.

RFC 2328 section 11: intra-area before inter-area before external routes.
"""

from collections.abc import Sequence
from dataclasses import dataclass, replace

import numpy as np
import numpy.typing as npt

from routrel.model.places import NOWHERE, Place
from routrel.routing.graph import WORD
from routrel.routing.ospf.areas import INTER, INTRA, AreaRoutes, Areas
from routrel.routing.ospf.database import Database
from routrel.routing.ospf.externals import (
    AUTONOMOUS_SYSTEM,
    EXTERNAL_1,
    EXTERNAL_2,
    NEVER,
    NSSA_1,
    NSSA_2,
    Choice,
    Externals,
)
from routrel.routing.representatives import Representatives
from routrel.routing.rows import DISCARD, NONE, TOGETHER, UNSET, Injected, Process, ProtocolRoutes, Ready
from routrel.topology.segments import Topology


class OspfSolution:
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

    def __init__(
        self,
        topology: Topology,
        database: Database,
        prefixes: Representatives,
        areas: Areas | None = None,
    ):
        self.topology = topology
        self.database = database
        self.prefixes = prefixes
        self.processes: Sequence[Process] = database.processes
        self.areas = Areas(database, prefixes) if areas is None else areas
        self.externals = Externals(self.areas)
        self._ready = Ready()
        self._stacks: dict[tuple[int, ...], AreaRoutes] = {}
        """The last processes whose routes were made together."""

    def over(self, prefixes: Representatives) -> "OspfSolution":
        """The same over other columns, with nothing put in."""
        return OspfSolution(self.topology, self.database, prefixes, self.areas.over(prefixes))

    def inject(self, injected: dict[int, Injected], blocked: dict[int, npt.NDArray[np.bool_]]) -> None:
        """A link-state protocol announces what is put in, whatever tables use."""
        self.externals.announce(injected)
        self._ready.clear()

    def prepare(self, processes: list[int]) -> None:
        """Make the routes of several processes together and keep them until something is put in."""
        if len(processes) * self.areas.size <= TOGETHER:
            self.areas.prepare(processes)
        heard = (process for process in processes if self.externals.scopes_heard(process) == [AUTONOMOUS_SYSTEM])
        alike = self._ready.missing(heard, len(self.prefixes))
        if not alike:
            return
        routes = self._stacked(tuple(alike))
        choice = self.externals.choose_together(np.array(alike), routes)
        if choice is None:
            return
        found = self._taken(routes, [choice], len(routes.masks))
        for at, process in enumerate(alike):
            hops = self.areas.routes_of(process).hops
            width = len(hops) // WORD
            self._ready[process] = ProtocolRoutes(
                found.kind[at],
                found.metric[at],
                found.masks[:width, at],
                {self.database.family: hops, 10 - self.database.family: []},
                found.tag[at],
            )

    def _stacked(self, processes: tuple[int, ...]) -> AreaRoutes:
        """The routes of several processes within and between areas, one row each."""
        if processes not in self._stacks:
            routes = [self.areas.routes_of(process) for process in processes]
            masks = np.zeros((max(len(one.masks) for one in routes), len(routes), self.areas.size), np.uint64)
            for row, one in enumerate(routes):
                masks[: len(one.masks), row] = one.masks
            kind, metric, is_plain = (
                np.stack(columns)
                for columns in zip(*((one.kind, one.metric, one.is_plain) for one in routes), strict=True)
            )
            self._stacks = {processes: AreaRoutes(kind, metric, masks, [], {}, is_plain)}
        return self._stacks[processes]

    def preference(self, process: int, kind: int) -> int:
        routing = self.topology.instances[self.processes[process].instance].routing
        assert routing is not None
        return routing.preference("ospf")

    def multipath(self, process: int) -> int:
        return self.database.configured[process].multipath

    def place_of(self, process: int, number: int, kind: int) -> Place:
        return self.areas.range_place(process, number) if kind == DISCARD else NOWHERE

    def routes_of(self, process: int) -> ProtocolRoutes:
        """All OSPF routes of a process over all prefixes."""
        if process in self._ready:
            return self._ready[process]
        routes = self.areas.routes_of(process)
        p = len(self.prefixes)
        heard = self.externals.scopes_heard(process)
        family = self.database.family
        if not heard:
            return ProtocolRoutes(
                routes.kind[:p], routes.metric[:p], routes.masks[:, :p], {family: routes.hops, 10 - family: []}
            )
        routes = replace(routes, hops=list(routes.hops))
        choices = [self.externals.choose(process, routes, scope) for scope in heard]
        found = self._taken(routes, choices, len(routes.hops) // WORD)
        return ProtocolRoutes(found.kind, found.metric, found.masks, {family: routes.hops, 10 - family: []}, found.tag)

    def _taken(self, routes: AreaRoutes, choices: list[Choice], width: int) -> "_Taken":
        """Routes from outside let in where the system itself has none; masks grown to ``width`` words."""
        p = len(self.prefixes)
        kind, metric = routes.kind[..., :p].copy(), routes.metric[..., :p].astype(np.int64)
        masks = np.zeros((width, *kind.shape), np.uint64)
        masks[: len(routes.masks)] = routes.masks[..., :p]
        taken = _Taken(np.where(kind == NONE, NEVER, -1), kind, metric, masks, np.full(kind.shape, UNSET))
        for choice in choices:
            taken.take(choice)
        return taken


@dataclass(slots=True)
class _Taken:
    """Routes (..., p) into which external ones are let, the best of them by ``keys``; ``masks`` (w, ..., p)."""

    keys: npt.NDArray[np.int64]
    kind: npt.NDArray[np.int8]
    metric: npt.NDArray[np.int64]
    masks: npt.NDArray[np.uint64]
    tag: npt.NDArray[np.int64]

    def take(self, choice: Choice) -> None:
        """Let the external routes of one scope compete with those that stand."""
        at, classes, words = choice.numbers, choice.classes, len(choice.masks)
        keys, standing = choice.keys[..., classes], self.keys[..., at]
        better, equal = keys < standing, (keys == standing) & (keys < NEVER)
        for column, chosen in (
            (self.keys, choice.keys),
            (self.kind, choice.kind),
            (self.metric, choice.metric),
            (self.tag, choice.tag),
        ):
            column[..., at] = np.where(better, chosen[..., classes], column[..., at])
        masks = np.where(better, np.uint64(0), self.masks[..., at])
        masks[:words] |= np.where(better | equal, choice.masks[..., classes], np.uint64(0))
        self.masks[..., at] = masks
