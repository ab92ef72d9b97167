"""OSPF within and between areas for one prefix at a time, in plain code (RFC 2328 sections 12.4.3 and 16)."""

from collections import defaultdict

from routrel.analysis.contest.paths import Leg, PlainGraph
from routrel.analysis.contest.protocol import ProtocolContest, SolvedProtocol
from routrel.model.addresses import Prefix
from routrel.model.routing import OspfRange
from routrel.routing.neighbors import edge_hop
from routrel.routing.ospf.area_graphs import BACKBONE
from routrel.routing.ospf.database import OspfDatabase
from routrel.routing.ospf.solution import OspfSolution
from routrel.routing.routes import NextHop
from routrel.topology.segments import Topology


class OspfAreas(ProtocolContest):
    """One version of OSPF, asked one prefix at a time; the work of ``base`` is shared."""

    solution: OspfSolution
    database: OspfDatabase
    topology: Topology
    base: "OspfAreas | None"

    def __init__(self, solved: SolvedProtocol, base: "OspfAreas | None" = None):
        super().__init__(solved, base)
        self._graphs: dict[int, PlainGraph] = {}
        self._stubs: dict[int, dict[Prefix, list[tuple[int, int, int]]]] = {}
        self._to_prefix: dict[tuple[int, Prefix], dict[int, int]] = {}
        self._advertised: dict[tuple[int, object, int], int | None] = {}
        self._range_costs: dict[tuple[int, int, Prefix], list[int]] = {}

    def graph(self, area: int) -> PlainGraph:
        if area not in self._graphs:
            plain = (
                self.base.graph(area)
                if self.base
                else PlainGraph(self.database.areas[area].edges, self.database.areas[area].networks)
            )
            self._graphs[area] = plain.with_costs(self.costs)
        return self._graphs[area]

    def stubs(self, area: int, prefix: Prefix) -> list[tuple[int, int, int]]:
        """(router, cost, port) of all that bring a prefix into an area."""
        if self.base is not None:
            found = self.base.stubs(area, prefix)
            return [(router, self.costs.get(port, cost), port) for router, cost, port in found]
        if area not in self._stubs:
            by_prefix = self._stubs[area] = defaultdict(list)
            for stub in self.database.areas[area].stubs:
                by_prefix[stub.prefix].append((stub.router, self.costs.get(stub.port, stub.cost), stub.port))
        return self._stubs[area].get(prefix, [])

    def areas_of(self, process: int) -> list[int]:
        return self.solution.areas.areas_of[process]

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
        return (Leg(-1, said, f"{self.name(border)} says it at that"),)

    def looked_at(self, process: int) -> list[int]:
        """Section 16.2: a border router looks at the backbone's summaries only."""
        areas = self.areas_of(process)
        return areas if len(areas) == 1 else [area for area in areas if area == BACKBONE]

    def hops(self, process: int, area: int, target: int) -> frozenset[NextHop]:
        hops = {
            edge_hop(self.topology, edge, self.database.family)
            for edge in self.graph(area).first_edges(process, target)
        }
        return frozenset(hop for hop in hops if hop is not None)
