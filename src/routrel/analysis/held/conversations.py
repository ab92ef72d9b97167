"""What becomes of every conversation between two places, before and after: the packet there, and its answer back.

Pairs are ruled out whole where neither direction meets anything that differs. Where no filter lies on the ways a pair
is one conversation; elsewhere it falls into those that the filters tell apart.
"""

from collections import Counter
from collections.abc import Iterable, Iterator
from dataclasses import dataclass, field
from typing import NamedTuple

from routrel.analysis.held.differences import Differences
from routrel.analysis.held.entry_lists import Covered, Entries, EntryLists, Span, Spans, TooManyPiecesError
from routrel.analysis.held.following import Walked, Way, from_outlook
from routrel.analysis.held.places import AddressClass, Place, Places, Source
from routrel.analysis.held.services import Services, TooManyServicesError
from routrel.analysis.held.states import Node, Numbering, State
from routrel.analysis.held.ways import End, Outlook, Ways
from routrel.routing.solve import Solved

MOST_PAIRS = 800_000
"""Pairs that are looked at, within the memory of a work process; those past it are counted as not held against each
other."""

MOST_DECISIONS = 12_000_000
"""Decisions of routing instances about classes of addresses that are made: they are kept while all is compared."""

ANSWERED = ("arrives", "delivered", "leaves")
"""Ends from which an answer may come."""

Lists = tuple[int, ...]
"""Numbers of filters, ascending."""

BothWays = tuple[Covered, Covered]
"""Of several filters, the entries that hold for an address as a source, and as a destination."""

NOTHING_AHEAD = Outlook(frozenset(), 0, 0, 0, frozenset())

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
    """How many pairs of places there are, and what was not looked at."""

    pairs: int = 0
    looked_at: int = 0
    """Pairs of a source and a class of addresses of which some way differs, ACLs and policies aside."""
    left_out: set[tuple[Place, Place]] = field(default_factory=set)
    """In too many pieces."""
    past: int = 0
    """Pairs of a source and a class past the most that are looked at."""
    not_followed: set[tuple[Place, Place]] = field(default_factory=set)
    """Some way leads to a device whose filter program or routing rules decide."""


