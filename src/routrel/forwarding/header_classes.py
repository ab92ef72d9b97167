"""Sets of packet headers with exact operations: what ACL and steering entries match, and what is left of it.

A box is a product of sets, one per field: protocols, sources, destinations, source and destination ports.
Fields are cut into *cells*, the smallest pieces that some match of a given list tells apart, so that a set of
addresses is a range of cell numbers and a set of protocols or ports a bit mask. Boxes of one ``HeaderSpace``
can be cut and compared with each other. A packet without ports has ``NO_PORT`` in their place.
"""

from bisect import bisect_left
from collections.abc import Iterable, Iterator, Sequence
from typing import NamedTuple

from routrel.model.addresses import BITS, Prefix
from routrel.model.filters import PORTED, HeaderMatch, PortRange

ALL_PROTOCOLS = (1 << 256) - 1
WITH_PORTS = sum(1 << protocol for protocol in PORTED)
NO_PORT = 65536
_FAMILY = {4: 0, 6: 1 << 128}
"""IPv6 addresses are counted on behind the IPv4 ones."""

Cells = tuple[int, int]
"""From one cell to another, both included."""


class Box(NamedTuple):
    """A product of sets; none of them is empty."""

    protocols: int
    sources: Cells
    destinations: Cells
    source_ports: int
    destination_ports: int

    def meets(self, other: "Box") -> bool:
        """Whether some header is in both."""
        return (
            self.sources[0] <= other.sources[1]
            and other.sources[0] <= self.sources[1]
            and self.destinations[0] <= other.destinations[1]
            and other.destinations[0] <= self.destinations[1]
            and bool(self.protocols & other.protocols)
            and bool(self.source_ports & other.source_ports)
            and bool(self.destination_ports & other.destination_ports)
        )

    def is_inside(self, other: "Box") -> bool:
        """Whether every header of this is in another."""
        return (
            other.sources[0] <= self.sources[0]
            and self.sources[1] <= other.sources[1]
            and other.destinations[0] <= self.destinations[0]
            and self.destinations[1] <= other.destinations[1]
            and not self.protocols & ~other.protocols
            and not self.source_ports & ~other.source_ports
            and not self.destination_ports & ~other.destination_ports
        )

    def minus(self, other: "Box") -> "Iterator[Box]":
        """What is left outside another, as boxes that do not meet: at most seven."""
        if not self.meets(other):
            yield self
            return
        protocols, sources, destinations, source_ports, destination_ports = self
        if protocols & ~other.protocols:
            yield self._replace(protocols=protocols & ~other.protocols)
        protocols &= other.protocols
        for cells in _outside(sources, other.sources):
            yield Box(protocols, cells, destinations, source_ports, destination_ports)
        sources = max(sources[0], other.sources[0]), min(sources[1], other.sources[1])
        for cells in _outside(destinations, other.destinations):
            yield Box(protocols, sources, cells, source_ports, destination_ports)
        destinations = max(destinations[0], other.destinations[0]), min(destinations[1], other.destinations[1])
        if source_ports & ~other.source_ports:
            yield Box(protocols, sources, destinations, source_ports & ~other.source_ports, destination_ports)
        source_ports &= other.source_ports
        if destination_ports & ~other.destination_ports:
            yield Box(protocols, sources, destinations, source_ports, destination_ports & ~other.destination_ports)


def _outside(cells: Cells, taken: Cells) -> Iterator[Cells]:
    if cells[0] < taken[0]:
        yield cells[0], taken[0] - 1
    if taken[1] < cells[1]:
        yield taken[1] + 1, cells[1]


class TooManyPiecesError(Exception):
    """A set of headers that falls into more boxes than are followed."""


def subtract(boxes: Iterable[Box], taken: Iterable[Box], most: int) -> list[Box]:
    """Some boxes without others; raises ``TooManyPiecesError`` past ``most`` pieces."""
    left = list(boxes)
    for other in taken:
        if not left:
            break
        left = [piece for box in left for piece in box.minus(other)]
        if len(left) > most:
            raise TooManyPiecesError
    return left


class HeaderSpace:
    """The cells that a list of matches tells apart, and its matches as boxes over them."""

    def __init__(self, matches: Sequence[HeaderMatch]):
        self._sources = _cells(prefix for match in matches if (prefix := match.source) is not None)
        self._destinations = _cells(prefix for match in matches if (prefix := match.destination) is not None)
        self._source_ports = _port_cells(match.source_ports for match in matches)
        self._destination_ports = _port_cells(match.destination_ports for match in matches)

    def boxes(self, match: HeaderMatch) -> list[Box]:
        """All headers that a match holds for: per family, and apart for protocols with ports and without."""
        protocols = ALL_PROTOCOLS if match.protocol is None else 1 << match.protocol
        named = match.source or match.destination
        families = (4, 6) if named is None else (named.family,)
        found = []
        for family in families:
            first = _FAMILY[family]
            whole = first, first + (1 << BITS[family]) - 1
            source = (first + match.source.network, first + match.source.last) if match.source else whole
            destination = (
                (first + match.destination.network, first + match.destination.last) if match.destination else whole
            )
            ranges = _covered(self._sources, *source), _covered(self._destinations, *destination)
            if protocols & WITH_PORTS:
                ports = (
                    _port_mask(self._source_ports, match.source_ports or (PortRange(0, 65535),)),
                    _port_mask(self._destination_ports, match.destination_ports or (PortRange(0, 65535),)),
                )
                found.append(Box(protocols & WITH_PORTS, *ranges, *ports))
            if protocols & ~WITH_PORTS and not (match.source_ports or match.destination_ports):
                none = PortRange(NO_PORT, NO_PORT)
                ports = _port_mask(self._source_ports, (none,)), _port_mask(self._destination_ports, (none,))
                found.append(Box(protocols & ~WITH_PORTS, *ranges, *ports))
        return found


def _cells(prefixes: Iterable[Prefix]) -> list[int]:
    """Where cells of addresses begin, ascending; the last is where all end."""
    begins = {0, 1 << 32, _FAMILY[6], _FAMILY[6] + (1 << 128)}
    for prefix in prefixes:
        first = _FAMILY[prefix.family]
        begins |= {first + prefix.network, first + prefix.last + 1}
    return sorted(begins)


def _covered(begins: list[int], low: int, high: int) -> Cells:
    return bisect_left(begins, low), bisect_left(begins, high + 1) - 1


def _port_cells(ranges: Iterable[Sequence[PortRange]]) -> list[int]:
    begins = {0, NO_PORT, NO_PORT + 1}
    for several in ranges:
        for low, high in several:
            begins |= {low, high + 1}
    return sorted(begins)


def _port_mask(begins: list[int], ranges: Sequence[PortRange]) -> int:
    mask = 0
    for low, high in ranges:
        first, last = _covered(begins, low, high)
        mask |= (1 << last + 1) - (1 << first)
    return mask
