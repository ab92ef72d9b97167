"""Both states of a network in one numbering, and what each decides at a stop.

Decisions are the walker's own (``forwarding/walk.py``), made once for all headers: ACLs and forwarding policies
are not asked but noted with the way in or out at which they stand.
"""

from collections.abc import Hashable, Iterable
from typing import NamedTuple

from routrel.analysis.held.entry_lists import EntryLists
from routrel.forwarding.walk import Walker
from routrel.model.addresses import Address
from routrel.model.filters import Header
from routrel.model.network import InterfaceName
from routrel.routing.rib.table import Likeness
from routrel.routing.routes import NextHop, Route
from routrel.routing.solve import Solved
from routrel.topology.ports import Port
from routrel.topology.segments import Topology

Node = int
"""Where a packet is: a port that it came in by where that makes a difference, else a routing instance below zero."""


class Edge(NamedTuple):
    """A way out. ``target`` is the port that it leads to, -1 where it ends with ``verdict``; ``acl`` is asked first."""

    port: int
    target: int
    verdict: str
    acl: int


class Decision(NamedTuple):
    """What a stop does: it ends the way, or sends on by its edges; ``is_shown_first`` where it ends a packet before
    the ACL that it came in by does."""

    verdict: str
    edges: tuple[Edge, ...]
    is_shown_first: bool = False
    goes_on: bool = False
    """Whether every edge leads to a port."""

    @classmethod
    def by_edges(cls, edges: tuple[Edge, ...]) -> "Decision":
        """To send on by some edges."""
        return cls("", edges, goes_on=all(edge.target >= 0 for edge in edges))


UNROUTED, DISCARDED = Decision("unrouted", (), True), Decision("discarded", (), True)
ARRIVES, UNRESOLVED = Decision("arrives", ()), Decision("unresolved", ())
NOT_FOLLOWED = Decision("not followed", (), True)
"""At a device whose filter program or routing rules decide: what they do is not held against each other."""


class Numbering:
    """The ports and routing instances of two states by one numbering, by their names."""

    def __init__(self, topologies: Iterable[Topology]):
        self.ports: list[InterfaceName] = []
        self.instances: list[tuple[str, str]] = []
        self.port_number: dict[InterfaceName, int] = {}
        self.instance_number: dict[tuple[str, str], int] = {}
        self.instance_of: list[int] = []
        self.opaque = set[str]()
        """Devices whose filter program or routing rules decide in some state."""
        for topology in topologies:
            self.opaque |= {one.name for one in topology.devices if one.program is not None or one.kernel_routing}
            for key in topology.instance_index:
                if key not in self.instance_number:
                    self.instance_number[key] = len(self.instances)
                    self.instances.append(key)
            for port in topology.ports:
                if port.name not in self.port_number:
                    self.port_number[port.name] = len(self.ports)
                    self.ports.append(port.name)
                    vrf = topology.instances[port.instance].vrf
                    self.instance_of.append(self.instance_number[port.name.device, vrf])

    def name(self, instance: int) -> str:
        """A routing instance in words."""
        device, vrf = self.instances[instance]
        return device if vrf == "default" else f"{device} (VRF {vrf})"


