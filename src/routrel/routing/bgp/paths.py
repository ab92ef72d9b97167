"""Path attributes as numbers (RFC 4271 section 5, 4456 section 8, 1997).

A path is a row of int64; its number stands for it in all arrays. AS paths, community sets, cluster lists
and next hops are interned beside.
"""

from collections.abc import Callable, Hashable, Sequence
from copy import copy
from itertools import islice
from typing import Generic, TypeVar

import numpy as np
import numpy.typing as npt

from routrel.model.addresses import Address
from routrel.model.policies import (
    NO_ADVERTISE,
    NO_EXPORT,
    NO_EXPORT_SUBCONFED,
    ORIGINS,
    PolicyMatch,
    PolicySet,
)
from routrel.model.received import DEFAULT_LOCAL_PREFERENCE
from routrel.routing.arrays import Column, Flags

Rows = npt.NDArray[np.int64]
T = TypeVar("T", bound=Hashable)

(
    AS_PATH,
    ORIGIN,
    MED,
    LOCAL_PREFERENCE,
    COMMUNITIES,
    NEXT_HOP,
    ORIGINATOR,
    CLUSTERS,
    WEIGHT,
    TAG,
    PREFERENCE,
    IS_LOCAL,
) = range(12)
WIDTH = 12
ROW = 8 * WIDTH
"""Bytes of a row."""

ABSENT = -1
"""No MED, no originator, no tag, no preference of its own; as a path number: no path."""

OWN = 0
"""The next hop of what a router says itself."""

PRIVATE = ((64512, 65534), (4200000000, 4294967294))
"""AS numbers for private use (RFC 6996)."""


class _Interned(Generic[T]):
    """Values numbered in the order of their first use."""

    def __init__(self, first: T):
        self.values: list[T] = [first]
        self._numbers: dict[T, int] = {first: 0}

    def copied(self) -> "_Interned[T]":
        made = copy(self)
        made.values, made._numbers = list(self.values), dict(self._numbers)
        return made

    def number(self, value: T) -> int:
        found = self._numbers.get(value)
        if found is None:
            found = self._numbers[value] = len(self.values)
            self.values.append(value)
        return found


