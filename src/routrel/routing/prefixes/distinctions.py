"""What tells prefixes apart, gathered from configurations and protocols, and the classes that follow."""

from collections.abc import Hashable

import numpy as np

from routrel.model.addresses import Prefix
from routrel.routing.arrays import Column, classes_of, run_starts
from routrel.routing.prefixes.index import PrefixIndex


class PrefixDistinctions:
    """What is known of each prefix, as (number, trait) pairs."""

    def __init__(self, index: PrefixIndex):
        self.index = index
        self._number_of = index.number
        self._numbers: list[int] = []
        self._traits: list[int] = []
        self._columns: list[tuple[Column, int]] = []
        self._told_apart: list[tuple[Column, Column]] = []
        self._known: dict[Hashable, int] = {}

    def add(self, prefix: Prefix, trait: Hashable) -> None:
        known = self._known
        self._numbers.append(self._number_of[prefix])
        self._traits.append(known.setdefault(trait, len(known)))

    def add_columns(self, numbers: Column, *columns: Column) -> None:
        """A trait for each of some prefixes: the row of columns (n,) of values from 0 that stands beside it.

        Rows of another call are other traits.
        """
        self.add_rows(numbers, as_rows(*columns))

    def add_rows(self, numbers: Column, rows: Column) -> None:
        """The same with rows as ``as_rows`` has them."""
        self._told_apart.append((numbers, rows))

    def add_single(self, prefix: Prefix) -> None:
        """A prefix that is like no other."""
        if prefix in self._number_of:
            self.add(prefix, ("alone", prefix))

    def add_numbers(self, numbers: Column, trait: Hashable) -> None:
        """One trait for several prefixes; by itself it makes none known to any protocol."""
        self._columns.append((numbers, self._known.setdefault(trait, len(self._known))))

    def add_covered(self, prefix: Prefix, trait: Hashable) -> None:
        """One trait for all prefixes within another."""
        covered = self.index.covered(prefix)
        self.add_numbers(np.arange(covered.start, covered.stop), trait)

    def classes(self) -> Column:
        """The class of each prefix, -1 without any trait that ``add`` or ``add_columns`` brought."""
        p = len(self.index)
        parts = [(np.array(self._numbers, np.int64), np.array(self._traits, np.int64))]
        count = len(self._known)
        for numbers, rows in self._told_apart:
            parts.append((numbers, rows + count))
            count += int(rows.max(initial=-1)) + 1
        is_known = np.zeros(p, bool)
        for numbers, _ in parts:
            is_known[numbers] = True
        for more, trait in self._columns:
            kept = more[is_known[more]]
            parts.append((kept, np.full(len(kept), trait, np.int64)))
        family = np.flatnonzero(is_known)
        parts.append((family, np.where(family < self.index.first_of_ipv6, -4, -6)))
        all_numbers = np.concatenate([part[0] for part in parts])
        distinctions = np.concatenate([part[1] for part in parts])
        order = np.argsort(all_numbers * np.int64(count + 8) + distinctions + 6, kind="stable")
        all_numbers, distinctions = all_numbers[order], distinctions[order]
        starts = run_starts(all_numbers)
        found, _ = classes_of(starts, [distinctions])
        classes = np.full(p, -1, np.int64)
        classes[all_numbers[starts]] = found
        return classes


def as_rows(*columns: Column) -> Column:
    """Numbers from 0 (n,), equal where all columns (n,) of values from 0 are; a column alone as it is."""
    rows = columns[0]
    for column in columns[1:]:
        width = int(column.max(initial=0)) + 1
        if int(rows.max(initial=0)) >= 2**62 // width:
            rows = np.unique(rows, return_inverse=True)[1].reshape(-1)
        rows = rows * width + column
    return rows if len(columns) == 1 else np.unique(rows, return_inverse=True)[1].reshape(-1)
