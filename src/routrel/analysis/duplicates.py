"""Addresses that stand on several interfaces within reach of each other.

Routing instances keep their addresses apart (RFC 8349): the same address in two of them is no mistake. Within
reach of an interface is what hangs together with it segment by segment, through devices that forward, but
never by two instances of one device: where a cable joins two instances of a router, somebody keeps two
networks side by side.
"""

from collections import defaultdict, deque
from collections.abc import Iterator, Mapping

from routrel.model.addresses import Address
from routrel.model.findings import Finding, some_of
from routrel.topology.ports import Port
from routrel.topology.segments import Topology

MOST_SEARCHES = 500
"""Past so many, what hangs together at all is taken for within reach."""


def duplicate_addresses(topology: Topology) -> Iterator[Finding]:
    """One finding per address that several interfaces within reach of each other have, unless all share it."""
    owners: dict[Address, list[tuple[Port, int]]] = defaultdict(list)
    for port in topology.ports:
        for index, address in enumerate(port.addresses):
            if not address.is_link_local:
                owners[address].append((port, index))
    reach = _Reach(topology)
    for address, held in owners.items():
        if len(held) < 2 or all(port.interface.shared for port, _ in held):
            continue
        holders: dict[int, list[tuple[Port, int]]] = defaultdict(list)
        for one in held:
            holders[one[0].instance].append(one)
        together = next((found for one in holders if len(found := reach.holders_within(one, holders)) > 1), [])
        if together:
            port = together[0][0]
            yield Finding(
                "duplicate-address",
                "error",
                f"{address} stands on {len(together)} interfaces: {some_of([one.name for one, _ in together])}",
                port.name.device,
                port.name.interface,
                tuple(
                    (one.interface.address_places or (one.interface.place,) * (index + 1))[index]
                    for one, index in together
                ),
            )


class _Reach:
    def __init__(self, topology: Topology):
        self.topology = topology
        self._found: dict[int, frozenset[int]] = {}
        self._beyond: dict[int, frozenset[int]] = {}
        self._segments_of: dict[int, list[int]] = defaultdict(list)
        for port in topology.ports:
            if topology.segment_of[port.index] >= 0:
                self._segments_of[port.instance].append(topology.segment_of[port.index])

    def holders_within(self, start: int, holders: Mapping[int, list[tuple[Port, int]]]) -> list[tuple[Port, int]]:
        """The holders in an instance, then those within reach of it; on its own device only its own."""
        near = self._from(start)
        fewer = (
            [one for one in near if one in holders]
            if len(near) < len(holders)
            else [*filter(near.__contains__, holders)]
        )
        device = self.topology.instances[start].device
        others = [one for one in sorted(fewer) if self.topology.instances[one].device != device]
        return [held for one in (start, *others) for held in holders[one]]

    def _from(self, instance: int) -> frozenset[int]:
        """The instances within reach of one, breadth first: of each device the one that is met first."""
        if instance not in self._found:
            if len(self._found) >= MOST_SEARCHES:
                return self._anywhere(instance)
            self._found[instance] = self._search(instance, True)
        return self._found[instance]

    def _anywhere(self, instance: int) -> frozenset[int]:
        if instance not in self._beyond:
            found = self._search(instance, False)
            self._beyond |= dict.fromkeys(found, found)
        return self._beyond[instance]

    def _search(self, start: int, one_each: bool) -> frozenset[int]:
        instances = self.topology.instances
        met = {instances[start].device: start}
        seen, done = {start}, set()
        queue = deque([start])
        while queue:
            instance = queue.popleft()
            if instance != start and not self.topology.devices[instances[instance].device].forwards:
                continue
            for segment in self._segments_of[instance]:
                if segment in done:
                    continue
                done.add(segment)
                for number in self.topology.segments[segment].ports:
                    other = self.topology.ports[number]
                    is_second = met.setdefault(other.device, other.instance) != other.instance
                    if other.instance in seen or (one_each and is_second):
                        continue
                    seen.add(other.instance)
                    queue.append(other.instance)
        return frozenset(seen)
