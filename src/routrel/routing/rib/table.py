"""A routing instance's table: the best route for each prefix, and longest-prefix match.

A prefix with candidates of several sources goes to the lowest preference (RFC 8349 section 5.1 calls it
route preference); of equal preference the protocol earlier in ``PROTOCOL_ORDER`` wins, of equal protocol
the process that stands first. An install policy is asked before any route but connected ones may enter.
"""

from collections import defaultdict
from collections.abc import Iterable, Iterator, Mapping, Sequence
from functools import cached_property

import numpy as np
import numpy.typing as npt

from routrel.model.addresses import Address, Prefix
from routrel.model.policies import Policy
from routrel.model.routing import PROTOCOL_ORDER
from routrel.routing.arrays import UNSET, Flags
from routrel.routing.policies import Verdicts, evaluate
from routrel.routing.prefixes.classes import PrefixClasses
from routrel.routing.protocol import AnySolution, Process
from routrel.routing.protocol_routes import DISCARD, NO_ROUTE, ProtocolRoutes
from routrel.routing.rib.route_columns import RouteColumns
from routrel.routing.routes import NextHop, Route
from routrel.topology.segments import Topology

NO_WINNER, OTHER = -1, -2
"""In ``winners``: no route at all, and a connected, static or observed one."""

NOWHERE_NEAR = np.int32(2**30)
"""The rank of no route."""

Ranks = npt.NDArray[np.int32]

Likeness = tuple[int, int, bytes]
"""Address family, kind and next hops of a route."""


class Source:
    """One protocol process as a table sees it: its routes, made when first asked for."""

    def __init__(self, solution: AnySolution, process: Process):
        self.solution = solution
        self.process = process

    @cached_property
    def rows(self) -> ProtocolRoutes:
        return self.solution.routes_of(self.process.number)

    @property
    def is_made(self) -> bool:
        """Whether all its routes are made."""
        return "rows" in self.__dict__

    def take_over(self, other: "Source") -> None:
        """Take the routes that another has made which has the same."""
        if other.is_made:
            self.__dict__["rows"] = other.rows

    def rows_for(self, column: int) -> tuple[ProtocolRoutes, int]:
        """The routes in which a column's is, and where: those that were made ready for some columns alone, or all."""
        if not self.is_made:
            some = self.solution.some_routes_of(self.process.number)
            if some is not None and column in some.place:
                return some.routes, some.place[column]
        return self.rows, column

    @property
    def protocol(self) -> str:
        return self.process.protocol

    def ranks(self) -> Ranks:
        """Preference and protocol order as one number, by kind: int32 (128,)."""
        order = PROTOCOL_ORDER.index(self.protocol)
        ranks = np.full(128, NOWHERE_NEAR)
        for kind in self.solution.kind_names:
            ranks[kind] = self.solution.preference(self.process.number, kind) * len(PROTOCOL_ORDER) + order
        return ranks