class State:
    """One state: its tables, in the numbering of both."""

    def __init__(self, solved: Solved, numbering: Numbering, lists: EntryLists):
        self.solved, self.numbering = solved, numbering
        self.topology = topology = solved.topology
        self.walker = Walker(solved)
        self._common = [numbering.port_number[port.name] for port in topology.ports]
        count = len(numbering.ports)
        self.port: list[Port | None] = [None] * count
        self.acl_in, self.acl_out, self.policy = [-1] * count, [-1] * count, [-1] * count
        for port, number in zip(topology.ports, self._common, strict=True):
            device, interface = topology.devices[port.device], port.interface
            self.port[number] = port
            self.acl_in[number] = lists.number_of_acl(device.acls.get(interface.acl_in or ""))
            self.acl_out[number] = lists.number_of_acl(device.acls.get(interface.acl_out or ""))
            policy = device.forwarding_policies.get(interface.forwarding_policy or "")
            self.policy[number] = lists.number_of_policy(policy)
        self._own = [topology.instance_index.get(key, -1) for key in numbering.instances]
        self._forwards = [own >= 0 and topology.devices[topology.instances[own].device].forwards for own in self._own]
        self._opaque = [device in numbering.opaque for device, _ in numbering.instances]
        self._known: dict[tuple[int, object], Decision] = {}
        """Decisions by instance, and by the likeness of prefixes or else by next hops."""
        self.decided: dict[Hashable, tuple[list[Node], list[Decision]]] = {}
        """Of classes of addresses what was decided at some nodes."""
        self._same: dict[Decision, Decision] = {}
        """One object of each."""
        self._steered: dict[tuple[int, int], Decision | None] = {}

    def is_opaque(self, instance: int) -> bool:
        """Whether a filter program or routing rules decide at an instance, in either state."""
        return self._opaque[instance]

    def has_port(self, number: int) -> bool:
        """Whether a port is there, and up."""
        port = self.port[number]
        return port is not None and port.up

    def instance(self, number: int) -> int:
        """A routing instance by this state's own number, -1 where it is not there."""
        return self._own[number]

    def forwards(self, instance: int) -> bool:
        """Whether a routing instance passes on what comes in."""
        return self._forwards[instance]

    def owners(self, address: Address) -> frozenset[int]:
        """The routing instances that own an address."""
        ports = self.topology.owners.get(address, ())
        return frozenset(self.numbering.instance_of[self._common[port]] for port in ports)

    def by_table(self, instance: int, destination: Address, chain: list[int]) -> Decision:
        """What the table of an instance does with what is neither its own nor steered."""
        own = self._own[instance]
        if own < 0:
            return UNROUTED
        table = self.solved.table(own)
        for number in chain:
            likeness = table.likeness(number)
            found = self._known.get((own, likeness))
            if found is not None:
                return found
            route = table.once(number)
            if route is not None:
                return self._by_route(own, likeness, route, destination)
        return UNROUTED

    def _by_route(self, own: int, likeness: Likeness | None, route: Route, destination: Address) -> Decision:
        if route.action != "forward":
            return DISCARDED
        hops = route.next_hops
        if not hops:
            return UNRESOLVED
        key = own, likeness or hops
        found = self._known.get(key)
        if found is None:
            found = Decision.by_edges(tuple(self._edge(own, hop, destination, route) for hop in hops))
            found = self._same.setdefault(found, found)
            if all(hop.address is not None or hop.neighbor >= 0 for hop in hops):
                self._known[key] = found
        return found

    def _edge(self, own: int, hop: NextHop, destination: Address, route: Route | None) -> Edge:
        device = self.topology.instances[own].device
        branch = self.walker.branch(device, hop, Header(0, destination, destination, None, None), is_reply=True)
        port = self._common[branch.port]
        verdict: str = branch.verdict or ""
        is_on_subnet = route is not None and route.protocol == "connected" and not branch.via_next_hop
        if verdict == "unresolved" and is_on_subnet and self.topology.ports[branch.port].up:
            verdict = "delivered"  # to whoever has the address there: the model knows nobody, and need not
        target = self._common[branch.target] if branch.target >= 0 else -1
        return Edge(port, target, verdict, self.acl_out[port])

    def by_entry(self, port: int, entry: int, destination: Address) -> Decision | None:
        """What an entry of a port's forwarding policy does; None where it leaves it to the table."""
        key = port, entry
        if key not in self._steered:
            self._steered[key] = self._steer(port, entry, destination)
        return self._steered[key]

    def _steer(self, port: int, index: int, destination: Address) -> Decision | None:
        known = self.port[port]
        assert known is not None and known.interface.forwarding_policy
        device = self.topology.devices[known.device]
        entry = device.forwarding_policies[known.interface.forwarding_policy].entries[index]
        if entry.action == "discard":
            return DISCARDED
        for address in entry.next_hops if entry.action == "forward" else ():
            hop = self.solved.connected_hop(known.instance, address)
            if hop is not None:
                return Decision.by_edges((self._edge(known.instance, hop, destination, None),))
        return None

    def steered_ways(self, port: int, destination: Address) -> list[Decision]:
        """Everything that a port's forwarding policy may do."""
        known = self.port[port]
        if known is None or self.policy[port] < 0 or not known.interface.forwarding_policy:
            return []
        entries = self.topology.devices[known.device].forwarding_policies[known.interface.forwarding_policy].entries
        found = (self.by_entry(port, index, destination) for index in range(len(entries)))
        return [one for one in found if one is not None]
