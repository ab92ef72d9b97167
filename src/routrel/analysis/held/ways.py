"""The ways to one class of addresses in both states: where they differ, what lies on them, and who goes which.

Most ways meet no ACL and no forwarding policy: they are the same for all headers, and one pass over the instances
gives every one's ends, length and number of ways. Others are followed piece by piece (``following.py``).
"""

from dataclasses import dataclass
from typing import Any, NamedTuple

from routrel.analysis.held.decisions import Decisions, End
from routrel.analysis.held.instance_bits import bits_of
from routrel.analysis.held.states import Node

MOST_FOLLOWED = 50_000
"""Ways on which filters stand that are kept from one class of addresses to the next."""

REST = -2
"""Stands for the port that is led to where the rest of a way is not spelled out."""


class Outlook(NamedTuple):
    """What lies before a packet for a class of addresses, ACLs and policies aside.

    ``lists`` are those ACLs and policies; where there are none, it is what becomes of every packet. ``ways`` is 0
    where they go round. ``passed`` are routing instances, as bits.
    """

    ends: frozenset[End]
    ways: int
    longest: int
    passed: int
    lists: frozenset[int]


@dataclass(frozen=True, eq=False, slots=True)
class Way:
    """A way with all its branches; ``edges`` are pairs of ports, and of a node from which no filter lies, ``REST``.

    ``stateful`` are the devices that let its answer pass; ``ways`` is 0 where they go round; ``passed`` are routing
    instances, as bits. There is one object of each while it is kept: they are told apart a million times.
    """

    edges: frozenset[tuple[int, int]]
    ends: frozenset[End]
    stateful: frozenset[str]
    ways: int
    longest: int
    passed: int

    @property
    def course(self) -> tuple[object, object]:
        """What makes two ways the same."""
        return self.edges, self.ends


class FollowedWays:
    """Ways on which filters stand, as they were followed (``following.py``), for a while."""

    def __init__(self) -> None:
        self.by_what_filters_do: dict[tuple[object, ...], Way] = {}
        self._same: dict[tuple[object, ...], Way] = {}

    def one(self, *fields: Any) -> Way:
        """The one way with these fields."""
        found = self._same.get(fields)
        if found is None:
            found = self._same[fields] = Way(*fields)
        return found

    def forget_many(self) -> None:
        """Where they are many, keep none: there may be some for each of a million pairs of places."""
        if len(self.by_what_filters_do) > MOST_FOLLOWED:
            self.by_what_filters_do.clear()
            self._same.clear()


