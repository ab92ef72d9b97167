"""OSPF's candidates for one prefix, rule by rule (RFC 2328 sections 12.4.3 and 16, RFC 3101 section 2.5)."""

from collections.abc import Iterator, Mapping
from dataclasses import dataclass

from routrel.analysis.contest.candidates import Candidate
from routrel.analysis.contest.paths import Leg, PlainGraph, Way
from routrel.model.addresses import Address, Prefix
from routrel.model.places import Place
from routrel.model.routing import OspfRange
from routrel.routing.ospf.areas import BACKBONE
from routrel.routing.ospf.database import area_name
from routrel.routing.ospf.externals import AUTONOMOUS_SYSTEM, Offer
from routrel.routing.ospf.solution import OspfSolution
from routrel.routing.routes import NextHop
from routrel.routing.speaking import hop_to
from routrel.topology.segments import Topology

ROUNDS = (
    ("kind", "intra-area before inter-area before external (RFC 2328 section 11)"),
    ("type 2 metric", "the lowest external metric (RFC 2328 section 16.4)"),
    ("path to the router", "within an area other than the backbone first (RFC 2328 section 16.4.1)"),
    ("cost", "the lowest sum of the costs of outgoing interfaces"),
)
INTRA, INTER, EXTERNAL_1, EXTERNAL_2 = 0, 1, 2, 3


@dataclass(frozen=True, slots=True)
class Reach:
    """How a router reaches another or an address: cost, ways, first hops; ``rank`` 0 is preferred (16.4.1)."""

    cost: int
    ways: tuple[tuple[Leg, ...], ...]
    hops: frozenset[NextHop]
    rank: int
    words: str


