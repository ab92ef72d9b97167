"""Shadowed entries: those that no packet can reach, exactly, because earlier ones together take it all.

A match is a box in five dimensions (protocol, source, destination, source port, destination port). An
entry is shadowed where its box minus all earlier boxes is empty. Subtracting a box from a box leaves at
most ten smaller ones; only earlier boxes that meet the entry's are subtracted.
"""

from collections.abc import Iterator, Sequence
from typing import NamedTuple

from routrel.model.addresses import BITS
from routrel.model.filters import PORTED, HeaderMatch

Range = tuple[int, int]
Box = tuple[Range, ...]

MAX_PIECES = 20_000
"""More pieces than this are not followed: the entry is then taken for reachable."""

ALL_PORTS = (0, 65535)
NO_PORT = (65536, 65536)
"""The port of a packet that has none: it meets a match without ports only."""


class Shadow(NamedTuple):
    """``entry`` (index from 0) is covered by the union of the entries ``by``."""

    entry: int
    by: tuple[int, ...]


def shadowed_entries(matches: Sequence[HeaderMatch]) -> Iterator[Shadow]:
    """Every match that the union of earlier ones covers, with those that take a part of it."""
    earlier: list[list[Box]] = []
    for index, match in enumerate(matches):
        boxes = list(_boxes(match))
        remaining = boxes
        for taken in earlier:
            if not remaining or len(remaining) > MAX_PIECES:
                break
            remaining = [piece for box in remaining for piece in _minus(box, taken)]
        if boxes and not remaining:
            by = tuple(i for i, taken in enumerate(earlier) if any(_meets(a, b) for a in boxes for b in taken))
            yield Shadow(index, _needed(boxes, earlier, by))
        earlier.append(boxes)


def _needed(boxes: list[Box], earlier: list[list[Box]], by: tuple[int, ...]) -> tuple[int, ...]:
    """The entries of ``by`` without those that are not needed for the cover, last first."""
    kept = list(by)
    for index in reversed(by):
        rest = [i for i in kept if i != index]
        remaining = boxes
        for other in rest:
            remaining = [piece for box in remaining for piece in _minus(box, earlier[other])]
        if not remaining:
            kept = rest
    return tuple(kept)


def _boxes(match: HeaderMatch) -> Iterator[Box]:
    """A match as boxes: per family, and per kind of port (protocols with ports, and without)."""
    named = match.source or match.destination
    for family in (4, 6):
        if named is not None and named.family != family:
            continue
        whole = (0, (1 << BITS[family]) - 1)
        source = (match.source.network, match.source.last) if match.source else whole
        destination = (match.destination.network, match.destination.last) if match.destination else whole
        for protocols, has_ports in _protocols(match.protocol):
            if not has_ports:
                if not (match.source_ports or match.destination_ports):
                    yield ((family, family), protocols, source, destination, NO_PORT, NO_PORT)
                continue
            for source_ports in match.source_ports or (ALL_PORTS,):
                for destination_ports in match.destination_ports or (ALL_PORTS,):
                    yield (
                        (family, family),
                        protocols,
                        source,
                        destination,
                        (source_ports[0], source_ports[1]),
                        (destination_ports[0], destination_ports[1]),
                    )


def _protocols(protocol: int | None) -> list[tuple[Range, bool]]:
    if protocol is not None:
        return [((protocol, protocol), protocol in PORTED)]
    ported = sorted(PORTED)
    ranges: list[tuple[Range, bool]] = []
    low = 0
    for number in ported:
        if low < number:
            ranges.append(((low, number - 1), False))
        ranges.append(((number, number), True))
        low = number + 1
    return [*ranges, ((low, 255), False)]


def _meets(one: Box, other: Box) -> bool:
    return all(a[0] <= b[1] and b[0] <= a[1] for a, b in zip(one, other, strict=True))


def _minus(box: Box, taken: Sequence[Box]) -> list[Box]:
    pieces = [box]
    for other in taken:
        pieces = [rest for piece in pieces for rest in _cut(piece, other)]
    return pieces


def _cut(box: Box, other: Box) -> Iterator[Box]:
    """What is left of ``box`` outside ``other``, as disjoint boxes."""
    if not _meets(box, other):
        yield box
        return
    inner = list(box)
    for axis, ((low, high), (cut_low, cut_high)) in enumerate(zip(box, other, strict=True)):
        if low < cut_low:
            yield (*inner[:axis], (low, cut_low - 1), *box[axis + 1 :])
        if cut_high < high:
            yield (*inner[:axis], (cut_high + 1, high), *box[axis + 1 :])
        inner[axis] = (max(low, cut_low), min(high, cut_high))