class Table:
    """Best routes of one instance. Those of protocols stay arrays until one is asked for."""

    def __init__(
        self,
        topology: Topology,
        prefix_classes: PrefixClasses,
        instance: int,
        sources: Iterable[Source],
        routes: Iterable[Route],
        install: Policy | None = None,
    ):
        self.topology = topology
        self.prefix_classes = prefix_classes
        self.prefixes = prefix_classes.whole
        self.instance = instance
        self.sources = list(sources)
        self.install = install
        self._verdicts: dict[int, Verdicts] = {}
        self._winners: npt.NDArray[np.int16] | None = None
        self._has_own = True
        """Whether no other table has the very same routes in hand."""
        self._others: dict[int, Route] = {}
        self.displaced: dict[int, Route] = {}
        """What stood in the place of a better route that was offered: it stands again where that is withdrawn."""
        self._standing: dict[int, Route] = {}
        self._columns: dict[str | None, RouteColumns] = {}
        self._ranks: dict[int, Ranks] = {}
        self.chosen: dict[int, Route | None] = {}
        """The best routes that were asked for, by prefix number."""
        self._hops_of_masks: dict[tuple[int, bool, tuple[int, ...]], tuple[NextHop, ...]] = {}
        for route in routes:
            self.offer(route)

    def fresh(self, sources: Iterable[Source]) -> "Table":
        """A table of other sources with the same connected, static and observed routes so far."""
        table = Table.__new__(Table)
        table.__dict__.update(self.__dict__)  # copy.copy takes thrice the time, and there is one for every router
        table.sources = list(sources)
        self._has_own = table._has_own = False
        table._winners = None
        table._verdicts, table.chosen, table._hops_of_masks, table.displaced = {}, {}, {}, {}
        return table

    def take_over(self, other: "Table") -> None:
        """Take what is made of another table's routes, which are the same."""
        self.chosen, self._winners = other.chosen, other._winners
        for own, theirs in zip(self.sources, other.sources, strict=True):
            own.take_over(theirs)

    def _own(self) -> None:
        """What it shares with another table becomes its own before it is changed."""
        if not self._has_own:
            self._others, self._standing = dict(self._others), dict(self._standing)
            self._has_own = True

    def over(self, prefix_classes: PrefixClasses) -> "Table":
        """A table without sources, with the same other routes, over other columns."""
        table = Table(self.topology, prefix_classes, self.instance, (), (), self.install)
        table._others = dict(self._others)
        columns = ((prefix_classes.standing.item(number), route) for number, route in self._others.items())
        table._standing = {column: route for column, route in columns if column >= 0}
        return table

    def offer(self, route: Route) -> bool:
        """Let a route compete for its prefix with what stands there from other than protocols.

        Whether it stands now; the install policy may keep it out or change its preference.
        """
        number = self.prefixes.number[route.prefix]
        if self.install is not None and route.protocol not in ("connected", "local"):
            installed = self._installed(route, number)
            if installed is None:
                return False
            route = installed
        standing = self._others.get(number)
        if standing is None or _rank(route) < _rank(standing):
            if standing is not None:
                self.displaced[number] = standing
            self.put({number: route})
            return True
        return False

    def put(self, routes: Mapping[int, Route]) -> None:
        """Let routes other than of protocols stand, by the numbers of their prefixes."""
        self._own()
        self._others.update(routes)
        for number, route in routes.items():
            column = self.prefix_classes.standing.item(number)
            if column >= 0:
                self._standing[column] = route
                self._columns = {}
            self.chosen.pop(number, None)
        self._winners = None

    def _installed(self, route: Route, number: int) -> Route | None:
        """A route as the install policy lets it in, or None."""
        given = (*route.given_next_hops, *(hop.address for hop in route.next_hops))

        def hop_match(addresses: tuple[Address, ...]) -> Flags:
            return np.array([any(address in given for address in addresses)])

        verdicts = evaluate(
            self.install,
            self.prefixes,
            np.array([number]),
            route.protocol,
            np.array([route.metric or 0], np.int64),
            np.array([UNSET if route.tag is None else route.tag], np.int64),
            hop_match,
        )
        if not verdicts.accepted[0]:
            return None
        preference = int(verdicts.preference[0])
        return route if preference == UNSET else route._replace(preference=preference)

    def withdraw(self, prefix_number: int) -> None:
        """Take out a route that was offered; what it displaced stands again."""
        self._own()
        del self._others[prefix_number]
        self._standing.pop(self.prefix_classes.standing.item(prefix_number), None)
        if prefix_number in self.displaced:
            self.put({prefix_number: self.displaced.pop(prefix_number)})
        self._columns = {}
        self._winners = None
        self.chosen.pop(prefix_number, None)

    def get(self, number: int) -> Route | None:
        """The best route for a prefix, by its number."""
        try:
            return self.chosen[number]
        except KeyError:
            best = self.chosen[number] = self._choose(number)
            return best

    def once(self, number: int) -> Route | None:
        """The same, not kept: for who asks a great deal and keeps what follows from it."""
        return self.chosen[number] if number in self.chosen else self._choose(number)

    def likeness(self, number: int) -> Likeness | None:
        """Equal for prefixes whose best routes do the same with packets; None where it takes a route to tell."""
        if len(self.sources) != 1 or self.install is not None or number in self._others:
            return None
        rows, column = self.sources[0].rows, self.prefix_classes.column.item(number)
        return self.prefixes.prefixes[number].family, rows.kind.item(column), rows.masks[:, column].tobytes()

    def _choose(self, number: int) -> Route | None:
        best = self._others.get(number)
        for index in range(len(self.sources)):
            route = self.installed_route(index, number)
            if route is not None and (best is None or _rank(route) < _rank(best)):
                best = route
        return best

    @property
    def others(self) -> Iterable[int]:
        """Numbers of the prefixes that have one of these routes."""
        return self._others

    def other(self, number: int) -> Route | None:
        """The best of connected, static and observed routes for a prefix."""
        return self._others.get(number)

    def standing(self) -> dict[int, Route]:
        """The same of every class's representative, by column."""
        return self._standing

    def route_columns(self, protocol: str | None = None) -> RouteColumns:
        """The same as columns; those of one protocol that others may take on, where one is named."""
        if protocol not in self._columns:
            self._columns[protocol] = RouteColumns.of(self._standing, protocol)
        return self._columns[protocol]

    def installed_route(self, index: int, number: int) -> Route | None:
        """A source's route for a prefix as the install policy lets it in, or None."""
        if self.install is None:
            return self.source_route(index, number)
        verdicts = self._install_verdicts(index)
        route = self.source_route(index, number)
        column = self.prefix_classes.column.item(number)
        if route is None or not verdicts.accepted[column]:
            return None
        preference = int(verdicts.preference[column])
        return route if preference == UNSET else route._replace(preference=preference)

    def _install_verdicts(self, index: int) -> Verdicts:
        """What the install policy says of all of a source's routes, over all columns."""
        if index not in self._verdicts:
            source, rows = self.sources[index], self.sources[index].rows
            numbers = np.arange(len(self.prefix_classes))
            tag = np.full(len(numbers), UNSET, np.int64) if rows.tag is None else rows.tag
            self._verdicts[index] = evaluate(
                self.install,
                self.prefix_classes,
                numbers,
                source.protocol,
                rows.metric.astype(np.int64),
                tag,
                rows.hop_match(numbers, self.prefix_classes),
                rows.attributes(numbers) if rows.attributes is not None else None,
            )
        return self._verdicts[index]

    def source_route(self, index: int, number: int) -> Route | None:
        """A protocol's own route for a prefix, whether or not it is let in or best; made anew each time."""
        source, column = self.sources[index], self.prefix_classes.column.item(number)
        rows, at = source.rows_for(column)
        kind = rows.kind.item(at)
        if kind == NO_ROUTE:
            return None
        prefix, metric = self.prefixes.prefixes[number], rows.metric.item(at)
        process = source.process.number
        preference = source.solution.preference(process, kind)
        if rows.preference is not None and rows.preference.item(at) != UNSET:
            preference = rows.preference.item(at)
        name = source.solution.kind_names[kind]
        tag = None if rows.tag is None or rows.tag.item(at) <= 0 else rows.tag.item(at)
        if kind >= DISCARD:
            place = source.solution.place_of(process, column, kind)
            return Route(prefix, source.protocol, preference, metric, (), "discard", name, tag=tag, place=place)
        masks = rows.masks
        words = (masks.item(0, at),) if len(masks) == 1 else tuple([mask.item(at) for mask in masks])
        key = index, source.is_made, words
        hops = self._hops_of_masks.get(key)
        if hops is None or len(source.process.families) > 1:
            limit = source.solution.multipath(process)
            hops = sorted_hops(self.topology, rows.next_hops(at, prefix.family))[:limit]
            self._hops_of_masks[key] = hops
        if not hops:
            return None  # its own network, which the connected route stands for
        return Route(prefix, source.protocol, preference, metric, hops, "forward", name, tag=tag)

    def index_of(self, process: Process) -> int:
        """The place of a process among the sources."""
        return next(at for at, source in enumerate(self.sources) if source.process is process)

    def winners(self) -> npt.NDArray[np.int16]:
        """Per column the index of the source whose route is best, NO_WINNER or OTHER: int16 (c,)."""
        if self._winners is None:
            find_winners([self])
        assert self._winners is not None
        return self._winners

    def _ranks_of(self, index: int) -> Ranks:
        if index not in self._ranks:
            self._ranks[index] = self.sources[index].ranks()
        return self._ranks[index]

    def _rank_of_source(self, index: int) -> Ranks:
        source, rows = self.sources[index], self.sources[index].rows
        ranks = self._ranks_of(index)[rows.kind]
        order = PROTOCOL_ORDER.index(source.protocol)
        if rows.preference is not None:
            own = rows.preference * len(PROTOCOL_ORDER) + order
            ranks = np.where(rows.preference == UNSET, ranks, own.astype(np.int32))
        present = rows.present()
        rank = np.where(present, ranks, NOWHERE_NEAR)
        if self.install is not None:
            verdicts = self._install_verdicts(index)
            given = (verdicts.preference * len(PROTOCOL_ORDER) + order).astype(np.int32)
            rank = np.where((verdicts.preference != UNSET) & present, given, rank)
            rank = np.where(verdicts.accepted, rank, NOWHERE_NEAR)
        return rank

    def unused(self, index: int) -> Flags:
        """Columns at which a route of this source would not be the table's, whether it has one or not.

        A distance-vector protocol announces only what the table uses.
        """
        source = self.sources[index]
        best = np.full(len(self.prefix_classes), NOWHERE_NEAR)
        for other in range(len(self.sources)):
            if other != index:
                np.minimum(best, self._rank_of_source(other), out=best)
        standing = self.route_columns()
        best[standing.numbers] = np.minimum(best[standing.numbers], standing.ranks)
        rank = int(self._ranks_of(index)[next(iter(source.solution.kind_names))])
        mine = np.full(len(self.prefix_classes), rank, np.int64)
        if self.install is not None:
            verdicts = self._install_verdicts(index)
            order = PROTOCOL_ORDER.index(source.protocol)
            mine = np.where(verdicts.preference == UNSET, mine, verdicts.preference * len(PROTOCOL_ORDER) + order)
            mine[~verdicts.accepted & source.rows.present()] = 2**40
        unused: Flags = best < mine
        if self.install is not None:
            unused |= mine >= 2**40
        return unused

    def outranked(self, index: int) -> Flags:
        """Columns at which another source has the table's route."""
        winners = self.winners()
        outranked: Flags = (winners != index) & (winners != NO_WINNER)
        return outranked

    def lookup(self, address: Address) -> Route | None:
        """Longest-prefix match."""
        number = self.prefixes.longest(address)
        parent = self.prefixes.parent
        while number >= 0:
            route = self.get(number)
            if route is not None:
                return route
            number = parent[number]
        return None

    def within(self, prefix: Prefix) -> Iterator[Route]:
        """The best routes inside a prefix after those that cover it, in the order of their prefixes."""
        chain = self.prefixes.chain(Address(prefix.family, prefix.network))
        covering = [number for number in reversed(chain) if self.prefixes.lengths[number] < prefix.length]
        inside = self.prefixes.covered(prefix)
        for number in (*covering, *range(inside.start, inside.stop)):
            route = self.get(number)
            if route is not None:
                yield route

    def __iter__(self) -> Iterator[Route]:
        """All best routes, in the order of their prefixes."""
        numbers = set(self._others)
        for source in self.sources:
            of_column = source.rows.kind != NO_ROUTE
            numbers.update(of_column[self.prefix_classes.column].nonzero()[0].tolist())
        for number in sorted(numbers):
            route = self.get(number)
            if route is not None:
                yield route


