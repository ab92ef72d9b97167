"""The network compiled to indices, and its segments: which interfaces hear each other.

Every interface becomes a *port* with a number; every layer above speaks of port and device numbers. A
segment is a set of ports that share one broadcast domain. It grows out of *domains*, joined where a
switch or a bundle connects them:

- ``("link", n, tag)``: one cable or shared medium and one VLAN tag on it (0 = untagged),
- ``("switch", device, vlan)``: one VLAN inside a switch,
- ``("subnet", prefix, tag)``: interfaces without a link, joined by subnet as the network file's page says.

A switch none of whose interfaces has a ``switchport`` passes every tag between all ports without
addresses; where some have one, a port without is an access port of VLAN 1. IEEE 802.1Q terms.
"""

from collections import defaultdict
from collections.abc import Hashable, Iterator, Sequence
from copy import copy
from functools import cached_property
from itertools import compress, count
from operator import is_not
from typing import TypeAlias

import numpy as np

from routrel.model.addresses import Address, Prefix, link_local_of
from routrel.model.devices import DEFAULT_VLAN, Device, Interface
from routrel.model.fields import replace
from routrel.model.network import InterfaceName, Network
from routrel.model.routing import DEFAULT_INSTANCE
from routrel.topology.address_owners import AddressOwners
from routrel.topology.disjoint_sets import DisjointSets
from routrel.topology.likeness import is_cabled_alike
from routrel.topology.ports import Instance, Port, Segment

Domain: TypeAlias = tuple[str, Hashable, int]


