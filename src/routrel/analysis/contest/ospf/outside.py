"""The ways to routers that bring routes from outside, and to forwarding addresses (RFC 2328 section 16.4)."""

from dataclasses import dataclass

from routrel.analysis.contest.ospf.areas import OspfAreas
from routrel.analysis.contest.paths import Leg
from routrel.model.addresses import Address, Prefix
from routrel.routing.ospf.area_graphs import BACKBONE
from routrel.routing.ospf.externals import AUTONOMOUS_SYSTEM, Offer
from routrel.routing.ospf.ports import area_name
from routrel.routing.routes import NextHop


@dataclass(frozen=True, slots=True)
class Reach:
    """How a router reaches another or an address: cost, ways, first hops; ``rank`` 0 is preferred (16.4.1)."""

    cost: int
    ways: tuple[tuple[Leg, ...], ...]
    hops: frozenset[NextHop]
    rank: int
    words: str


class OspfOutside(OspfAreas):
    """OSPF's areas with the ways that external routes take through them."""

    def reach_router(self, process: int, target: int) -> Reach | None:
        """Section 16.4.1: the way to a boundary router; of paths inside areas those off the backbone first."""
        inside = self._inside_to_router(process, target)
        if inside:
            rank, cost = min(inside)[:2]
            areas = [area for r, c, area in inside if (r, c) == (rank, cost)]
            return self._joined_reach(process, [(area, target) for area in areas], cost, rank, "inside its area")
        ways = [
            (distance + said, area, border)
            for area in self.looked_at(process)
            for border, said, distance in self._router_summaries(process, area, target)
        ]
        if not ways:
            return None
        best = min(ways)[0]
        ends = [(area, border) for total, area, border in ways if total == best]
        reach = self._joined_reach(process, ends, best, 1, "through border routers")
        rest = best - self.graph(ends[0][0]).distances(process)[ends[0][1]]
        said = Leg(-1, rest, f"{self.name(ends[0][1])} to {self.name(target)}")
        return Reach(best, tuple((*legs, said) for legs in reach.ways), reach.hops, 1, reach.words)

    def said_into(self, border: int, prefix: Prefix) -> list[int]:
        """The areas into which a border router says a prefix that it makes: a range, or the default of a stub area."""
        settings = {area: self.database.area_settings[border, area] for area in self.areas_of(border)}
        ranged = {area for area, one in settings.items() if any(r.prefix == prefix and r.advertise for r in one.ranges)}
        found = []
        for area, one in settings.items():
            is_default = prefix.length == 0 and (one.type == "stub" or (one.type == "nssa" and one.no_summary))
            if (is_default or ranged - {area}) and self.advertised(border, prefix, area) is not None:
                found.append(area)
        return found

    def _inside_to_router(self, process: int, target: int) -> list[tuple[int, int, int]]:
        """Paths to a boundary router inside areas where it is one to the whole system (section 12.4.1): whether by the
        backbone, the cost, and the area."""
        return [
            (int(area == BACKBONE), distance[target], area)
            for area in self.areas_of(process)
            if self.database.area_settings[process, area].type == "normal"
            and target in (distance := self.graph(area).distances(process))
        ]

    def _joined_reach(self, process: int, ends: list[tuple[int, int]], cost: int, rank: int, words: str) -> Reach:
        hops: set[NextHop] = set()
        ways: list[tuple[Leg, ...]] = []
        for area, end in ends:
            hops |= self.hops(process, area, end)
            ways += self.graph(area).ways(process, end)
        return Reach(cost, tuple(ways), frozenset(hops), rank, words)

    def _router_summaries(self, process: int, area: int, target: int) -> list[tuple[int, int, int]]:
        """(border, what it says of a router, distance to it): summaries of type 4."""
        distance = self.graph(area).distances(process)
        found = []
        for border in self.solution.areas.borders:
            if border == process or border not in distance or area not in self.areas_of(border):
                continue
            said = self._said_of_router(border, target, area)
            if said is not None:
                found.append((border, said, distance[border]))
        return found

    def _said_of_router(self, border: int, target: int, into: int) -> int | None:
        key = (border, target, into)
        if key not in self._advertised:
            self._advertised[key] = self._say_router(border, target, into)
        return self._advertised[key]

    def _say_router(self, border: int, target: int, into: int) -> int | None:
        if self.database.area_settings[border, into].type != "normal":
            return None
        inside = self._inside_to_router(border, target)
        if inside:
            best = min(inside)[1]
            return best if any(area != into and cost == best for _, cost, area in inside) else None
        if into == BACKBONE or BACKBONE not in self.areas_of(border):
            return None
        ways = [distance + said for _, said, distance in self._router_summaries(border, BACKBONE, target)]
        return min(ways) if ways else None

    def reach(self, process: int, scope: int, offer: Offer) -> Reach | str:
        """Section 16.4 (2) and (3): the way to the router or its forwarding address, or why there is none."""
        is_nssa = scope != AUTONOMOUS_SYSTEM
        if is_nssa:
            distance = self.graph(scope).distances(process)
            if offer.router not in distance:
                return f"{self.name(offer.router)} is not reached inside area {area_name(scope)}"
            if offer.forward is None:
                return self._joined_reach(
                    process, [(scope, offer.router)], distance[offer.router], 0, "inside the NSSA"
                )
        else:
            router = self.reach_router(process, offer.router)
            if router is None:
                return f"{self.name(offer.router)} is not reached"
            if offer.forward is None:
                return router
        return self._reach_address(process, scope if is_nssa else None, offer.forward)

    def _reach_address(self, process: int, nssa: int | None, address: Address) -> Reach | str:
        """The way to a forwarding address: by the longest route of the system itself."""
        whole = self.solution.prefixes.whole
        for number in whole.chain(address):
            prefix = whole.prefixes[number]
            inside = self.intra_cost(process, prefix)
            if nssa is not None:
                through = self.intra_costs(nssa, prefix).get(process)
                if through is None and inside is None and self.active_range(process, prefix) is None:
                    if any(self.inter(process, area, prefix) for area in self.looked_at(process)):
                        return f"the forwarding address {address} is not reached inside the NSSA"
                    continue
                if through is None:
                    return f"the forwarding address {address} is not reached inside the NSSA"
                return self._reach_inside(process, [nssa], prefix, through, address, 0)
            if inside is not None:
                areas = [a for a in self.areas_of(process) if self.intra_costs(a, prefix).get(process) == inside]
                rank = int(areas == [BACKBONE])
                return self._reach_inside(process, areas, prefix, inside, address, rank)
            if self.active_range(process, prefix) is not None:
                return f"the forwarding address {address} lies in the range {prefix}, which discards"
            ways = [
                (total, area, border, said)
                for area in self.looked_at(process)
                for border, said, total in self.inter(process, area, prefix)
            ]
            if ways:
                best = min(ways)[0]
                ends = [(area, border) for total, area, border, _ in ways if total == best]
                reach = self._joined_reach(process, ends, best, 1, f"to {address} through border routers")
                rest = best - self.graph(ends[0][0]).distances(process)[ends[0][1]]
                said = Leg(-1, rest, f"{self.name(ends[0][1])} to {prefix}")
                legs = tuple((*one, said) for one in reach.ways)
                return Reach(best, legs, reach.hops, 1, reach.words)
        return f"the forwarding address {address} is not reached by a route of the system itself"

    def _reach_inside(
        self, process: int, areas: list[int], prefix: Prefix, cost: int, address: Address, rank: int
    ) -> Reach | str:
        hops: set[NextHop] = set()
        ways: list[tuple[Leg, ...]] = []
        for area in areas:
            distance = self.graph(area).distances(process)
            for router, own, port in self.stubs(area, prefix):
                if router not in distance or distance[router] + own != cost:
                    continue
                hops |= self.hops(process, area, router)
                ways += [(*legs, Leg(port, own)) for legs in self.graph(area).ways(process, router)]
                if router == process:
                    speaker = self.database.ports[port]
                    if address in speaker.addresses:
                        return f"the forwarding address {address} is its own"
                    hops.add(NextHop(port, address))
        return Reach(cost, tuple(ways[:4]), frozenset(hops), rank, f"to {address}")