def find_winners(tables: Sequence[Table]) -> None:
    """Find the winners of tables, those with as many sources together in a few operations."""
    alike: dict[int, list[Table]] = defaultdict(list)
    for table in tables:
        alike[len(table.sources)].append(table)
    for count, members in alike.items():
        best = np.full((len(members), len(members[0].prefix_classes)), NOWHERE_NEAR)
        winner = np.full(best.shape, NO_WINNER, np.int16)
        for index in range(count):
            rank = np.stack([table._rank_of_source(index) for table in members])
            winner[rank < best] = index
            np.minimum(best, rank, out=best)
        for table, found, rank in zip(members, winner, best, strict=True):
            others = table.route_columns()
            found[others.numbers[others.ranks < rank[others.numbers]]] = OTHER
            table._winners = found


def sorted_hops(topology: Topology, hops: Iterable[NextHop]) -> tuple[NextHop, ...]:
    """Next hops without repetition, sorted by interface name, then address."""
    hops = tuple(hops)
    if len(hops) < 2:
        return hops
    return tuple(
        sorted(
            set(hops),
            key=lambda hop: (topology.ports[hop.port].name.interface, hop.address or Address(0, 0), hop.neighbor),
        )
    )


def _rank(route: Route) -> tuple[int, int]:
    preference = 0 if route.preference is None else route.preference
    return preference, PROTOCOL_ORDER.index(route.protocol)
