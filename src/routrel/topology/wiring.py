"""What is cabled together whatever VLANs and states say, and what keeps two interfaces of it apart.

Segments (``segments``) say who hears whom. Here cables and switches are looked at as they hang together: the
same domains, joined also where something is down, a VLAN is not carried on, or two VLANs stand side by side in
one switch. The way between two interfaces that crosses as few of these breaks as can be names what to mend.
IEEE 802.1Q terms. Made when first asked for; a walk that arrives never needs it.
"""

from collections import defaultdict, deque
from collections.abc import Iterator
from typing import NamedTuple

from routrel.model.addresses import Address
from routrel.model.devices import DEFAULT_VLAN, Interface
from routrel.model.places import Place
from routrel.topology.disjoint_sets import DisjointSets
from routrel.topology.ports import Port
from routrel.topology.segments import Domain, Topology

MOST_DOMAINS = 20_000
"""A search for what keeps two interfaces apart looks at no more domains than this."""


class Break(NamedTuple):
    """What keeps two interfaces apart, in words, and the places that together make it."""

    text: str
    places: tuple[Place, ...]


class _Edge(NamedTuple):
    """From one domain to another, by a switch's port where there is one; ``broken`` says why not, or is ''."""

    target: Domain
    port: int
    broken: str = ""
    places: tuple[Place, ...] = ()


def down_place(topology: Topology, port: Port) -> Place:
    """Where it is stated that a port is down: at itself, at its parent, at its link, or at the other end of that."""
    parent = port.interface.parent
    if port.interface.enabled and parent is not None:
        return down_place(topology, topology.port(port.name.device, parent))
    number = topology.link_of.get(port.name)
    if port.interface.enabled and number is not None:
        link = topology.network.links[number]
        if not link.enabled:
            return link.place
        ends = [topology.network.devices[end.device].interfaces[end.interface] for end in link.ends]
        return next((one.place for one in ends if not one.enabled), port.interface.place)
    return port.interface.place


