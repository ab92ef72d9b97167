"""Services as sets: protocols with their ports, cut into the smallest cells that some entry tells apart.

A set is the bits of an integer, one for each cell: for TCP and UDP one for each pair of port cells, for every other
protocol that is named one, and one for all that are not. Ports of both ends are cut alike, so that what an entry
says of an answer stands in the same cells as what it says of its question.
"""

from bisect import bisect_right
from collections.abc import Iterable, Sequence
from typing import NamedTuple

from routrel.model.filters import ICMP, ICMPV6, PORTED, PROTOCOL_NAMES, TCP, UDP, HeaderMatch, PortRange

Services = int
"""A set of services: one bit for each cell."""

MOST_CELLS = 1 << 22
"""Cells that a set may have: half a megabyte."""

WELL_KNOWN = (443, 80, 22, 53)
"""Ports that an example has, where it may."""

ORDINARY = PortRange(49152, 65535)
"""Where the ports of who asks are, as a rule (RFC 6335 section 6)."""


class TooManyServicesError(Exception):
    """Entries that name so many ports that sets of them are too large."""


class Service(NamedTuple):
    """One service out of a set; ports are None where the protocol has none."""

    protocol: int
    source_port: int | None
    destination_port: int | None


class ServiceSpace:
    """The cells that some entries tell apart."""

    def __init__(self, matches: Iterable[HeaderMatch]):
        begins, protocols = {0}, {ICMP, ICMPV6}
        for match in matches:
            for low, high in (*match.source_ports, *match.destination_ports):
                begins |= {low, high + 1}
            if match.protocol is not None:
                protocols.add(match.protocol)
        self._begins = sorted(begins - {65536})
        self._width = len(self._begins)
        self._portless = sorted(protocols - PORTED)
        self._other = next(number for number in (253, *range(256)) if number not in protocols | PORTED)
        """A protocol that stands for all that no entry names (253 is for experiments: RFC 3692)."""
        count = len(self._portless) + 1 + 2 * self._width**2
        if count > MOST_CELLS:
            raise TooManyServicesError
        self.everything: Services = (1 << count) - 1
        self._offset = {TCP: len(self._portless) + 1, UDP: len(self._portless) + 1 + self._width**2}

    def matched(self, match: HeaderMatch, is_answer: bool = False) -> Services:
        """All services that a match holds for, whatever the addresses; of an answer, by what its question was."""
        found = 0
        near, far = match.source_ports, match.destination_ports
        if is_answer:
            near, far = far, near
        if not near and not far:
            for bit, protocol in enumerate(self._portless):
                if match.protocol in (None, protocol):
                    found |= 1 << bit
            if match.protocol is None:
                found |= 1 << len(self._portless)
        ported = [protocol for protocol in (TCP, UDP) if match.protocol in (None, protocol)]
        row, rows = self._ports(far), sum(1 << cell * self._width for cell in self._cells(near)) if ported else 0
        for protocol in ported:
            found |= (row * rows) << self._offset[protocol]
        return found

    def _ports(self, ranges: Sequence[PortRange]) -> int:
        return sum(1 << cell for cell in self._cells(ranges))

    def _cells(self, ranges: Sequence[PortRange]) -> list[int]:
        if not ranges:
            return list(range(self._width))
        found = set[int]()
        for low, high in ranges:
            found.update(range(bisect_right(self._begins, low) - 1, bisect_right(self._begins, high)))
        return sorted(found)

    def example(self, services: Services, family: int) -> Service:
        """The one of a set that an engineer would try first: an echo, or what asks from an ordinary port."""
        echo = ICMP if family == 4 else ICMPV6
        if services >> self._portless.index(echo) & 1:
            return Service(echo, None, None)
        usual = bisect_right(self._begins, ORDINARY.low) - 1
        for protocol in (TCP, UDP):
            first = self._offset[protocol] + usual * self._width
            row = services >> first & (1 << self._width) - 1
            for port in WELL_KNOWN:
                if row >> bisect_right(self._begins, port) - 1 & 1:
                    return Service(protocol, ORDINARY.low, port)
            if row:
                return self._service(first + (row & -row).bit_length() - 1)
        return self._service((services & -services).bit_length() - 1)

    def _service(self, bit: int) -> Service:
        if bit < len(self._portless):
            return Service(self._portless[bit], None, None)
        if bit == len(self._portless):
            return Service(self._other, None, None)
        protocol = TCP if bit < self._offset[UDP] else UDP
        near, far = divmod(bit - self._offset[protocol], self._width)
        return Service(protocol, self._port(near), self._port(far))

    def _port(self, cell: int) -> int:
        """The port that stands for a cell: an ordinary one where the cell has it."""
        low, high = self._range(cell)
        return ORDINARY.low if low <= ORDINARY.low <= high else low

    def _range(self, cell: int) -> PortRange:
        end = self._begins[cell + 1] if cell + 1 < self._width else 65536
        return PortRange(self._begins[cell], end - 1)

    def words(self, services: Services, family: int) -> str:
        """A set in words: ``every service``, or protocols with the ports that are asked."""
        if services == self.everything:
            return "every service"
        words = []
        portless = [one for bit, one in enumerate(self._portless) if services >> bit & 1]
        foreign = ICMPV6 if family == 4 else ICMP
        words += [PROTOCOL_NAMES.get(one, f"protocol {one}") for one in portless if one != foreign]
        for protocol in (TCP, UDP):
            words += self._ported_words(services, protocol)
        if services >> len(self._portless) & 1:
            words.append("other protocols")
        return ", ".join(words)

    def _ported_words(self, services: Services, protocol: int) -> list[str]:
        """Of TCP or UDP: the ports that are asked, put together where the same ports may ask them."""
        by_near: dict[tuple[int, ...], list[int]] = {}
        row = (1 << self._width) - 1
        rows = [services >> self._offset[protocol] + near * self._width & row for near in range(self._width)]
        if not any(rows):
            return []
        for far in range(self._width):
            near = tuple(cell for cell, one in enumerate(rows) if one >> far & 1)
            if near:
                by_near.setdefault(near, []).append(far)
        name, words = PROTOCOL_NAMES[protocol], []
        for near, cells in by_near.items():
            asked = "" if len(cells) == self._width else "/" + " ".join(map(str, self._joined(cells)))
            asking = "" if len(near) == self._width else f" from {' '.join(map(str, self._joined(near)))}"
            words.append(f"{name}{asked}{asking}")
        return words

    def _joined(self, cells: Iterable[int]) -> list[PortRange]:
        found: list[PortRange] = []
        for cell in cells:
            low, high = self._range(cell)
            if found and found[-1].high + 1 == low:
                found[-1] = PortRange(found[-1].low, high)
            else:
                found.append(PortRange(low, high))
        return found
