"""The places that traffic goes between, and their addresses in classes that no table tells apart.

Places are the subnets that hosts may be in, every routing instance by the address that stands for it, and the world
outside the model: as a source at each way in, as a destination by the routes that lead there. Links between routers
are no places: nobody is there but the routers.
"""

from bisect import bisect_left, bisect_right
from collections.abc import Iterable, Iterator
from dataclasses import dataclass
from typing import Literal, NamedTuple

from routrel.analysis.held.entry_lists import Span, Spans, address_of, number_of, span_of
from routrel.analysis.held.states import Numbering, State
from routrel.forwarding.flow_words import device_address
from routrel.model.addresses import Address, Prefix
from routrel.model.filters import Header
from routrel.routing.routes import NextHop
from routrel.topology.ports import Port

Kind = Literal["subnet", "device", "outside"]

LONGEST_SUBNET = {4: 29, 6: 125}
"""Longer prefixes have no room for hosts beside two routers."""

HOSTS = {4: ("1.0.0.0", "223.255.255.255"), 6: ("2000::", "fdff:ffff:ffff:ffff:ffff:ffff:ffff:ffff")}
"""Addresses that single hosts outside may have, from and to."""


@dataclass(frozen=True, eq=False, slots=True)
class Place:
    """A place by its name; ``site`` is that of the devices there, where they have one. There is one object of each:
    millions of pairs of them are counted."""

    kind: Kind
    name: str
    site: str | None
    family: int


class AddressClass(NamedTuple):
    """Addresses of a place that are routed alike everywhere, before and after."""

    number: int
    place: Place
    spans: Spans
    address: Address
    """One of them."""
    chains: tuple[list[int], list[int]]
    """The prefixes that may lead there, longest first: their numbers in either state."""
    prefixes: frozenset[Prefix]
    """The same in both, by what they are."""
    owners: tuple[frozenset[int], frozenset[int]]
    of_instances: frozenset[int]
    """Where packets of these addresses begin."""
    routed_by: tuple[str, ...] = ()
    """Outside: the longest prefixes that lead there."""


class Source(NamedTuple):
    """Where packets of a class of addresses begin: ``port`` is where they come in, -1 at the instance itself."""

    place: Place
    addresses: AddressClass
    instance: int
    port: int


class Places:
    """The places of both states."""

    def __init__(self, before: State, after: State, numbering: Numbering):
        self.states, self.numbering = (before, after), numbering
        self._prefixes = [state.solved.prefixes.prefixes for state in self.states]
        self._columns = [state.solved.prefix_classes.column for state in self.states]
        self._standing = [_standing(state) for state in self.states]
        every = sorted({*self._prefixes[0], *self._prefixes[1]})
        self._begins = sorted({begin for low, high in map(span_of, every) for begin in (low, high + 1)})
        connected = {prefix for state in self.states for prefix in state.topology.prefixes}
        self._inside = _joined(map(span_of, connected))
        self.classes: list[AddressClass] = []
        self.sources: list[Source] = []
        self._add_subnets(connected)
        self._add_devices()
        self._add_outside()

    def _add_subnets(self, connected: set[Prefix]) -> None:
        ports = dict[Prefix, dict[int, Port]]()
        links = {port for state in self.states for port in _between_two_routers(state)}
        for state in self.states:
            for number, port in enumerate(state.port):
                if port is None or not port.up or number in links or not state.topology.devices[port.device].forwards:
                    continue
                for prefix in port.prefixes:
                    if prefix.length <= LONGEST_SUBNET[prefix.family] and not prefix.is_link_local:
                        ports.setdefault(prefix, {}).setdefault(number, port)
        known = {*self.states[0].topology.owners, *self.states[1].topology.owners}
        known |= {address for state in self.states for address in state.topology.virtual_addresses}
        owned = sorted(map(number_of, known))
        longer = sorted(connected)
        for prefix, at in sorted(ports.items()):
            low, high = span_of(prefix)
            taken = [(one, one) for one in owned[bisect_left(owned, low) : bisect_right(owned, high)]]
            for at_longer in range(bisect_left(longer, prefix), len(longer)):
                other = longer[at_longer]
                if not prefix.covers(other):
                    break
                if other != prefix and not other.is_host:
                    taken.append(span_of(other))
            first = min(at)
            site = self._site(self.numbering.ports[first].device)
            place = Place("subnet", str(prefix), site, prefix.family)
            instances = frozenset(self.numbering.instance_of[port] for port in at)
            for addresses in self._classes(place, _without([(low, high)], taken), instances):
                self.sources += (
                    Source(place, addresses, self.numbering.instance_of[port], port) for port in sorted(at)
                )

    def _add_devices(self) -> None:
        for instance, (device, _) in enumerate(self.numbering.instances):
            for family in (4, 6):
                own = ((state, state.instance(instance)) for state in self.states)
                found = [device_address(state.topology, one, family) for state, one in own if one >= 0]
                address = next((one for one in found if one is not None), None)
                if address is None:
                    continue
                place = Place("device", self.numbering.name(instance), self._site(device), family)
                own_address = [(number_of(address), number_of(address))]
                for addresses in self._classes(place, own_address, frozenset([instance])):
                    self.sources.append(Source(place, addresses, instance, -1))

    def _add_outside(self) -> None:
        borders = {port for state in self.states for port in _borders(state)}
        for family in (4, 6):
            low, high = (number_of(Address.parse(text)) for text in HOSTS[family])
            at = sorted(port for port, one in borders if one == family)
            if not at:
                continue
            spans = _without([(low, high)], self._inside)
            names = {port: self.numbering.ports[port] for port in at}
            places = {
                port: Place("outside", f"outside by {name}", self._site(name.device), family)
                for port, name in names.items()
            }
            instances = frozenset(self.numbering.instance_of[port] for port in at)
            for addresses in self._classes(Place("outside", "outside", None, family), spans, instances):
                for port, place in places.items():
                    self.sources.append(Source(place, addresses, self.numbering.instance_of[port], port))

    def _site(self, device: str) -> str | None:
        for state in self.states:
            if device in state.solved.network.devices:
                return state.solved.network.devices[device].site
        return None

    def _classes(self, place: Place, spans: Iterable[Span], of_instances: frozenset[int]) -> list[AddressClass]:
        """The addresses of a place, those that are routed alike together."""
        alike = dict[object, list[Span]]()
        for low, high in spans:
            inside = self._begins[bisect_right(self._begins, low) : bisect_left(self._begins, high + 1)]
            for first, after in zip([low, *inside], [*inside, high + 1], strict=True):
                alike.setdefault(self._likeness(address_of(first)), []).append((first, after - 1))
        found: list[AddressClass] = []
        for some in alike.values():
            address = address_of(some[0][0])
            chains = tuple(state.solved.prefixes.chain(address) for state in self.states)
            prefixes = [self._prefixes[side][number] for side in (0, 1) for number in chains[side]]
            found.append(
                AddressClass(
                    len(self.classes) + len(found),
                    place,
                    tuple(some),
                    address,
                    (chains[0], chains[1]),
                    frozenset(prefixes),
                    (self.states[0].owners(address), self.states[1].owners(address)),
                    of_instances,
                    self._routed_by(some) if place.kind == "outside" else (),
                )
            )
        self.classes += found
        return found

    def _likeness(self, address: Address) -> object:
        """Equal for addresses that every table of both states treats alike."""
        return tuple(
            tuple(
                (self._columns[side].item(number), self._standing[side].get(number))
                for number in state.solved.prefixes.chain(address)
            )
            for side, state in enumerate(self.states)
        )

    def _routed_by(self, spans: list[Span]) -> tuple[str, ...]:
        """The longest prefixes that lead to addresses outside."""
        names = dict[str, None]()
        for low, _ in spans:
            for side, state in enumerate(self.states):
                chain = state.solved.prefixes.chain(address_of(low))
                if chain:
                    names[str(self._prefixes[side][chain[0]])] = None
        return tuple(names)


