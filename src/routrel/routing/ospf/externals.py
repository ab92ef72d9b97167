"""Routes from outside: AS-external and NSSA LSAs, translation between them, and the choice among them.

RFC 2328 sections 12.4.4 (origination), 16.4 and 16.4.1 (the comparison); RFC 3101 sections 2.3 (forwarding
addresses), 2.5 (calculation), 3.1 and 3.2 (translation). An *offer* is what one router says of a set of
prefixes: itself, type, metric, tag and forwarding address. Prefixes with the same offers are one class.
"""

from collections import defaultdict
from collections.abc import Mapping
from functools import cached_property
from typing import NamedTuple

import numpy as np
import numpy.typing as npt

from routrel.model.addresses import Address, Prefix
from routrel.model.fields import replace
from routrel.routing.arrays import UNSET, WORD, Column, Flags, Masks, Runs, classes_of, run_starts
from routrel.routing.neighbors import router_id
from routrel.routing.ospf.area_graphs import BACKBONE
from routrel.routing.ospf.areas import Areas
from routrel.routing.ospf.flooding import flooding_domains
from routrel.routing.ospf.route_maker import INTER, INTRA, AreaRoutes
from routrel.routing.protocol_routes import NO_ROUTE
from routrel.routing.redistributed import Redistributed
from routrel.routing.routes import NextHop
from routrel.routing.spf.distances import UNREACHED

EXTERNAL_1, EXTERNAL_2, NSSA_1, NSSA_2 = 3, 4, 5, 6
DEFAULT_METRIC, DEFAULT_TYPE = 20, 2
DEFAULTS = np.array([DEFAULT_METRIC, DEFAULT_TYPE, 0, UNSET])[:, None]
"""Of metric, type, tag and next hop."""

AUTONOMOUS_SYSTEM = -1
"""The scope of AS-external LSAs; an NSSA LSA's scope is its area."""

Keys = npt.NDArray[np.int64]
NEVER = np.int64(2**62)
TYPE_2, METRIC_SHIFT, PLAIN = np.int64(2**60), np.int64(32), np.int64(2**31)


class Offer(NamedTuple):
    """One router's external LSAs that differ in their prefix alone; the default route's stand apart.

    ``propagates`` is the NSSA's P-bit.
    """

    router: int
    type: int
    metric: int
    tag: int
    forward: Address | None
    propagates: bool = False
    is_default: bool = False


class Scope:
    """The external LSAs of one flooding scope as offers and classes of prefixes with the same offers.

    ``numbers`` int64 (m,): prefixes, ascending. ``classes`` int64 (m,): the class of each. ``members``
    int64 (k,): the offers of each class, in ``runs``.
    """

    def __init__(self, announced: dict[Offer, Column], column: dict[int, int]):
        """``column`` has the number of each boundary router."""
        self.offers = sorted(announced, key=lambda offer: (*offer[:4], offer.forward or (0, 0), *offer[5:]))
        columns = [announced[offer] for offer in self.offers]
        numbers = np.concatenate(columns) if columns else np.zeros(0, np.int64)
        which = np.repeat(np.arange(len(columns)), [len(column) for column in columns])
        # Stable: of one prefix the offers stay in their order.
        order = np.argsort(numbers, kind="stable")
        numbers, which = numbers[order], which[order]
        starts = run_starts(numbers)
        self.numbers = numbers[starts]
        counts = np.diff(np.append(starts, len(numbers)))
        self.classes, first = classes_of(starts, [which])
        self.runs = Runs(counts[first])
        self.members: Column = np.concatenate(
            [np.zeros(0, np.int64), *(which[starts[run] : starts[run] + counts[run]] for run in first.tolist())]
        )
        self.routers = np.array([offer.router for offer in self.offers], np.int64)
        self.boundary = np.array([column[offer.router] for offer in self.offers], np.int64)
        self.types = np.array([offer.type for offer in self.offers], np.int64)
        self.metrics = np.array([offer.metric for offer in self.offers], np.int64)
        self.tags = np.array([offer.tag for offer in self.offers], np.int64)
        self.forwarded = [index for index, offer in enumerate(self.offers) if offer.forward is not None]
        """The offers with a forwarding address."""


