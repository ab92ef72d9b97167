"""Packets followed where filters stand on the way: once for every combination of what those filters do.

This is the walk (``forwarding/walk.py``) for all packets that every filter ahead treats alike, with the same order at
each stop, and the same rule for what lets an answer pass (``stateful_devices``).
"""

from collections.abc import Mapping

from routrel.analysis.held.decisions import End
from routrel.analysis.held.entry_lists import ACCEPTS, ACCEPTS_STATEFULLY
from routrel.analysis.held.instance_bits import bits_of
from routrel.analysis.held.states import Decision, Node
from routrel.analysis.held.ways import REST, Outlook, Way, Ways, circling

Done = Mapping[int, object]
"""By filter, what it does with some packets: an ACL whether it accepts them, a forwarding policy by which entry."""


def followed(
    ways: Ways,
    side: int,
    starts: tuple[Node, ...],
    lists: tuple[int, ...],
    does: tuple[object, ...],
    passing: frozenset[str] | None,
) -> Way:
    """The way from some nodes of packets with which the filters ahead do something, each once of a class of addresses.

    ``passing`` are the devices that let an answer pass; None where it is none.
    """
    if side and ways.affected.isdisjoint(starts):
        side = 0  # they go the same way
    key = ways.decisions.addresses.number, side, starts, does, passing
    known = ways.followed.by_what_filters_do
    found = known.get(key)
    if found is None:
        found = Walked(ways, side, dict(zip(lists, does, strict=True)), passing).way(starts)
        known[key] = found
    return found


class Walked:
    """One walk under way."""

    def __init__(self, ways: Ways, side: int, done: Done, passing: frozenset[str] | None):
        self.ways, self.side, self.done, self.passing = ways, side, done, passing
        self.state = ways.decisions.states[side]
        self.after: dict[Node, list[Node]] = {}
        self.edges = set[tuple[int, int]]()
        self.ends = set[End]()
        self.end_count: dict[Node, int] = {}
        self.stateful = set[str]()
        self.rest: dict[Node, Outlook] = {}
        """Nodes that no filter lies after, with what becomes of every packet from there on."""

    def way(self, starts: tuple[Node, ...]) -> Way:
        """The way from some nodes."""
        pending = list(starts)
        while pending:
            node = pending.pop()
            if node not in self.after:
                self.after[node] = []
                if not self._is_known_from(node):
                    self._stop(node)
                    pending += self.after[node]
        ends, passed = set(self.ends), bits_of(map(self.ways.differences.instance_at, self.after))
        for one in self.rest.values():
            passed |= one.passed
        # Where no way goes round with the filters aside, none does with them.
        may_go_round = any(not self.ways.outlook(self.side, node).ways for node in starts)
        round_at = circling(self.after) if may_go_round else set()
        if round_at:
            ends |= {End("loops", self.ways.differences.instance_at(node)) for node in round_at}
            ways, longest = 0, len(self.after)
        else:
            ways, longest = self._measured(starts)
        edges, stateful = frozenset(self.edges), frozenset(self.stateful)
        return self.ways.followed.one(edges, frozenset(ends), stateful, ways, longest, passed)

    def _is_known_from(self, node: Node) -> bool:
        """Whether no filter lies from a node on, in neither state where they go other ways from there: then all that
        tells the two apart is which it is."""
        ways = self.ways
        ahead = ways.outlook(self.side, node)
        is_other = node in ways.affected
        if ahead.lists or not ahead.ways or (is_other and ways.outlook(1 - self.side, node).lists):
            return False
        self.rest[node] = ahead
        self.ends |= ahead.ends
        self.edges.add((node, REST - 1 - self.side if is_other else REST))
        return True

    def _stop(self, node: Node) -> None:
        ways, instance = self.ways, self.ways.differences.instance_at(node)
        device = ways.differences.numbering.instances[instance][0]
        lets_pass = self.passing is not None and device in self.passing
        decision = self._decision(node)
        acl = -1 if node < 0 or self.state.is_opaque(instance) else self.state.acl_in[node]
        came_in = ACCEPTS if acl < 0 or lets_pass else self.done[acl]
        accepted = came_in in (ACCEPTS, ACCEPTS_STATEFULLY)
        if not accepted and not decision.is_shown_first:
            self._end(node, End("blocked", instance, node))
        elif decision.verdict:
            self._end(node, End(decision.verdict, instance))
            if decision.verdict == "arrives" and came_in == ACCEPTS_STATEFULLY:
                self.stateful.add(device)
        for edge in decision.edges if accepted else ():
            went_out = ACCEPTS if edge.acl < 0 or lets_pass else self.done[edge.acl]
            if went_out not in (ACCEPTS, ACCEPTS_STATEFULLY):
                self._end(node, End("blocked", instance, edge.port))
                continue
            if ACCEPTS_STATEFULLY in (came_in, went_out):
                self.stateful.add(device)
            if edge.target < 0:
                self._end(node, End(edge.verdict, instance, edge.port))
            else:
                self.edges.add((edge.port, edge.target))
                self.after[node].append(ways.differences.coming_in(edge.target))

    def _decision(self, node: Node) -> Decision:
        by_table = self.ways.decisions.at(self.side, node)
        policy = self.ways.decisions.policy_at(self.side, node)
        entry = self.done[policy] if policy >= 0 else None
        if not isinstance(entry, int):
            return by_table
        return self.state.by_entry(node, entry, self.ways.decisions.addresses.address) or by_table

    def _end(self, node: Node, end: End) -> None:
        self.ends.add(end)
        self.end_count[node] = self.end_count.get(node, 0) + 1

    def _measured(self, starts: tuple[Node, ...]) -> tuple[int, int]:
        """How many ways there are, and the links on the longest: of nodes whose ways do not go round."""
        known = dict[Node, tuple[int, int]]()
        waiting = list(starts)
        while waiting:
            node = waiting[-1]
            left = [one for one in self.after[node] if one not in known]
            if left:
                waiting += left
                continue
            waiting.pop()
            if node in self.rest:
                known[node] = self.rest[node].ways, self.rest[node].longest
                continue
            following = [known[one] for one in self.after[node]]
            count = self.end_count.get(node, 0) + sum(one[0] for one in following)
            known[node] = count, max((one[1] + 1 for one in following), default=0)
        return sum(known[one][0] for one in starts), max(known[one][1] for one in starts)
