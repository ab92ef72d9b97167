"""A protocol process and its routes over all prefixes: what every protocol hands to the tables."""

import hashlib
from collections.abc import Callable, Iterable, Sequence
from dataclasses import dataclass, field
from typing import Protocol

import numpy as np
import numpy.typing as npt

from routrel.model.addresses import Address
from routrel.model.places import Place
from routrel.model.policies import PolicyMatch, PolicySet
from routrel.model.redistribution import OriginateDefault, Redistribution
from routrel.routing.graph import WORD
from routrel.routing.grouping import Masks
from routrel.routing.prefixes import PrefixIndex
from routrel.routing.routes import NextHop

NONE = 0
"""The kind of a prefix without a route."""

DISCARD = 9
"""The lowest kind of a route that discards; it has no next hops."""

UNSET = -1

TOGETHER = 2**21
"""Routes of several processes made together are over so many columns in all: work is shared, memory stays small."""

Column = npt.NDArray[np.int64]


class PathAttributes(Protocol):
    """The BGP attributes of m routes: what policies ask of them and set in them."""

    def holds(self, match: PolicyMatch) -> npt.NDArray[np.bool_]:
        """Where what a match asks of BGP attributes holds: bool (m,)."""
        ...

    def apply(self, change: PolicySet, where: npt.NDArray[np.bool_]) -> None:
        """Make the changes of a statement; later statements see them."""
        ...


@dataclass(slots=True)
class ProtocolRoutes:
    """One process's routes over all p prefixes.

    ``kind`` int8 (p,): NONE or a kind of the protocol. ``metric`` integers (p,). ``masks`` uint64 (w, p):
    bit b of word k stands for ``hops[family][64 k + b]``. ``tag`` int64 (p,) with UNSET, or None;
    ``preference`` likewise, where a route has one of its own. A kind
    without next hops is the process's own network, which another protocol stands for, or a discard route.
    """

    kind: npt.NDArray[np.int8]
    metric: npt.NDArray[np.int32] | npt.NDArray[np.int64]
    masks: Masks
    hops: dict[int, list[NextHop | None]]
    tag: npt.NDArray[np.int64] | None = None
    preference: npt.NDArray[np.int64] | None = None
    attributes: Callable[[npt.NDArray[np.int64]], PathAttributes] | None = None
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

    def hop_match(
        self, numbers: npt.NDArray[np.int64], prefixes: PrefixIndex
    ) -> Callable[[tuple[Address, ...]], npt.NDArray[np.bool_]]:
        """Tells of addresses whether each of the numbered routes has one of them as next hop."""

        def match(addresses: tuple[Address, ...]) -> npt.NDArray[np.bool_]:
            family = addresses[0].family
            wanted = np.zeros(len(self.masks), np.uint64)
            for index, hop in enumerate(self.hops[family]):
                if hop is not None and hop.address in addresses:
                    wanted[index // WORD] |= np.uint64(1) << np.uint64(index % WORD)
            of_family = prefixes.of_family(family)
            found = np.zeros(len(numbers), bool)
            found |= (self.masks[:, numbers] & wanted[:, None]).any(axis=0)
            found &= (numbers >= of_family.start) & (numbers < of_family.stop)
            return found

        return match

    def present(self) -> npt.NDArray[np.bool_]:
        """Where there is a route that a table can take: bool (p,)."""
        words = self.masks[0] if len(self.masks) == 1 else np.bitwise_or.reduce(self.masks, axis=0)
        present: npt.NDArray[np.bool_] = (words != 0) & (self.kind != NONE) | (self.kind >= DISCARD)
        return present


class Ready(dict[int, ProtocolRoutes]):
    """Routes of processes that were made together, by process; cleared when something is put in."""

    def missing(self, processes: Iterable[int], columns: int) -> list[int]:
        """Which processes' routes are worth making together now; what was kept may have to go for them."""
        found = [process for process in processes if process not in self]
        if (len(self) + len(found)) * columns > TOGETHER:
            self.clear()
        return found if 1 < len(found) <= TOGETHER // max(1, columns) else []


@dataclass(slots=True)
class Injected:
    """What one process puts into its protocol from the table: ``rows`` int64 (6, m), by ascending prefix number.

    ``metric``, ``metric_type`` and ``tag`` (m,) are UNSET where the protocol's default holds; ``forward`` (m,)
    points into ``hops``, the table's next hops, or is UNSET. ``paths`` (m,): BGP's path numbers, UNSET of
    other protocols.
    """

    rows: Column = field(default_factory=lambda: np.zeros((6, 0), np.int64))
    hops: tuple[NextHop, ...] = ()

    @property
    def numbers(self) -> Column:
        return self._row(0)

    @property
    def metric(self) -> Column:
        return self._row(1)

    @property
    def metric_type(self) -> Column:
        return self._row(2)

    @property
    def tag(self) -> Column:
        return self._row(3)

    @property
    def forward(self) -> Column:
        return self._row(4)

    @property
    def paths(self) -> Column:
        return self._row(5)

    def _row(self, at: int) -> Column:
        row: Column = self.rows[at]
        return row

    def key(self) -> bytes:
        """A digest of all that is put in."""
        return hashlib.blake2b(repr(self.hops).encode() + b"\0" + self.rows.tobytes(), digest_size=32).digest()

    def spread(self, class_of: Column) -> "Injected":
        """The same over finer columns; ``class_of`` int64 (c,) has the number here of each of those."""
        at = np.full(int(class_of.max(initial=-1)) + 1, UNSET)
        at[self.numbers] = np.arange(len(self.numbers))
        standing = at[class_of]
        numbers = np.flatnonzero(standing != UNSET)
        rows = self.rows[:, standing[numbers]]
        rows[0] = numbers
        return Injected(rows, self.hops)

    def of(self, values: Column, default: int) -> Column:
        """A column with the protocol's default where it is unset."""
        return np.where(values == UNSET, np.int64(default), values)


@dataclass(frozen=True, slots=True)
class Process:
    """One protocol instance in one routing instance; ``number`` counts within its solution."""

    number: int
    instance: int
    protocol: str
    name: str
    families: tuple[int, ...]
    redistribute: tuple[Redistribution, ...]
    place: Place
    originate_default: OriginateDefault | None = None

    @property
    def takes_routes(self) -> bool:
        """Whether it can put routes of others into its protocol."""
        return bool(self.redistribute) or self.originate_default is not None


class ProtocolSolution(Protocol):
    """A protocol solved over the whole network."""

    protocol: str
    kind_names: dict[int, str]
    processes: Sequence[Process]

    def routes_of(self, process: int) -> ProtocolRoutes:
        """All routes of a process, over all prefixes."""
        ...

    def preference(self, process: int, kind: int) -> int: ...

    def multipath(self, process: int) -> int: ...

    def place_of(self, process: int, number: int, kind: int) -> Place:
        """Where the text states a route of the process's own making, or NOWHERE."""
        ...

    def inject(self, injected: dict[int, Injected], blocked: dict[int, npt.NDArray[np.bool_]]) -> None:
        """Take what processes put in now, in place of what they did.

        ``blocked`` bool (p,) per process: prefixes whose route of this protocol the table does not use;
        distance-vector protocols do not announce those.
        """
        ...
