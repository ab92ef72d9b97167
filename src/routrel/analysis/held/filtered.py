"""Conversations where filters stand on the way: addresses and services in the parts that they tell apart."""

from collections.abc import Callable, Iterable, Iterator
from typing import NamedTuple

from routrel.analysis.held.conversation import Conversation, Part
from routrel.analysis.held.decisions import End
from routrel.analysis.held.entry_lists import Covered, Entries, EntryLists, Span, Spans
from routrel.analysis.held.following import followed
from routrel.analysis.held.places import AddressClass, Source
from routrel.analysis.held.services import Services
from routrel.analysis.held.states import Node
from routrel.analysis.held.ways import Outlook, Way, Ways

Lists = tuple[int, ...]
"""Numbers of filters, ascending."""

BothWays = tuple[Covered, Covered]
"""Of several filters, the entries that hold for an address as a source, and as a destination."""

FilteredSides = tuple[Way, Way | None]
"""The way there, and the way back where there is an answer, as filters leave them."""


class Apart:
    """Addresses by the entries of filters that hold for them, each looked at once."""

    def __init__(self, lists: EntryLists):
        self.lists = lists
        self._known: dict[tuple[Lists, Lists, int], dict[BothWays, list[Span]]] = {}

    def parts(
        self, lists: tuple[Lists, Lists], source: AddressClass, destination: AddressClass
    ) -> Iterator[tuple[tuple[Spans, Spans], dict[int, Entries], dict[int, Entries]]]:
        """The addresses of both places in parts that no entry of the filters there and back tells apart, with those
        that hold there and back."""
        froms, tos = self._apart(lists, source), self._apart((lists[1], lists[0]), destination)
        may_hold = [tuple(map(_any_of, zip(*(key[1 - at] for key in tos), strict=True))) for at in (0, 1)]
        alike = dict[BothWays, list[Span]]()
        for key, some in froms.items():
            alike.setdefault((_both(key[0], may_hold[0]), _both(key[1], may_hold[1])), []).extend(some)
        for from_key, from_spans in alike.items():
            to_alike = dict[BothWays, list[Span]]()
            for to_key, some in tos.items():
                held = _both(from_key[0], to_key[1]), _both(from_key[1], to_key[0])
                to_alike.setdefault(held, []).extend(some)
            for (there, back), to_spans in to_alike.items():
                pair = tuple(from_spans), tuple(to_spans)
                yield pair, dict(zip(lists[0], there, strict=True)), dict(zip(lists[1], back, strict=True))

    def _apart(self, lists: tuple[Lists, Lists], addresses: AddressClass) -> dict[BothWays, list[Span]]:
        """Addresses by the entries of some filters that hold for them as a source, of others as a destination."""
        key = *lists, addresses.number
        found = self._known.get(key)
        if found is None:
            found = self._known[key] = {}
            for as_source, some in self.lists.parted(lists[0], addresses.spans, of_sources=True).items():
                for as_destination, part in self.lists.parted(lists[1], tuple(some), of_sources=False).items():
                    found.setdefault((as_source, as_destination), []).extend(part)
        return found


class Sending(NamedTuple):
    """What begins at a node in one state: the ways there and back, and who answers what ended somewhere."""

    there: Ways
    back: Ways
    node: Node
    side: int
    answering: Callable[[frozenset[End]], tuple[Node, ...]]


class Filtered:
    """What becomes in one state of the packets that begin at a node, by what the filters on their ways do."""

    def __init__(self, lists: EntryLists, sending: Sending):
        self.all_lists = lists
        self.there, self.back, self.node, self.side, self.answering = sending
        self.lists = lists_of([self.there.outlook(self.side, self.node)])
        self._ways: dict[tuple[object, ...], tuple[Way, tuple[Node, ...], Lists]] = {}

    def conversations(self, there: dict[int, Entries], back: dict[int, Entries]) -> dict[FilteredSides, Services]:
        """Every service by what becomes of it, between addresses for which some entries of the filters hold."""
        found = dict[FilteredSides, Services]()
        for services, does in self.all_lists.told_apart(self.lists, there, is_answer=False):
            way, answers, lists = self._way(does)
            if not answers:
                found[way, None] = found.get((way, None), 0) | services
                continue
            for others, does_back in self.all_lists.told_apart(lists, back, is_answer=True):
                both = services & others
                if both:
                    sides = way, followed(self.back, self.side, answers, lists, does_back, way.stateful)
                    found[sides] = found.get(sides, 0) | both
        return found

    def _way(self, does: tuple[object, ...]) -> tuple[Way, tuple[Node, ...], Lists]:
        """The way there, the nodes that answer, and the filters that lie before the answers."""
        found = self._ways.get(does)
        if found is None:
            way = followed(self.there, self.side, (self.node,), self.lists, does, None)
            answers = self.answering(way.ends)
            lists = lists_of(self.back.outlook(self.side, one) for one in answers)
            found = self._ways[does] = way, answers, lists
        return found


class CutOff:
    """What becomes of all packets in a state in which they cannot be sent."""

    def __init__(self, end: Outlook, everything: Services):
        way = Way(frozenset(), end.ends, frozenset(), end.ways, end.longest, end.passed)
        self._found: dict[FilteredSides, Services] = {(way, None): everything}

    def conversations(self, there: dict[int, Entries], back: dict[int, Entries]) -> dict[FilteredSides, Services]:
        """All that is sent, whatever filters say."""
        return self._found


def conversations(
    apart: Apart,
    lists: tuple[Lists, Lists],
    source: Source,
    destination: AddressClass,
    states: tuple[Filtered | CutOff, Filtered | CutOff],
) -> Iterator[Conversation]:
    """What goes otherwise in two states between two places, by the filters there and back.

    Raises TooManyPiecesError.
    """
    found = dict[tuple[FilteredSides, FilteredSides], list[Part]]()
    for spans, *held in apart.parts(lists, source.addresses, destination):
        some, more = (state.conversations(*held) for state in states)
        for one, services in some.items():
            for other, others in more.items():
                both = services & others
                if both and one != other and _courses(one) != _courses(other):
                    found.setdefault((one, other), []).append(Part(both, *spans))
    for (one, other), parts in found.items():
        services = 0
        for part in parts:
            services |= part.services
        yield Conversation([(source, destination)], services, one, other, parts)


def lists_of(outlooks: Iterable[Outlook | None]) -> Lists:
    """The filters that lie before some packets."""
    found = frozenset[int]()
    for one in outlooks:
        if one is not None and one.lists:
            found |= one.lists
    return tuple(sorted(found)) if found else ()


def _courses(sides: FilteredSides) -> tuple[object, object]:
    way, answer = sides
    return way.course, None if answer is None else answer.course


def _any_of(entries: Iterable[Entries]) -> Entries:
    found = 0
    for one in entries:
        found |= one
    return found


def _both(some: Covered, others: Covered) -> Covered:
    return tuple(one & other for one, other in zip(some, others, strict=True))
