"""All prefixes of a network interned to numbers, with longest-prefix match over them.

Each prefix knows the next shorter one that covers it: an address is looked up by one binary search and a
few steps from there, and a device's longest match is found by walking on.
"""

from bisect import bisect_left, bisect_right
from collections.abc import Hashable, Iterable
from functools import cached_property, partial
from itertools import repeat
from typing import TypeVar

import numpy as np
import numpy.typing as npt

from routrel.model.addresses import BITS, Address, Prefix

OfFamily = TypeVar("OfFamily", Prefix, Address)

Halves = tuple[npt.NDArray[np.uint64], npt.NDArray[np.uint64]]
"""Addresses as their upper and lower 64 bits."""


class PrefixIndex:
    """Numbers 0..n-1 for distinct prefixes, in the order (family, network, length).

    ``parent[i]`` is the number of the longest other prefix that covers prefix i, or -1.
    """

    def __init__(self, prefixes: Iterable[Prefix], hosts: Iterable[Address] = ()):
        """All of ``prefixes`` and the host prefixes of ``hosts``; either may repeat itself."""
        subnets, single = list(prefixes), list(hosts)
        self.source = subnets, single
        """What it was made of."""
        by_family, alone = _by_family(subnets), _by_family(single)
        nested = {}
        for family, bits in BITS.items():
            networks = [prefix[1] for prefix in by_family[family]] + [address[1] for address in alone[family]]
            lengths = [prefix[2] for prefix in by_family[family]] + [bits] * len(alone[family])
            nested[family] = _Nested(networks, lengths, bits)
        self.first_of_ipv6 = len(nested[4].lengths)
        """All IPv4 prefixes stand before this number, all IPv6 ones from it on."""
        self.prefixes: list[Prefix] = [
            prefix
            for family, found in nested.items()
            # As Prefix._make does, without a call of Python's for each.
            for prefix in map(
                partial(tuple.__new__, Prefix), zip(repeat(family), found.networks, found.lengths.tolist())
            )
        ]
        self.given: npt.NDArray[np.int64] = np.zeros(len(subnets), np.int64)
        """The number of each of the ``prefixes`` given, in their order."""
        of_family = np.array([prefix[0] for prefix in subnets], np.int8)
        for family, found in nested.items():
            own = of_family == family
            self.given[own] = found.number[: int(own.sum())] + (self.first_of_ipv6 if family == 6 else 0)
        self.number: dict[Prefix, int] = dict(zip(self.prefixes, range(len(self.prefixes)), strict=True))
        of_ipv6 = np.where(nested[6].parent < 0, -1, nested[6].parent + self.first_of_ipv6)
        self.parent: list[int] = [*nested[4].parent.tolist(), *of_ipv6.tolist()]
        self.lengths = np.concatenate([nested[4].lengths, nested[6].lengths]).astype(np.int16)
        self.matched: dict[Hashable, npt.NDArray[np.bool_]] = {}
        """Which prefixes a list of prefix matches holds for, kept by the list."""

    @cached_property
    def is_link_local(self) -> npt.NDArray[np.bool_]:
        """Which prefixes are of one segment alone."""
        found = np.zeros(len(self.prefixes), np.bool_)
        found[self.first_of_ipv6 :] = [prefix.is_link_local for prefix in self.prefixes[self.first_of_ipv6 :]]
        return found

    def __len__(self) -> int:
        return len(self.prefixes)

    def numbers_of(self, prefixes: Iterable[Prefix]) -> npt.NDArray[np.int64]:
        """The numbers of some prefixes, in their order."""
        return np.fromiter(map(self.number.__getitem__, prefixes), np.int64)

    def covered(self, prefix: Prefix) -> slice:
        """The numbers of all prefixes inside ``prefix``, itself included: they stand side by side."""
        low = bisect_left(self.prefixes, prefix)
        return slice(low, bisect_left(self.prefixes, (prefix.family, prefix.last + 1, -1), lo=low))

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


def _by_family(given: list[OfFamily]) -> dict[int, list[OfFamily]]:
    of_ipv6 = [one for one in given if one[0] == 6]
    return {4: [one for one in given if one[0] == 4] if of_ipv6 else given, 6: of_ipv6}


class _Nested:
    """Prefixes of one family, ascending and distinct: their networks, lengths, and the longest other that covers each.

    ``networks`` list[int] (n,), ``lengths`` int64 (n,), ``parent`` int64 (n,), -1 without. ``number`` int64:
    the place of each one given, in the order of those.
    """

    def __init__(self, networks: list[int], lengths: list[int], bits: int):
        if not networks:
            self.networks: list[int] = []
            self.lengths = self.parent = self.number = np.zeros(0, np.int64)
            return
        high, low = _halves(networks)
        of_length = np.array(lengths, np.int64)
        # An IPv4 prefix fits into one number with its length.
        order = (
            np.argsort(low << np.uint64(6) | of_length.astype(np.uint64))
            if bits == 32
            else np.lexsort((of_length, low, high))
        )
        high, low, of_length = high[order], low[order], of_length[order]
        is_new = np.ones(len(order), np.bool_)
        is_new[1:] = (high[1:] != high[:-1]) | (low[1:] != low[:-1]) | (of_length[1:] != of_length[:-1])
        self.number = np.empty(len(order), np.int64)
        self.number[order] = np.cumsum(is_new) - 1
        order, first, self.lengths = order[is_new], (high[is_new], low[is_new]), of_length[is_new]
        self.networks = first[1].tolist() if bits == 32 else list(map(networks.__getitem__, order.tolist()))
        self.parent = _parents(first, self.lengths, bits)


def _parents(first: Halves, lengths: npt.NDArray[np.int64], bits: int) -> npt.NDArray[np.int64]:
    last = tuple(part | fill for part, fill in zip(first, _fills(lengths, bits), strict=True))
    parent = np.full(len(lengths), -1, np.int64)
    for length in np.unique(lengths).tolist():
        # Prefixes of one length are disjoint: only the last that begins before can cover.
        holders, inside = np.flatnonzero(lengths == length), np.flatnonzero(lengths > length)
        before = np.searchsorted(holders, inside) - 1
        inside, before = inside[before >= 0], holders[before[before >= 0]]
        upper, begins = last[0][before], first[0][inside]
        covers = (upper > begins) | ((upper == begins) & (last[1][before] >= first[1][inside]))
        parent[inside[covers]] = before[covers]
    return parent


def _halves(values: list[int]) -> Halves:
    """Addresses in two halves."""
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
    high, low = _halves(ones)
    return high[lengths], low[lengths]
