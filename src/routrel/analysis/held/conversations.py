"""What becomes of every conversation between two places, before and after: the packet there, and its answer back.

Pairs are ruled out whole where neither direction meets anything that differs. Where no filter lies on the ways a pair
is one conversation; elsewhere it falls into those that the filters tell apart.
"""

from collections import Counter
from collections.abc import Iterable, Iterator, Sequence
from dataclasses import dataclass, field
from typing import NamedTuple

from routrel.analysis.held.differences import Differences
from routrel.analysis.held.entry_lists import Covered, Entries, EntryLists, Span, Spans, TooManyPiecesError
from routrel.analysis.held.following import followed
from routrel.analysis.held.places import AddressClass, Place, Places, Source
from routrel.analysis.held.services import Services, TooManyServicesError
from routrel.analysis.held.states import Node, Numbering, State
from routrel.analysis.held.ways import End, FollowedWays, Outlook, Way, Ways
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

Course = Way | Outlook
"""A way with what filters do on it, or, where there is none, all that lies before a packet."""

Sides = tuple[Course, Course | None]
"""The way there, and the way back where there is an answer."""

FilteredSides = tuple[Way, Way | None]
"""The same where filters stand on a way."""


class Part(NamedTuple):
    """Packets of some services between some addresses of two places."""

    services: Services
    from_spans: Spans
    to_spans: Spans


class Conversation(NamedTuple):
    """Packets between two places that all go alike, in both states."""

    source: Source
    destination: AddressClass
    parts: Sequence[Part]
    before: Sides
    after: Sides


class Asked(NamedTuple):
    """Packets from a node to a class of addresses: what lies before them by state, and the nodes that answer."""

    node: Node
    ahead: tuple[Outlook, Outlook]
    answers: tuple[tuple[Node, ...], tuple[Node, ...]]


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
        self._followed = FollowedWays()
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
            found = Ways(self.states, self.numbering, addresses, self.differences, self._followed)
            self._ways[addresses.number] = found
        return found

    def known_ways(self, addresses: AddressClass) -> Ways | None:
        """The same, None where there was too much to look at."""
        return self._ways[addresses.number]

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
        differs = [one != other for one, other in zip(*self.up, strict=True)]
        for family in (4, 6):
            of_family = [number for number, one in enumerate(self.places.sources) if one.place.family == family]
            candidates = _Candidates(self, of_family, differs)
            for destination in self.places.classes:
                if destination.place.family != family:
                    continue
                if self._is_too_much():
                    self.counts.past += len(of_family)
                else:
                    yield from self._to(destination, candidates.asking(self.ways(destination)), differs)
                yield None

    def _is_too_much(self) -> bool:
        return self.counts.looked_at > MOST_PAIRS or self.differences.decided > MOST_DECISIONS

    def _to(
        self, destination: AddressClass, sources: dict[Node, list[int]], differs: list[bool]
    ) -> Iterator[Conversation]:
        """What differs of all that some sources send to a class of addresses."""
        there, opaque = self.ways(destination), self.differences.opaque
        for node, numbers in sources.items():
            asked, is_affected = self._asked(there, node), node in there.affected
            for number in numbers:
                source = self.places.sources[number]
                if opaque and self._is_not_followed(source, asked, there):
                    self.counts.not_followed.add((source.place, destination.place))
                # Where no way there meets a difference, some answer may.
                if not is_affected and not differs[number]:
                    affected = self.ways(source.addresses).affected
                    if not affected or affected.isdisjoint(asked.answers[0]):
                        continue
                if source.place is destination.place or self.moves[number]:
                    continue  # whoever is at the same place needs no router
                self.counts.looked_at += 1
                try:
                    yield from self._differing(number, asked, there)
                except TooManyPiecesError:
                    self.counts.left_out.add((source.place, destination.place))
        self._followed.forget_many()

    def _asked(self, there: Ways, node: Node) -> Asked:
        """What lies before packets from a node, in both states."""
        ahead = there.outlook(0, node), there.outlook(1, node)
        answers = self.answering(ahead[0].ends)
        return Asked(node, ahead, (answers, answers if ahead[0] is ahead[1] else self.answering(ahead[1].ends)))

    def _count_pairs(self) -> int:
        froms, tos = {one.place for one in self.places.sources}, {one.place for one in self.places.classes}
        counts = [Counter(place.family for place in some) for some in (froms, tos, froms & tos)]
        return sum(counts[0][family] * counts[1][family] - counts[2][family] for family in (4, 6))

    def _start(self, source: Source) -> Node:
        """The node at which packets of a source begin."""
        if source.port >= 0:
            return self.differences.coming_in(source.port)
        return self.differences.starting_at(source.instance)

    def _is_not_followed(self, source: Source, asked: Asked, there: Ways) -> bool:
        """Whether some way, there or back, leads by a device that is not looked into, from one place to another."""
        if source.place is there.addresses.place:
            return False
        if asked.node in there.not_followed:
            return True
        return not self.ways(source.addresses).not_followed.isdisjoint(asked.answers[0])

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

    def _differing(self, number: int, asked: Asked, there: Ways) -> Iterator[Conversation]:
        """The conversations of a source that differ; all do where no filter stands on a way."""
        source, destination, everything = self.places.sources[number], there.addresses, self.lists.space.everything
        back, up = self.ways(source.addresses), (self.up[0][number], self.up[1][number])
        before = self._sides(0, asked, back) if up[0] else (_cut_off(source), None)
        after = self._sides(1, asked, back) if up[1] else (_cut_off(source), None)
        lists = _lists((before[0], after[0])), _lists((before[1], after[1]))
        if lists == ((), ()):
            whole = Part(everything, source.addresses.spans, destination.spans)
            yield Conversation(source, destination, (whole,), before, after)
            return
        pairs = [_Pair(self, there, back, asked.node, side) if up[side] else None for side in (0, 1)]
        end = _cut_off(source)
        cut_off: dict[FilteredSides, Services] = {
            (Way(frozenset(), end.ends, frozenset(), 1, 0, end.passed), None): everything
        }
        found = dict[tuple[FilteredSides, FilteredSides], list[Part]]()
        for spans, *held in self._parted(lists, source.addresses, destination):
            some, more = (cut_off if pair is None else pair.conversations(*held) for pair in pairs)
            for one, services in some.items():
                for other, others in more.items():
                    both = services & others
                    if both and one != other and _courses(one) != _courses(other):
                        found.setdefault((one, other), []).append(Part(both, *spans))
        for (one, other), parts in found.items():
            yield Conversation(source, destination, parts, one, other)

    def _sides(self, side: int, asked: Asked, back: Ways) -> tuple[Outlook, Outlook | None]:
        """What lies before a packet that was asked, and before its answers."""
        return asked.ahead[side], back.together(side, asked.answers[side])

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


