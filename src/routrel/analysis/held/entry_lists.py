"""ACLs and forwarding policies as what they let pass: between addresses that no entry parts, a set of services.

Two lists that say the same are one, wherever they stand and whatever they are called.
"""

from bisect import bisect_left, bisect_right
from collections.abc import Iterable
from typing import NamedTuple

from routrel.analysis.held.services import Services, ServiceSpace
from routrel.model.addresses import Address, Prefix
from routrel.model.filters import Acl, ForwardingPolicy, HeaderMatch

FAMILY = {4: 0, 6: 1 << 128}
"""Addresses as numbers: those of IPv6 are counted on behind the others."""

Span = tuple[int, int]
"""Addresses as numbers, from one to another, both included."""

Spans = tuple[Span, ...]
Entries = int
"""A set of a list's entries: one bit for each."""

Covered = tuple[Entries, ...]
"""Of several lists, the entries that hold for an address."""


def number_of(address: Address) -> int:
    """An address as a number."""
    return FAMILY[address.family] + address.value


def address_of(number: int) -> Address:
    """The address of a number."""
    return Address(6, number - FAMILY[6]) if number >= FAMILY[6] else Address(4, number)


def span_of(prefix: Prefix) -> Span:
    """The addresses of a prefix."""
    return FAMILY[prefix.family] + prefix.network, FAMILY[prefix.family] + prefix.last


DROPS, ACCEPTS, ACCEPTS_STATEFULLY = "drops", "accepts", "accepts statefully"


class Passed(NamedTuple):
    """Services that an ACL accepts; ``stateful`` are those whose answers it lets pass too."""

    stateless: Services
    stateful: Services


class Entry(NamedTuple):
    """An entry of either kind: what it matches, and what it does."""

    match: HeaderMatch
    does: object


class EntryLists:
    """All lists of both states, numbered; what each does with a set of services."""

    def __init__(self) -> None:
        self.lists: list[tuple[Entry, ...]] = []
        self._numbers: dict[tuple[str, tuple[Entry, ...]], int] = {}
        self._cuts: dict[tuple[tuple[int, ...], bool], list[int]] = {}
        self._passed: dict[tuple[int, Entries, bool], Passed] = {}
        self._matched: dict[tuple[HeaderMatch, bool], Services] = {}

    def number_of_acl(self, acl: Acl | None) -> int:
        """The number of an ACL by what it says, -1 for none."""
        if acl is None:
            return -1
        accepts = {False: ACCEPTS, True: ACCEPTS_STATEFULLY}
        does = (accepts[one.stateful] if one.action == "accept" else DROPS for one in acl.entries)
        entries = tuple(Entry(one.match, what) for one, what in zip(acl.entries, does, strict=True))
        return self._numbers.setdefault(("acl", entries), self._next(("acl", entries)))

    def number_of_policy(self, policy: ForwardingPolicy | None) -> int:
        """The number of a forwarding policy by what it says, -1 for none."""
        if policy is None:
            return -1
        entries = tuple(Entry(one.match, (one.action, one.next_hops)) for one in policy.entries)
        return self._numbers.setdefault(("policy", entries), self._next(("policy", entries)))

    def _next(self, key: tuple[str, tuple[Entry, ...]]) -> int:
        if key not in self._numbers:
            self.lists.append(key[1])
        return len(self.lists) - 1

    def close(self) -> None:
        """No list comes any more: services are told apart from now on."""
        self.space = ServiceSpace(entry.match for entries in self.lists for entry in entries)

    def parted(self, lists: tuple[int, ...], spans: Spans, of_sources: bool) -> dict[Covered, list[Span]]:
        """Addresses in the parts that some lists' entries tell apart, by the entries that hold for each part."""
        begins = self._begins(lists, of_sources)
        found: dict[Covered, list[Span]] = {}
        for low, high in spans:
            inside = begins[bisect_right(begins, low) : bisect_left(begins, high + 1)]
            for first, after in zip([low, *inside], [*inside, high + 1], strict=True):
                covered = tuple(self._covering(one, first, of_sources) for one in lists)
                found.setdefault(covered, []).append((first, after - 1))
        return found

    def _begins(self, lists: tuple[int, ...], of_sources: bool) -> list[int]:
        key = lists, of_sources
        if key not in self._cuts:
            begins = set[int]()
            for one in lists:
                for prefix in self._prefixes(one, of_sources):
                    if prefix is not None:
                        low, high = span_of(prefix)
                        begins |= {low, high + 1}
            self._cuts[key] = sorted(begins)
        return self._cuts[key]

    def _prefixes(self, number: int, of_sources: bool) -> Iterable[Prefix | None]:
        return (one.match.source if of_sources else one.match.destination for one in self.lists[number])

    def _covering(self, number: int, address: int, of_sources: bool) -> Entries:
        found = 0
        for bit, prefix in enumerate(self._prefixes(number, of_sources)):
            if prefix is None:
                found |= 1 << bit
            else:
                low, high = span_of(prefix)
                found |= (low <= address <= high) << bit
        return found

    def passed(self, number: int, entries: Entries, is_answer: bool) -> Passed:
        """What an ACL accepts where some of its entries hold for the addresses (RFC 8519: the first that matches)."""
        key = number, entries, is_answer
        if key not in self._passed:
            left, found = self.space.everything, [0, 0]
            for services, does in self._in_order(number, entries, is_answer):
                if does != DROPS:
                    found[does == ACCEPTS_STATEFULLY] |= left & services
                left &= ~services
            self._passed[key] = Passed(*found)
        return self._passed[key]

    def steered(self, number: int, entries: Entries, is_answer: bool) -> list[tuple[Services, int | None]]:
        """Of a forwarding policy, the services that each entry decides; None is what the table decides."""
        left, found = self.space.everything, list[tuple[Services, int | None]]()
        for index, (services, _) in zip(_bits(entries), self._in_order(number, entries, is_answer), strict=True):
            if left & services:
                found.append((left & services, index))
            left &= ~services
        if left:
            found.append((left, None))
        return found

    def _in_order(self, number: int, entries: Entries, is_answer: bool) -> Iterable[tuple[Services, object]]:
        for index in _bits(entries):
            entry = self.lists[number][index]
            yield self._services(entry.match, is_answer), entry.does

    def _services(self, match: HeaderMatch, is_answer: bool) -> Services:
        key = match, is_answer
        if key not in self._matched:
            self._matched[key] = self.space.matched(match, is_answer)
        return self._matched[key]


def _bits(entries: Entries) -> list[int]:
    return [bit for bit in range(entries.bit_length()) if entries >> bit & 1]