class Paths:
    """All paths met so far."""

    def __init__(self) -> None:
        self.as_paths = _Interned[tuple[int, ...]](())
        self.communities = _Interned[frozenset[str]](frozenset())
        self.clusters = _Interned[tuple[int, ...]](())
        self.next_hops = _Interned[Address | None](None)
        self._rows: Rows = np.zeros((64, WIDTH), np.int64)
        self._count = 0
        self._numbers: dict[bytes, int] = {}
        self._derived: dict[Hashable, Column] = {}
        self._changes: dict[Hashable, int] = {}
        self._changed: dict[tuple[int, int], int] = {}
        """By the number of a change and that of the value before."""

    def copied(self) -> "Paths":
        """The same, for more to be met without these being told; numbers mean the same in both."""
        made = copy(self)
        made.as_paths, made.communities = self.as_paths.copied(), self.communities.copied()
        made.clusters, made.next_hops = self.clusters.copied(), self.next_hops.copied()
        made._rows, made._numbers, made._derived = self._rows.copy(), dict(self._numbers), dict(self._derived)
        made._changes, made._changed = dict(self._changes), dict(self._changed)
        return made

    def __len__(self) -> int:
        return self._count

    @property
    def rows(self) -> Rows:
        """All paths, (n, 12)."""
        return self._rows[: self._count]

    def numbers_of(self, rows: Rows) -> Column:
        """The numbers of some rows (m, 12), (m,)."""
        if not len(rows):
            return np.zeros(0, np.int64)
        if (rows == rows[0]).all():
            return np.full(len(rows), self._interned(rows[:1])[0], np.int64)
        return np.array(self._interned(rows), np.int64)

    def _interned(self, rows: Rows) -> list[int]:
        """The number of each row; those that are new get the next ones."""
        known, whole = self._numbers, np.ascontiguousarray(rows).tobytes()
        numbers = [known.setdefault(whole[at : at + ROW], len(known)) for at in range(0, len(whole), ROW)]
        added = len(known) - self._count
        if added:
            if len(known) > len(self._rows):
                more = np.zeros((max(len(known), 2 * len(self._rows)) - len(self._rows), WIDTH), np.int64)
                self._rows = np.concatenate([self._rows, more])
            new = b"".join(islice(reversed(known), added))
            self._rows[self._count : len(known)] = np.frombuffer(new, np.int64).reshape(added, WIDTH)[::-1]
            self._count = len(known)
        return numbers

    def _grown(self, key: Hashable, count: int, derive: Callable[[int], Column]) -> Column:
        """A derived column of ``count`` numbers, kept as it grows; ``derive`` gives those from a place on."""
        known = self._derived.get(key)
        if known is None:
            known = self._derived[key] = derive(0)
        elif len(known) < count:
            known = self._derived[key] = np.concatenate([known, derive(len(known))])
        return known

    def _of(self, key: Hashable, values: list[T], derive: Callable[[T], int]) -> Column:
        """A number derived of each interned value."""
        return self._grown(
            key, len(values), lambda start: np.array([derive(value) for value in values[start:]], np.int64)
        )

    def attribute(self, which: int) -> Column:
        """One attribute of all paths, side by side: (n,)."""
        return self._grown(("attribute", which), len(self), lambda start: self.rows[start:, which].copy())

    def degrees(self, ignore_length: bool) -> tuple[Column, Column]:
        """Two numbers of each path, (n,) each, that tell which is preferred before MEDs are looked at; lower is better.

        The first holds weight and local preference; the second what a router says itself, the length of the
        AS path unless it is ignored, and the origin.
        """

        def first(start: int) -> Column:
            rows = self.rows[start:]
            return -(rows[:, WEIGHT] << 32 | rows[:, LOCAL_PREFERENCE])

        def second(start: int) -> Column:
            rows = self.rows[start:]
            length = 0 if ignore_length else self.lengths(rows[:, AS_PATH])
            return (1 - rows[:, IS_LOCAL]) << 40 | length << 2 | rows[:, ORIGIN]

        count = len(self)
        return self._grown("first", count, first), self._grown(("second", ignore_length), count, second)

    def lengths(self, as_paths: Column) -> Column:
        return self._of("length", self.as_paths.values, len)[as_paths]

    def nearest_as(self) -> Column:
        """The neighbouring AS of all paths: the first number of each AS path, 0 of an empty one; (n,)."""
        nearest = self._of("nearest", self.as_paths.values, lambda path: path[0] if path else 0)
        return self._grown("nearest of paths", len(self), lambda start: nearest[self.rows[start:, AS_PATH]])

    def cluster_lengths(self) -> Column:
        """How many clusters all paths went through, (n,)."""
        lengths = self._of("clusters", self.clusters.values, len)
        return self._grown("clusters of paths", len(self), lambda start: lengths[self.rows[start:, CLUSTERS]])

    def kept(self, inside: bool) -> Flags:
        """Which paths, (n,), are told nobody (NO_ADVERTISE) or, ``inside``, no other AS (NO_EXPORT; RFC 1997)."""
        wanted = {NO_ADVERTISE, NO_EXPORT, NO_EXPORT_SUBCONFED} if inside else {NO_ADVERTISE}
        key = "inside" if inside else "here"
        found = self._of(key, self.communities.values, lambda found: int(bool(found & wanted)))
        of_paths = self._grown((key, "of paths"), len(self), lambda start: found[self.rows[start:, COMMUNITIES]])
        return of_paths > 0

    def times_in(self, number: int, as_paths: Column) -> Column:
        """How often an AS number stands in each AS path."""
        return self._of(f"times {number}", self.as_paths.values, lambda path: path.count(number))[as_paths]

    def has_cluster(self, identifier: int, clusters: Column) -> Flags:
        found = self._of(f"cluster {identifier}", self.clusters.values, lambda listed: int(identifier in listed))
        return found[clusters] > 0

    def map_as_paths(
        self, key: Hashable, as_paths: Column, change: Callable[[tuple[int, ...]], tuple[int, ...]]
    ) -> Column:
        """AS paths changed, each distinct one once; ``key`` names the change."""
        return self._mapped(("as", key), as_paths, self.as_paths, change)

    def map_communities(
        self, key: Hashable, communities: Column, change: Callable[[frozenset[str]], frozenset[str]]
    ) -> Column:
        return self._mapped(("communities", key), communities, self.communities, change)

    def add_cluster(self, identifier: int, clusters: Column) -> Column:
        """A cluster id put before each cluster list (RFC 4456 section 8)."""
        return self._mapped(("cluster", identifier), clusters, self.clusters, lambda listed: (identifier, *listed))

    def _mapped(self, key: Hashable, numbers: Column, interned: _Interned[T], change: Callable[[T], T]) -> Column:
        if not len(numbers):
            return numbers
        which, known = self._changes.setdefault(key, len(self._changes)), self._changed

        def changed(number: int) -> int:
            if (which, number) not in known:
                known[which, number] = interned.number(change(interned.values[number]))
            return known[which, number]

        if len(numbers) == 1:  # a statement often takes a single route
            return np.array([changed(numbers.item())])
        given, inverse = np.unique(numbers, return_inverse=True)
        return np.array([changed(number) for number in given.tolist()], np.int64)[inverse.reshape(-1)]

    def blank(self, count: int, origin: str) -> Rows:
        """Paths that a router says itself."""
        rows = np.zeros((count, WIDTH), np.int64)
        rows[:, ORIGIN] = ORIGINS.index(origin)
        rows[:, LOCAL_PREFERENCE] = DEFAULT_LOCAL_PREFERENCE
        rows[:, [MED, ORIGINATOR, TAG, PREFERENCE]] = ABSENT
        rows[:, IS_LOCAL] = 1
        return rows