class _Candidates:
    """Of the sources of a family, those whose packets to a class of addresses may go otherwise, or their answers."""

    def __init__(self, whole: Conversations, of_family: list[int], differs: list[bool]):
        self.whole, self.of_family = whole, of_family
        self.always = [number for number in of_family if differs[number]]
        """Those that can send or be answered in one state only."""
        self.at = dict[Node, list[int]]()
        """By the node at which their packets begin."""
        self.answered_at = dict[Node, list[int]]()
        """By the nodes from which answers to them may go another way."""
        for number in of_family:
            self.at.setdefault(whole.nodes[number], []).append(number)
            ways = whole.known_ways(whole.places.sources[number].addresses)
            if ways is None:
                self.always.append(number)
            else:
                for node in ways.affected:
                    self.answered_at.setdefault(node, []).append(number)

    def asking(self, there: Ways) -> dict[Node, list[int]]:
        """Those for a class of addresses, by the node at which their packets begin."""
        if self.whole.differences.opaque:
            return self.at  # it is said of all of them whether they are followed
        found = set(self.always)
        for node in there.affected:
            found.update(self.at.get(node, ()))
        for node in self.whole.answering(there.ends(0)):
            found.update(self.answered_at.get(node, ()))
        by_node = dict[Node, list[int]]()
        for number in sorted(found):
            by_node.setdefault(self.whole.nodes[number], []).append(number)
        return by_node


class _Pair:
    """What becomes of the packets between two places in one state, by what the filters on their ways do."""

    def __init__(self, whole: Conversations, there: Ways, back: Ways, node: Node, side: int):
        self.whole, self.there, self.back, self.node, self.side = whole, there, back, node, side
        self.lists = _lists([there.outlook(side, node)])
        self._ways: dict[tuple[object, ...], tuple[Way, tuple[Node, ...], Lists]] = {}

    def conversations(self, there: dict[int, Entries], back: dict[int, Entries]) -> dict[FilteredSides, Services]:
        """Every service by what becomes of it, between addresses for which some entries of the filters hold."""
        found = dict[FilteredSides, Services]()
        for services, does in self.whole.lists.told_apart(self.lists, there, is_answer=False):
            way, answers, lists = self._way(does)
            if not answers:
                found[way, None] = found.get((way, None), 0) | services
                continue
            for others, does_back in self.whole.lists.told_apart(lists, back, is_answer=True):
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
            answers = self.whole.answering(way.ends)
            lists = _lists(self.back.outlook(self.side, one) for one in answers)
            found = self._ways[does] = way, answers, lists
        return found


def _cut_off(source: Source) -> Outlook:
    end = End("cut off", source.instance, source.port)
    return Outlook(frozenset([end]), 1, 0, 1 << source.instance, frozenset())


def _courses(sides: FilteredSides) -> tuple[object, object]:
    way, answer = sides
    return way.course, None if answer is None else answer.course


def _lists(outlooks: Iterable[Outlook | None]) -> Lists:
    found = frozenset[int]()
    for one in outlooks:
        if one is not None and one.lists:
            found |= one.lists
    return tuple(sorted(found)) if found else ()


def _any_of(entries: Iterable[Entries]) -> Entries:
    found = 0
    for one in entries:
        found |= one
    return found


def _both(some: Covered, others: Covered) -> Covered:
    return tuple(one & other for one, other in zip(some, others, strict=True))
