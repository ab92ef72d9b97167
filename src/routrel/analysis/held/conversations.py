"""What becomes of every conversation between two places, before and after: the packet there, and its answer back.

Places that all goes alike to and from are looked at together, and ruled out whole where neither direction meets
anything that differs. Where no filter lies on the ways all between two places is one conversation; elsewhere it falls
into those that the filters tell apart.
"""

from collections import Counter
from collections.abc import Hashable, Iterator, Sequence
from dataclasses import dataclass, field
from itertools import islice
from typing import NamedTuple

from routrel.analysis.held.conversation import Conversation
from routrel.analysis.held.decisions import Decisions, End
from routrel.analysis.held.differences import Differences
from routrel.analysis.held.entry_lists import TooManyPiecesError
from routrel.analysis.held.filtered import Apart, CutOff, Filtered, Sending, conversations, lists_of
from routrel.analysis.held.first_state import FirstState
from routrel.analysis.held.places import AddressClass, Place, Places, Source
from routrel.analysis.held.senders import Candidates, Senders
from routrel.analysis.held.services import TooManyServicesError
from routrel.analysis.held.states import Node, State
from routrel.analysis.held.ways import FollowedWays, Outlook, Ways
from routrel.routing.solve import Solved

MOST_PAIRS = 800_000
"""Pairs that are looked at, within the memory of a work process; those past it are counted as not held against each
other."""

MOST_KEPT = 12_000_000
"""Decisions of routing instances about classes of addresses that are kept while all is compared."""

MOST_MADE = 60_000_000
"""Those that are made, a few minutes' worth: of classes that all goes alike to, only the first one's are kept."""

ANSWERED = ("arrives", "delivered", "leaves")
"""Ends from which an answer may come."""

