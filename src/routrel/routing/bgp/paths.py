"""Path attributes as numbers (RFC 4271 section 5, 4456 section 8, 1997).

A path is a row of int64; its number stands for it in all arrays. AS paths, community sets, cluster lists
and next hops are interned beside.
"""

from collections.abc import Callable, Hashable, Sequence
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
        self._derived: dict[str, Column] = {}
        self._changed: dict[tuple[Hashable, int], int] = {}

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
        rows = np.ascontiguousarray(rows)
        if (rows == rows[0]).all():
            return np.full(len(rows), self._number(rows[0].tobytes()), np.int64)
        whole = rows.view(np.dtype((np.void, rows.dtype.itemsize * WIDTH))).reshape(-1)
        _, first, inverse = np.unique(whole, return_index=True, return_inverse=True)
        numbers = np.array([self._number(rows[at].tobytes()) for at in first.tolist()], np.int64)
        return numbers[inverse.reshape(-1)]

    def _number(self, row: bytes) -> int:
        found = self._numbers.get(row)
        if found is None:
            found = self._numbers[row] = self._count
            if self._count == len(self._rows):
                self._rows = np.concatenate([self._rows, np.zeros_like(self._rows)])
            self._rows[self._count] = np.frombuffer(row, np.int64)
            self._count += 1
        return found

    def _of(self, key: str, values: list[T], derive: Callable[[T], int]) -> Column:
        """A number derived of each interned value, kept as the values grow."""
        known = self._derived.get(key)
        start = 0 if known is None else len(known)
        if known is None or start < len(values):
            more = np.array([derive(value) for value in values[start:]], np.int64)
            known = more if known is None else np.concatenate([known, more])
            self._derived[key] = known
        return known

    def lengths(self, as_paths: Column) -> Column:
        return self._of("length", self.as_paths.values, len)[as_paths]

    def nearest_as(self, as_paths: Column) -> Column:
        """The neighbouring AS: the first number of each AS path, 0 of an empty one."""
        return self._of("nearest", self.as_paths.values, lambda path: path[0] if path else 0)[as_paths]

    def cluster_lengths(self, clusters: Column) -> Column:
        return self._of("clusters", self.clusters.values, len)[clusters]

    def kept_inside(self, communities: Column) -> Flags:
        """NO_EXPORT: not to other ASes (RFC 1997)."""
        wanted = {NO_EXPORT, NO_EXPORT_SUBCONFED, NO_ADVERTISE}
        return self._of("inside", self.communities.values, lambda found: int(bool(found & wanted)))[communities] > 0

    def kept_here(self, communities: Column) -> Flags:
        """NO_ADVERTISE: to nobody (RFC 1997)."""
        found = self._of("here", self.communities.values, lambda found: int(NO_ADVERTISE in found))
        return found[communities] > 0

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
        # A statement often takes a single route.
        given, inverse = (
            (numbers, np.zeros(1, np.int64)) if len(numbers) == 1 else np.unique(numbers, return_inverse=True)
        )
        changed = []
        for number in given.tolist():
            found = self._changed.get((key, number))
            if found is None:
                found = self._changed[key, number] = interned.number(change(interned.values[number]))
            changed.append(found)
        return np.array(changed, np.int64)[inverse.reshape(-1)]

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

    def apply(self, change: PolicySet, where: Flags) -> None:
        """What a statement sets."""
        rows, at = self.rows, np.flatnonzero(where)
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
            self.set_next_hop[at] = True
        if change.as_path_prepend is not None:
            prepend = change.as_path_prepend
            rows[at, AS_PATH] = self.paths.map_as_paths(prepend, rows[at, AS_PATH], prepend.applied)
        if change.communities is not None:
            communities = change.communities
            rows[at, COMMUNITIES] = self.paths.map_communities(communities, rows[at, COMMUNITIES], communities.applied)


def without_private(path: tuple[int, ...]) -> tuple[int, ...]:
    """An AS path without the numbers for private use (RFC 6996)."""
    return tuple(number for number in path if not any(low <= number <= high for low, high in PRIVATE))
