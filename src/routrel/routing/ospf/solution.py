"""One version of OSPF solved: any process's routes, within areas, between them and from outside.

RFC 2328 section 11: intra-area before inter-area before external routes.
"""

from collections.abc import Sequence
from dataclasses import replace

import numpy as np
import numpy.typing as npt

from routrel.model.places import NOWHERE, Place
from routrel.routing.graph import WORD, Graph
from routrel.routing.ospf.areas import INTER, INTRA, Areas
from routrel.routing.ospf.database import Database
from routrel.routing.ospf.externals import EXTERNAL_1, EXTERNAL_2, NEVER, NSSA_1, NSSA_2, Choice, Externals
from routrel.routing.representatives import Representatives
from routrel.routing.rows import DISCARD, NONE, UNSET, Injected, Process, ProtocolRoutes
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
        graphs: dict[int, Graph] | None = None,
    ):
        self.topology = topology
        self.database = database
        self.prefixes = prefixes
        self.processes: Sequence[Process] = database.processes
        self.areas = Areas(database, prefixes, graphs)
        self.externals = Externals(self.areas)

    def over(self, prefixes: Representatives) -> "OspfSolution":
        """The same over other columns, with nothing put in."""
        return OspfSolution(self.topology, self.database, prefixes, self.areas.graphs)

    def inject(self, injected: dict[int, Injected], blocked: dict[int, npt.NDArray[np.bool_]]) -> None:
        """A link-state protocol announces what is put in, whatever tables use."""
        self.externals.announce(injected)

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
        kind, metric = routes.kind[:p].copy(), routes.metric[:p].astype(np.int64)
        masks = np.zeros((len(routes.hops) // WORD, p), np.uint64)
        masks[: len(routes.masks)] = routes.masks[:, :p]
        tag = np.full(p, UNSET)
        # A route of the system itself goes before all others.
        best = np.where(kind == NONE, NEVER, -1)
        for choice in choices:
            _take(choice, best, kind, metric, masks, tag)
        return ProtocolRoutes(kind, metric, masks, {family: routes.hops, 10 - family: []}, tag)


def _take(
    choice: Choice,
    best: npt.NDArray[np.int64],
    kind: npt.NDArray[np.int8],
    metric: npt.NDArray[np.int64],
    masks: npt.NDArray[np.uint64],
    tag: npt.NDArray[np.int64],
) -> None:
    """Let the external routes of one scope compete with those that stand, whose keys are ``best``."""
    keys, standing = choice.keys[choice.classes], best[choice.numbers]
    better = keys < standing
    chosen, classes = choice.numbers[better], choice.classes[better]
    best[chosen] = keys[better]
    kind[chosen] = choice.kind[classes]
    metric[chosen] = choice.metric[classes]
    tag[chosen] = choice.tag[classes]
    words = len(choice.masks)
    if words < len(masks):
        masks[words:, chosen] = 0
    masks[:words, chosen] = choice.masks[:, classes]
    equal = (keys == standing) & (keys < NEVER)
    if equal.any():
        masks[:words, choice.numbers[equal]] |= choice.masks[:, choice.classes[equal]]