class ExternalRoutes(NamedTuple):
    """The best external routes of one scope for b routers.

    ``numbers`` (m,) are prefixes, ``classes`` (m,) their classes; the others are per class (b, c), ``masks``
    (w, b, c). A class whose key is ``NEVER`` has no route.
    """

    numbers: Column
    classes: Column
    keys: Keys
    metric: Column
    kind: npt.NDArray[np.int8]
    tag: Column
    masks: Masks
    first: Column
    """The lowest-numbered of the best offers."""


class InternalWays(NamedTuple):
    """Ways within the system to destinations and boundary routers: (b, p + a) each, ``masks`` (w, b, p + a)."""

    kind: npt.NDArray[np.int8]
    metric: npt.NDArray[np.int32]
    masks: Masks
    is_inside: bool
    """Whether only ways through one NSSA count."""


class Externals:
    """What boundary routers announce now, and any router's choice among it."""

    def __init__(self, areas: Areas):
        self.areas = areas
        self.scopes: dict[int, Scope] = {}
        self.announced: dict[int, dict[Offer, Column]] = {}
        self._scopes: dict[int, list[tuple[int, Address | None]]] = {}
        self._column = {process: index for index, process in enumerate(areas.boundary)}
        self._translators = self._elect()

    @cached_property
    def flooding(self) -> Column:
        """Per process a number, equal where AS-external LSAs of one come to the other."""
        return np.array(flooding_domains(self.areas.database), np.int64)

    @cached_property
    def _own_costs(self) -> dict[tuple[int, Address], int]:
        """What the network of each own address costs, by (process, address)."""
        return {
            (ospf_port.process, address): 0 if ospf_port.port.interface.is_loopback else ospf_port.cost
            for ospf_port in self.areas.database.ports.values()
            for address in ospf_port.addresses
        }

    def announce(self, redistributed: Mapping[int, Redistributed]) -> None:
        """Originate LSAs for what processes redistribute, in place of all that stood."""
        self.announced = defaultdict(dict)
        for process in self.areas.boundary:
            found = redistributed.get(process)
            if found is None or not len(found.numbers):
                continue
            scopes = self._scopes_of(process)
            columns = np.where(found.rows[1:5] == UNSET, DEFAULTS, found.rows[1:5])
            # The default prefix is the first of all of its family.
            if self.areas.default in found.numbers[:1]:
                columns = np.vstack([columns, found.numbers == self.areas.default])
            alike, which = _alike(columns)
            for index, (metric, kind, tag, hop, *default) in enumerate(alike):
                outside = found.hops[hop] if hop != UNSET else None
                forward = outside.address if outside is not None and self._is_inside(process, outside) else None
                for scope, surrogate in scopes:
                    propagates = scope != AUTONOMOUS_SYSTEM and len(self.areas.areas_of[process]) == 1
                    address = forward or (surrogate if propagates else None)
                    offer = Offer(process, kind, metric, tag, address, propagates, any(default))
                    numbers = found.numbers if len(alike) == 1 else found.numbers[which == index]
                    standing = self.announced[scope].get(offer)
                    self.announced[scope][offer] = numbers if standing is None else np.union1d(standing, numbers)
        self.scopes = {scope: Scope(offers, self._column) for scope, offers in self.announced.items()}
        self._translate()

    def _scopes_of(self, process: int) -> list[tuple[int, Address | None]]:
        """Where a process's own LSAs go: (scope, surrogate forwarding address)."""
        if process not in self._scopes:
            self._scopes[process] = self._find_scopes(process)
        return self._scopes[process]

    def _find_scopes(self, process: int) -> list[tuple[int, Address | None]]:
        scopes: list[tuple[int, Address | None]] = []
        types = {area: self.areas.area_type(process, area) for area in self.areas.areas_of[process]}
        if "normal" in types.values():
            scopes.append((AUTONOMOUS_SYSTEM, None))
        return scopes + [(area, self._surrogate(process, area)) for area, kind in types.items() if kind == "nssa"]

    def _is_inside(self, process: int, hop: NextHop) -> bool:
        """Section 12.4.4.1: whether a next hop is on a network this process advertises."""
        ospf_port = self.areas.database.ports.get(hop.port)
        if ospf_port is None or ospf_port.process != process or hop.address is None or hop.address.is_link_local:
            return False
        return any(prefix.contains(hop.address) for prefix in ospf_port.prefixes)

    def _surrogate(self, process: int, area: int) -> Address | None:
        """RFC 3101 section 2.3: an address of its own in the NSSA; a loopback's, else a stub network's."""
        found = [
            (not ospf_port.port.interface.is_loopback, not ospf_port.settings.passive, ospf_port.addresses[0])
            for ospf_port in self.areas.database.ports.values()
            if ospf_port.process == process and ospf_port.area.number == area and ospf_port.addresses
        ]
        return min(found, key=lambda one: one[:2])[2] if found else None

    def _elect(self) -> dict[int, list[int]]:
        """RFC 3101 section 3.1: of an NSSA's borders that reach each other there and over the backbone, the
        highest router id translates."""
        topology = self.areas.database.topology
        elected = {}
        for number, graph in self.areas.graphs.items():
            borders = [
                process
                for process in self.areas.borders
                if process in graph.local and self.areas.area_type(process, number) == "nssa"
            ]
            identifier = {
                process: router_id(topology, self.areas.database.processes[process].instance) or Address(4, 0)
                for process in borders
            }
            elected[number] = [
                process
                for process in borders
                if not any(
                    identifier[other] > identifier[process]
                    and graph.distance[graph.local[process], graph.local[other]] < UNREACHED
                    and self._meet_in_backbone(process, other)
                    for other in borders
                )
                and any(self.areas.area_type(process, area) == "normal" for area in self.areas.areas_of[process])
            ]
        return elected

    def _meet_in_backbone(self, one: int, other: int) -> bool:
        backbone = self.areas.graphs.get(BACKBONE)
        if backbone is None or one not in backbone.local or other not in backbone.local:
            return False
        return bool(backbone.distance[backbone.local[one], backbone.local[other]] < UNREACHED)

    def _translate(self) -> None:
        """RFC 3101 section 3.2: a translator says the best NSSA routes that propagate to the whole system."""
        translated = dict(self.announced.get(AUTONOMOUS_SYSTEM, {}))
        for number, translators in self._translators.items():
            scope = self.scopes.get(number)
            if scope is None:
                continue
            for process in translators:
                routes = self.areas.routes_of([process])
                best = self.choose(replace(routes, hops=[list(hops) for hops in routes.hops]), number)
                own = [numbers for offer, numbers in translated.items() if offer.router == process]
                taken = np.concatenate(own) if own else np.zeros(0, np.int64)
                reached, first = best.keys[0] < NEVER, best.first[0]
                for index in np.unique(first[reached]).tolist():
                    offer = scope.offers[index]
                    if not offer.propagates or offer.forward is None:
                        continue
                    chosen = best.numbers[((first == index) & reached)[best.classes]]
                    chosen = chosen[~np.isin(chosen, taken)]
                    if len(chosen):
                        again = offer._replace(router=process, propagates=False)
                        standing = translated.get(again)
                        translated[again] = chosen if standing is None else np.union1d(standing, chosen)
        if translated:
            self.announced[AUTONOMOUS_SYSTEM] = translated
            self.scopes[AUTONOMOUS_SYSTEM] = Scope(translated, self._column)

    def scopes_heard(self, process: int) -> list[int]:
        """The scopes whose LSAs reach a process."""
        if not self.scopes:
            return []
        types = {area: self.areas.area_type(process, area) for area in self.areas.areas_of[process]}
        heard = [AUTONOMOUS_SYSTEM] if "normal" in types.values() else []
        heard += [area for area, kind in types.items() if kind == "nssa"]
        return [scope for scope in heard if scope in self.scopes]

    def columns_asked(self) -> set[int]:
        """The columns that ways to forwarding addresses are looked up in."""
        forwarded = {offer.forward for scope in self.scopes.values() for offer in scope.offers}
        chains = (self.areas.prefixes.chain(address) for address in forwarded if address is not None)
        return {column for chain in chains for column in chain}

    def choose(self, routes: AreaRoutes, scope_number: int) -> ExternalRoutes:
        """Section 16.4: the best offers of a scope for each of its prefixes, for b processes that hear it; ``routes``
        are over ``columns_asked`` at least.

        Next hops to forwarding addresses on own networks are appended to ``routes.hops``.
        """
        scope, over = self.scopes[scope_number], routes.over
        boundary, processes = over.count + scope.boundary, np.array(routes.processes)
        if scope_number == AUTONOMOUS_SYSTEM:
            ways = InternalWays(routes.kind, routes.metric, routes.masks, False)
            is_plain, kinds = routes.is_plain[:, scope.boundary], (EXTERNAL_1, EXTERNAL_2)
        else:
            ways, kinds = self._inside(routes, scope_number), (NSSA_1, NSSA_2)
            is_plain = np.zeros((len(processes), len(scope.offers)), bool)
        distance, words = ways.metric[:, boundary].astype(np.int64), ways.masks[..., boundary]
        reached = (ways.kind[:, boundary] != NO_ROUTE) & (scope.routers != processes[:, None]) & (distance < UNREACHED)
        if not ways.is_inside:
            reached &= self.flooding[scope.routers] == self.flooding[processes][:, None]
        own_hops: dict[tuple[int, int], NextHop] = {}
        for at in ((row, index) for row in range(len(processes)) for index in scope.forwarded):
            if reached[at]:
                distance[at], is_plain[at], mask, own = self._forwarded(routes, at[0], ways, scope.offers[at[1]])
                reached[at] = mask is not None
                if mask is not None:
                    words[(slice(None), *at)] = mask
                if own is not None:
                    own_hops[at] = own
        if own_hops:
            words = _with_own_hops(words, own_hops, routes)
        if ways.is_inside:
            for row, process in enumerate(routes.processes):
                reached[row] &= ~self._unused_defaults(process, scope_number, scope.offers)
        return _chosen(scope, distance, reached, is_plain, words, kinds)

    def _inside(self, routes: AreaRoutes, area: int) -> InternalWays:
        """Intra-area costs and masks through one NSSA."""
        graph, destinations, over = self.areas.graphs[area], self.areas.destinations[area], routes.over
        if over.size < self.areas.size:
            destinations = destinations.among(over.place)
        costs, words = destinations.row(graph, graph.vertices(np.array(routes.processes)))
        kind, metric = np.zeros_like(routes.kind), np.full_like(routes.metric, UNREACHED)
        masks = np.zeros_like(routes.masks)
        kind[:, destinations.numbers] = np.where(costs < UNREACHED, INTRA, NO_ROUTE)
        metric[:, destinations.numbers] = costs
        for row, offsets in enumerate(routes.offsets):
            masks[offsets[area] : offsets[area] + len(words), row, destinations.numbers] = words[:, row]
        return InternalWays(kind, metric, masks, True)

    def _forwarded(
        self, routes: AreaRoutes, row: int, ways: InternalWays, offer: Offer
    ) -> tuple[int, bool, Masks | None, NextHop | None]:
        """Section 16.4 (3): distance and next hops to a forwarding address; no mask where it is out of reach.

        The next hop beside them is that of a forwarding address on a network of its own.
        """
        nowhere = (int(UNREACHED), False, None, None)
        process = routes.processes[row]
        assert offer.forward is not None
        for column in self.areas.prefixes.chain(offer.forward):
            number = routes.over.place.item(column)
            assert number >= 0
            kind = int(routes.kind[row, number])
            if kind == NO_ROUTE:
                continue
            is_left = ways.is_inside and (kind != INTRA or ways.kind[row, number] == NO_ROUTE)
            if kind not in (INTRA, INTER) or is_left:
                return nowhere
            cost, mask = int(ways.metric[row, number]), ways.masks[:, row, number]
            if self._own_costs.get((process, offer.forward), cost + 1) <= cost:
                return nowhere  # its own address, by its own network
            own = self._own_hop(process, offer.forward, self.areas.prefixes.prefixes[column], cost)
            if own is None and not mask.any():
                return nowhere
            by_backbone = self._leads_by_backbone(routes.offsets[row], mask)
            if own is not None:
                in_backbone = self.areas.database.ports[own.port].area.number == BACKBONE
                by_backbone = in_backbone and (by_backbone or not mask.any())
            return cost, not ways.is_inside and (kind == INTER or by_backbone), mask, own
        return nowhere

    def _leads_by_backbone(self, offsets: dict[int, int], mask: Masks) -> bool:
        """Whether all next hops of a mask are in the backbone area."""
        if BACKBONE not in offsets:
            return False
        first = offsets[BACKBONE]
        others = mask.copy()
        others[first : first + self.areas.graphs[BACKBONE].words] = 0
        return not others.any()

    def _own_hop(self, process: int, forward: Address, prefix: Prefix, cost: int) -> NextHop | None:
        """The next hop to a forwarding address on a network of the process's own, at the cost of the way there."""
        for ospf_port in self.areas.database.ports.values():
            at_cost = ospf_port.process == process and ospf_port.cost == cost and forward not in ospf_port.addresses
            if at_cost and prefix in ospf_port.prefixes and not prefix.is_host:
                return NextHop(ospf_port.port.index, forward)
        return None

    def _unused_defaults(self, process: int, area: int, offers: list[Offer]) -> Flags:
        """RFC 3101 section 2.5 (3): which NSSA default routes a border router does not use."""
        is_border = len(self.areas.areas_of[process]) > 1
        no_summary = self.areas.database.area_settings[process, area].no_summary
        unused = [is_border and offer.is_default and (not offer.propagates or no_summary) for offer in offers]
        return np.array(unused, np.bool_)


