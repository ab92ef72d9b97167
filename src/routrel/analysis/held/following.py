"""Packets followed piece by piece where filters tell them apart: each piece goes one way.

This is the walk (``forwarding/walk.py``) over sets of services between addresses that no filter on the way parts,
with the same order at each stop, and the same rule for what lets an answer pass (``stateful_devices``).
"""

from collections.abc import Iterator, Mapping
from dataclasses import dataclass, field
from typing import NamedTuple

from routrel.analysis.held.entry_lists import Entries, EntryLists
from routrel.analysis.held.services import Services
from routrel.analysis.held.states import Decision, Edge, Node
from routrel.analysis.held.ways import End, Outlook, Ways, circling

MOST_PIECES = 4_096
"""Pieces that packets from one place to another may fall into."""


class TooManyPiecesError(Exception):
    """Filters that part packets into more pieces than are followed."""


class Way(NamedTuple):
    """A way with all its branches; ``edges`` are pairs of ports. ``stateful`` are the devices that let its answer
    pass."""

    edges: frozenset[tuple[int, int]]
    ends: frozenset[End]
    stateful: frozenset[str]
    ways: int
    longest: int
    passed: frozenset[int]

    @property
    def course(self) -> tuple[object, object]:
        """What makes two ways the same."""
        return self.edges, self.ends


@dataclass
class _Piece:
    services: Services
    pending: list[Node]
    seen: set[Node] = field(default_factory=set)
    edges: dict[tuple[int, int], tuple[Node, Node]] = field(default_factory=dict)
    ends: set[End] = field(default_factory=set)
    end_count: dict[Node, int] = field(default_factory=dict)
    stateful: set[str] = field(default_factory=set)

    def part(self, services: Services) -> "_Piece":
        """The same so far for some of its services."""
        return _Piece(
            services,
            list(self.pending),
            set(self.seen),
            dict(self.edges),
            set(self.ends),
            dict(self.end_count),
            set(self.stateful),
        )


