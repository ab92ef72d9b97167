"""What becomes of every conversation between two places, before and after: the packet there, and its answer back.

Pairs are ruled out whole where neither direction meets anything that differs. Where no filter lies on the ways a pair
is one conversation; elsewhere it falls into those that the filters tell apart.
"""

from collections.abc import Iterator
from dataclasses import dataclass
from typing import NamedTuple

from routrel.analysis.held.differences import Differences
from routrel.analysis.held.entry_lists import Entries, EntryLists, Span, Spans
from routrel.analysis.held.following import Follower, TooManyPiecesError, Way, from_outlook
from routrel.analysis.held.places import AddressClass, Places, Source
from routrel.analysis.held.services import Services
from routrel.analysis.held.states import Node, Numbering, State
from routrel.analysis.held.ways import End, Ways
from routrel.routing.solve import Solved

MOST_PAIRS = 2_000_000
"""Pairs that are looked at; those past it are counted as not held against each other."""

ANSWERED = ("arrives", "delivered", "leaves")
"""Ends from which an answer may come."""

Sides = tuple[Way, Way | None]
"""The way there, and the way back where there is an answer."""


class Conversation(NamedTuple):
    """Packets between two places that are all treated alike, in both states."""

    source: Source
    destination: AddressClass
    services: Services
    from_spans: Spans
    to_spans: Spans
    before: Sides
    after: Sides


@dataclass
class Counts:
    """How many pairs there are, and what was not looked at."""

    pairs: int = 0
    looked_at: int = 0
    left_out: int = 0
    """Pairs past the most that are looked at, or that fall into too many pieces."""
    not_followed: int = 0
    """Pairs of which some way leads to a device whose filter program or routing rules decide."""


