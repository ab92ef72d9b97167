"""The routes in which two states of a network differ, every routing instance and prefix.

Tables are held against each other as arrays first: equal arrays make equal routes, and only prefixes for which some
differ, or that only one of the two has, are looked at one by one.
"""

from collections.abc import Iterable, Iterator
from functools import cached_property

import numpy as np
import numpy.typing as npt

from routrel.analysis.answers.comparisons import RouteChange
from routrel.analysis.table_rows import table_row
from routrel.model.addresses import Prefix
from routrel.routing.arrays import Column
from routrel.routing.protocol_routes import ProtocolRoutes
from routrel.routing.rib.table import OTHER, Source, Table
from routrel.routing.routes import NextHop, Route
from routrel.routing.solve import Solved

Flags = npt.NDArray[np.bool_]

Pair = tuple[Prefix, Route | None, Route | None]
"""A prefix with its routes before and after."""


def changed_routes(before: Solved, after: Solved) -> Iterator[RouteChange]:
    """Every prefix at which a routing instance's table differs, by device, VRF and prefix."""
    comparer = _Comparer(before, after)
    for device, vrf in comparer.instances():
        yield from comparer.listed(device, vrf)


def prefixes_that_may_differ(before: Solved, after: Solved) -> Iterator[tuple[tuple[str, str], list[Prefix]]]:
    """By device and VRF, the prefixes at which its table differs, and some at which only a route behind the best does:
    no route is made where arrays tell."""
    comparer = _Comparer(before, after)
    for key in comparer.instances():
        found = comparer.may_differ(*comparer.numbers(*key))
        if found:
            yield key, found


def count_and_list(before: Solved, after: Solved, most: int) -> tuple[int, list[RouteChange]]:
    """How many routes differ, and the first ``most`` of them: the others are counted in arrays where that can be."""
    comparer = _Comparer(before, after)
    count, found = 0, list[RouteChange]()
    for device, vrf in comparer.instances():
        if len(found) >= most:
            count += comparer.count(device, vrf)
            continue
        of_instance = list(comparer.listed(device, vrf))
        count += len(of_instance)
        found += of_instance[: most - len(found)]
    return count, found