class Ways:
    """The ways to one class of addresses, by state (0: before, 1: after)."""

    def __init__(self, decisions: Decisions, followed: FollowedWays):
        self.decisions, self.differences, self.followed = decisions, decisions.differences, followed
        self._outlooks: tuple[dict[Node, Outlook], dict[Node, Outlook]] = ({}, {})
        self._goes_round = [False, False]
        self._onward: tuple[dict[Node, tuple[Node, ...]], dict[Node, tuple[Node, ...]]] = ({}, {})
        self.dirty = decisions.dirty()
        """Nodes that decide otherwise in the two states."""
        self.affected = self._before(self.dirty)
        """Nodes from which some way leads to such a one."""
        opaque = {-1 - one for one in self.differences.opaque}
        opaque |= set(map(self.differences.starting_at, self.differences.opaque))
        self.not_followed = self._before(opaque)
        """Nodes from which some way leads to a device whose filter program or routing rules decide."""
        self.ends = decisions.ends(0)
        """Wherever packets end before that are not blocked and do not go round."""

    def onward(self, side: int, node: Node) -> tuple[Node, ...]:
        """The nodes that follow on a node."""
        found = self._onward[side].get(node)
        if found is None:
            coming_in = self.differences.coming_in
            edges = (edge for decision in self.decisions.all_at(side, node) for edge in decision.edges)
            found = self._onward[side][node] = tuple([coming_in(edge.target) for edge in edges if edge.target >= 0])
        return found

    def _before(self, nodes: set[Node]) -> set[Node]:
        """Some nodes, and those before them on the ways as they were: what reaches no difference there goes the same
        way after."""
        found, waiting = set(nodes), list(nodes)
        while waiting:
            node = waiting.pop()
            instance = self.differences.instance_at(node)
            before = set[Node]()
            if node == -1 - instance:
                # What comes in by a filtered port is routed as all else.
                before |= self.differences.filtered_of[instance]
            for other in self.differences.adjacent[instance]:
                for one in (-1 - other, self.differences.starting_at(other), *self.differences.steered_of[other]):
                    if one not in found and node in self.onward(0, one):
                        before.add(one)
            waiting += before - found
            found |= before
        return found

    # Outlooks

    def outlook(self, side: int, node: Node) -> Outlook:
        """What lies before a packet at a node."""
        if side and node not in self.affected:
            side = 0  # it goes the same way
        known = self._outlooks[side]
        if node in known:
            return known[node]
        if not self._goes_round[side]:
            self._goes_round[side] = not self._look_ahead(side, node)
        if self._goes_round[side] and node not in known:
            known[node] = self._all_ahead(side, node)
        return known[node]

    def together(self, side: int, nodes: tuple[Node, ...]) -> Outlook | None:
        """What lies before a packet that may be at several nodes; None where it is nowhere."""
        if len(nodes) == 1:
            return self.outlook(side, nodes[0])
        outlooks = [self.outlook(side, node) for node in nodes]
        if not outlooks:
            return None
        passed = 0
        for one in outlooks:
            passed |= one.passed
        return Outlook(
            frozenset[End]().union(*[one.ends for one in outlooks]),
            0 if any(one.ways == 0 for one in outlooks) else sum(one.ways for one in outlooks),
            max(one.longest for one in outlooks),
            passed,
            frozenset[int]().union(*[one.lists for one in outlooks]),
        )

    def _look_ahead(self, side: int, start: Node) -> bool:
        """Outlooks of a node and all after it, each from those that follow; False where ways go round."""
        known, under_way = self._outlooks[side], set[Node]()
        waiting = [start]
        while waiting:
            node = waiting[-1]
            if node in known:
                waiting.pop()
                continue
            following = [one for one in self.onward(side, node) if one not in known]
            if not following:
                known[node] = self._from_following(side, node)
                under_way.discard(node)
                waiting.pop()
                continue
            under_way.add(node)
            if not under_way.isdisjoint(following):
                return False
            waiting += following
        return True

    def _own_part(self, side: int, node: Node) -> tuple[set[End], set[int], int]:
        """The ends that ways have at a node itself, the lists that are asked there, and how many ways end."""
        ends = list(self.decisions.ends_at(side, node))
        lists = {edge.acl for one in self.decisions.all_at(side, node) for edge in one.edges}
        if node >= 0:
            lists |= {self.decisions.states[side].acl_in[node], self.decisions.policy_at(side, node)}
        lists.discard(-1)
        return set(ends), lists, len(ends)

    def _from_following(self, side: int, node: Node) -> Outlook:
        known = self._outlooks[side]
        decision = self.decisions.at(side, node)
        if node < 0 and not decision.verdict and len(decision.edges) == 1:
            # As at most nodes: one way on, nothing asked.
            (edge,) = decision.edges
            if edge.acl < 0 and edge.target >= 0:
                one = known[self.differences.coming_in(edge.target)]
                passed = one.passed | 1 << self.differences.instance_at(node)
                return Outlook(one.ends, one.ways, one.longest + 1, passed, one.lists)
        ends, lists, ways = self._own_part(side, node)
        after = [known[one] for one in self.onward(side, node)]
        passed = 1 << self.differences.instance_at(node)
        for one in after:
            passed |= one.passed
        alike = self.differences.alike
        return Outlook(
            alike(frozenset(ends).union(*[one.ends for one in after])),
            ways + sum(one.ways for one in after),
            max([one.longest + 1 for one in after], default=0),
            passed,
            alike(frozenset(lists).union(*[one.lists for one in after])),
        )

    def _all_ahead(self, side: int, start: Node) -> Outlook:
        """The same where ways go round: by every node that can be reached."""
        seen, waiting = {start}, [start]
        ends, lists = set[End](), set[int]()
        after = dict[Node, list[Node]]()
        while waiting:
            node = waiting.pop()
            own_ends, own_lists, _ = self._own_part(side, node)
            ends |= own_ends
            lists |= own_lists
            after[node] = list(self.onward(side, node))
            new = set(after[node]) - seen
            seen |= new
            waiting += new
        round_at = circling(after)
        ends |= {End("loops", self.differences.instance_at(node)) for node in round_at}
        passed = bits_of(map(self.differences.instance_at, seen))
        return Outlook(frozenset(ends), 0 if round_at else len(ends), len(seen), passed, frozenset(lists))


def circling(after: dict[Node, list[Node]]) -> set[Node]:
    """Nodes on a way that comes back to itself: what is left once all that ends or begins is taken away."""
    left = {node: set(following) for node, following in after.items()}
    for _ in range(2):
        before = dict[Node, set[Node]]()
        for node, following in left.items():
            for one in following:
                before.setdefault(one, set()).add(node)
        waiting = [node for node, following in left.items() if not following]
        while waiting:
            node = waiting.pop()
            left.pop(node)
            for one in before.get(node, ()):
                if one in left:
                    left[one].discard(node)
                    if not left[one]:
                        waiting.append(one)
        left = {node: {one for one, others in left.items() if node in others} for node in left}
    return set(left)
