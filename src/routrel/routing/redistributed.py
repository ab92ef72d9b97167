"""What a process puts into its protocol from its table, as columns."""

import hashlib
import zlib

import numpy as np
from msgspec import Struct, field

from routrel.routing.arrays import UNSET, Column, Digests, mixed
from routrel.routing.routes import NextHop


class Redistributed(Struct):
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

    def position(self, number: int) -> int | None:
        """Where a prefix stands among what is put in, or None."""
        at = int(self.numbers.searchsorted(number))
        return at if at < len(self.numbers) and self.numbers[at] == number else None

    def key(self) -> bytes:
        """A digest of all that is put in."""
        return hashlib.blake2b(repr(self.hops).encode() + b"\0" + self.rows.tobytes(), digest_size=32).digest()

    def digests(self, count: int) -> Digests:
        """What is put in of each of ``count`` columns as a number, 0 of those left out."""
        said = np.ones(len(self.numbers), np.uint64)
        for row in self.rows[1:4]:
            said = mixed(said + row.astype(np.uint64))
        hops = np.array([zlib.crc32(repr(hop).encode()) for hop in self.hops] + [0], np.uint64)
        digests = np.zeros(count, np.uint64)
        digests[self.numbers] = mixed(said + hops[np.where(self.forward == UNSET, len(self.hops), self.forward)])
        return digests

    def spread(self, class_of: Column) -> "Redistributed":
        """The same over finer columns; ``class_of`` int64 (c,) has the number here of each of those."""
        at = np.full(int(class_of.max(initial=-1)) + 1, UNSET)
        at[self.numbers] = np.arange(len(self.numbers))
        standing = at[class_of]
        numbers = np.flatnonzero(standing != UNSET)
        rows = self.rows[:, standing[numbers]]
        rows[0] = numbers
        return Redistributed(rows, self.hops)

    def of(self, values: Column, default: int) -> Column:
        """A column with the protocol's default where it is unset."""
        return np.where(values == UNSET, np.int64(default), values)
