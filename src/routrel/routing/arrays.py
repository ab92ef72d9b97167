"""The arrays of routing: their types, classes of things described alike, and the best of each class's entries."""

from collections.abc import Sequence
from typing import TypeVar

import numpy as np
import numpy.typing as npt

Column = npt.NDArray[np.int64]
Flags = npt.NDArray[np.bool_]
Metrics = npt.NDArray[np.int32]
Masks = npt.NDArray[np.uint64]
"""Sets as bits; the first axis counts the words."""

Digests = npt.NDArray[np.uint64]
Numeric = TypeVar("Numeric", np.int32, np.int64)

WORD = 64
"""Bits of one word of masks."""

UNSET = -1
"""Stands in a column where nothing is said."""


class Runs:
    """Entries (e,) that stand in c runs one after the other, none of them empty.

    Values of entries come as (..., e): whatever stands before is done alike.
    """

    def __init__(self, counts: Column):
        self._counts = counts
        self._starts = np.cumsum(counts) - counts
        self._run = np.repeat(np.arange(len(counts)), counts)
        self._is_single = len(self._run) == len(counts)

    def some(self, chosen: Column) -> "tuple[Column, Runs]":
        """Some of the runs, and the entries that stand in them."""
        counts = self._counts[chosen]
        return np.repeat(self._starts[chosen], counts) + positions(counts), Runs(counts)

    def least(self, values: npt.NDArray[Numeric]) -> tuple[npt.NDArray[Numeric], Flags]:
        """The least value of each run (..., c), and which entries have their run's least (..., e)."""
        if self._is_single:
            return values, np.ones(values.shape, np.bool_)
        least = np.minimum.reduceat(values, self._starts, axis=-1)
        return least, values == least[..., self._run]

    def union(self, words: Masks, chosen: Flags) -> Masks:
        """The words of each run's chosen entries, joined: (..., c)."""
        kept = words * chosen
        return kept if self._is_single else np.bitwise_or.reduceat(kept, self._starts, axis=-1)

    def first(self, chosen: Flags) -> Column:
        """The first chosen entry of each run (..., c); each has one."""
        entries = np.arange(len(self._run))
        return self.least(np.where(chosen, entries, len(entries)))[0]


def positions(counts: Column) -> Column:
    """0, 1, ... within each run of these lengths."""
    return np.arange(int(counts.sum())) - np.repeat(np.cumsum(counts) - counts, counts)


def run_starts(numbers: Column) -> Column:
    """Where each run of equal numbers begins, in an ascending column."""
    if not len(numbers):
        return np.zeros(0, np.int64)
    return np.flatnonzero(np.append(True, numbers[1:] != numbers[:-1]))


def classes_of(starts: Column, columns: list[Column]) -> tuple[Column, Column]:
    """Group runs of entries that hold the same entries.

    ``columns`` describe the entries, (e,) each; ``starts`` (m,) says where each run begins, ascending from
    0. Returns the class of each run (m,), numbered from 0, and one run of each class (c,). Runs are equal
    where their entries are, in the same order.
    """
    if not len(starts):
        return np.zeros(0, np.int64), np.zeros(0, np.int64)
    counts = np.diff(np.append(starts, len(columns[0])))
    position = np.arange(len(columns[0])) - np.repeat(starts, counts)
    digest = position.astype(np.uint64)
    for column in columns:
        digest = mixed(digest + column.astype(np.uint64))
    sums = np.add.reduceat(digest, starts) + counts.astype(np.uint64)
    _, first, inverse = np.unique(sums, return_index=True, return_inverse=True)
    inverse = inverse.reshape(-1)
    # Two different runs with one digest would be a wrong answer: each run is compared with its class.
    same = counts == counts[first][inverse]
    if same.all():
        at = np.repeat(starts[first][inverse], counts) + position
        if all((column == column[at]).all() for column in columns):
            return inverse, first
    return _by_content(starts, counts, columns)


def mixed(values: Digests) -> Digests:
    """A good mixing of 64 bits (the finaliser of SplitMix64); overflow is meant."""
    values = (values ^ (values >> np.uint64(30))) * np.uint64(0xBF58476D1CE4E5B9)
    values = (values ^ (values >> np.uint64(27))) * np.uint64(0x94D049BB133111EB)
    return values ^ (values >> np.uint64(31)) ^ np.uint64(0x9E3779B97F4A7C15)


def _by_content(starts: Column, counts: Column, columns: list[Column]) -> tuple[Column, Column]:
    """The same by whole contents, run by run: for the case that two digests are equal by chance."""
    found: dict[tuple[bytes, ...], int] = {}
    classes = np.zeros(len(starts), np.int64)
    first = []
    for run, (start, count) in enumerate(zip(starts.tolist(), counts.tolist(), strict=True)):
        key = tuple(column[start : start + count].tobytes() for column in columns)
        if key not in found:
            found[key] = len(found)
            first.append(run)
        classes[run] = found[key]
    return classes, np.array(first, np.int64)


def distinct(parts: Sequence[Column], count: int) -> Column:
    """The numbers below ``count`` that stand in any part, ascending; those below 0 are left out."""
    stands = np.zeros(count + 1, np.bool_)
    for part in parts:
        stands[np.maximum(part, -1)] = True  # -1 is the place after the last
    return np.flatnonzero(stands[:count])
