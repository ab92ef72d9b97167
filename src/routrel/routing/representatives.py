"""Prefixes that nothing tells apart, computed once.

Prefixes that the same routers bring at the same costs, that the same tables hold as connected or static
in the same way, and of which every policy, range and distance list says the same, get the same routes
everywhere. Protocols therefore compute one prefix of each such class; tables show its routes for all.
"""

from collections.abc import Iterable

import numpy as np
import numpy.typing as npt

from routrel.model.addresses import Address, Prefix
from routrel.routing.prefixes import PrefixIndex

Column = npt.NDArray[np.int64]


class Representatives(PrefixIndex):
    """One prefix of each class, numbered by *columns*, beside the ``whole`` index that knows all p prefixes.

    ``column`` int64 (p,): the column of each prefix. ``first`` int64 (c,): the number of each column's
    representative. ``standing`` int64 (p,): the column of a representative, -1 for all other prefixes and
    for those that no protocol can carry.
    """

    def __init__(self, whole: PrefixIndex, classes: Column):
        """``classes`` int64 (p,): any number per class, -1 for prefixes that no protocol can carry."""
        self.whole = whole
        # The first prefix of each class: written from the back, the first one stays.
        of_class = np.full(int(classes.max(initial=-1)) + 2, -1)
        of_class[classes[::-1]] = np.arange(len(classes))[::-1]
        first = np.sort(of_class[of_class >= 0])
        rank = np.zeros_like(of_class)
        rank[classes[first]] = np.arange(len(first))
        self.column: Column = rank[classes]
        super().__init__([whole.prefixes[number] for number in first.tolist()])
        self.first: Column = first
        self.standing: Column = np.full(len(whole), -1, np.int64)
        self.standing[first] = np.arange(len(first))
        self.standing[classes == -1] = -1

    def longest(self, address: Address) -> int:
        number = self.whole.longest(address)
        return int(self.column[number]) if number >= 0 else -1

    def chain(self, address: Address) -> list[int]:
        return [int(self.column[number]) for number in self.whole.chain(address)]

    def column_of(self, prefix: Prefix) -> int:
        """The column of any prefix of the network; ``KeyError`` for others."""
        return int(self.column[self.whole.number[prefix]])

    def members(self, columns: Iterable[int]) -> list[Prefix]:
        """All prefixes of some columns, in order."""
        wanted = np.isin(self.column, list(columns))
        return [self.whole.prefixes[number] for number in np.flatnonzero(wanted).tolist()]