class Conversations:
    """All conversations of two states of a network."""

    def __init__(self, before: Solved, after: Solved):
        self.numbering = Numbering((before.topology, after.topology))
        self.lists = EntryLists()
        self.states = State(before, self.numbering, self.lists), State(after, self.numbering, self.lists)
        self.lists.close()
        self.places = Places(*self.states, self.numbering)
        self.differences = Differences(self.states, self.numbering)
        self.counts = Counts()
        self._ways: list[Ways | None] = [None] * len(self.places.classes)
        self._up_at: dict[str, tuple[bool, bool]] = {}
        for source in self.places.sources:
            there = self._up_at.get(source.place.name, (False, False))
            self._up_at[source.place.name] = there[0] or self.is_up(source, 0), there[1] or self.is_up(source, 1)

    def ways(self, addresses: AddressClass) -> Ways:
        """The ways to a class of addresses."""
        found = self._ways[addresses.number]
        if found is None:
            found = Ways(self.states, self.numbering, addresses, self.differences)
            self._ways[addresses.number] = found
        return found

    def is_up(self, source: Source, side: int) -> bool:
        """Whether a source can send at all in a state."""
        state = self.states[side]
        if source.port >= 0:
            return state.has_port(source.port)
        return source.instance in source.addresses.owners[side]

    def changed(self) -> Iterator[Conversation | None]:
        """Every conversation that differs; None after each destination, for progress."""
        counts = self.counts
        by_family = {4: list[Source](), 6: list[Source]()}
        for source in self.places.sources:
            by_family[source.place.family].append(source)
        for destination in self.places.classes:
            sources = by_family[destination.place.family]
            counts.pairs += len(sources)
            for source in sources:
                if self.is_of_place(source, destination):
                    counts.pairs -= 1
                    continue
                if not self._may_differ(source, destination):
                    continue
                counts.looked_at += 1
                if counts.looked_at > MOST_PAIRS:
                    counts.left_out += 1
                    continue
                try:
                    yield from self._differing(source, destination)
                except TooManyPiecesError:
                    counts.left_out += 1
            yield None

    def is_of_place(self, source: Source, destination: AddressClass) -> bool:
        """Whether both are the same place: whoever is there needs no router."""
        return source.place == destination.place

    def start(self, source: Source, ways: Ways) -> Node:
        """The node at which packets of a source begin."""
        return ways.coming_in(source.port) if source.port >= 0 else ways.starting_at(source.instance)

    def _may_differ(self, source: Source, destination: AddressClass) -> bool:
        if self.is_up(source, 0) != self.is_up(source, 1):
            return True
        there, back = self.ways(destination), self.ways(source.addresses)
        node = self.start(source, there)
        if node in there.affected:
            return True
        if not back.affected:
            return False
        return not back.affected.isdisjoint(self._answering(there, back, node, 0))

    def _answering(self, there: Ways, back: Ways, node: Node, side: int) -> list[Node]:
        """The nodes from which answers may come, whatever filters let pass."""
        return answering(there.outlook(side, node).ends, back)

    def _differing(self, source: Source, destination: AddressClass) -> Iterator[Conversation]:
        up = self.is_up(source, 0), self.is_up(source, 1)
        if up[0] != up[1] and all(self._up_at[source.place.name]):
            return  # who is there goes by another port of the place, which is held by itself
        if not any(up):
            return
        there, back = self.ways(destination), self.ways(source.addresses)
        node = self.start(source, there)
        ahead = [there.outlook(side, node) for side in (0, 1) if up[side]]
        answers = [self._answering(there, back, node, side) for side in (0, 1) if up[side]]
        behind = [back.outlook(side, one) for side, some in zip((0, 1), answers, strict=False) for one in some]
        if any(end.verdict == "not followed" for one in (*ahead, *behind) for end in one.ends):
            self.counts.not_followed += 1
        lists = tuple(sorted({one for outlook in (*ahead, *behind) for one in outlook.lists}))
        spans = source.addresses.spans, destination.spans
        if not lists:
            sides = [self._plain(source, there, back, node, side, up[side]) for side in (0, 1)]
            if self._differs(source, there, back, node, sides):
                yield Conversation(source, destination, self.lists.space.everything, *spans, sides[0], sides[1])
            return
        for pair, there_holding, back_holding in self._parted(lists, spans):
            before, after = (
                self._by_pieces(source, there, back, node, side, up[side], (there_holding, back_holding))
                for side in (0, 1)
            )
            for services, one in before:
                for others, other in after:
                    if services & others and _courses(one) != _courses(other):
                        yield Conversation(source, destination, services & others, *pair, one, other)

    def _parted(
        self, lists: tuple[int, ...], spans: tuple[Spans, Spans]
    ) -> Iterator[tuple[tuple[Spans, Spans], dict[int, Entries], dict[int, Entries]]]:
        """The addresses of both places in parts that no entry tells apart, with what holds there and back."""
        sources, destinations = spans
        froms = self._both_ways(lists, sources)
        tos = self._both_ways(lists, destinations)
        may_hold = [tuple(_any_of(key[at][index] for key in tos) for index in range(len(lists))) for at in (1, 0)]
        alike = dict[object, list[Span]]()
        for key, some in froms.items():
            shown = tuple(tuple(one & other for one, other in zip(key[at], may_hold[at], strict=True)) for at in (0, 1))
            alike.setdefault(shown, []).extend(some)
        for from_key, from_spans in alike.items():
            to_alike = dict[object, list[Span]]()
            for to_key, some in tos.items():
                there = tuple(a & b for a, b in zip(from_key[0], to_key[1], strict=True))  # type: ignore[index]
                back = tuple(a & b for a, b in zip(from_key[1], to_key[0], strict=True))  # type: ignore[index]
                to_alike.setdefault((there, back), []).extend(some)
            for both, to_spans in to_alike.items():
                there, back = both  # type: ignore[misc]
                pair = tuple(sorted(from_spans)), tuple(sorted(to_spans))
                yield pair, dict(zip(lists, there, strict=True)), dict(zip(lists, back, strict=True))

    def _both_ways(
        self, lists: tuple[int, ...], spans: Spans
    ) -> dict[tuple[tuple[int, ...], tuple[int, ...]], list[Span]]:
        """Addresses by the entries that hold for them as a source and as a destination."""
        found = dict[tuple[tuple[int, ...], tuple[int, ...]], list[Span]]()
        for as_source, some in self.lists.parted(lists, spans, of_sources=True).items():
            for as_destination, part in self.lists.parted(lists, tuple(some), of_sources=False).items():
                found.setdefault((as_source, as_destination), []).extend(part)
        return found

    def _plain(self, source: Source, there: Ways, back: Ways, node: Node, side: int, is_up: bool) -> Sides:
        """A conversation with no filter on its ways."""
        if not is_up:
            return _cut_off(source), None
        way = from_outlook(there.outlook(side, node))
        answers = answering(way.ends, back)
        if not answers:
            return way, None
        found = [back.outlook(side, one) for one in answers]
        if len(found) == 1:
            return way, from_outlook(found[0])
        ends = frozenset(end for one in found for end in one.ends)
        passed = frozenset(one for outlook in found for one in outlook.passed)
        ways = 0 if any(one.ways == 0 for one in found) else sum(one.ways for one in found)
        return way, Way(frozenset(), ends, frozenset(), ways, max(one.longest for one in found), passed)

    def _differs(self, source: Source, there: Ways, back: Ways, node: Node, sides: list[Sides]) -> bool:
        if self.is_up(source, 0) != self.is_up(source, 1) or node in there.affected:
            return True
        return any(one in back.affected for one in answering(sides[0][0].ends, back))

    def _by_pieces(
        self,
        source: Source,
        there: Ways,
        back: Ways,
        node: Node,
        side: int,
        is_up: bool,
        held: tuple[dict[int, Entries], dict[int, Entries]],
    ) -> list[tuple[Services, Sides]]:
        """The conversations that filters tell apart in one state, which together are every service."""
        everything = self.lists.space.everything
        if not is_up:
            return [(everything, (_cut_off(source), None))]
        found = list[tuple[Services, Sides]]()
        for services, way in Follower(there, side, self.lists).follow([node], everything, held[0]):
            answers = answering(way.ends, back)
            if not answers:
                found.append((services, (way, None)))
                continue
            parts = Follower(back, side, self.lists).follow(answers, services, held[1], way.stateful)
            found += ((some, (way, answer)) for some, answer in parts)
        return found


def answering(ends: frozenset[End], back: Ways) -> list[Node]:
    """The nodes from which the answers come to what ended somewhere."""
    found = dict[Node, None]()
    for end in ends:
        if end.verdict in ANSWERED:
            found[back.coming_in(end.port) if end.port >= 0 else back.starting_at(end.instance)] = None
    return sorted(found)


def _cut_off(source: Source) -> Way:
    end = End("cut off", source.instance, source.port)
    return Way(frozenset(), frozenset([end]), frozenset(), 1, 0, frozenset([source.instance]))


def _courses(sides: Sides) -> tuple[object, object]:
    way, answer = sides
    return way.course, None if answer is None else answer.course


def _any_of(entries: Iterator[Entries]) -> Entries:
    found = 0
    for one in entries:
        found |= one
    return found