def _chosen(
    scope: Scope, distance: Column, reached: Flags, is_plain: Flags, words: Masks, kinds: tuple[int, int]
) -> ExternalRoutes:
    """Section 16.4.1: the best of what can be reached. Of offers: (b, e) each, ``words`` (w, b, e).

    ``kinds`` are those of type 1 and 2.
    """
    by_distance = distance + np.where(is_plain, PLAIN, 0)
    is_type_1 = scope.types == 1
    metrics = scope.metrics + np.where(is_type_1, distance, 0)
    keys = np.where(is_type_1, by_distance + scope.metrics, TYPE_2 + (scope.metrics << METRIC_SHIFT) + by_distance)
    keys[~reached] = NEVER
    best, chosen = scope.runs.least(keys[..., scope.members])
    first = scope.members[scope.runs.first(chosen)]
    return ExternalRoutes(
        scope.numbers,
        scope.classes,
        best,
        np.take_along_axis(metrics, first, axis=-1),
        np.where(is_type_1, *kinds).astype(np.int8)[first],
        scope.tags[first],
        scope.runs.union(words[..., scope.members], chosen),
        first,
    )


def _alike(columns: Column) -> tuple[list[tuple[int, ...]], Column]:
    """The distinct columns, and which each one is; only rows that vary are looked at."""
    differs = columns != columns[:, :1]
    if not differs.any():
        return [tuple(columns[:, 0].tolist())], np.zeros(columns.shape[1], np.int64)
    varying = np.flatnonzero(differs.any(axis=1))
    # One row is told apart much faster than several.
    rows, axis = (columns[varying[0]], None) if len(varying) == 1 else (columns[varying], 1)
    _, first, inverse = np.unique(rows, axis=axis, return_index=True, return_inverse=True)
    return [tuple(columns[:, at].tolist()) for at in first.tolist()], inverse.reshape(-1)


def _with_own_hops(words: Masks, extra: dict[tuple[int, int], NextHop], routes: AreaRoutes) -> Masks:
    """Words grown by bits for next hops that are forwarding addresses on own networks, by (row, offer)."""
    for row in dict.fromkeys(row for row, _ in extra):
        of_row = {index: hop for (other, index), hop in extra.items() if other == row}
        hops = sorted(set(of_row.values()), key=lambda hop: (hop.port, hop.address or (0, 0)))
        added, first = -(-len(hops) // WORD), len(routes.hops[row]) // WORD
        if first + added > len(words):
            words = np.concatenate([words, np.zeros((first + added - len(words), *words.shape[1:]), np.uint64)])
        for index, hop in of_row.items():
            word, bit = divmod(hops.index(hop), WORD)
            words[first + word, row, index] |= np.uint64(1) << np.uint64(bit)
        routes.hops[row].extend([*hops, *[None] * (added * WORD - len(hops))])
    return words
