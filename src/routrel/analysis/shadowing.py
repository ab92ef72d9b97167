"""Shadowed entries: those that no packet can reach, exactly, because earlier ones together take it all.

An entry is shadowed where its headers without those of all earlier entries are none. Most entries are settled
cheaply: one earlier entry covers it, or a header is found that none of them takes. What is left is cut piece by
piece, within a budget; an entry that falls into too many pieces is reported as not looked into.
"""

import random
from collections.abc import Iterator, Sequence
from typing import NamedTuple

import numpy as np
import numpy.typing as npt

from routrel.forwarding.header_classes import Box, HeaderSpace, TooManyPiecesError, subtract
from routrel.model.filters import HeaderMatch

MOST_PIECES = 2_000
"""Pieces that one entry may fall into."""

MOST_CUTS = 300_000
"""Pieces cut for one list; entries past it are not looked into."""

MOST_COMPARED = 400_000_000
"""Pairs of boxes of one list that are compared."""

TRIES = 24
"""Headers of an entry that are tried before it is cut."""

Ranges = npt.NDArray[np.int64]


class Shadow(NamedTuple):
    """``entry`` (index from 0) is covered by the union of the entries ``by``; by none where it was too much work."""

    entry: int
    by: tuple[int, ...]


def shadowed_entries(matches: Sequence[HeaderMatch], covering: Sequence[bool] | None = None) -> Iterator[Shadow]:
    """Every match that the union of earlier ones covers, with those that take a part of it.

    ``covering`` tells the matches that take all they match; others are looked at and cover nothing.
    """
    return _Search(matches, covering or (True,) * len(matches)).run()


class _Search:
    def __init__(self, matches: Sequence[HeaderMatch], covering: Sequence[bool]):
        space = HeaderSpace(matches)
        self.boxes = [space.boxes(match) for match in matches]
        self.flat = [box for boxes in self.boxes for box in boxes]
        self.entry_of = [index for index, boxes in enumerate(self.boxes) for _ in boxes]
        self.covers = np.array([covering[index] for index in self.entry_of], np.bool_)
        self.first = np.cumsum([0, *map(len, self.boxes)]).tolist()
        rows = [
            (*box.sources, *box.destinations, *_span(box.source_ports), *_span(box.destination_ports))
            for box in self.flat
        ]
        self.ranges: Ranges = np.array(rows, np.int64).reshape(-1, 8).T
        self.left_to_cut = MOST_CUTS
        self.left_to_compare = MOST_COMPARED

    def run(self) -> Iterator[Shadow]:
        for index in range(len(self.boxes)):
            found = self._look(index)
            if found is not None:
                yield Shadow(index, found)

    def _look(self, index: int) -> tuple[int, ...] | None:
        """The entries that cover one, () where that is too much work, None where it can be reached."""
        boxes = self.boxes[index]
        self.left_to_compare -= len(boxes) * self.first[index]
        if self.left_to_compare < 0 or self.left_to_cut < 0:
            return ()
        by: dict[int, None] = {}
        for box in boxes:
            meeting = self._meeting(box, self.first[index])
            whole = next((at for at in meeting if box.is_inside(self.flat[at])), None)
            if whole is not None:
                by[self.entry_of[whole]] = None
                continue
            if not meeting or self._has_witness(box, meeting):
                return None
            try:
                if self._cut([box], meeting):
                    return None
            except TooManyPiecesError:
                return ()
            by |= dict.fromkeys(self._needed(box, meeting))
        return tuple(sorted(by)) if boxes else None

    def _meeting(self, box: Box, before: int) -> list[int]:
        """The earlier boxes that have a header in common with one."""
        low_high = (*box.sources, *box.destinations, *_span(box.source_ports), *_span(box.destination_ports))
        ranges = self.ranges[:, :before]
        met = self.covers[:before].copy()
        for axis in range(0, 8, 2):
            met &= (ranges[axis] <= low_high[axis + 1]) & (ranges[axis + 1] >= low_high[axis])
        return [at for at in np.flatnonzero(met).tolist() if self.flat[at].meets(box)]

    def _has_witness(self, box: Box, meeting: list[int]) -> bool:
        """Whether a header that is tried is in none of the earlier boxes."""
        dice = random.Random(len(meeting))
        for _ in range(TRIES):
            source, destination = (dice.randint(*cells) for cells in (box.sources, box.destinations))
            point = Box(
                _one_of(box.protocols, dice),
                (source, source),
                (destination, destination),
                _one_of(box.source_ports, dice),
                _one_of(box.destination_ports, dice),
            )
            if not any(point.is_inside(self.flat[at]) for at in meeting):
                return True
        return False

    def _cut(self, boxes: list[Box], meeting: list[int]) -> list[Box]:
        # Latest first: what stands close above an entry is most often what hides it.
        left = subtract(boxes, (self.flat[at] for at in reversed(meeting)), min(MOST_PIECES, self.left_to_cut))
        self.left_to_cut -= len(meeting)
        return left

    def _needed(self, box: Box, meeting: list[int]) -> list[int]:
        """The entries without those that are not needed to cover a box, last first."""
        entries = list(dict.fromkeys(self.entry_of[at] for at in meeting))
        for entry in reversed(entries[:]):
            rest = [at for at in meeting if self.entry_of[at] in entries and self.entry_of[at] != entry]
            try:
                if not self._cut([box], rest):
                    entries.remove(entry)
            except TooManyPiecesError:
                break
        return entries


def _span(mask: int) -> tuple[int, int]:
    """The lowest and the highest bit of a mask."""
    return (mask & -mask).bit_length() - 1, mask.bit_length() - 1


def _one_of(mask: int, dice: random.Random) -> int:
    """One bit of a mask."""
    low, high = _span(mask)
    start = dice.randint(low, high)
    above = mask >> start
    return (above & -above) << start
