"""What two states decide otherwise, before any way is followed: candidates only, which decisions then confirm."""

from typing import Any, TypeVar

from routrel.analysis.changed_routes import prefixes_that_may_differ
from routrel.analysis.held.places import AddressClass
from routrel.analysis.held.states import Node, Numbering, State
from routrel.model.addresses import Prefix

T = TypeVar("T")


class Differences:
    """Where two states may differ, and what stands where, by the numbering of both."""

    def __init__(self, states: tuple[State, State], numbering: Numbering):
        before, after = states
        self.numbering = numbering
        ports, instances = range(len(numbering.ports)), range(len(numbering.instances))
        has_policy = [before.policy[port] >= 0 or after.policy[port] >= 0 for port in ports]
        self.is_filtered = [has_policy[port] or before.acl_in[port] >= 0 or after.acl_in[port] >= 0 for port in ports]
        """Ports at which what comes in is not treated as all else."""
        self.steered = [port for port in ports if has_policy[port]]
        self.ports = {
            port
            for port in ports
            if (before.acl_in[port], before.policy[port]) != (after.acl_in[port], after.policy[port])
        }
        """Ports at which other filters stand."""
        self.filtered_of: list[set[Node]] = [set() for _ in instances]
        self.steered_of: list[set[Node]] = [set() for _ in instances]
        for port in ports:
            if self.is_filtered[port]:
                self.filtered_of[numbering.instance_of[port]].add(port)
            if has_policy[port]:
                self.steered_of[numbering.instance_of[port]].add(port)
        self.steering = {numbering.instance_of[port] for port in self.steered}
        """Instances with a forwarding policy at some port."""
        self.opaque = {one for one in instances if before.is_opaque(one)}
        """Instances at which a filter program or routing rules decide."""
        self.forwards = [before.forwards(one) and after.forwards(one) for one in instances]
        self.deciding = sorted({-1 - one for one in instances} | {self.starting_at(one) for one in instances})
        """Nodes at which tables decide, one for all that they treat alike."""
        self.adjacent = _adjacent(before, len(instances))
        """Per routing instance, those that share a segment with it before."""
        self._by_prefix: dict[Prefix, set[int]] = {}
        self._alike: dict[frozenset[Any], frozenset[Any]] = {}
        for key, prefixes in prefixes_that_may_differ(before.solved, after.solved):
            for prefix in prefixes:
                self._by_prefix.setdefault(prefix, set()).add(numbering.instance_number[key])
        self._always = self._by_ports(states)

    def alike(self, found: frozenset[T]) -> frozenset[T]:
        """The same set, as it was met first: of what many nodes have one is kept."""
        return self._alike.setdefault(found, found)

    def instance_at(self, node: Node) -> int:
        """The routing instance of a node."""
        if node >= 0:
            return self.numbering.instance_of[node]
        return (-1 - node) % len(self.forwards)

    def coming_in(self, port: int) -> Node:
        """The node of what comes in by a port."""
        return port if self.is_filtered[port] else -1 - self.numbering.instance_of[port]

    def starting_at(self, instance: int) -> Node:
        """The node of what an instance sends itself: a router's own is treated as what came in unfiltered."""
        return -1 - instance - (0 if self.forwards[instance] else len(self.forwards))

    def instances_for(self, addresses: AddressClass) -> set[int]:
        """Routing instances that may decide otherwise about a class of addresses."""
        found = self._always | (addresses.owners[0] ^ addresses.owners[1])
        for prefix in addresses.prefixes:
            found |= self._by_prefix.get(prefix, set())
        return found

    def _by_ports(self, states: tuple[State, State]) -> set[int]:
        """Instances with a port that differs, whatever the routes say; all where addresses or cables do."""
        before, after = states
        every = set(range(len(self.numbering.instances)))
        if before.topology.of_like(after.topology.network) is None:
            return every
        found = {one for one in every if before.instance(one) < 0 or after.instance(one) < 0}
        found |= {one for one in every if before.forwards(one) != after.forwards(one)}
        segments = _segments(before), _segments(after)
        for port, instance in enumerate(self.numbering.instance_of):
            outs = before.acl_out[port], after.acl_out[port]
            seen = [state.topology.devices[known.device].neighbors for state in states if (known := state.port[port])]
            if segments[0][port] != segments[1][port] or outs[0] != outs[1] or len(seen) < 2 or seen[0] != seen[1]:
                found.add(instance)
        return found


def _segments(state: State) -> list[object]:
    """Per port, whom it can talk to: the ports of its segment that are up, with their addresses, and virtual ones."""
    found: list[object] = [None] * len(state.port)
    numbers = state.numbering.port_number
    for segment in state.topology.segments:
        ports = [state.topology.ports[port] for port in segment.ports]
        active = [group.active for group in state.topology.virtual_groups.get(segment.index, ())]
        there = (
            frozenset((numbers[port.name], port.addresses, port.up) for port in ports),
            frozenset((numbers[state.topology.ports[one.port].name], one.router.addresses) for one in active),
        )
        for port in ports:
            found[numbers[port.name]] = there
    return found


def _adjacent(state: State, count: int) -> list[set[int]]:
    found: list[set[int]] = [set() for _ in range(count)]
    for segment in state.topology.segments:
        names = (state.topology.ports[port].name for port in segment.ports)
        there = {state.numbering.instance_of[state.numbering.port_number[name]] for name in names}
        for instance in there:
            found[instance] |= there - {instance}
    return found
