"""Prefixes that nothing tells apart, computed once.

Prefixes that the same routers bring at the same costs, that the same tables hold as connected or static
in the same way, and of which every policy, range and distance list says the same, get the same routes
everywhere. Protocols therefore compute one prefix of each such class; tables show its routes for all.
"""

from collections.abc import Hashable, Iterable

import numpy as np

from routrel.model.addresses import Address, Prefix
from routrel.routing.arrays import Column, Flags
from routrel.routing.prefixes.index import PrefixIndex


class PrefixClasses:
    """One prefix of each class, numbered by *columns*, beside the ``whole`` index that knows all p prefixes.

    ``column`` int64 (p,): the column of each prefix. ``first`` int64 (c,): the number of each column's
    representative. ``standing`` int64 (p,): the column of a representative, -1 for all other prefixes and
    for those that no protocol can carry. ``prefixes``, ``lengths`` (c,) and ``is_ipv6`` bool (c,) are those of the
    representatives, ``number`` has the columns of those alone.
    """

    def __init__(self, whole: PrefixIndex, classes: Column, base: "PrefixClasses | None" = None):
        """``classes`` int64 (p,): any number per class, -1 for prefixes that no protocol can carry.

        With ``base``, over the same prefixes, its columns keep their numbers; what it does not tell apart and ought
        to gets columns after them. What it tells apart for no reason any more stays apart.
        """
        self.whole = whole
        self.is_carried: Flags = classes >= 0
        kept = np.zeros(0, np.int64)
        if base is not None:
            kept = base.first
            pairs = base.column * (int(classes.max(initial=0)) + 2) + classes + 1
            classes = np.unique(pairs, return_inverse=True)[1].reshape(-1)
        # The first prefix of each class: written from the back, the first one stays.
        of_class = np.full(int(classes.max(initial=-1)) + 2, -1)
        of_class[classes[::-1]] = np.arange(len(classes))[::-1]
        of_class[classes[kept]] = -1
        self.first: Column = np.concatenate([kept, np.sort(of_class[of_class >= 0])])
        rank = np.zeros_like(of_class)
        rank[classes[self.first]] = np.arange(len(self.first))
        self.column: Column = rank[classes]
        self.standing: Column = np.full(len(whole), -1, np.int64)
        self.standing[self.first] = np.arange(len(self.first))
        self.standing[~self.is_carried] = -1
        self.prefixes: list[Prefix] = [whole.prefixes[number] for number in self.first.tolist()]
        self.number: dict[Prefix, int] = dict(zip(self.prefixes, range(len(self.prefixes)), strict=True))
        self.lengths = whole.lengths[self.first]
        self.is_ipv6: Flags = self.first >= whole.first_of_ipv6
        self.matched: dict[Hashable, Flags] = {}
        """Which columns a list of prefix matches holds for, kept by the list."""
        self._order = np.argsort(self.first)

    def __len__(self) -> int:
        return len(self.prefixes)

    def holds_for(self, classes: Column) -> bool:
        """Whether nothing stands in one column that other ``classes`` (p,) of the same prefixes tell apart.

        What no protocol can carry there, but here, has columns that nobody brings: an interface went down.
        """
        is_more = (classes >= 0) & ~self.is_carried
        return not is_more.any() and np.array_equal(classes[self.first[self.column]], classes)

    def covered(self, prefix: Prefix) -> Column:
        """The columns of which the representative lies inside ``prefix``, ascending."""
        inside = self.whole.covered(prefix)
        low, high = np.searchsorted(self.first, [inside.start, inside.stop], sorter=self._order).tolist()
        return np.sort(self._order[low:high])

    def of_family(self, family: int) -> Flags:
        """Which columns are of a family: bool (c,)."""
        return self.is_ipv6 if family == 6 else ~self.is_ipv6

    def longest(self, address: Address) -> int:
        """The column of the longest prefix that holds ``address``, or -1."""
        number = self.whole.longest(address)
        return int(self.column[number]) if number >= 0 else -1

    def chain(self, address: Address) -> list[int]:
        """The columns of all prefixes that hold ``address``, longest first."""
        return [int(self.column[number]) for number in self.whole.chain(address)]

    def column_of(self, prefix: Prefix) -> int:
        """The column of any prefix of the network; ``KeyError`` for others."""
        return int(self.column[self.whole.number[prefix]])

    def members(self, columns: Iterable[int]) -> list[Prefix]:
        """All prefixes of some columns, in order."""
        wanted = np.isin(self.column, list(columns))
        return [self.whole.prefixes[number] for number in np.flatnonzero(wanted).tolist()]