class Conversations:
    """All conversations of two states of a network."""

    def __init__(self, before: Solved, after: Solved):
        self.numbering = Numbering((before.topology, after.topology))
        self.lists = EntryLists()
        self.states = State(before, self.numbering, self.lists), State(after, self.numbering, self.lists)
        self.is_left_out = False
        """Whether nothing can be held against each other, since filters name too many ports."""
        try:
            self.lists.close()
        except TooManyServicesError:
            self.is_left_out = True
        self.places = Places(*self.states, self.numbering)
        self.differences = Differences(self.states, self.numbering)
        self.counts = Counts()
        self._addresses_apart: dict[tuple[Lists, Lists, int], dict[BothWays, list[Span]]] = {}
        self._ways: list[Ways | None] = [None] * len(self.places.classes)
        self._answering: dict[frozenset[End], tuple[Node, ...]] = {}
        self.up = [[self._is_up(source, side) for source in self.places.sources] for side in (0, 1)]
        """By state and source, whether it can send at all."""
        self.nodes = [self._start(source) for source in self.places.sources]
        """By source, the node at which its packets begin."""
        self.moves = self._moving()
        """By source, whether whoever is there only goes by another port of the place in the other state."""

    def ways(self, addresses: AddressClass) -> Ways:
        """The ways to a class of addresses."""
        found = self._ways[addresses.number]
        if found is None:
            found = Ways(self.states, self.numbering, addresses, self.differences)
            self._ways[addresses.number] = found
        return found

    def _is_up(self, source: Source, side: int) -> bool:
        """Whether a source can send at all in a state."""
        state = self.states[side]
        if source.port >= 0:
            return state.has_port(source.port)
        return source.instance in source.addresses.owners[side]

    def _moving(self) -> list[bool]:
        up_at = [
            {source.place for source, is_up in zip(self.places.sources, up, strict=True) if is_up} for up in self.up
        ]
        return [
            one != other and source.place in up_at[0] & up_at[1]
            for source, one, other in zip(self.places.sources, *self.up, strict=True)
        ]

    @property
    def steps(self) -> int:
        """How many steps all takes: the ways to each class of addresses, then what comes of them."""
        return 2 * len(self.places.classes)

    def changed(self) -> Iterator[Conversation | None]:
        """Every conversation that differs; None after each step."""
        self.counts.pairs = self._count_pairs()
        if self.is_left_out:
            return
        for addresses in self.places.classes:
            if not self._is_too_much():
                self.ways(addresses)
            yield None
        sources = [*enumerate(self.places.sources)]
        differs = [one != other for one, other in zip(*self.up, strict=True)]
        for family in (4, 6):
            all_of_family = [(number, one) for number, one in sources if one.place.family == family]
            # Where nothing differs on the way there, it is for who can send or be answered otherwise to be looked at.
            few = [
                (number, one)
                for number, one in all_of_family
                if differs[number] or self._ways[one.addresses.number] is None or self.ways(one.addresses).affected
            ]
            for destination in self.places.classes:
                if destination.place.family != family:
                    continue
                if self._is_too_much():
                    self.counts.past += len(all_of_family)
                else:
                    is_few = not self.ways(destination).affected and not self.differences.opaque
                    some = few if is_few else all_of_family
                    yield from self._to(destination, some, differs)
                yield None

    def _is_too_much(self) -> bool:
        return self.counts.looked_at > MOST_PAIRS or self.differences.decided > MOST_DECISIONS

    def _to(
        self, destination: AddressClass, sources: list[tuple[int, Source]], differs: list[bool]
    ) -> Iterator[Conversation]:
        """What differs of all that some sources send to a class of addresses."""
        there, opaque = self.ways(destination), self.differences.opaque
        for number, source in sources:
            if opaque and self._is_not_followed(number, destination):
                self.counts.not_followed.add((source.place, destination.place))
            if not (
                differs[number] or self.nodes[number] in there.affected or self._is_answered_otherwise(number, there)
            ):
                continue
            if self.is_of_place(source, destination) or self.moves[number]:
                continue
            self.counts.looked_at += 1
            try:
                yield from self._differing(number, destination)
            except TooManyPiecesError:
                self.counts.left_out.add((source.place, destination.place))

    def _count_pairs(self) -> int:
        froms, tos = {one.place for one in self.places.sources}, {one.place for one in self.places.classes}
        counts = [Counter(place.family for place in some) for some in (froms, tos, froms & tos)]
        return sum(counts[0][family] * counts[1][family] - counts[2][family] for family in (4, 6))

    def is_of_place(self, source: Source, destination: AddressClass) -> bool:
        """Whether both are the same place: whoever is there needs no router."""
        return source.place == destination.place

    def _start(self, source: Source) -> Node:
        """The node at which packets of a source begin."""
        if source.port >= 0:
            return self.differences.coming_in(source.port)
        return self.differences.starting_at(source.instance)

    def _is_answered_otherwise(self, number: int, there: Ways) -> bool:
        """Whether some way of the answers meets a difference, where none does on the way there."""
        affected = self.ways(self.places.sources[number].addresses).affected
        return bool(affected) and not affected.isdisjoint(self.answering(there.outlook(0, self.nodes[number]).ends))

    def _is_not_followed(self, number: int, destination: AddressClass) -> bool:
        """Whether some way, there or back, leads by a device that is not looked into, from one place to another."""
        source, there = self.places.sources[number], self.ways(destination)
        if self.is_of_place(source, destination):
            return False
        if self.nodes[number] in there.not_followed:
            return True
        answers = self.answering(there.outlook(0, self.nodes[number]).ends)
        return not self.ways(source.addresses).not_followed.isdisjoint(answers)

    def answering(self, ends: frozenset[End]) -> tuple[Node, ...]:
        """The nodes from which the answers come to what ended somewhere."""
        found = self._answering.get(ends)
        if found is None:
            of_end = (
                self.differences.coming_in(end.port) if end.port >= 0 else self.differences.starting_at(end.instance)
                for end in ends
                if end.verdict in ANSWERED
            )
            found = self._answering[ends] = tuple(sorted(set(of_end)))
        return found

    def _differing(self, number: int, destination: AddressClass) -> Iterator[Conversation]:
        source, up = self.places.sources[number], (self.up[0][number], self.up[1][number])
        there, back, node = self.ways(destination), self.ways(source.addresses), self.nodes[number]
        ahead = [there.outlook(side, node) if up[side] else NOTHING_AHEAD for side in (0, 1)]
        answers = [self.answering(one.ends) for one in ahead]
        behind = [back.outlook(side, one) for side in (0, 1) for one in answers[side]]
        lists = _lists(ahead), _lists(behind)
        if not any(lists):
            if up[0] != up[1] or node in there.affected or not back.affected.isdisjoint(answers[0]):
                plain = (
                    (from_outlook(ahead[side]), _together([back.outlook(side, one) for one in answers[side]]))
                    if up[side]
                    else (_cut_off(source), None)
                    for side in (0, 1)
                )
                whole = source.addresses.spans, destination.spans
                yield Conversation(source, destination, self.lists.space.everything, *whole, *plain)
            return
        pairs = [_Pair(self, there, back, node, side) if up[side] else None for side in (0, 1)]
        cut_off: dict[Sides, Services] = {(_cut_off(source), None): self.lists.space.everything}
        for spans, *held in self._parted(lists, source.addresses, destination):
            before, after = (cut_off if pair is None else pair.conversations(*held) for pair in pairs)
            for one, services in before.items():
                for other, others in after.items():
                    if services & others and _courses(one) != _courses(other):
                        yield Conversation(source, destination, services & others, *spans, one, other)

    def _parted(
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
        found = self._addresses_apart.get(key)
        if found is None:
            found = self._addresses_apart[key] = {}
            for as_source, some in self.lists.parted(lists[0], addresses.spans, of_sources=True).items():
                for as_destination, part in self.lists.parted(lists[1], tuple(some), of_sources=False).items():
                    found.setdefault((as_source, as_destination), []).extend(part)
        return found


class _Pair:
    """What becomes of the packets between two places in one state, by what the filters on their ways do."""

    def __init__(self, whole: Conversations, there: Ways, back: Ways, node: Node, side: int):
        self.whole, self.there, self.back, self.node, self.side = whole, there, back, node, side
        self.lists = _lists([there.outlook(side, node)])
        self._ways: dict[tuple[object, ...], tuple[Way, tuple[Node, ...], Lists]] = {}
        self._answers: dict[tuple[Way, tuple[object, ...]], Sides] = {}

    def conversations(self, there: dict[int, Entries], back: dict[int, Entries]) -> dict[Sides, Services]:
        """Every service by what becomes of it, between addresses for which some entries of the filters hold."""
        found = dict[Sides, Services]()
        for services, does in self.whole.lists.told_apart(self.lists, there, is_answer=False):
            way, answers, lists = self._way(does)
            if not answers:
                found[way, None] = found.get((way, None), 0) | services
                continue
            for others, does_back in self.whole.lists.told_apart(lists, back, is_answer=True):
                both = services & others
                if both:
                    sides = self._answered(way, answers, lists, does_back)
                    found[sides] = found.get(sides, 0) | both
        return found

    def _way(self, does: tuple[object, ...]) -> tuple[Way, tuple[Node, ...], Lists]:
        """The way there, the nodes that answer, and the filters that lie before the answers."""
        found = self._ways.get(does)
        if found is None:
            way = Walked(self.there, self.side, dict(zip(self.lists, does, strict=True)), None).way((self.node,))
            answers = self.whole.answering(way.ends)
            lists = _lists(self.back.outlook(self.side, one) for one in answers)
            found = self._ways[does] = way, answers, lists
        return found

    def _answered(self, way: Way, answers: tuple[Node, ...], lists: Lists, does: tuple[object, ...]) -> Sides:
        found = self._answers.get((way, does))
        if found is None:
            walked = Walked(self.back, self.side, dict(zip(lists, does, strict=True)), way.stateful)
            found = self._answers[way, does] = way, walked.way(answers)
        return found


def _together(outlooks: list[Outlook]) -> Way | None:
    """The way of an answer that may come from several places, no filter before any of them."""
    if not outlooks:
        return None
    if len(outlooks) == 1:
        return from_outlook(outlooks[0])
    passed = 0
    for one in outlooks:
        passed |= one.passed
    return Way(
        frozenset(),
        frozenset[End]().union(*[one.ends for one in outlooks]),
        frozenset(),
        0 if any(one.ways == 0 for one in outlooks) else sum(one.ways for one in outlooks),
        max(one.longest for one in outlooks),
        passed,
    )


def _cut_off(source: Source) -> Way:
    end = End("cut off", source.instance, source.port)
    return Way(frozenset(), frozenset([end]), frozenset(), 1, 0, 1 << source.instance)


def _courses(sides: Sides) -> tuple[object, object]:
    way, answer = sides
    return way.course, None if answer is None else answer.course


def _lists(outlooks: Iterable[Outlook]) -> Lists:
    return tuple(sorted({one for outlook in outlooks for one in outlook.lists}))


def _any_of(entries: Iterable[Entries]) -> Entries:
    found = 0
    for one in entries:
        found |= one
    return found


def _both(some: Covered, others: Covered) -> Covered:
    return tuple(one & other for one, other in zip(some, others, strict=True))