class Topology(AddressOwners):
    """Ports, segments and address owners of a network. Built once, never changed."""

    def __init__(self, network: Network):
        self.network = network
        self.devices: list[Device] = list(network.devices.values())
        self.device_index = {device.name: index for index, device in enumerate(self.devices)}
        self.link_of: dict[InterfaceName, int] = {
            end: index for index, link in enumerate(network.links) for end in link.ends
        }
        self._bundle_of = {
            InterfaceName(device.name, member): InterfaceName(device.name, interface.name)
            for device in self.devices
            for interface in device.interfaces.values()
            for member in interface.members
        }
        defaults = [(index, DEFAULT_INSTANCE, device.routing) for index, device in enumerate(self.devices)]
        vrfs = [(index, *vrf) for index, device in enumerate(self.devices) for vrf in device.vrfs.items()]
        self.instances = [Instance(number, *one) for number, one in enumerate((*defaults, *vrfs))]
        self.instance_index = {
            (self.devices[instance.device].name, instance.vrf): instance.index for instance in self.instances
        }
        self.prefixes: list[Prefix] = []
        """Those of all ports, in their order; as many as ``hosts``, the addresses."""
        self.hosts: list[Address] = []
        self.ports: list[Port] = []
        self.ports_of: list[list[int]] = [[] for _ in self.devices]
        self.ports_named: list[dict[str, Port]] = [{} for _ in self.devices]
        """Per device, its ports by the names of their interfaces."""
        self.port_index: dict[InterfaceName, int] = {}
        for name, device, interface in network.interfaces():
            index = len(self.ports)
            owner = self.device_index[device.name]
            self.port_index[name] = index
            self.ports_of[owner].append(index)
            port = self.ports_named[owner][name.interface] = Port(
                index,
                owner,
                name,
                interface,
                self._why_down(device, interface),
                self.instance_index[device.name, interface.vrf],
                tuple([address.address for address in interface.addresses]),
                tuple([address.prefix for address in interface.addresses]),
            )
            self.ports.append(port)
            self.prefixes += port.prefixes
            self.hosts += port.addresses
        # A network like this one has the same of these.
        self.devices_of_instances = [instance.device for instance in self.instances]
        self.instances_of_ports = [port.instance for port in self.ports]
        self.instance_column = np.array(self.instances_of_ports, np.int64)
        """The same as an array (ports,)."""
        self.ports_of_prefixes = np.array([port.index for port in self.ports for _ in port.prefixes], np.int64)
        self.tags: set[int] = {0}
        """VLAN tags in use; 0 is untagged."""
        self.segments: list[Segment] = []
        self.segment_of: list[int] = [-1] * len(self.ports)
        self._build_segments()
        super().__init__()

    @cached_property
    def _ports_in(self) -> dict[Prefix, list[int]]:
        """By subnet; those of a network like this one are the same."""
        found: dict[Prefix, list[int]] = defaultdict(list)
        for port in self.ports:
            for prefix in port.prefixes:
                found[prefix].append(port.index)
        return found

    def of_like(self, network: Network) -> "Topology | None":
        """That of a network with the same interfaces, addresses and cables, whatever else differs; None of any other.

        All is shared but what belongs to devices that differ, or whose interfaces come up or go down. None also
        where that moves segments.
        """
        if not is_cabled_alike(self.network, network):
            return None
        _ = self._ports_in  # made once for all that are like it
        made = copy(self)
        made.network, made.devices = network, list(network.devices.values())
        made.ports, made.ports_named, made.instances = list(self.ports), list(self.ports_named), list(self.instances)
        differing = set()
        for index, (old, new) in enumerate(zip(self.devices, made.devices, strict=True)):
            if old is new or old == new:
                made.devices[index] = old
                continue
            differing.add(index)
            for number in self.instances_of(index):
                routing = new.routing if number == index else new.vrfs[self.instances[number].vrf]
                made.instances[number] = replace(self.instances[number], routing=routing)
        moved = []
        for index in sorted(differing | self._neighbors_that_may_notice(network, differing)):
            ports = [self.ports[number] for number in self.ports_of[index]]
            device = made.devices[index]
            down = [made._why_down(device, device.interfaces[port.name.interface]) for port in ports]
            if index not in differing and down == [port.down for port in ports]:
                continue
            named = made.ports_named[index] = {}
            for port, reason in zip(ports, down, strict=True):
                interface = device.interfaces[port.name.interface]
                again = replace(port, interface=interface, down=reason)
                made.ports[port.index] = named[interface.name] = again
                if again.up != port.up:
                    moved.append(again)
        return made if not moved or made._move(moved) else None

    def addresses_of(self, instance: int) -> set[Address]:
        """Those of a routing instance's interfaces that are not down, but for link-local ones: others have the same."""
        ports = (self.ports[number] for number in self.ports_of[self.instances[instance].device])
        of_ports = (port.addresses for port in ports if port.instance == instance and not port.down)
        return {one for addresses in of_ports for one in addresses if not one.is_link_local}

    def touched_since(self, other: "Topology") -> set[int] | None:
        """The devices whose ports or routing are others than in one with the same segments; None of any other."""
        if self.segments is not other.segments:
            return None
        devices = set(_others(self.ports_named, other.ports_named))
        return devices.union(self.instances[number].device for number in _others(self.instances, other.instances))

    def _neighbors_that_may_notice(self, network: Network, differing: set[int]) -> set[int]:
        """Devices at links that are enabled or disabled, and at those of devices that differ."""
        names = {port.name for device in differing for port in map(self.ports.__getitem__, self.ports_of[device])}
        links = {self.link_of[name] for name in names if name in self.link_of}
        if network.links is not self.network.links:
            pairs = enumerate(zip(self.network.links, network.links, strict=True))
            links |= {number for number, (old, new) in pairs if old.enabled != new.enabled}
        return {self.device_index[end.device] for number in links for end in network.links[number].ends}

    def _move(self, moved: list[Port]) -> bool:
        """Note who answers for addresses once ports have come up or gone down; False where segments change too."""
        if any(device.kernel_routing is not None for device in self.devices):
            return False
        for port in moved:
            if self.joins_others(port):
                return False
        self.note_moved(moved)
        return True

    def joins_others(self, port: Port) -> bool:
        """Whether other interfaces hang together by a port, as those of a switch or bundle do, or by its subnet."""
        interface = port.interface
        if interface.members or interface.switchport or port.name in self._bundle_of or self.is_bridged(port):
            return True
        return self.domain_of(port)[0] == "port" and self._shares_subnet(port)

    def _shares_subnet(self, port: Port) -> bool:
        subnets = {prefix for prefix in port.prefixes if not prefix.is_host and not prefix.is_link_local}
        return any(number != port.index for subnet in subnets for number in self._ports_in[subnet])

    def port(self, device: str, interface: str) -> Port:
        return self.ports[self.port_index[InterfaceName(device, interface)]]

    def instance_name(self, instance: int) -> str:
        """A device's name, with the VRF where it is not the default instance."""
        found = self.instances[instance]
        name = self.devices[found.device].name
        return name if found.vrf == DEFAULT_INSTANCE else f"{name} (VRF {found.vrf})"

    def instances_of(self, device: int) -> list[int]:
        """The routing instances of a device: the default one, then its VRFs."""
        names = (DEFAULT_INSTANCE, *self.devices[device].vrfs)
        return [self.instance_index[self.devices[device].name, vrf] for vrf in names]

    def neighbor_address(self, port: int, peer: int, family: int) -> Address | None:
        """The next-hop address of the interface ``peer`` as a neighbour behind ``port`` knows it.

        IPv4: the peer's address in a common subnet, else its first. IPv6: the link-local one, written or
        formed from its MAC address (RFC 5340 section 4.3.2, RFC 5308 section 4); None where neither is known.
        """
        theirs = self.ports[peer]
        if family == 6:
            for address in theirs.addresses:
                if address.family == 6 and address.is_link_local:
                    return address
            return link_local_of(theirs.interface.mac) if theirs.interface.mac else None
        for own in self.ports[port].prefixes:
            for prefix, address in zip(theirs.prefixes, theirs.addresses, strict=True):
                if own == prefix and prefix.family == family:
                    return address
        return next((address for address in theirs.addresses if address.family == family), None)

    def is_heard_outside(self, port: Port, address: Address) -> bool:
        """Whether a neighbour outside the network, whose paths are known, is or names an address behind a port."""
        routing = self.instances[port.instance].routing
        if routing is None or routing.bgp is None or self.is_configured(address):
            return False
        return any(own.contains(address) for own in port.prefixes) and any(
            neighbor.address == address or any(address in paths.next_hops for paths in neighbor.received)
            for neighbor in routing.bgp.neighbors
            if neighbor.received
        )

    def link_state(self, name: InterfaceName) -> str:
        """Why the link of an interface carries nothing, or ''. Two ends: both must be enabled."""
        number = self.link_of.get(name)
        if number is None:
            return ""
        link = self.network.links[number]
        if not link.enabled:
            return "its link is disabled"
        if len(link.ends) == 2:
            for end in link.ends:
                if end != name and not self.network.devices[end.device].interfaces[end.interface].enabled:
                    return f"no carrier: {end} is disabled"
        return ""

    def _why_down(self, device: Device, interface: Interface) -> str:
        if not interface.enabled:
            return "it is disabled"
        if interface.parent is not None:
            reason = self._why_down(device, device.interfaces[interface.parent])
            return f"{interface.parent} is down: {reason}" if reason else ""
        reason = self.link_state(InterfaceName(device.name, interface.name))
        if reason or not interface.members:
            return reason
        states = [self._why_down(device, device.interfaces[member]) for member in interface.members]
        return "all its members are down" if all(states) else ""

    def is_managed(self, device: int) -> bool:
        """Whether a device tells VLANs apart; any other switch passes every tag."""
        return device in self._managed

    def cabled_name(self, port: Port) -> InterfaceName:
        """The interface that a port's frames leave by: its parent's where it is a VLAN of that."""
        parent = port.interface.parent
        return port.name if parent is None else InterfaceName(port.name.device, parent)

    def is_bridged(self, port: Port) -> bool:
        """Whether a switch treats this interface as a plain port between cables."""
        device, interface = self.devices[port.device], port.interface
        return device.kind == "switch" and not (
            interface.addresses
            or interface.switchport
            or interface.is_loopback
            or interface.vlan is not None
            or InterfaceName(device.name, interface.name) in self._bundle_of
        )

    def _build_segments(self) -> None:
        joined = DisjointSets[Domain]()
        plain: list[tuple[Device, Port]] = []
        attached: list[tuple[int, Domain]] = []
        tags = self.tags
        for port in self.ports:
            device, interface = self.devices[port.device], port.interface
            if interface.vlan is not None:
                tags.add(interface.vlan)
            if interface.switchport:
                tags.update(interface.switchport.trunk)
        self._managed = {port.device for port in self.ports if port.interface.switchport or self._is_routed_vlan(port)}
        for port in self.ports:
            device, interface = self.devices[port.device], port.interface
            if interface.members:
                for member in interface.members:
                    if self._why_down(device, device.interfaces[member]):
                        continue
                    for tag in tags:
                        joined.join(("port", port.name, tag), self.wire(InterfaceName(device.name, member), tag))
            if interface.switchport and port.up:
                for tag, vlan in interface.switchport.vlan_by_tag.items():
                    joined.join(("switch", port.device, vlan), self.wire(port.name, tag))
            elif self.is_bridged(port) and port.up:
                plain.append((device, port))
            # A Linux interface needs no address of its own to be routed by.
            is_unnumbered = device.kernel_routing is not None and port.name in self.link_of
            if (interface.addresses or is_unnumbered) and not interface.is_loopback:
                attached.append((port.index, self.domain_of(port)))
        for _, port in plain:
            if self.is_managed(port.device):
                joined.join(("switch", port.device, DEFAULT_VLAN), self.wire(port.name, 0))
                continue
            for tag in tags:
                joined.join(("switch", port.device, tag), self.wire(port.name, tag))
        self._join_by_subnet(joined, attached)
        self._number(joined, attached)

    def _is_routed_vlan(self, port: Port) -> bool:
        return port.interface.vlan is not None and port.interface.parent is None

    def wire(self, name: InterfaceName, tag: int) -> Domain:
        """The domain an interface's frames with ``tag`` are on: its link's, or its own where it has none."""
        number = self.link_of.get(name)
        return ("link", number, tag) if number is not None else ("port", name, tag)

    def domain_of(self, port: Port) -> Domain:
        interface = port.interface
        if self._is_routed_vlan(port):
            assert interface.vlan is not None
            return ("switch", port.device, interface.vlan)
        if interface.parent is not None:
            assert interface.vlan is not None
            return self.wire(InterfaceName(port.name.device, interface.parent), interface.vlan)
        return self.wire(port.name, 0)

    def _join_by_subnet(self, joined: DisjointSets[Domain], attached: list[tuple[int, Domain]]) -> None:
        for index, domain in attached:
            port = self.ports[index]
            if domain[0] != "port" or port.interface.members or not port.up:
                continue
            for prefix in port.prefixes:
                if not prefix.is_host and not prefix.is_link_local:
                    joined.join(("subnet", prefix, port.interface.vlan or 0), domain)

    def _number(self, joined: DisjointSets[Domain], attached: list[tuple[int, Domain]]) -> None:
        members: dict[int, list[int]] = {}
        for index, domain in attached:
            members.setdefault(joined.find(domain), []).append(index)
        links: dict[int, set[int]] = defaultdict(set)
        for domain in joined.number:
            if domain[0] == "link":
                links[joined.find(domain)].add(int(str(domain[1])))
        for root, ports in members.items():
            number = len(self.segments)
            self.segments.append(Segment(number, tuple(ports), tuple(sorted(links.get(root, ())))))
            for index in ports:
                self.segment_of[index] = number


def _others(here: Sequence[object], there: Sequence[object]) -> Iterator[int]:
    """Where two lists of one length hold different objects."""
    return compress(count(), map(is_not, here, there))
