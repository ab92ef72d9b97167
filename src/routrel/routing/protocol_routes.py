"""A protocol process's routes over all prefixes: what every protocol hands to the tables."""

from collections.abc import Callable, Iterable, Mapping
from typing import NamedTuple, Protocol

import numpy as np
import numpy.typing as npt
from msgspec import Struct

from routrel.model.addresses import Address
from routrel.model.policies import PolicyMatch, PolicySet
from routrel.routing.arrays import WORD, Column, Flags, Masks, Metrics
from routrel.routing.prefixes.classes import PrefixClasses
from routrel.routing.routes import NextHop

NO_ROUTE = 0
"""The kind of a prefix without a route."""

DISCARD = 9
"""The lowest kind of a route that discards; it has no next hops."""

TOGETHER = 2**21
"""Routes of several processes made together are over so many columns in all: work is shared, memory stays small."""


class PathAttributes(Protocol):
    """The BGP attributes of m routes: what policies ask of them and set in them."""

    def holds(self, match: PolicyMatch) -> Flags:
        """Where what a match asks of BGP attributes holds: bool (m,)."""
        ...

    def apply(self, change: PolicySet, at: Column) -> None:
        """Make the changes of a statement to the routes at some places; later statements see them."""
        ...


class ProtocolRoutes(Struct):
    """One process's routes over all p prefixes.

    ``kind`` int8 (p,): NO_ROUTE or a kind of the protocol. ``metric`` integers (p,). ``masks`` uint64 (w, p):
    bit b of word k stands for ``hops[family][64 k + b]``. ``tag`` int64 (p,) with UNSET, or None;
    ``preference`` likewise, where a route has one of its own. A kind
    without next hops is the process's own network, which another protocol stands for, or a discard route.
    """

    kind: npt.NDArray[np.int8]
    metric: Metrics | Column
    masks: Masks
    hops: dict[int, list[NextHop | None]]
    tag: Column | None = None
    preference: Column | None = None
    attributes: Callable[[Column], PathAttributes] | None = None
    """The BGP attributes of numbered routes, where the protocol is BGP."""

    def next_hops(self, number: int, family: int) -> list[NextHop]:
        """The next hops to a prefix, by its number, in the order of the bits."""
        found = []
        hops = self.hops[family]
        for word in range(len(self.masks)):
            mask = int(self.masks[word, number])
            while mask:
                bit = (mask & -mask).bit_length() - 1
                mask &= mask - 1
                hop = hops[word * WORD + bit]
                if hop is not None:
                    found.append(hop)
        return found

    def hop_match(self, numbers: Column, prefixes: PrefixClasses) -> Callable[[tuple[Address, ...]], Flags]:
        """Tells of addresses whether each of the numbered routes has one of them as next hop."""

        def match(addresses: tuple[Address, ...]) -> Flags:
            family = addresses[0].family
            wanted = np.zeros(len(self.masks), np.uint64)
            for index, hop in enumerate(self.hops[family]):
                if hop is not None and hop.address in addresses:
                    wanted[index // WORD] |= np.uint64(1) << np.uint64(index % WORD)
            found = np.zeros(len(numbers), bool)
            found |= (self.masks[:, numbers] & wanted[:, None]).any(axis=0)
            found &= prefixes.of_family(family)[numbers]
            return found

        return match

    def present(self) -> Flags:
        """Where there is a route that a table can take: bool (p,)."""
        words = self.masks[0] if len(self.masks) == 1 else np.bitwise_or.reduce(self.masks, axis=0)
        present: Flags = (words != 0) & (self.kind != NO_ROUTE) | (self.kind >= DISCARD)
        return present


class SomeRoutes(NamedTuple):
    """Routes over some columns alone, and where each of these stands in them."""

    place: Mapping[int, int]
    routes: ProtocolRoutes


class Ready(dict[int, ProtocolRoutes]):
    """Routes of processes that were made together, by process; cleared when what is redistributed changes."""

    def missing(self, processes: Iterable[int], columns: int) -> list[int]:
        """Which processes' routes are worth making together now; what was kept may have to go for them."""
        found = [process for process in processes if process not in self]
        if (len(self) + len(found)) * columns > TOGETHER:
            self.clear()
        return found if 1 < len(found) <= TOGETHER // max(1, columns) else []
