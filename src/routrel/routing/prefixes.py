"""All prefixes of a network interned to numbers, with longest-prefix match over them.

Each prefix knows the next shorter one that covers it: an address is looked up by one binary search and a
few steps from there, and a device's longest match is found by walking on.
"""

from bisect import bisect_left, bisect_right
from collections.abc import Hashable, Iterable

import numpy as np
import numpy.typing as npt

from routrel.model.addresses import BITS, Address, Prefix

Halves = tuple[npt.NDArray[np.uint64], npt.NDArray[np.uint64]]
"""Addresses as their upper and lower 64 bits."""


class PrefixIndex:
    """Numbers 0..n-1 for distinct prefixes, in the order (family, network, length).

    ``parent[i]`` is the number of the longest other prefix that covers prefix i, or -1.
    """

    def __init__(self, prefixes: Iterable[Prefix]):
        distinct = prefixes if isinstance(prefixes, set) else set(prefixes)
        by_family = {family: [prefix for prefix in distinct if prefix[0] == family] for family in (4, 6)}
        self.prefixes: list[Prefix] = []
        parents = []
        for unsorted in by_family.values():
            ascending, parent = _nested(unsorted)
            parents.append(np.where(parent < 0, parent, parent + len(self.prefixes)))
            self.prefixes += ascending
        self.number: dict[Prefix, int] = dict(zip(self.prefixes, range(len(self.prefixes)), strict=True))
        self.parent: list[int] = np.concatenate(parents).tolist()
        self.lengths = np.array([prefix[2] for prefix in self.prefixes], np.int16)
        self.first_of_ipv6 = len(by_family[4])
        """All IPv4 prefixes stand before this number, all IPv6 ones from it on."""
        self.matched: dict[Hashable, npt.NDArray[np.bool_]] = {}
        """Which prefixes a list of prefix matches holds for, kept by the list."""

    def __len__(self) -> int:
        return len(self.prefixes)

    def covered(self, prefix: Prefix) -> slice:
        """The numbers of all prefixes inside ``prefix``, itself included: they stand side by side."""
        low = bisect_left(self.prefixes, prefix)
        return slice(low, bisect_left(self.prefixes, (prefix.family, prefix.last + 1, -1), lo=low))

    def of_family(self, family: int) -> slice:
        """The numbers of all prefixes of a family."""
        return slice(0, self.first_of_ipv6) if family == 4 else slice(self.first_of_ipv6, len(self.prefixes))

    def longest(self, address: Address) -> int:
        """Number of the longest prefix that holds ``address``, or -1."""
        # The last prefix that begins no later is the one looked for, or within it.
        number = bisect_right(self.prefixes, (*address, BITS[address.family])) - 1
        while number >= 0 and not self.prefixes[number].contains(address):
            number = self.parent[number]
        return number

    def chain(self, address: Address) -> list[int]:
        """All prefixes that hold ``address``, longest first."""
        chain = []
        index = self.longest(address)
        while index >= 0:
            chain.append(index)
            index = self.parent[index]
        return chain


def _nested(prefixes: list[Prefix]) -> tuple[list[Prefix], npt.NDArray[np.int64]]:
    """Distinct prefixes of one family in ascending order, and of each the longest other that covers it, or -1."""
    if not prefixes:
        return [], np.zeros(0, np.int64)
    family = prefixes[0].family
    _, networks, given_lengths = zip(*prefixes, strict=True)
    lengths = np.array(given_lengths, np.int64)
    high, low = _halves(networks)
    order = np.lexsort((lengths, low, high))
    lengths, first = lengths[order], (high[order], low[order])
    last = tuple(part | fill for part, fill in zip(first, _fills(lengths, BITS[family]), strict=True))
    parent = np.full(len(order), -1, np.int64)
    for length in np.unique(lengths).tolist():
        # Prefixes of one length are disjoint: only the last that begins before can cover.
        holders, inside = np.flatnonzero(lengths == length), np.flatnonzero(lengths > length)
        before = np.searchsorted(holders, inside) - 1
        inside, before = inside[before >= 0], holders[before[before >= 0]]
        upper, begins = last[0][before], first[0][inside]
        covers = (upper > begins) | ((upper == begins) & (last[1][before] >= first[1][inside]))
        parent[inside[covers]] = before[covers]
    return list(map(prefixes.__getitem__, order.tolist())), parent


def _halves(values: tuple[int, ...]) -> Halves:
    if max(values) < 1 << 64:
        return np.zeros(len(values), np.uint64), np.array(values, np.uint64)
    lower = (1 << 64) - 1
    return (
        np.array([value >> 64 for value in values], np.uint64),
        np.array([value & lower for value in values], np.uint64),
    )


def _fills(lengths: npt.NDArray[np.int64], bits: int) -> Halves:
    """The host bits of prefixes of these lengths, all set."""
    ones = [(1 << (bits - length)) - 1 for length in range(bits + 1)]
    high, low = _halves(tuple(ones))
    return high[lengths], low[lengths]
