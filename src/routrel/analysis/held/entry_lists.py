"""ACLs and forwarding policies as what they let pass: between addresses that no entry parts, a set of services.

Two lists that say the same are one, wherever they stand and whatever they are called.
"""

from bisect import bisect_right
from collections.abc import Mapping
from itertools import pairwise
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


MOST_PIECES = 4_096
"""Pieces that the services between two places may fall into."""

DROPS, ACCEPTS, ACCEPTS_STATEFULLY = "drops", "accepts", "accepts statefully"


class TooManyPiecesError(Exception):
    """Filters that part services into more pieces than are followed."""


class Entry(NamedTuple):
    """An entry of either kind: what it matches, and what it does."""

    match: HeaderMatch
    does: object


class EntryLists:
    """All lists of both states, numbered; what each does with a set of services."""

    def __init__(self) -> None:
        self.lists: list[tuple[Entry, ...]] = []
        self._numbers: dict[tuple[str, tuple[Entry, ...]], int] = {}
        self._holding: dict[tuple[int, bool], tuple[list[int], list[Entries]]] = {}
        self._done: dict[tuple[int, Entries, bool], list[tuple[Services, object]]] = {}
        self._apart: dict[object, list[tuple[Services, tuple[object, ...]]]] = {}
        self._matched: dict[tuple[HeaderMatch, bool], Services] = {}
        self._is_acl: list[bool] = []

    def number_of_acl(self, acl: Acl | None) -> int:
        """The number of an ACL by what it says, -1 for none."""
        if acl is None:
            return -1
        accepts = {False: ACCEPTS, True: ACCEPTS_STATEFULLY}
        does = (accepts[one.stateful] if one.action == "accept" else DROPS for one in acl.entries)
        return self._number("acl", tuple(Entry(one.match, what) for one, what in zip(acl.entries, does, strict=True)))

    def number_of_policy(self, policy: ForwardingPolicy | None) -> int:
        """The number of a forwarding policy by what it says, -1 for none."""
        if policy is None:
            return -1
        return self._number("policy", tuple(Entry(one.match, (one.action, one.next_hops)) for one in policy.entries))

    def _number(self, kind: str, entries: tuple[Entry, ...]) -> int:
        if (kind, entries) not in self._numbers:
            self._numbers[kind, entries] = len(self.lists)
            self.lists.append(entries)
        return self._numbers[kind, entries]

    def close(self) -> None:
        """No list comes any more: services are told apart from now on."""
        if len(self._is_acl) == len(self.lists) > 0:
            return
        self.space = ServiceSpace(entry.match for entries in self.lists for entry in entries)
        self._is_acl = [True] * len(self.lists)
        for (kind, _), number in self._numbers.items():
            self._is_acl[number] = kind == "acl"

    def parted(self, lists: tuple[int, ...], spans: Spans, of_sources: bool) -> dict[Covered, list[Span]]:
        """Addresses in the parts that some lists' entries tell apart, by the entries that hold for each part."""
        holding = [self._held_by(one, of_sources) for one in lists]
        found: dict[Covered, list[Span]] = {}
        for low, high in spans:
            inside = {
                one for begins, _ in holding for one in begins[bisect_right(begins, low) : bisect_right(begins, high)]
            }
            cuts = [low, *sorted(inside), high + 1]
            for first, after in pairwise(cuts):
                covered = tuple(entries[bisect_right(begins, first) - 1] for begins, entries in holding)
                found.setdefault(covered, []).append((first, after - 1))
        return found

    def _held_by(self, number: int, of_sources: bool) -> tuple[list[int], list[Entries]]:
        """Where the addresses begin that a list's entries tell apart, ascending, and the entries that hold there."""
        key = number, of_sources
        if key not in self._holding:
            prefixes = [one.match.source if of_sources else one.match.destination for one in self.lists[number]]
            always = sum(1 << bit for bit, prefix in enumerate(prefixes) if prefix is None)
            turns = dict[int, Entries]()
            for bit, prefix in enumerate(prefixes):
                if prefix is not None:
                    low, high = span_of(prefix)
                    turns[low] = turns.get(low, 0) ^ 1 << bit
                    turns[high + 1] = turns.get(high + 1, 0) ^ 1 << bit
            begins, entries = [0], [always]
            for begin in sorted(turns):
                if begin > 0:
                    begins.append(begin)
                    entries.append(entries[-1])
                entries[-1] ^= turns[begin]
            self._holding[key] = begins, entries
        return self._holding[key]

    def told_apart(
        self, lists: tuple[int, ...], entries: Mapping[int, Entries], is_answer: bool
    ) -> list[tuple[Services, tuple[object, ...]]]:
        """All services by what each of some lists does with them, where some of its entries hold for the addresses.

        An ACL drops, or accepts, statefully or not; a forwarding policy decides by an entry's index, or by none.
        """
        key = lists, tuple(entries[one] for one in lists), is_answer
        if key not in self._apart:
            found: list[tuple[Services, tuple[object, ...]]] = [(self.space.everything, ())]
            for one in lists:
                found = [
                    (services & some, (*does, what))
                    for services, does in found
                    for some, what in self._does(one, entries[one], is_answer)
                    if services & some
                ]
                if len(found) > MOST_PIECES:
                    raise TooManyPiecesError
            self._apart[key] = found
        return self._apart[key]

    def _does(self, number: int, entries: Entries, is_answer: bool) -> list[tuple[Services, object]]:
        """What a list does: the first entry that matches decides (RFC 8519)."""
        key = number, entries, is_answer
        if key not in self._done:
            left, by_deed = self.space.everything, dict[object, Services]()
            is_acl = self._is_acl[number]
            for index, entry in enumerate(self.lists[number]):
                if entries >> index & 1:
                    services = self._services(entry.match, is_answer) & left
                    deed = entry.does if is_acl else index
                    by_deed[deed] = by_deed.get(deed, 0) | services
                    left &= ~services
            deed = DROPS if is_acl else None
            by_deed[deed] = by_deed.get(deed, 0) | left
            self._done[key] = [(services, deed) for deed, services in by_deed.items() if services]
        return self._done[key]

    def _services(self, match: HeaderMatch, is_answer: bool) -> Services:
        key = match, is_answer
        if key not in self._matched:
            self._matched[key] = self.space.matched(match, is_answer)
        return self._matched[key]
