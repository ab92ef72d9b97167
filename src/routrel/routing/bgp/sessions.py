"""BGP sessions: which are configured, which match at both ends, and which come up by the tables.

RFC 4271 section 8: a session needs both ends to name each other, the right AS numbers and a TCP connection
to port 179. An external session is between directly connected routers unless ``multihop`` says otherwise.
"""

from collections import defaultdict
from collections.abc import Iterable, Sequence
from functools import cached_property

import numpy as np

from routrel.model.addresses import Address, Prefix
from routrel.model.bgp import Bgp, BgpNeighbor
from routrel.model.devices import Device
from routrel.model.filters import TCP
from routrel.routing.bgp.calls import BGP_PORT, SOME_PORT, why_not_connected, why_not_outside
from routrel.routing.bgp.speakers import NO_INSTANCE, Channel, End, Outside, SessionDown, Speaker, State
from routrel.routing.bgp.unfiltered import UnfilteredConnections
from routrel.routing.neighbors import Obstacle, router_id
from routrel.routing.prefixes.distinctions import PrefixDistinctions
from routrel.routing.prefixes.index import PrefixIndex
from routrel.routing.protocol import Connections, OwnPackets, Process, ProtocolDatabase, Tables
from routrel.topology.ports import Port
from routrel.topology.segments import Topology
from routrel.topology.wiring import down_place


