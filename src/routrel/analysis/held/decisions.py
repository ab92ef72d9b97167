"""What every routing instance decides about one class of addresses, in both states."""

from array import array
from collections.abc import Hashable, Iterator
from typing import NamedTuple

from routrel.analysis.held.differences import Differences
from routrel.analysis.held.places import AddressClass
from routrel.analysis.held.states import ARRIVES, DISCARDED, NOT_FOLLOWED, Decision, Node, State

MOST_REMEMBERED = 8_000_000
"""Decisions of a state that are kept for others that it is held against."""


class End(NamedTuple):
    """Where a way ends: at an instance, on its port where it is -1 or more; ``verdict`` as the walker's."""

    verdict: str
    instance: int
    port: int = -1


class Decisions:
    """The decisions about one class of addresses, by state (0: before, 1: after)."""

    def __init__(self, states: tuple[State, State], addresses: AddressClass, differences: Differences):
        self.states, self.addresses, self.differences = states, addresses, differences
        self._made: tuple[dict[Node, Decision], dict[Node, Decision]] = ({}, {})
        self._candidates = differences.instances_for(addresses)

    @property
    def count(self) -> int:
        """How many were made so far."""
        return len(self._made[0]) + len(self._made[1])

    def at(self, side: int, node: Node) -> Decision:
        """What the table of a node's instance does, whatever filters stand there."""
        instance = self.differences.instance_at(node)
        if side and instance not in self._candidates:
            side = 0
        key = node if node < 0 else -1 - instance
        found = self._made[side].get(key)
        if found is None:
            state = self.states[side]
            if state.is_opaque(instance):
                found = NOT_FOLLOWED
            elif instance in self.addresses.owners[side]:
                found = ARRIVES
            elif key == -1 - instance and not state.forwards(instance):
                found = DISCARDED
            else:
                found = state.by_table(instance, self.addresses.address, self.addresses.chains[side])
            self._made[side][key] = found
        return found

    def policy_at(self, side: int, node: Node) -> int:
        """The forwarding policy that is asked at a node, -1 for none: nobody asks where a packet goes no further."""
        if node < 0:
            return -1
        instance, state = self.differences.instance_at(node), self.states[side]
        goes_on = state.forwards(instance) and instance not in self.addresses.owners[side]
        return state.policy[node] if goes_on and not state.is_opaque(instance) else -1

    def steered(self, side: int, node: Node) -> list[Decision]:
        """What the forwarding policy of a node may do beside."""
        if self.policy_at(side, node) < 0:
            return []
        return self.states[side].steered_ways(node, self.addresses.address)

    def all_at(self, side: int, node: Node) -> tuple[Decision, ...]:
        """What may be done at a node, by the table or by a policy."""
        return (self.at(side, node),) if node < 0 else (self.at(side, node), *self.steered(side, node))

    def ends_at(self, side: int, node: Node) -> Iterator[End]:
        """The ends that ways have at a node itself."""
        instance = self.differences.instance_at(node)
        for one in self.all_at(side, node):
            if one.verdict:
                yield End(one.verdict, instance)
            for edge in one.edges:
                if edge.target < 0:
                    yield End(edge.verdict, instance, edge.port)

    def ends(self, side: int) -> frozenset[End]:
        """Wherever a packet may end that is not blocked and does not go round, from wherever it comes."""
        found = set[End]()
        for node, decision in self._before():
            if side and self.differences.instance_at(node) in self._candidates:
                decision = self.at(side, node)
            if not decision.goes_on:
                found.update(self.ends_at(side, node))
        for node in self.differences.steered:
            found.update(self.ends_at(side, node))
        return frozenset(found)

    def dirty(self) -> set[Node]:
        """Nodes that decide otherwise in the two states."""
        differences, (before, after) = self.differences, self.states
        found = set(self._changed())
        for port in differences.ports:
            if before.acl_in[port] != after.acl_in[port] or self.policy_at(0, port) != self.policy_at(1, port):
                found.add(port)
        return found | {port for port in differences.steered if self.steered(0, port) != self.steered(1, port)}

    def _changed(self) -> list[Node]:
        """Nodes whose tables decide otherwise, ascending."""
        starting_at = self.differences.starting_at
        nodes = {-1 - one for one in self._candidates} | {starting_at(one) for one in self._candidates}
        return [node for node in sorted(nodes) if self.at(0, node) != self.at(1, node)]

    def likeness(self) -> Hashable:
        """Equal for classes to which all goes alike from everywhere, in both states.

        Decisions that go on are told apart by which object they are, of which each state keeps one of a kind.
        Where one and the same instance takes what is for one class, and hands what is for another on to its subnet,
        both are alike: it has come to where it was meant for, and is answered from one node.
        """
        before = self._before()
        after = [(node, self.at(1, node)) for node in self._changed()]
        came = {answers for node, one in (*before, *after) if (answers := self._come(node, one)) is not None}
        instances = {self.differences.instance_at(node) for node in came}
        steers = not instances.isdisjoint(self.differences.steering)  # but never what is for the router itself
        is_apart = steers or instances != self.addresses.of_instances

        def shape(node: Node, decision: Decision) -> Hashable:
            answers = None if is_apart else self._come(node, decision)
            return decision if answers is None else ("come", answers)

        # As bytes: there is a number for every router and class.
        going_on = array("Q", [id(one) if one.goes_on else 0 for _, one in before]).tobytes()
        ending = tuple([(node, shape(node, one)) for node, one in before if not one.goes_on])
        changed = tuple([(node, id(one) if one.goes_on else shape(node, one)) for node, one in after])
        place = self.addresses.place
        return place.family, place.kind == "outside", going_on, ending, changed

    def _before(self) -> list[tuple[Node, Decision]]:
        """What is decided before, at one node each of all that are treated alike: the same beside any other state."""
        state, addresses = self.states[0], self.addresses
        key = addresses.address, tuple(addresses.chains[0]), addresses.owners[0]
        known = state.decided.get(key)
        if known is None or known[0] != self.differences.deciding:
            nodes = self.differences.deciding
            known = nodes, [self.at(0, node) for node in nodes]
            if len(state.decided) * len(nodes) < MOST_REMEMBERED:
                state.decided[key] = known
        return list(zip(*known, strict=True))

    def _come(self, node: Node, decision: Decision) -> Node | None:
        """The node that answers what has come to where it was meant for, and can do nothing else; None for all else."""
        if decision.goes_on:
            return None
        if decision.verdict == "arrives":
            return self.differences.starting_at(self.differences.instance_at(node))
        if decision.verdict or len(decision.edges) != 1:
            return None
        (edge,) = decision.edges
        return self.differences.coming_in(edge.port) if edge.verdict == "delivered" and edge.acl < 0 else None