def _standing(state: State) -> dict[int, object]:
    """The prefixes for which some tables have a connected, static or observed route, by what these do."""
    found = dict[int, list[object]]()
    for instance in state.topology.instances:
        table = state.solved.table(instance.index)
        for number in table.others:
            route = table.other(number)
            assert route is not None
            what = instance.index, route.protocol, route.preference, route.action, route.next_hops
            found.setdefault(number, []).append(what)
    return {number: tuple(routes) for number, routes in found.items()}


def _between_two_routers(state: State) -> Iterator[int]:
    """Ports at both ends of a cable between two routers: there is nobody else on it."""
    topology = state.topology
    for segment in topology.segments:
        ports = [topology.ports[port] for port in segment.ports]
        if len(ports) != 2 or len(segment.links) != 1:
            continue
        ends = {topology.cabled_name(port) for port in ports}
        is_routed = all(topology.devices[port.device].forwards for port in ports)
        if is_routed and ends == set(topology.network.links[segment.links[0]].ends):
            yield from (state.numbering.port_number[port.name] for port in ports)


def _borders(state: State) -> Iterator[tuple[int, int]]:
    """The ports by which packets may leave the model, each with the family of addresses."""
    for instance in state.topology.instances:
        table = state.solved.table(instance.index)
        hops = set[tuple[int, NextHop]]()
        for source in table.sources:
            for family, of_family in source.rows.hops.items():
                hops |= {(family, hop) for hop in of_family if hop is not None}
        for number in table.others:
            route = table.other(number)
            if route is not None:
                hops |= {(route.prefix.family, hop) for hop in route.next_hops}
        for family, hop in hops:
            nobody = Address(family, 0)
            if hop.address is not None and state.walker.leaves_by(
                instance.device, hop, Header(0, nobody, nobody, None, None)
            ):
                yield state.numbering.port_number[state.topology.ports[hop.port].name], family


def _joined(spans: Iterable[Span]) -> list[Span]:
    """Ascending spans, those that touch put together."""
    found: list[Span] = []
    for low, high in sorted(spans):
        if found and low <= found[-1][1] + 1:
            found[-1] = found[-1][0], max(high, found[-1][1])
        else:
            found.append((low, high))
    return found


def _without(spans: Iterable[Span], taken: Iterable[Span]) -> list[Span]:
    """Some spans without others."""
    found = []
    away = _joined(taken)
    begins = [low for low, _ in away]
    for low, high in _joined(spans):
        first = low
        for one, last in away[max(0, bisect_right(begins, low) - 1) : bisect_right(begins, high)]:
            if last < first:
                continue
            if one > first:
                found.append((first, one - 1))
            first = last + 1
        if first <= high:
            found.append((first, high))
    return found
