"""A device's table: the best route for each prefix, and longest-prefix match.

A prefix with candidates of several protocols goes to the lowest preference (RFC 8349 section 5.1 calls it
route preference); of equal preference the protocol earlier in ``PROTOCOL_ORDER`` wins.
"""

from collections.abc import Iterable, Iterator

from routrel.model.addresses import Address
from routrel.model.places import NOWHERE
from routrel.routing.ospf.solution import DISCARD, KIND_NAMES, NONE, DeviceRoutes, OspfSolution
from routrel.routing.prefixes import PrefixIndex
from routrel.routing.routes import PROTOCOL_ORDER, NextHop, Route
from routrel.topology.segments import Topology


class Table:
    """Best routes of one device. OSPF's stay arrays until one is asked for."""

    def __init__(
        self,
        topology: Topology,
        prefixes: PrefixIndex,
        device: int,
        ospf: OspfSolution | None,
        routes: Iterable[Route],
    ):
        self.topology = topology
        self.prefixes = prefixes
        self.device = device
        self._ospf = ospf
        self._rows: DeviceRoutes | None = ospf.routes_of(device) if ospf and ospf.runs_on(device) else None
        routing = topology.devices[device].routing
        self._ospf_preference = routing.preference("ospf") if routing else 0
        self._multipath = routing.ospf.multipath if routing and routing.ospf else 0
        self._others: dict[int, Route] = {}
        self._best: dict[int, Route | None] = {}
        self._hops_of_masks: dict[tuple[int, ...], tuple[NextHop, ...]] = {}
        for route in routes:
            self.offer(route)

    def offer(self, route: Route) -> None:
        """Let a route compete for its prefix with what stands there from other than OSPF."""
        number = self.prefixes.number[route.prefix]
        standing = self._others.get(number)
        if standing is None or _rank(route) < _rank(standing):
            self._others[number] = route
            self._best.pop(number, None)

    def withdraw(self, route: Route) -> None:
        number = self.prefixes.number[route.prefix]
        del self._others[number]
        self._best.pop(number, None)

    def get(self, number: int) -> Route | None:
        """The best route for a prefix, by its number."""
        try:
            return self._best[number]
        except KeyError:
            best = self._best[number] = self._choose(number)
            return best

    def _choose(self, number: int) -> Route | None:
        other = self._others.get(number)
        if self._rows is None or (other is not None and (other.preference or 0) < self._ospf_preference):
            return other
        ospf = self.ospf_route(number)
        if other is None or ospf is None:
            return other or ospf
        return min(other, ospf, key=_rank)

    def other_than_ospf(self, number: int) -> Route | None:
        return self._others.get(number)

    def ospf_route(self, number: int) -> Route | None:
        """OSPF's own route for a prefix, whether or not it is the best; made anew each time."""
        rows = self._rows
        kind = NONE if rows is None else rows.kind.item(number)
        if rows is None or kind == NONE:
            return None
        prefix, metric = self.prefixes.prefixes[number], rows.metric.item(number)
        if kind == DISCARD:
            assert self._ospf is not None
            place = self._ospf.range_place(self.device, number) or NOWHERE
            return Route(prefix, "ospf", self._ospf_preference, metric, (), "discard", KIND_NAMES[kind], place=place)
        masks = rows.masks
        words = (masks.item(0, number),) if len(masks) == 1 else tuple([mask.item(number) for mask in masks])
        hops = self._hops_of_masks.get(words)
        if hops is None:
            hops = self._limited([NextHop(*hop) for hop in rows.next_hops(number)])
            self._hops_of_masks[words] = hops
        if not hops:
            return None  # its own network, which the connected route stands for
        return Route(prefix, "ospf", self._ospf_preference, metric, hops, "forward", KIND_NAMES[kind])

    def lookup(self, address: Address) -> Route | None:
        """Longest-prefix match."""
        number = self.prefixes.longest(address)
        parent = self.prefixes.parent
        while number >= 0:
            route = self.get(number)
            if route is not None:
                return route
            number = parent[number]
        return None

    def __iter__(self) -> Iterator[Route]:
        """All best routes, in the order of their prefixes."""
        numbers = set(self._others)
        if self._rows is not None:
            numbers.update((self._rows.kind != NONE).nonzero()[0].tolist())
        for number in sorted(numbers):
            route = self.get(number)
            if route is not None:
                yield route

    def _limited(self, hops: list[NextHop]) -> tuple[NextHop, ...]:
        return sorted_hops(self.topology, hops)[: self._multipath]


def sorted_hops(topology: Topology, hops: Iterable[NextHop]) -> tuple[NextHop, ...]:
    """Next hops without repetition, sorted by interface name, then address."""
    return tuple(
        sorted(set(hops), key=lambda hop: (topology.ports[hop.port].name.interface, hop.address or Address(0, 0)))
    )


def _rank(route: Route) -> tuple[int, int]:
    preference = 0 if route.preference is None else route.preference
    return preference, PROTOCOL_ORDER.index(route.protocol)