class PathRows:
    """Some paths (m, 12) as a policy sees and changes them; ``neighbor`` is whom they come from or go to,
    one for all or one of each."""

    def __init__(self, paths: Paths, rows: Rows, neighbor: Address | Sequence[Address | None] | None = None):
        self.paths = paths
        self.rows = rows
        self.neighbor = neighbor
        self.set_med: Flags = np.zeros(len(rows), bool)
        self.set_next_hop: Flags = np.zeros(len(rows), bool)
        self.set_self: Flags = np.zeros(len(rows), bool)
        """Where the next hop is to be the sender's own address, which it gets on its way out."""

    def holds(self, match: PolicyMatch) -> Flags:
        """Where what a statement asks of BGP attributes holds."""
        holds = np.ones(len(self.rows), bool)
        if match.med is not None:
            holds &= self.rows[:, MED] == match.med
        if match.neighbors is not None:
            if isinstance(self.neighbor, Address) or self.neighbor is None:
                holds &= self.neighbor in match.neighbors
            else:
                holds &= np.array([one in match.neighbors for one in self.neighbor], bool)
        if match.as_path is not None:
            asked = match.as_path
            found = self.paths._of(
                f"match {asked!r}", self.paths.as_paths.values, lambda path: int(asked.matches(path))
            )
            holds &= found[self.rows[:, AS_PATH]] > 0
        if match.communities is not None:
            wanted = match.communities
            found = self.paths._of(
                f"match {wanted!r}", self.paths.communities.values, lambda present: int(wanted.matches(present))
            )
            holds &= found[self.rows[:, COMMUNITIES]] > 0
        return holds

    def has_next_hop(self, addresses: tuple[Address, ...]) -> Flags:
        numbers = [self.paths.next_hops.number(address) for address in addresses]
        return np.isin(self.rows[:, NEXT_HOP], numbers)

    def apply(self, change: PolicySet, at: Column) -> None:
        """What a statement sets of the paths at some places."""
        rows = self.rows
        for value, column in (
            (change.med if change.med is not None else change.metric, MED),
            (change.local_preference, LOCAL_PREFERENCE),
            (change.weight, WEIGHT),
            (change.tag, TAG),
            (change.preference, PREFERENCE),
        ):
            if value is not None:
                rows[at, column] = value
                if column == MED:
                    self.set_med[at] = True
        if change.origin is not None:
            rows[at, ORIGIN] = ORIGINS.index(change.origin)
        if change.next_hop is not None:
            rows[at, NEXT_HOP] = self.paths.next_hops.number(change.next_hop)
            self.set_next_hop[at], self.set_self[at] = True, False
        if change.next_hop_self:
            self.set_self[at] = True
        if change.as_path_prepend is not None:
            prepend = change.as_path_prepend
            rows[at, AS_PATH] = self.paths.map_as_paths(prepend, rows[at, AS_PATH], prepend.applied)
        if change.communities is not None:
            communities = change.communities
            rows[at, COMMUNITIES] = self.paths.map_communities(communities, rows[at, COMMUNITIES], communities.applied)


def without_private(path: tuple[int, ...]) -> tuple[int, ...]:
    """An AS path without the numbers for private use (RFC 6996)."""
    return tuple(number for number in path if not any(low <= number <= high for low, high in PRIVATE))