class OspfPlain:
    """One version of OSPF, asked one prefix at a time.

    ``costs`` overrides interface costs, by port; ``metrics`` those of external routes, by process.
    ``base`` is the same without them, whose work is shared.
    """

    def __init__(
        self,
        solution: OspfSolution,
        costs: Mapping[int, int] | None = None,
        metrics: Mapping[int, int] | None = None,
        base: "OspfPlain | None" = None,
    ):
        self.solution = solution
        self.database = solution.database
        self.topology: Topology = solution.topology
        self.costs = costs or {}
        self.metrics = metrics or {}
        self.base = base
        self._graphs: dict[int, PlainGraph] = {}
        self._stubs: dict[tuple[int, Prefix], list[tuple[int, int, int]]] | None = None
        self._to_prefix: dict[tuple[int, Prefix], dict[int, int]] = {}
        self._advertised: dict[tuple[int, object, int], int | None] = {}
        self._range_costs: dict[tuple[int, int, Prefix], list[int]] = {}

    def graph(self, area: int) -> PlainGraph:
        if area not in self._graphs:
            plain = self.base.graph(area) if self.base else PlainGraph(self.database.areas[area].edges)
            self._graphs[area] = plain.with_costs(self.costs)
        return self._graphs[area]

    def stubs(self, area: int, prefix: Prefix) -> list[tuple[int, int, int]]:
        """(router, cost, port) of all that bring a prefix into an area."""
        if self.base is not None:
            found = self.base.stubs(area, prefix)
            return [(router, self.costs.get(port, cost), port) for router, cost, port in found]
        if self._stubs is None:
            self._stubs = {}
            for number, database in self.database.areas.items():
                for stub in database.stubs:
                    found = self._stubs.setdefault((number, stub.prefix), [])
                    found.append((stub.router, self.costs.get(stub.port, stub.cost), stub.port))
        return self._stubs.get((area, prefix), [])

    def areas_of(self, process: int) -> list[int]:
        return self.solution.areas.areas_of[process]

    def name(self, process: int) -> str:
        return self.topology.instance_name(self.database.processes[process].instance)

    def intra_costs(self, area: int, prefix: Prefix) -> dict[int, int]:
        """Cost from every router of an area to a prefix inside it."""
        if (area, prefix) not in self._to_prefix:
            ends: dict[int, int] = {}
            for router, cost, _ in self.stubs(area, prefix):
                ends[router] = min(cost, ends.get(router, cost))
            self._to_prefix[area, prefix] = self.graph(area).towards(ends) if ends else {}
        return self._to_prefix[area, prefix]

    def intra_cost(self, process: int, prefix: Prefix) -> int | None:
        costs = [
            self.intra_costs(area, prefix)[process]
            for area in self.areas_of(process)
            if process in self.intra_costs(area, prefix)
        ]
        return min(costs) if costs else None

    def active_range(self, process: int, prefix: Prefix) -> tuple[OspfRange, int, int] | None:
        """(range, cost, area) where a border has an active range of exactly this prefix: the lowest cost."""
        found = []
        if len(self.areas_of(process)) > 1:
            for area in self.areas_of(process):
                for configured in self.database.area_settings[process, area].ranges:
                    if configured.prefix == prefix:
                        costs = self._inside(process, area, configured)
                        if costs:
                            cost = max(costs) if configured.cost is None else configured.cost
                            found.append((configured, cost, area))
        return min(found, key=lambda one: one[1]) if found else None

    def _inside(self, process: int, area: int, configured: OspfRange) -> list[int]:
        """A border's costs to the prefixes of an area inside a range."""
        key = (process, area, configured.prefix)
        if key not in self._range_costs:
            distance = self.graph(area).distances(process)
            best: dict[Prefix, int] = {}
            for stub in self.database.areas[area].stubs:
                if stub.router in distance and configured.prefix.covers(stub.prefix):
                    cost = distance[stub.router] + self.costs.get(stub.port, stub.cost)
                    best[stub.prefix] = min(cost, best.get(stub.prefix, cost))
            self._range_costs[key] = list(best.values())
        return self._range_costs[key]

    def range_hiding(self, process: int, area: int, prefix: Prefix) -> OspfRange | None:
        """The range of a border's area that a prefix is condensed into, if any."""
        for configured in self.database.area_settings[process, area].ranges:
            if configured.prefix.covers(prefix):
                return configured
        return None

    def advertised(self, border: int, prefix: Prefix, into: int) -> int | None:
        """Section 12.4.3: the cost at which a border says a prefix in an area, or None."""
        key = (border, prefix, into)
        if key not in self._advertised:
            self._advertised[key] = self._advertise(border, prefix, into)
        return self._advertised[key]

    def _advertise(self, border: int, prefix: Prefix, into: int) -> int | None:
        settings = self.database.area_settings[border, into]
        if prefix.is_default and (settings.type == "stub" or (settings.type == "nssa" and settings.no_summary)):
            return settings.default_cost
        if settings.type != "normal" and settings.no_summary:
            return None
        found: list[int] = []
        best = self.intra_cost(border, prefix)
        active = self.active_range(border, prefix)
        for area in self.areas_of(border):
            if area == into:
                continue
            cost = self.intra_costs(area, prefix).get(border)
            if cost is not None and cost == best and self.range_hiding(border, area, prefix) is None:
                found.append(cost)
            for configured in self.database.area_settings[border, area].ranges:
                if configured.prefix == prefix and configured.advertise:
                    inside = self._inside(border, area, configured)
                    if inside:
                        found.append(max(inside) if configured.cost is None else configured.cost)
        if into != BACKBONE and BACKBONE in self.areas_of(border) and best is None and active is None:
            found += [cost for _, _, cost in self.inter(border, BACKBONE, prefix)]
        return min(found) if found else None

    def inter(self, process: int, area: int, prefix: Prefix) -> list[tuple[int, int, int]]:
        """(border, what it says, sum) of all borders of an area that say a prefix (section 16.2)."""
        distance = self.graph(area).distances(process)
        found = []
        for border in self.solution.areas.borders:
            if border != process and border in distance and area in self.areas_of(border):
                said = self.advertised(border, prefix, area)
                if said is not None:
                    found.append((border, said, distance[border] + said))
        return found

    def legs_beyond(self, border: int, prefix: Prefix, into: int) -> tuple[Leg, ...]:
        """How what a border says of a prefix adds up: one way of its own, or its range as one term."""
        said = self.advertised(border, prefix, into)
        assert said is not None
        for area in self.areas_of(border):
            if area == into or self.intra_costs(area, prefix).get(border) != said:
                continue
            if self.range_hiding(border, area, prefix) is not None:
                continue
            distance = self.graph(area).distances(border)
            for router, cost, port in self.stubs(area, prefix):
                if router in distance and distance[router] + cost == said:
                    return (*self.graph(area).ways(border, router, 1)[0], Leg(port, cost))
        if into != BACKBONE and BACKBONE in self.areas_of(border) and self.intra_cost(border, prefix) is None:
            for other, _, total in self.inter(border, BACKBONE, prefix):
                if total == said:
                    legs = self.graph(BACKBONE).ways(border, other, 1)[0]
                    return (*legs, *self.legs_beyond(other, prefix, BACKBONE))
        return (Leg(-1, said),)

    def looked_at(self, process: int) -> list[int]:
        """Section 16.2: a border router looks at the backbone's summaries only."""
        areas = self.areas_of(process)
        return areas if len(areas) == 1 else [area for area in areas if area == BACKBONE]

    def shortening_ports(self, process: int, prefix: Prefix) -> set[int]:
        """Interfaces off the present way that a lower cost could bring in, in the areas of the process."""
        found: set[int] = set()
        for area in self.areas_of(process):
            ends = {router: cost for router, cost, _ in self.stubs(area, prefix)}
            if self.intra_cost(process, prefix) is None:
                ends = {border: said for border, said, _ in self.inter(process, area, prefix)}
                for offer in self._offers(process, prefix):
                    ends.setdefault(offer.router, 0)
            found |= self.graph(area).shortening_ports(process, ends)
        return found

    def _offers(self, process: int, prefix: Prefix) -> list[Offer]:
        number = self.solution.prefixes.number[prefix]
        externals = self.solution.externals
        return [
            offer
            for scope in externals.scopes_heard(process)
            for offer, numbers in externals.announced[scope].items()
            if offer.router != process and number in numbers
        ]

    def candidates(self, process: int, prefix: Prefix, preference: int) -> Iterator[Candidate]:
        """All that is offered to a process for a prefix, whether or not it wins."""
        base = (self.database.processes[process].name, preference)
        active = self.active_range(process, prefix)
        for area in self.areas_of(process):
            yield from self._intra_candidates(process, area, prefix, base)
        if active is not None:
            configured, cost, area = active
            yield Candidate(
                "ospf",
                base[0],
                "range",
                base[1],
                cost,
                f"its own range of area {area_name(area)}, which discards what it has no longer match for",
                action="discard",
                origin_device=self.name(process),
                place=configured.place,
                ranks=_ranks(INTER, cost=cost, kind="range"),
            )
        else:
            for area in self.looked_at(process):
                yield from self._inter_candidates(process, area, prefix, base)
        yield from self._external_candidates(process, prefix, base)

    def _hops(self, process: int, area: int, target: int) -> frozenset[NextHop]:
        hops = {
            hop_to(self.topology, edge.port, edge.peer, self.database.family)
            for edge in self.graph(area).first_edges(process, target)
        }
        return frozenset(hop for hop in hops if hop is not None)

    def _intra_candidates(self, process: int, area: int, prefix: Prefix, base: tuple[str, int]) -> Iterator[Candidate]:
        distance = self.graph(area).distances(process)
        for router, cost, port in self.stubs(area, prefix):
            if router not in distance:
                continue
            total = distance[router] + cost
            ways = tuple(Way((*legs, Leg(port, cost))) for legs in self.graph(area).ways(process, router))
            yield Candidate(
                "ospf",
                base[0],
                "intra-area",
                base[1],
                total,
                f"{self.name(router)} brings it into area {area_name(area)} by"
                f" {self.topology.ports[port].name.interface}",
                tuple(self._hops(process, area, router)),
                origin_device=self.name(router),
                place=self.database.speakers[port].settings.place,
                attributes={"area": area_name(area)},
                ways=ways,
                ranks=_ranks(INTRA, cost=total),
                graph=self.graph(area),
                ends=(process, router),
                beyond=(Leg(port, cost),),
            )

    def _inter_candidates(self, process: int, area: int, prefix: Prefix, base: tuple[str, int]) -> Iterator[Candidate]:
        for border, said, total in self.inter(process, area, prefix):
            settings = self.database.area_settings[border, area]
            yield Candidate(
                "ospf",
                base[0],
                "inter-area",
                base[1],
                total,
                f"border router {self.name(border)} says it in area {area_name(area)} at {said}",
                tuple(self._hops(process, area, border)),
                origin_device=self.name(border),
                place=settings.place,
                attributes={"area": area_name(area), "said at": str(said)},
                ways=tuple(
                    Way((*legs, *self.legs_beyond(border, prefix, area)))
                    for legs in self.graph(area).ways(process, border)
                ),
                ranks=_ranks(INTER, cost=total),
                graph=self.graph(area),
                ends=(process, border),
                beyond=self.legs_beyond(border, prefix, area),
            )

    def reach_router(self, process: int, target: int) -> Reach | None:
        """Section 16.4.1: the way to a boundary router; of paths inside areas those off the backbone first."""
        inside: list[tuple[int, int, int]] = []
        for area in self.areas_of(process):
            distance = self.graph(area).distances(process)
            if target in distance:
                inside.append((int(area == BACKBONE), distance[target], area))
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
        return Reach(best, tuple((*legs, Leg(-1, rest)) for legs in reach.ways), reach.hops, 1, reach.words)

    def _joined_reach(self, process: int, ends: list[tuple[int, int]], cost: int, rank: int, words: str) -> Reach:
        hops: set[NextHop] = set()
        ways: list[tuple[Leg, ...]] = []
        for area, end in ends:
            hops |= self._hops(process, area, end)
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
        inside = [
            (int(area == BACKBONE), self.graph(area).distances(border)[target], area)
            for area in self.areas_of(border)
            if target in self.graph(area).distances(border)
        ]
        if inside:
            best = min(inside)[1]
            return best if any(area != into and cost == best for _, cost, area in inside) else None
        if into == BACKBONE or BACKBONE not in self.areas_of(border):
            return None
        ways = [distance + said for _, said, distance in self._router_summaries(border, BACKBONE, target)]
        return min(ways) if ways else None

    def _external_candidates(self, process: int, prefix: Prefix, base: tuple[str, int]) -> Iterator[Candidate]:
        number = self.solution.prefixes.number[prefix]
        externals = self.solution.externals
        for scope in externals.scopes_heard(process):
            for offer, numbers in externals.announced[scope].items():
                if offer.router == process or number not in numbers:
                    continue
                changed = offer._replace(metric=self.metrics.get(offer.router, offer.metric))
                yield self._external_candidate(process, prefix, base, scope, changed)

    def _external_candidate(
        self, process: int, prefix: Prefix, base: tuple[str, int], scope: int, offer: Offer
    ) -> Candidate:
        is_nssa = scope != AUTONOMOUS_SYSTEM
        kind = f"{'NSSA' if is_nssa else 'external'} type {offer.type}"
        where = f" in area {area_name(scope)}" if is_nssa else ""
        candidate = Candidate(
            "ospf",
            base[0],
            kind,
            base[1],
            offer.metric,
            f"{self.name(offer.router)} brings it in from outside{where}",
            origin_device=self.name(offer.router),
            place=self._origin_place(offer),
            tag=offer.tag or None,
            attributes={"external metric": str(offer.metric)},
        )
        if offer.forward is not None:
            candidate.attributes["forwarding address"] = str(offer.forward)
        if is_nssa and offer.is_default and len(self.areas_of(process)) > 1:
            settings = self.database.area_settings[process, scope]
            if not offer.propagates or settings.no_summary:
                candidate.out = "a border router does not use this default (RFC 3101 section 2.5)"
                return candidate
        reach = self.reach(process, scope, offer)
        if isinstance(reach, str):
            candidate.out = reach
            return candidate
        candidate.next_hops = tuple(reach.hops)
        total = reach.cost + offer.metric if offer.type == 1 else offer.metric
        candidate.metric = total
        candidate.attributes["path"] = reach.words
        if offer.type == 1:
            candidate.ways = tuple(Way((*legs, Leg(-1, offer.metric))) for legs in reach.ways)
        else:
            candidate.attributes["cost to get there"] = str(reach.cost)
            candidate.ways = tuple(Way(legs) for legs in reach.ways)
        candidate.ranks = _ranks(
            EXTERNAL_1 if offer.type == 1 else EXTERNAL_2,
            type_2=offer.metric if offer.type == 2 else 0,
            path=reach.rank,
            cost=reach.cost + (offer.metric if offer.type == 1 else 0),
        )
        return candidate

    def _origin_place(self, offer: Offer) -> Place:
        process = self.database.processes[offer.router]
        if offer.is_default and process.originate_default is not None:
            return process.originate_default.place
        return process.redistribute[0].place if process.redistribute else process.place

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
        for number in self.solution.prefixes.chain(address):
            prefix = self.solution.prefixes.prefixes[number]
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
                legs = tuple((*one, Leg(-1, rest)) for one in reach.ways)
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
                hops |= self._hops(process, area, router)
                ways += [(*legs, Leg(port, own)) for legs in self.graph(area).ways(process, router)]
                if router == process:
                    speaker = self.database.speakers[port]
                    if address in speaker.addresses:
                        return f"the forwarding address {address} is its own"
                    hops.add(NextHop(port, address))
        return Reach(cost, tuple(ways[:4]), frozenset(hops), rank, f"to {address}")


def _ranks(kind_rank: int, *, cost: int, type_2: int = 0, path: int = 0, kind: str = "") -> dict[str, tuple[int, str]]:
    names = {INTRA: "intra-area", INTER: "inter-area", EXTERNAL_1: "external type 1", EXTERNAL_2: "external type 2"}
    ranks = {
        "kind": (kind_rank, kind or names[kind_rank]),
        "type 2 metric": (type_2, str(type_2)),
        "path to the router": (path, "through the backbone or between areas" if path else "inside an area"),
        "cost": (cost, str(cost)),
    }
    if kind_rank != EXTERNAL_2:
        del ranks["type 2 metric"]
    if kind_rank < EXTERNAL_1:
        del ranks["path to the router"]
    return ranks