class BgpDatabase(ProtocolDatabase):
    """The speakers of a network and the sessions they are told to have."""

    own_packets = (OwnPackets(TCP, (BGP_PORT, SOME_PORT)),)
    has_sessions = True

    def __init__(self, topology: Topology, base: "BgpDatabase | None" = None):
        super().__init__(topology)
        self.speakers: list[Speaker] = []
        self.ends: list[End] = []
        self._by_instance: dict[int, Speaker] = {}
        self._near: dict[tuple[int, Address], tuple[Port, Address] | None] = {}
        """What was found of addresses on subnets of an instance."""
        self._ends_of: list[dict[Address, End]] = []
        self._is_filtered = any(
            device.acls or device.forwarding_policies or device.program or device.kernel_routing
            for device in topology.devices
        )
        for instance in topology.instances:
            bgp = instance.routing.bgp if instance.routing else None
            if bgp is None:
                continue
            number = len(self.processes)
            families = tuple(sorted({family for one in bgp.neighbors for family in one.carried})) or (4, 6)
            self.processes.append(
                Process(number, instance.index, "bgp", f"AS {bgp.number}", families, bgp.redistribute, bgp.place)
            )
            own = bgp.router_id or router_id(topology, instance.index) or Address(4, 0)
            speaker = Speaker(
                number,
                instance.index,
                bgp,
                own.value,
                (bgp.cluster_id or own).value,
                any(one.route_reflector_client for one in bgp.neighbors),
            )
            self.speakers.append(speaker)
            self._by_instance[instance.index] = speaker
            ends = [End(len(self.ends) + at, number, one) for at, one in enumerate(bgp.neighbors)]
            self.ends += ends
            self._ends_of.append({end.neighbor.address: end for end in ends})
        self._outside = self._outside_neighbors()
        """Neighbours outside the network by the number of the end that names them."""

    def _outside_neighbors(self) -> dict[int, list[Speaker]]:
        """Neighbours whose paths are known and whose address no device has; one speaker for each path of a prefix."""
        if not any(end.neighbor.received for end in self.ends):
            return {}
        found: dict[int, list[Speaker]] = defaultdict(list)
        for end in self.ends:
            address, number = end.neighbor.address, end.neighbor.number
            for paths in () if self.topology.is_configured(address) else end.neighbor.received:
                known = address.value if address.family == 4 else 0
                identifier = known if paths.identifier is None else paths.identifier
                outside = Outside(f"the neighbor {address}", paths, number != self.speakers[end.process].bgp.number)
                bgp = Bgp(number, place=end.neighbor.place)
                speaker = Speaker(len(self.speakers), NO_INSTANCE, bgp, identifier, identifier, False, outside)
                self.speakers.append(speaker)
                found[end.index].append(speaker)
        return found

    @property
    def outside(self) -> Sequence[tuple[int, Outside]]:
        """The speakers outside the network, which stand after all others: their numbers, and what is known of them."""
        found = self.speakers[len(self.processes) :]
        return [(one.process, one.outside) for one in found if one.outside is not None]

    def content(self) -> Sequence[object]:
        return [*super().content(), self.speakers]

    def prefixes(self) -> Iterable[Prefix]:
        """Networks, aggregates, and the defaults that neighbours are told."""
        for speaker in self.speakers:
            yield from (prefix for prefix, _ in speaker.bgp.networks)
            yield from (aggregate.prefix for aggregate in speaker.bgp.aggregates)
            for neighbor in speaker.bgp.neighbors:
                if neighbor.originate_default:
                    yield from (Prefix(family, 0, 0) for family in neighbor.carried)
            if speaker.outside is not None:
                yield from speaker.outside.received.prefixes

    def may_bring(self, prefix: Prefix) -> bool:
        return prefix in self._own_prefixes

    @cached_property
    def _own_prefixes(self) -> frozenset[Prefix]:
        return frozenset(self.prefixes())

    def add_distinctions(self, distinctions: PrefixDistinctions) -> None:
        """What BGP itself tells of prefixes: whose networks they are, aggregates and what these cover."""
        for speaker in self.speakers:
            for prefix, _ in speaker.bgp.networks:
                distinctions.add(prefix, ("network", speaker.process))
            for aggregate in speaker.bgp.aggregates:
                distinctions.add_single(aggregate.prefix)
                distinctions.add_covered(aggregate.prefix, ("aggregate", aggregate.prefix))
        for _, outside in self.outside:
            numbers = distinctions.index.numbers_of(outside.received.prefixes)
            distinctions.add_columns(numbers, np.array(outside.received.numbers, np.int64))

    def survey(self, prefixes: PrefixIndex, tables: Tables) -> State:
        """Look at all sessions by the tables of the moment."""
        state = State()
        walked: type[Connections] = self.connections if self._is_filtered else UnfilteredConnections
        calls = walked(self.topology, prefixes, tables)
        told: set[tuple[int, int]] = set()
        for end in self.ends:
            source, why = self._source(end, tables)
            if end.index in self._outside:
                why = why or why_not_outside(self, end, source, calls)
                if why is not None:
                    state.failures.append(SessionDown(end, why))
                elif source is not None:
                    self._add_outside(state, end, source)
                continue
            other = self._other(end, source) if source is not None else None
            if other is not None and other.index < end.index and (end.index, other.index) in told:
                continue  # with the first end
            if other is not None:
                told.add((other.index, end.index))
            if why is None and other is None:
                why = self._why_alone(end, source)
            if why is None and other is not None and source is not None:
                why = self._mismatch(end, other) or self._mismatch(other, end)
                why = why or why_not_connected(self, end, other, source, calls)
            if why is not None:
                state.failures.append(SessionDown(end, why, (other,) if other is not None else ()))
            elif other is not None and source is not None:
                self._add(state, end, other, source)
        # An end that could not call by itself is called by the other.
        up = {end.index for channel in state.channels for end in (channel.sending, channel.receiving)}
        state.failures = [failure for failure in state.failures if failure.end.index not in up]
        return state

    def _source(self, end: End, tables: Tables) -> tuple[Address | None, Obstacle | None]:
        """The address an end speaks from, or why it has none."""
        neighbor = end.neighbor
        if not neighbor.enabled:
            return None, Obstacle("it is disabled here")
        instance = self.speakers[end.process].instance
        family = neighbor.address.family
        if neighbor.local_address is not None:
            return neighbor.local_address, None
        if neighbor.update_source is not None:
            port = self.topology.port(self.device(end.process).name, neighbor.update_source)
            if not port.up:
                return None, Obstacle(f"{port.name} is down: {port.down}", (down_place(self.topology, port),))
        else:
            connected = self.on_subnet(instance, neighbor.address)
            if connected is not None:
                return connected[1], None
            route = tables(instance).lookup(neighbor.address)
            if route is None or route.action != "forward":
                return None, Obstacle(f"{self.name(end.process)} has no route to {neighbor.address}")
            port = self.topology.ports[route.next_hops[0].port]
        source = _address_of(port, family)
        return source, None if source else Obstacle(f"{self.name(end.process)} has no address to speak from")

    def on_subnet(self, instance: int, address: Address) -> tuple[Port, Address] | None:
        """The up port of an instance on whose subnet an address is, and its own address there."""
        if (instance, address) not in self._near:
            self._near[instance, address] = self._find_connected(instance, address)
        return self._near[instance, address]

    def _find_connected(self, instance: int, address: Address) -> tuple[Port, Address] | None:
        for number in self.topology.ports_of[self.topology.instances[instance].device]:
            port = self.topology.ports[number]
            if port.instance == instance and port.up:
                for own in port.interface.addresses:
                    if own.is_on_subnet_with(address):
                        return port, own.address
        return None

    def _other(self, end: End, source: Address) -> End | None:
        """The end of another speaker that names this one."""
        for number in self.topology.owners.get(end.neighbor.address, ()):
            speaker = self._by_instance.get(self.topology.ports[number].instance)
            if speaker is not None and speaker.process != end.process:
                found = self._ends_of[speaker.process].get(source)
                if found is not None:
                    return found
        return None

    def _why_alone(self, end: End, source: Address | None) -> Obstacle:
        """Why nobody answers an end."""
        address = end.neighbor.address
        holders = [
            (port, port.device == self.topology.instances[self.speakers[end.process].instance].device)
            for port in self.topology.ports
            if any(one.address == address for one in port.interface.addresses)
        ]
        if not holders:
            return Obstacle(f"no device of this network has the address {address}")
        port, is_own = holders[0]
        if is_own:
            return Obstacle(f"{address} is an address of its own")
        if not port.up:
            text = f"{port.name}, which has {address}, is down: {port.down}"
            return Obstacle(text, (down_place(self.topology, port),))
        speaker = self._by_instance.get(port.instance)
        name = self.topology.instance_name(port.instance)
        if speaker is None:
            return Obstacle(f"{name}, which has {address}, does not speak BGP")
        named = [one for one in self._ends_of[speaker.process].values() if self._is_of(one.neighbor.address, end)]
        if named:
            others = ", ".join(str(one.neighbor.address) for one in named)
            places = tuple(one.neighbor.place for one in named)
            return Obstacle(f"{name} names {others} and not {source}, which this side speaks from", places)
        return Obstacle(f"{name} does not name {source} as a neighbor", (speaker.bgp.place,))

    def _is_of(self, address: Address, end: End) -> bool:
        instance = self.speakers[end.process].instance
        return any(self.topology.ports[port].instance == instance for port in self.topology.owners.get(address, ()))

    def _mismatch(self, end: End, other: End) -> Obstacle | None:
        """What one end is told that the other is not."""
        theirs = self.speakers[other.process]
        if not other.neighbor.enabled:
            return Obstacle(f"it is disabled on {self.name(other.process)}", (other.neighbor.place,))
        if end.neighbor.number != theirs.bgp.number:
            return Obstacle(
                f"{self.name(end.process)} expects AS {end.neighbor.number},"
                f" {self.name(other.process)} is in AS {theirs.bgp.number}",
                (end.neighbor.place, theirs.bgp.place),
            )
        mine = self.speakers[end.process]
        if mine.bgp.number == theirs.bgp.number and mine.identifier == theirs.identifier:
            return Obstacle(
                f"both ends have the BGP identifier {Address(4, mine.identifier)}, and inside an AS each has its own"
                " (RFC 6286 section 2.2): the session is refused",
                (mine.bgp.place, theirs.bgp.place),
            )
        if not set(end.neighbor.carried) & set(other.neighbor.carried):
            return Obstacle("the two ends have no address family in common")
        other_source = other.neighbor.local_address
        if other.neighbor.update_source is not None and other_source is None:
            port = self.topology.port(self.device(other.process).name, other.neighbor.update_source)
            other_source = _address_of(port, end.neighbor.address.family)
        if other_source is not None and other_source != end.neighbor.address:
            text = f"{self.name(other.process)} speaks from {other_source}, not from {end.neighbor.address}"
            return Obstacle(text, (other.neighbor.place,))
        return None

    def _add_outside(self, state: State, end: End, source: Address) -> None:
        """Channels of a session with a neighbour outside: what it says comes in, nothing goes out by the other."""
        mine, neighbor = self.speakers[end.process], end.neighbor
        external = mine.bgp.number != neighbor.number
        direct = self.on_subnet(mine.instance, neighbor.address) if neighbor.multihop == 1 else None
        port = direct[0].index if direct is not None else -1
        hops = [(family, self._next_hop(source, family)) for family in neighbor.carried]
        next_hops = tuple((family, hop) for family, hop in hops if hop is not None)
        for speaker in self._outside[end.index]:
            far = End(len(self.ends) + speaker.process, speaker.process, BgpNeighbor(source, mine.bgp.number))
            for sender, receiver, sending, receiving, own, at, given in (
                (mine, speaker, end, far, source, port, next_hops),
                (speaker, mine, far, end, neighbor.address, -1, ()),
            ):
                index = len(state.channels)
                ways = sender.process, receiver.process, sending, receiving, external, own, at
                state.channels.append(Channel(index, *ways, neighbor.carried, given))

    def _add(self, state: State, end: End, other: End, source: Address) -> None:
        external = self.speakers[end.process].bgp.number != self.speakers[other.process].bgp.number
        families = tuple(family for family in end.neighbor.carried if family in other.neighbor.carried)
        for sending, receiving, own, far in (
            (end, other, source, end.neighbor.address),
            (other, end, end.neighbor.address, source),
        ):
            speaker = self.speakers[sending.process]
            direct = self.on_subnet(speaker.instance, far) if sending.neighbor.multihop == 1 else None
            hops = [(family, self._next_hop(own, family)) for family in families]
            state.channels.append(
                Channel(
                    len(state.channels),
                    sending.process,
                    receiving.process,
                    sending,
                    receiving,
                    external,
                    own,
                    direct[0].index if direct is not None else -1,
                    families,
                    tuple((family, hop) for family, hop in hops if hop is not None),
                )
            )

    def _next_hop(self, own: Address, family: int) -> Address | None:
        """RFC 4760 section 3: the sender's own address of the family, on the interface it speaks from."""
        if own.family == family:
            return own
        for number in self.topology.owners.get(own, ()):
            found = _address_of(self.topology.ports[number], family)
            if found is not None:
                return found
        return None

    def device(self, process: int) -> Device:
        """The device of a speaker that is of the network."""
        return self.topology.devices[self.topology.instances[self.speakers[process].instance].device]

    def name(self, process: int) -> str:
        """A speaker as people call it."""
        speaker = self.speakers[process]
        return self.topology.instance_name(speaker.instance) if speaker.outside is None else speaker.outside.name


def _address_of(port: Port, family: int) -> Address | None:
    """An interface's first address of a family, link-local ones left out."""
    for one in port.interface.addresses:
        if one.family == family and not one.address.is_link_local:
            return one.address
    return None