class Follower:
    """Follows packets to one class of addresses in one state."""

    def __init__(self, ways: Ways, side: int, lists: EntryLists):
        self.ways, self.side, self.lists = ways, side, lists
        self.state = ways.states[side]

    def follow(
        self,
        starts: list[Node],
        services: Services,
        holding: Mapping[int, Entries],
        passing: frozenset[str] | None = None,
    ) -> list[tuple[Services, Way]]:
        """The pieces that packets fall into, each with its way; ``passing`` are devices that let an answer pass, None
        where the packets are no answer. ``holding`` has the entries of each filter that hold for the addresses."""
        done, waiting = list[_Piece](), [_Piece(services, list(starts))]
        while waiting:
            piece = waiting.pop()
            while piece.pending:
                node = piece.pending.pop()
                if node in piece.seen:
                    continue
                parts = list(self._stop(piece, node, holding, passing))
                piece, others = parts[0], parts[1:]
                waiting += others
                if len(waiting) + len(done) > MOST_PIECES:
                    raise TooManyPiecesError
            done.append(piece)
        return [(piece.services, self._way(piece, starts)) for piece in done]

    def _stop(
        self, piece: _Piece, node: Node, holding: Mapping[int, Entries], passing: frozenset[str] | None
    ) -> Iterator[_Piece]:
        instance = self.ways.instance_at(node)
        device = self.ways.numbering.instances[instance][0]
        lets_pass = passing is not None and device in passing
        is_answer = passing is not None
        piece.seen.add(node)
        for steered, decision in self._steered(node, holding, is_answer):
            acl = -1 if node < 0 or self.state.is_opaque(instance) else self.state.acl_in[node]
            for services, accepted, is_stateful in self._checked(
                piece.services & steered, acl, holding, is_answer, lets_pass
            ):
                part = piece.part(services)
                if not accepted and not decision.is_shown_first:
                    part.ends.add(End("blocked", instance, node))
                    part.end_count[node] = 1
                    yield part
                elif decision.verdict:
                    part.ends.add(End(decision.verdict, instance))
                    part.end_count[node] = 1
                    if decision.verdict == "arrives" and is_stateful:
                        part.stateful.add(device)
                    yield part
                else:
                    yield from self._send(part, node, decision.edges, holding, is_stateful, (is_answer, lets_pass))

    def _steered(self, node: Node, holding: Mapping[int, Entries], is_answer: bool) -> list[tuple[Services, Decision]]:
        by_table = self.ways.decision(self.side, node)
        policy = self.ways.policy_at(self.side, node)
        if policy < 0:
            return [(self.lists.space.everything, by_table)]
        found = []
        for services, entry in self.lists.steered(policy, holding[policy], is_answer):
            steered = None if entry is None else self.state.by_entry(node, entry, self.ways.addresses.address)
            found.append((services, by_table if steered is None else steered))
        return found

    def _checked(
        self, services: Services, acl: int, holding: Mapping[int, Entries], is_answer: bool, lets_pass: bool
    ) -> Iterator[tuple[Services, bool, bool]]:
        """Services that an ACL accepts, statefully or not, and those that it does not."""
        if acl < 0 or lets_pass:
            if services:
                yield services, True, False
            return
        passed = self.lists.passed(acl, holding[acl], is_answer)
        for some, accepted, is_stateful in (
            (services & passed.stateless, True, False),
            (services & passed.stateful, True, True),
            (services & ~(passed.stateless | passed.stateful), False, False),
        ):
            if some:
                yield some, accepted, is_stateful

    def _send(
        self,
        piece: _Piece,
        node: Node,
        edges: tuple[Edge, ...],
        holding: Mapping[int, Entries],
        came_in_stateful: bool,
        answering: tuple[bool, bool],
    ) -> Iterator[_Piece]:
        instance = self.ways.instance_at(node)
        device = self.ways.numbering.instances[instance][0]
        parts = [piece]
        for edge in edges:
            parted = []
            for part in parts:
                for services, accepted, is_stateful in self._checked(part.services, edge.acl, holding, *answering):
                    one = part.part(services)
                    if accepted and (is_stateful or came_in_stateful):
                        one.stateful.add(device)
                    if not accepted or edge.target < 0:
                        one.ends.add(End(edge.verdict if accepted else "blocked", instance, edge.port))
                        one.end_count[node] = one.end_count.get(node, 0) + 1
                    else:
                        onward = self.ways.coming_in(edge.target)
                        one.edges[edge.port, edge.target] = node, onward
                        one.pending.append(onward)
                    parted.append(one)
            parts = parted
        yield from parts

    def _way(self, piece: _Piece, starts: list[Node]) -> Way:
        after: dict[Node, list[Node]] = {node: [] for node in piece.seen}
        for node, onward in piece.edges.values():
            after[node].append(onward)
        ends, passed = set(piece.ends), frozenset(map(self.ways.instance_at, piece.seen))
        round_at = circling(after)
        if round_at:
            ends |= {End("loops", self.ways.instance_at(node)) for node in round_at}
            ways, longest = 0, len(after)
        else:
            ways, longest = _measured(after, piece.end_count, starts)
        return Way(frozenset(piece.edges), frozenset(ends), frozenset(piece.stateful), ways, longest, passed)


def _measured(after: dict[Node, list[Node]], ends: dict[Node, int], starts: list[Node]) -> tuple[int, int]:
    """How many ways there are, and the links on the longest: of nodes whose ways do not go round."""
    known = dict[Node, tuple[int, int]]()
    waiting = list(starts)
    while waiting:
        node = waiting[-1]
        left = [one for one in after[node] if one not in known]
        if left:
            waiting += left
            continue
        following = [known[one] for one in after[node]]
        count = ends.get(node, 0) + sum(one[0] for one in following)
        known[node] = count, max((one[1] + 1 for one in following), default=0)
        waiting.pop()
    return sum(known[one][0] for one in set(starts)), max(known[one][1] for one in starts)


def from_outlook(outlook: Outlook) -> Way:
    """The way of every packet where no filter lies before it."""
    return Way(frozenset(), outlook.ends, frozenset(), outlook.ways, outlook.longest, outlook.passed)
