"""Who has an address and who answers for it: interfaces that are up, and routers active for virtual ones."""

from collections import defaultdict
from collections.abc import Iterable
from copy import copy
from functools import cached_property
from typing import Self

from routrel.model.addresses import Address
from routrel.model.devices import Device
from routrel.topology.ports import Port, Segment
from routrel.topology.virtual_routers import TrackedBy, VirtualGroup, groups_on, tracked_networks, virtual_addresses


class AddressOwners:
    """The part of a topology that tells whom addresses lead to; the rest of it is made first."""

    devices: list[Device]
    ports: list[Port]
    ports_of: list[list[int]]
    ports_named: list[dict[str, Port]]
    segments: list[Segment]
    segment_of: list[int]
    hosts: list[Address]

    def __init__(self) -> None:
        self.owners: dict[Address, list[int]] = defaultdict(list)
        """The up ports that take packets to an address."""
        self.answerers: dict[tuple[int, Address], int] = {}
        """(segment, address) to the up port that answers for it there; the first where several do."""
        self.virtual_groups: dict[int, tuple[VirtualGroup, ...]] = {}
        """The virtual routers of segments, with who is active for them."""
        self.unreached: frozenset[TrackedBy] = frozenset()
        """The networks that virtual routers track and that the tables of those who track them have no route for."""
        for port in self.ports:
            if not port.up:
                continue
            segment = self.segment_of[port.index]
            for address in port.answered:
                if not address.is_link_local:
                    self.owners[address].append(port.index)
                if segment >= 0:
                    self.answerers.setdefault((segment, address), port.index)
        for segment in sorted({segment for segments in self._electing.values() for segment in segments}):
            self._elect(segment)
        self._answer_for_all()

    def on_segment(self, segment: int, address: Address) -> int | None:
        """The up port that answers for ``address`` on a segment, or None; the first where several do."""
        return self.answerers.get((segment, address))

    def owner(self, address: Address) -> int | None:
        """The first up port in the network that owns ``address``, or None."""
        owners = self.owners.get(address)
        return owners[0] if owners else None

    def is_configured(self, address: Address) -> bool:
        """Whether an interface has an address, up or down."""
        return address in self._configured

    @cached_property
    def _configured(self) -> frozenset[Address]:
        return frozenset(self.hosts)

    @cached_property
    def virtual_addresses(self) -> frozenset[Address]:
        """All addresses of virtual routers, whoever is active for them."""
        return frozenset(virtual_addresses(self.ports))

    def electing_by(self, port: Port) -> frozenset[int]:
        """The segments with virtual routers that a port has a part in: its own, and those that track it."""
        return frozenset(self._electing.get(port.index, ()))

    @cached_property
    def _electing(self) -> dict[int, set[int]]:
        found: dict[int, set[int]] = defaultdict(set)
        for port in self.ports:
            segment = self.segment_of[port.index]
            for router in port.interface.virtual_routers if segment >= 0 else ():
                for name in (port.name.interface, *(one.interface for one in router.tracked)):
                    found[self.ports_named[port.device][name].index].add(segment)
        return dict(found)

    @cached_property
    def segments_tracking(self) -> dict[TrackedBy, frozenset[int]]:
        """The networks that virtual routers track, each with the segments where that decides who is active."""
        found: dict[TrackedBy, set[int]] = defaultdict(set)
        for port in self.ports:
            segment = self.segment_of[port.index]
            for tracked in tracked_networks(port) if segment >= 0 else ():
                found[tracked].add(segment)
        return {tracked: frozenset(segments) for tracked, segments in found.items()}

    def with_unreached(self, unreached: frozenset[TrackedBy]) -> Self:
        """The same where some tracked networks have no route, and all others have one."""
        differing = unreached ^ self.unreached
        if not differing:
            return self
        made = copy(self)
        made.unreached = unreached
        made._note_apart()
        made._note_again(set().union(*(self.segments_tracking[one] for one in differing)))
        made._answer_for_all()
        return made

    def note_moved(self, moved: Iterable[Port]) -> None:
        """Note who owns and answers for addresses once ports have come up or gone down."""
        self._note_apart()
        touched = set[int]()
        for port in moved:
            touched |= {self.segment_of[port.index], *self.electing_by(port)}
            for address in port.addresses:
                if not address.is_link_local:
                    was = {*self.owners.get(address, ()), port.index}
                    self._own(address, was - {port.index} if port.down else was)
        self._note_again(touched - {-1})

    def _note_apart(self) -> None:
        """What is noted from here on is no longer shared with the topology that this one is a copy of."""
        self.owners, self.answerers = self.owners.copy(), dict(self.answerers)
        self.virtual_groups = dict(self.virtual_groups)

    def _note_again(self, segments: set[int]) -> None:
        """Note who answers for addresses on some segments, where that may be somebody else than before."""
        for segment in sorted(segments):
            ports = [self.ports[number] for number in self.segments[segment].ports]
            for address in virtual_addresses(ports).union(*(port.answered for port in ports)):
                self.answerers.pop((segment, address), None)
            for port in ports:
                for address in port.answered if port.up else ():
                    self.answerers.setdefault((segment, address), port.index)
            self._elect(segment)

    def _own(self, address: Address, ports: set[int]) -> None:
        """Note which up ports own an address."""
        self.owners.pop(address, None)
        if ports:
            self.owners[address] = sorted(ports)

    def _elect(self, segment: int) -> None:
        """Note who answers for the addresses of virtual routers on a segment, once all others are noted."""
        for group in self.virtual_groups.pop(segment, ()):
            for address in group.active.router.addresses:
                was = self.owners.get(address, [])
                if group.active.port in was and address not in self.ports[group.active.port].addresses:
                    self._own(address, {*was} - {group.active.port})
        groups = groups_on(self.segments[segment], self.ports, self.ports_named, self.unreached)
        for group in groups:
            for address in group.active.router.addresses:
                self.answerers.setdefault((segment, address), group.active.port)
                if group.active.takes_packets and not address.is_link_local:
                    self._own(address, {*self.owners.get(address, ()), group.active.port})
        if groups:
            self.virtual_groups[segment] = groups

    def _answer_for_all(self) -> None:
        """A Linux device answers on any interface for every address that it has (arp_ignore 0)."""
        for number, device in enumerate(self.devices):
            if device.kernel_routing is None:
                continue
            ports = [self.ports[port] for port in self.ports_of[number]]
            own = {address for port in ports if port.up for address in port.addresses if not address.is_link_local}
            for port in ports:
                segment = self.segment_of[port.index]
                for address in own if port.up and segment >= 0 else ():
                    self.answerers.setdefault((segment, address), port.index)