class Wiring:
    """Cables and switches of a network."""

    def __init__(self, topology: Topology):
        self.topology = topology
        self._edges: dict[Domain, list[_Edge]] = defaultdict(list)
        self._carried: dict[int, dict[int, int]] = {}
        """Per switch port with a ``switchport``: VLAN by tag."""
        self._cabled = DisjointSets[Domain]()
        self._holders: dict[Address, list[int]] = defaultdict(list)
        for port in topology.ports:
            for address in port.addresses:
                self._holders[address].append(port.index)
        self._join()
        self._members: dict[int, list[int]] = defaultdict(list)
        for port in topology.ports:
            if self._is_attached(port):
                self._members[self._cabled.find(topology.domain_of(port))].append(port.index)

    @staticmethod
    def _is_attached(port: Port) -> bool:
        return bool(port.addresses) and not port.interface.is_loopback

    def cabled_with(self, port: int) -> list[int]:
        """The interfaces with addresses that hang together with one by cables and switches, itself included."""
        found = self.topology.ports[port]
        return self._members[self._cabled.find(self.topology.domain_of(found))] if self._is_attached(found) else []

    def holder(self, port: int, address: Address) -> int | None:
        """The interface that has an address and is cabled together with a port, up or down, or None."""
        held = self._holders.get(address)
        if not held or not self._is_attached(self.topology.ports[port]):
            return None
        cabled = self._cabled.find(self.topology.domain_of(self.topology.ports[port]))
        for other in held:
            found = self.topology.ports[other]
            if other == port or not self._is_attached(found):
                continue
            if self._cabled.find(self.topology.domain_of(found)) == cabled:
                return other
        return None

    def apart(self, one: int, other: int) -> Break | None:
        """Why two interfaces do not hear each other; None where they do, or are not cabled together."""
        ports = [self.topology.ports[number] for number in (one, other)]
        down = [port for port in ports if not port.up]
        if down:
            links = {self.topology.link_of.get(port.name) for port in ports}
            shared = links.pop() if len(links) == 1 else None
            if shared is not None and not self.topology.network.links[shared].enabled:
                text = f"the link of {ports[0].name} and {ports[1].name} is disabled"
                return Break(text, (self.topology.network.links[shared].place,))
            texts = " and ".join(f"{port.name} is down: {port.down}" for port in down)
            return Break(texts, tuple(dict.fromkeys(down_place(self.topology, port) for port in down)))
        if self.topology.segment_of[one] == self.topology.segment_of[other]:
            return None
        way = self._way(*(self.topology.domain_of(port) for port in ports))
        if way is None:
            return None
        breaks = list(self._breaks(way))
        text = "; ".join(dict.fromkeys(text for text, _ in breaks))
        return Break(text, tuple(dict.fromkeys(place for _, places in breaks for place in places)))

    def _way(self, start: Domain, end: Domain) -> list[tuple[Domain, _Edge]] | None:
        """The way with the fewest breaks, as the edges with the domains they leave (0-1 breadth first)."""
        before: dict[Domain, tuple[Domain, _Edge]] = {}
        cost = {start: 0}
        done: set[Domain] = set()
        queue = deque([start])
        while queue and len(done) < MOST_DOMAINS:
            domain = queue.popleft()
            if domain in done:
                continue
            if domain == end:
                way = []
                while domain != start:
                    domain, edge = before[domain]
                    way.append((domain, edge))
                return way[::-1]
            done.add(domain)
            for edge in self._edges[domain]:
                total = cost[domain] + bool(edge.broken)
                if edge.target not in cost or total < cost[edge.target]:
                    cost[edge.target] = total
                    before[edge.target] = domain, edge
                    if edge.broken:
                        queue.append(edge.target)
                    else:
                        queue.appendleft(edge.target)
        return None

    def _breaks(self, way: list[tuple[Domain, _Edge]]) -> Iterator[tuple[str, tuple[Place, ...]]]:
        for at, (domain, edge) in enumerate(way):
            if not edge.broken:
                continue
            if edge.broken != WITHIN:
                yield edge.broken, edge.places
                continue
            onward = way[at + 1][1].target
            # Where frames come in and go out last: trunks between carry both.
            ends = (self._first_port(way[:at]), domain[2]), (self._first_port(way[at + 2 :][::-1]), onward[2])
            texts = [self._in_vlan(near, vlan) for near, vlan in ends]
            places = tuple(self.topology.ports[near].interface.place for near, _ in ends if near >= 0)
            yield f"{texts[0]} and {texts[1]}", places

    def _in_vlan(self, port: int, vlan: int) -> str:
        return f"{self.topology.ports[port].name} is in VLAN {vlan}" if port >= 0 else f"VLAN {vlan}"

    @staticmethod
    def _first_port(way: list[tuple[Domain, _Edge]]) -> int:
        return next((edge.port for _, edge in way if edge.port >= 0), -1)

    def _add(self, one: Domain, other: Domain, port: int, broken: str = "", places: tuple[Place, ...] = ()) -> None:
        self._edges[one].append(_Edge(other, port, broken, places))
        self._edges[other].append(_Edge(one, port, broken, places))
        self._cabled.join(one, other)

    def _join(self) -> None:
        topology = self.topology
        vlans: dict[int, set[int]] = defaultdict(set)
        ends: dict[int, list[tuple[Port, dict[int, int] | None]]] = defaultdict(list)
        """Per link: what is plugged in, with the VLAN by tag that a switch gives (None: not a switch)."""
        for port in topology.ports:
            interface = port.interface
            for member in interface.members:
                own = topology.port(port.name.device, member)
                broken = "" if own.up else f"{own.name} is down: {own.down}"
                for tag in topology.tags:
                    wire = topology.wire(own.name, tag)
                    self._add(("port", port.name, tag), wire, -1, broken, (down_place(topology, own),))
            if interface.vlan is not None and interface.parent is None:
                vlans[port.device].add(interface.vlan)
                self._add(("switch", port.device, interface.vlan), topology.domain_of(port), port.index)
            carried = self._vlan_by_tag(port)
            if carried is not None:
                broken = "" if port.up else f"{port.name} is down: {port.down}"
                for tag, vlan in carried.items():
                    vlans[port.device].add(vlan)
                    place = down_place(topology, port)
                    self._add(
                        ("switch", port.device, vlan), topology.wire(port.name, tag), port.index, broken, (place,)
                    )
            number = topology.link_of.get(topology.cabled_name(port))
            if number is not None and (carried is not None or port.addresses):
                tags = carried if carried is not None else {interface.vlan or 0: interface.vlan or 0}
                ends[number].append((port, tags))
        for device, found in vlans.items():
            if len(found) > 1:
                for vlan in found:
                    # Into the switch's inside is where the break counts; out of it is free.
                    self._edges["switch", device, vlan].append(_Edge(("inside", device, 0), -1, WITHIN))
                    self._edges["inside", device, 0].append(_Edge(("switch", device, vlan), -1))
                    self._cabled.join(("switch", device, vlan), ("inside", device, 0))
        for number, plugged in ends.items():
            self._join_cable(number, plugged, vlans)

    def _vlan_by_tag(self, port: Port) -> dict[int, int] | None:
        """What a switch's port carries, or None of any other interface."""
        topology, interface = self.topology, port.interface
        if interface.switchport is not None:
            return interface.switchport.vlan_by_tag
        if topology.is_bridged(port):
            return {0: DEFAULT_VLAN} if topology.is_managed(port.device) else {tag: tag for tag in topology.tags}
        return None

    def _join_cable(
        self, number: int, plugged: list[tuple[Port, dict[int, int] | None]], vlans: dict[int, set[int]]
    ) -> None:
        """Tags that one end of a cable sends and another does not take."""
        for near, sent in plugged:
            for far, taken in plugged:
                if near.device == far.device or sent is None or taken is None:
                    continue
                for tag, vlan in sent.items():
                    if tag in taken:
                        continue
                    places = near.interface.place, far.interface.place
                    name = f"VLAN {vlan}" if vlan else "what is untagged"
                    if _is_switch(far.interface) and vlan in vlans[far.device]:
                        text = f"{near.name} carries {name} and {far.name} does not"
                        self._add(("link", number, tag), ("switch", far.device, vlan), far.index, text, places)
                    elif not _is_switch(far.interface):
                        for other in taken:
                            text = f"{near.name} carries {name}, {far.name} VLAN {other}"
                            self._add(("link", number, tag), ("link", number, other), -1, text, places)


WITHIN = "two VLANs of one switch"


def _is_switch(interface: Interface) -> bool:
    return interface.switchport is not None
