"""All prefixes of a network interned to numbers, with longest-prefix match over them.

Prefixes are flattened to sorted intervals, so that a look-up is one binary search; each prefix knows the
next shorter one that covers it, so that a device's longest match is found by walking up from there.
"""

from bisect import bisect_left, bisect_right
from collections.abc import Hashable, Iterable

import numpy as np
import numpy.typing as npt

from routrel.model.addresses import Address, Prefix


class PrefixIndex:
    """Numbers 0..n-1 for distinct prefixes, in the order (family, network, length).

    ``parent[i]`` is the number of the longest other prefix that covers prefix i, or -1.
    """

    def __init__(self, prefixes: Iterable[Prefix]):
        self.prefixes: list[Prefix] = sorted(set(prefixes))
        self.number: dict[Prefix, int] = {prefix: index for index, prefix in enumerate(self.prefixes)}
        self.parent: list[int] = [-1] * len(self.prefixes)
        self.lengths = np.array([prefix.length for prefix in self.prefixes], np.int16)
        self.first_of_ipv6 = sum(1 for prefix in self.prefixes if prefix.family == 4)
        """All IPv4 prefixes stand before this number, all IPv6 ones from it on."""
        self.matched: dict[Hashable, npt.NDArray[np.bool_]] = {}
        """Which prefixes a list of prefix matches holds for, kept by the list."""
        self._starts: dict[int, list[int]] = {4: [0], 6: [0]}
        self._longest: dict[int, list[int]] = {4: [-1], 6: [-1]}
        for family in (4, 6):
            self._flatten(family)

    def __len__(self) -> int:
        return len(self.prefixes)

    def _flatten(self, family: int) -> None:
        starts, longest = self._starts[family], self._longest[family]
        stack: list[int] = []

        def begin(position: int, owner: int) -> None:
            if starts[-1] == position:
                longest[-1] = owner
            else:
                starts.append(position)
                longest.append(owner)

        def close_before(position: int | None) -> None:
            while stack and (position is None or self.prefixes[stack[-1]].last < position):
                end = self.prefixes[stack.pop()].last
                begin(end + 1, stack[-1] if stack else -1)

        for index, prefix in enumerate(self.prefixes):
            if prefix.family != family:
                continue
            close_before(prefix.network)
            self.parent[index] = stack[-1] if stack else -1
            begin(prefix.network, index)
            stack.append(index)
        close_before(None)

    def covered(self, prefix: Prefix) -> slice:
        """The numbers of all prefixes inside ``prefix``, itself included: they stand side by side."""
        low = bisect_left(self.prefixes, prefix)
        return slice(low, bisect_left(self.prefixes, (prefix.family, prefix.last + 1, -1), lo=low))

    def of_family(self, family: int) -> slice:
        """The numbers of all prefixes of a family."""
        return slice(0, self.first_of_ipv6) if family == 4 else slice(self.first_of_ipv6, len(self.prefixes))

    def longest(self, address: Address) -> int:
        """Number of the longest prefix that holds ``address``, or -1."""
        starts = self._starts[address.family]
        return self._longest[address.family][bisect_right(starts, address.value) - 1]

    def chain(self, address: Address) -> list[int]:
        """All prefixes that hold ``address``, longest first."""
        chain = []
        index = self.longest(address)
        while index >= 0:
            chain.append(index)
            index = self.parent[index]
        return chain