Pairs = Sequence[tuple[Source, AddressClass]]


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

    def __init__(self, before: Solved | FirstState, after: Solved):
        first = before if isinstance(before, FirstState) else FirstState(before)
        self.numbering, self.lists, state = first.beside(after)
        self.states = state, State(after, self.numbering, self.lists)
        self.is_left_out = False
        """Whether nothing can be held against each other, since filters name too many ports."""
        try:
            self.lists.close()
        except TooManyServicesError:
            self.is_left_out = True
        self.places = Places(*self.states, self.numbering)
        self.differences = Differences(self.states, self.numbering)
        self.counts = Counts()
        self._apart = Apart(self.lists)
        self._ways: dict[int, Ways] = {}
        """By the numbers of classes of addresses."""
        self._by_likeness: dict[Hashable, Ways] = {}
        self._made = self._kept = 0
        """How many decisions were made, and are kept."""
        self._followed = FollowedWays()
        self._answering: dict[frozenset[End], tuple[Node, ...]] = {}

    def ways(self, addresses: AddressClass) -> Ways:
        """The ways to a class of addresses, or to another that all goes alike to."""
        found = self._ways.get(addresses.number)
        if found is None:
            decisions = Decisions(self.states, addresses, self.differences)
            likeness = decisions.likeness()
            found = self._by_likeness.get(likeness)
            if found is None:
                found = self._by_likeness[likeness] = Ways(decisions, self._followed)
                self._kept += decisions.count
            self._made += decisions.count
            self._ways[addresses.number] = found
        return found

    @property
    def steps(self) -> int:
        """How many steps all takes: the ways to each class of addresses, then what comes of them."""
        return 2 * len(self.places.classes)

    def changed(self) -> Iterator[Conversation | None]:
        """Every conversation that differs; None after each step."""
        self.counts.pairs = self._count_pairs()
        if self.is_left_out:
            return
        alike = dict[Ways, list[AddressClass]]()
        for addresses in self.places.classes:
            if not self._is_too_much():
                alike.setdefault(self.ways(addresses), []).append(addresses)
            yield None
        for family in (4, 6):
            candidates = Candidates(self._senders(family), self.answering, bool(self.differences.opaque))
            sources = sum(source.place.family == family for source in self.places.sources)
            for ways, some in alike.items():
                if some[0].place.family != family:
                    continue
                if self._is_too_much():
                    self.counts.past += sources * len(some)
                else:
                    yield from self._to(some, ways, candidates)
                yield from [None] * len(some)
            left = sum(one.place.family == family and one.number not in self._ways for one in self.places.classes)
            self.counts.past += sources * left
            yield from [None] * left

    def _is_too_much(self) -> bool:
        pairs = max(self.counts.looked_at, len(self.counts.not_followed))
        return pairs > MOST_PAIRS or self._kept > MOST_KEPT or self._made > MOST_MADE

    def _senders(self, family: int) -> list[Senders]:
        """The sources of a family to which the ways are known, those together that all goes alike to and from."""
        alike = dict[tuple[object, ...], Senders]()
        up_at = [{one.place for one in self.places.sources if self.is_up(one, side)} for side in (0, 1)]
        for source in self.places.sources:
            back, is_up = self._ways.get(source.addresses.number), (self.is_up(source, 0), self.is_up(source, 1))
            if source.place.family != family or back is None or not any(is_up):
                continue
            moves = is_up[0] != is_up[1] and source.place in up_at[0] & up_at[1]
            key = self._start(source), is_up, moves, source.instance, source.place.kind == "outside", back
            alike.setdefault(key, Senders(*key, [])).sources.append(source)
        return list(alike.values())

    def is_up(self, source: Source, side: int) -> bool:
        """Whether a source can send at all in a state."""
        state = self.states[side]
        if source.port >= 0:
            return state.has_port(source.port)
        return source.instance in source.addresses.owners[side]

    def _to(self, destinations: list[AddressClass], there: Ways, candidates: Candidates) -> Iterator[Conversation]:
        """What differs of all that is sent to some classes of addresses to which all goes alike."""
        for node, some in candidates.asking(there).items():
            asked, is_affected = self._asked(there, node), node in there.affected
            for senders in some:
                back = senders.back
                is_followed = node not in there.not_followed and back.not_followed.isdisjoint(asked.answers[0])
                # Where no way there meets a difference, some answer may.
                is_alike = not (is_affected or senders.differ) and back.affected.isdisjoint(asked.answers[0])
                if is_followed and is_alike:
                    continue
                pairs = self._pairs(senders, destinations)
                if not is_followed:
                    self.counts.not_followed |= {(source.place, destination.place) for source, destination in pairs}
                if pairs and not is_alike and not senders.moves:
                    self.counts.looked_at += len(pairs)
                    yield from self._differing(pairs, senders, asked, there)
        self._followed.forget_many()

    def _pairs(self, senders: Senders, destinations: list[AddressClass]) -> Pairs:
        """Some senders with some classes, as many as may still be looked at: the rest is counted as past."""
        room = MOST_PAIRS + 1 - max(self.counts.looked_at, len(self.counts.not_followed))
        every = (
            (source, destination)
            for source in senders.sources
            for destination in destinations
            if source.place is not destination.place  # whoever is at the same place needs no router
        )
        found = list(islice(every, max(0, room)))
        if len(found) >= room:
            self.counts.past += len(senders.sources) * len(destinations) - len(found)
        return found

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

    def _differing(self, pairs: Pairs, senders: Senders, asked: Asked, there: Ways) -> Iterator[Conversation]:
        """The conversations of some senders that differ; all do where no filter stands on a way."""
        everything, back, is_up, cut_off = self.lists.space.everything, senders.back, senders.is_up, _cut_off(senders)
        before, after = (
            (asked.ahead[side], back.together(side, asked.answers[side])) if is_up[side] else (cut_off, None)
            for side in (0, 1)
        )
        lists = lists_of((before[0], after[0])), lists_of((before[1], after[1]))
        if lists == ((), ()):
            yield Conversation(pairs, everything, before, after)
            return
        one, other = (
            Filtered(self.lists, Sending(there, back, asked.node, side, self.answering))
            if is_up[side]
            else CutOff(cut_off, everything)
            for side in (0, 1)
        )
        for source, destination in pairs:
            try:
                yield from conversations(self._apart, lists, source, destination, (one, other))
            except TooManyPiecesError:
                self.counts.left_out.add((source.place, destination.place))


def _cut_off(senders: Senders) -> Outlook:
    end = End("cut off", senders.instance, senders.sources[0].port)
    return Outlook(frozenset([end]), 1, 0, 1 << senders.instance, frozenset())