class _Comparer:
    """Two states of a network. Ports are compared by name: their numbers need not be the same."""

    def __init__(self, before: Solved, after: Solved):
        self.before, self.after = before, after

    def instances(self) -> list[tuple[str, str]]:
        """All routing instances, by device and VRF."""
        return sorted({*self.before.topology.instance_index, *self.after.topology.instance_index})

    def numbers(self, device: str, vrf: str) -> tuple[int | None, int | None]:
        """The numbers of a routing instance in either state, None where it is not there."""
        key = device, vrf
        return self.before.topology.instance_index.get(key), self.after.topology.instance_index.get(key)

    def listed(self, device: str, vrf: str) -> Iterator[RouteChange]:
        """The routes of an instance that differ."""
        one, other = self.numbers(device, vrf)
        for prefix, was, now in self.changes(one, other):
            yield RouteChange(
                device,
                vrf,
                str(prefix),
                None if was is None or one is None else table_row(self.before, one, was),
                None if now is None or other is None else table_row(self.after, other, now),
            )

    def count(self, device: str, vrf: str) -> int:
        """How many routes of an instance differ."""
        one, other = self.numbers(device, vrf)
        if one is not None and other is not None:
            tables = self.before.table(one), self.after.table(other)
            counted = self._counted(*tables)
            if counted is not None:
                return counted
        return sum(1 for _ in self.changes(one, other))

    def _counted(self, one: Table, other: Table) -> int | None:
        """The same from arrays, asking for single routes only where these do not tell; None where they cannot."""
        if not _is_comparable(one, other):
            return None
        shared = self.shared
        old, new = self.before.prefix_classes.column[shared[0]], self.after.prefix_classes.column[shared[1]]
        was, now = one.winners()[old], other.winners()[new]
        unsure: Flags = (was != now) | (was == OTHER)
        certain = np.zeros(len(was), bool)
        for index, (source, fresh) in enumerate(zip(one.sources, other.sources, strict=True)):
            changed = self._changed(source, fresh)
            if changed is None:
                return None
            mine = (was == index) & (now == index)
            most = source.solution.multipath(source.process.number)
            cut = (np.bitwise_count(source.rows.masks).sum(axis=0) > most)[old]
            cut |= (np.bitwise_count(fresh.rows.masks).sum(axis=0) > most)[new]
            certain |= mine & changed & ~cut
            unsure |= mine & changed & cut
        asked = np.flatnonzero(unsure & ~certain)
        # Connected, static and observed routes stand beside the columns of protocols too.
        own = {self.before.prefixes.prefixes[number] for number in one.others}
        own |= {self.after.prefixes.prefixes[number] for number in other.others} | self.alone
        prefixes = self.before.prefixes.prefixes
        names = {prefixes[number] for number in shared[0][asked].tolist()} | own
        of_own = [index for index in np.flatnonzero(certain).tolist() if prefixes[shared[0][index]] in own]
        numbers = self.before.prefixes.number, self.after.prefixes.number
        single = 0
        for prefix in names:
            was_route, now_route = _route(one, numbers[0].get(prefix)), _route(other, numbers[1].get(prefix))
            if was_route is None or now_route is None:
                single += was_route is not now_route
            else:
                single += not self._same(was_route, now_route)
        return int(certain.sum()) - len(of_own) + single

    def changes(self, one: int | None, other: int | None) -> Iterator[Pair]:
        """Of two routing instances, the prefixes whose routes differ; None is an instance that there is not."""
        return self._differing(self._pairs(one, other))

    def _differing(self, pairs: Iterable[Pair]) -> Iterator[Pair]:
        for prefix, was, now in pairs:
            if was is None and now is None:
                continue
            if was is None or now is None or not self._same(was, now):
                yield prefix, was, now

    def may_differ(self, one: int | None, other: int | None) -> list[Prefix]:
        """Of two routing instances, the prefixes whose routes may differ."""
        if one is not None and other is not None:
            tables = self.before.table(one), self.after.table(other)
            in_arrays = self._in_arrays(*tables)
            if in_arrays is not None:
                single = self._standing_alone(*tables) - in_arrays
                return [*in_arrays, *(prefix for prefix, _, _ in self._differing(self._asked(tables, single)))]
        return [prefix for prefix, _, _ in self.changes(one, other)]

    def _pairs(self, one: int | None, other: int | None) -> Iterable[Pair]:
        if one is not None and other is not None:
            tables = self.before.table(one), self.after.table(other)
            wanted = self._prefixes(*tables)
            if wanted is not None:
                return self._asked(tables, wanted)
        rows = _rows(self.before, one), _rows(self.after, other)
        return [(prefix, rows[0].get(prefix), rows[1].get(prefix)) for prefix in sorted({*rows[0], *rows[1]})]

    def _asked(self, tables: tuple[Table, Table], wanted: Iterable[Prefix]) -> list[Pair]:
        """The routes of two tables for some prefixes."""
        old, new = self.before.prefixes.number, self.after.prefixes.number
        return [
            (prefix, _route(tables[0], old.get(prefix)), _route(tables[1], new.get(prefix)))
            for prefix in sorted(wanted)
        ]

    @cached_property
    def shared(self) -> tuple[Column, Column]:
        """The prefixes that both have: their numbers in the one and in the other, in one order."""
        new = self.after.prefixes.number
        pairs = [(number, new[prefix]) for prefix, number in self.before.prefixes.number.items() if prefix in new]
        old_numbers, new_numbers = np.array(pairs, np.int64).reshape(-1, 2).T
        return old_numbers, new_numbers

    @cached_property
    def alone(self) -> frozenset[Prefix]:
        """The prefixes that only one has."""
        return frozenset(self.before.prefixes.number.keys() ^ self.after.prefixes.number.keys())

    def _prefixes(self, one: Table, other: Table) -> set[Prefix] | None:
        """The prefixes whose routes may differ; None where that cannot be told from arrays."""
        in_arrays = self._in_arrays(one, other)
        return None if in_arrays is None else in_arrays | self._standing_alone(one, other)

    def _in_arrays(self, one: Table, other: Table) -> set[Prefix] | None:
        """Those that both have and of which some source differs."""
        if not _is_comparable(one, other):
            return None
        wanted = set[Prefix]()
        prefixes = self.before.prefixes.prefixes
        for was, now in zip(one.sources, other.sources, strict=True):
            changed = self._changed(was, now)
            if changed is None:
                return None
            wanted.update(prefixes[number] for number in self.shared[0][changed].tolist())
        return wanted

    def _standing_alone(self, one: Table, other: Table) -> set[Prefix]:
        """Those that only one has, and those of routes that stand beside the columns of protocols."""
        wanted = set(self.alone)
        for solved, table in ((self.before, one), (self.after, other)):
            wanted.update(solved.prefixes.prefixes[number] for number in table.others)
        return wanted

    def _changed(self, was: Source, now: Source) -> Flags | None:
        """Of the shared prefixes, those for which two sources' routes may differ."""
        if was.protocol != now.protocol or not np.array_equal(was.ranks(), now.ranks()):
            return None
        old, new = was.rows, now.rows
        if len(old.masks) != len(new.masks) or self._hops(self.before, old) != self._hops(self.after, new):
            return None
        # Classes of prefixes may be others: what is compared is what each prefix has.
        a, b = self.before.prefix_classes.column[self.shared[0]], self.after.prefix_classes.column[self.shared[1]]
        changed: Flags = (old.kind[a] != new.kind[b]) | (old.metric[a] != new.metric[b])
        for word in range(len(old.masks)):
            changed |= old.masks[word][a] != new.masks[word][b]
        for one, other in ((old.tag, new.tag), (old.preference, new.preference)):
            if (one is None) != (other is None):
                return None
            if one is not None and other is not None:
                changed |= one[a] != other[b]
        return changed

    def _hops(self, solved: Solved, rows: ProtocolRoutes) -> dict[int, list[object]]:
        return {
            family: [None if hop is None else _named(solved, hop) for hop in hops] for family, hops in rows.hops.items()
        }

    def _same(self, one: Route, other: Route) -> bool:
        return (
            (one.protocol, one.origin, one.preference, one.metric, one.action, one.tag)
            == (other.protocol, other.origin, other.preference, other.metric, other.action, other.tag)
        ) and {_named(self.before, hop) for hop in one.next_hops} == {
            _named(self.after, hop) for hop in other.next_hops
        }


def _is_comparable(one: Table, other: Table) -> bool:
    """Whether two tables may be compared source by source."""
    return one.install is None and other.install is None and len(one.sources) == len(other.sources)


def _named(solved: Solved, hop: NextHop) -> tuple[object, object]:
    return solved.topology.ports[hop.port].name, hop.address


def _route(table: Table, number: int | None) -> Route | None:
    return None if number is None else table.once(number)


def _rows(solved: Solved, instance: int | None) -> dict[Prefix, Route]:
    return {} if instance is None else {route.prefix: route for route in solved.table(instance)}
