"""OSPF's candidates for one prefix, rule by rule (RFC 2328 sections 11 and 16, RFC 3101 section 2.5)."""

import heapq
from collections.abc import Iterator, Sequence

from routrel.analysis.contest.candidates import Candidate
from routrel.analysis.contest.ospf.outside import OspfOutside
from routrel.analysis.contest.ospf.stops import OspfStops
from routrel.analysis.contest.paths import Leg, Way
from routrel.analysis.contest.protocol import InterfaceCost
from routrel.analysis.contest.trail import Step
from routrel.model.addresses import Prefix
from routrel.model.places import Place
from routrel.routing.ospf.area_graphs import BACKBONE
from routrel.routing.ospf.externals import AUTONOMOUS_SYSTEM, Offer
from routrel.routing.ospf.ports import area_name
from routrel.routing.protocol_routes import NO_ROUTE
from routrel.routing.solve import Solved

OSPF_ROUNDS = (
    ("kind", "intra-area before inter-area before external (RFC 2328 section 11)"),
    ("type 2 metric", "the lowest external metric (RFC 2328 section 16.4)"),
    ("path to the router", "within an area other than the backbone first (RFC 2328 section 16.4.1)"),
    ("cost", "the lowest sum of the costs of outgoing interfaces"),
)
INTRA, INTER, EXTERNAL_1, EXTERNAL_2 = 0, 1, 2, 3
MOST_SHOWN = 128
"""Routers that bring one prefix into an area: the nearest are offered, on a shared network there are thousands."""


class OspfContest(OspfOutside):
    """One version of OSPF, asked for what is offered for a prefix."""

    rounds = OSPF_ROUNDS
    metrics_tried = 0, 0xFFFFFE

    def interface_cost(self, port: int) -> InterfaceCost | None:
        found = self.database.ports.get(port)
        if found is None or found.port.interface.is_loopback:
            return None
        return InterfaceCost(found.cost, found.settings.place, 65535)

    def brings(self, process: int, prefix: Prefix) -> bool:
        return any(r == process for area in self.areas_of(process) for r, _, _ in self.stubs(area, prefix))

    def saying(self, prefix: Prefix) -> list[int]:
        """Border routers that say a range, or the default of a stub area, besides what is put in."""
        return [*super().saying(prefix), *(one for one in self.solution.areas.borders if self.said_into(one, prefix))]

    def stops(self, network: Solved, prefix: Prefix, origin: int, process: int) -> list[Step]:
        return OspfStops(network, self, prefix, origin, process).steps()

    def without_origin(self, network: Solved, prefix: Prefix, processes: Sequence[int]) -> Iterator[Step]:
        for process in self.database.processes:
            configured = process.originate_default
            is_default = prefix == Prefix(process.families[0], 0, 0)
            if configured is not None and not configured.always and is_default:
                name = self.topology.instance_name(process.instance)
                text = f"ospf on {name} would originate it, but the table there has no default of another source"
                yield Step(process.instance, text, configured.place, True)
        for (of, area), settings in self.database.area_settings.items():
            for one in settings.ranges:
                if one.prefix == prefix and one.advertise:
                    is_border = of in self.solution.areas.borders
                    why = f"has nothing inside it in area {area_name(area)}"
                    if not is_border:
                        why = "is no border router: no interface of another area is up"
                    text = f"{self.name(of)} would say the range, but {why}"
                    empty = prefix if is_border else None
                    yield Step(self.database.processes[of].instance, text, one.place, True, empty=empty)

    def shortening_ports(self, process: int, prefix: Prefix) -> set[int]:
        """Interfaces off the present way that a lower cost could bring in, in the areas of the process."""
        found: set[int] = set()
        for area in self.areas_of(process):
            ends = {router: cost for router, cost, _ in self.stubs(area, prefix)}
            if self.intra_cost(process, prefix) is None:
                ends = {border: said for border, said, _ in self.inter(process, area, prefix)}
                for _, offer in self._offers(process, prefix):
                    ends.setdefault(offer.router, 0)
            found |= self.graph(area).shortening_ports(process, ends)
        return found

    def _offers(self, process: int, prefix: Prefix) -> list[tuple[int, Offer]]:
        """The external routes of others for a prefix that a process hears, each with its scope."""
        number = self.solution.prefixes.column_of(prefix)
        externals = self.solution.externals
        return [
            (scope, offer)
            for scope in externals.scopes_heard(process)
            for offer, numbers in externals.announced[scope].items()
            if offer.router != process and number in numbers
            if scope != AUTONOMOUS_SYSTEM or externals.flooding[offer.router] == externals.flooding[process]
        ]

    def candidates(self, process: int, prefix: Prefix) -> Iterator[Candidate]:
        """All that is offered to a process for a prefix, whether or not it wins."""
        base = (self.database.processes[process].name, self.solution.preference(process, NO_ROUTE))
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

    def _intra_candidates(self, process: int, area: int, prefix: Prefix, base: tuple[str, int]) -> Iterator[Candidate]:
        distance = self.graph(area).distances(process)
        reached = [one for one in self.stubs(area, prefix) if one[0] in distance]
        shown = heapq.nsmallest(MOST_SHOWN, reached, key=lambda one: distance[one[0]] + one[1])
        for at, (router, cost, port) in enumerate(one for one in reached if one in shown):
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
                tuple(self.hops(process, area, router)),
                origin_device=self.name(router),
                place=self.database.ports[port].settings.place,
                attributes={"area": area_name(area)}
                | (
                    {"not shown": f"{len(reached) - MOST_SHOWN} farther ones"}
                    if at == MOST_SHOWN - 1 < len(reached) - 1
                    else {}
                ),
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
                tuple(self.hops(process, area, border)),
                origin_device=self.name(border),
                place=settings.place,
                attributes={"area": area_name(area), "said at": str(said)} | self._without_backbone(border),
                ways=tuple(
                    Way((*legs, *self.legs_beyond(border, prefix, area)))
                    for legs in self.graph(area).ways(process, border)
                ),
                ranks=_ranks(INTER, cost=total),
                graph=self.graph(area),
                ends=(process, border),
                beyond=self.legs_beyond(border, prefix, area),
            )

    def _without_backbone(self, border: int) -> dict[str, str]:
        if BACKBONE in self.areas_of(border):
            return {}
        return {"not in the backbone": f"not every router in the place of {self.name(border)} would say it (RFC 3509)"}

    def _external_candidates(self, process: int, prefix: Prefix, base: tuple[str, int]) -> Iterator[Candidate]:
        for scope, offer in self._offers(process, prefix):
            changed = offer._replace(metric=self.metrics.get(offer.router, offer.metric))
            yield self._external_candidate(process, base, scope, changed)

    def _external_candidate(self, process: int, base: tuple[str, int], scope: int, offer: Offer) -> Candidate:
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
            candidate.ways = tuple(Way((*legs, Leg(-1, offer.metric, "external metric"))) for legs in reach.ways)
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
