"""Why a prefix that one IS-IS router says does not come to another."""

from typing import TYPE_CHECKING

from routrel.analysis.contest.separation import Neighbors, instances_running
from routrel.analysis.contest.trail import Step, separated
from routrel.model.addresses import Prefix
from routrel.model.findings import some_of
from routrel.routing.isis.database import LEVEL_2, IsisArea, IsisDatabase, area_of
from routrel.routing.isis.solution import NARROW_PATH
from routrel.routing.solve import Solved

MOST_LEAKING = 4
"""Routers that would leak a prefix and do not have it: of so many it is said why."""

if TYPE_CHECKING:
    from routrel.analysis.contest.isis.candidates import IsisContest


class IsisStops:
    """``origin`` and ``process`` are the numbers of the two routers' processes."""

    def __init__(self, solved: Solved, plain: "IsisContest", prefix: Prefix, origin: int, process: int):
        self.solved = solved
        self.plain = plain
        self.database = plain.database
        self.prefix = prefix
        self.origin = origin
        self.process = process
        self.own, self.other = (self.database.configured[one] for one in (process, origin))

    def steps(self) -> list[Step]:
        if self.plain.only_attached(self.origin, self.prefix):
            return self._to_attached() if self.origin in self.plain.attached_for(self.process) else []
        for level in (1, 2):
            area = area_of(self.own, level)
            if level not in self.own.levels or level not in self.other.levels or area != area_of(self.other, level):
                continue
            if self.origin not in self.plain.graph(area).distances(self.process):
                text = f"at level {level} no path leads to {self.plain.name(self.origin)}"
                return self._separated(area, self.process, [self.origin], text)
            if level == 2 or self._is_said_at_level_1():
                return [self._without_address() or self._too_far()]
        return self._into_level_1() if self.own.levels == (1,) else self._out_of_level_1()

    def _to_attached(self) -> list[Step]:
        """Why the default towards a router that is attached to other areas does not stand."""
        area = area_of(self.own, 1)
        if self.origin in self.plain.graph(area).distances(self.process):
            without = self._without_address()
            return [] if without is None else [without]
        text = f"at level 1 no path leads to {self.plain.name(self.origin)}, which is attached to other areas"
        return self._separated(area, self.process, [self.origin], text)

    def _separated(self, area: IsisArea, receiver: int, senders: list[int], text: str) -> list[Step]:
        """What keeps a process from the nearest of others at one level."""
        instance, *others = (self.database.processes[one].instance for one in (receiver, *senders))
        place = self.database.configured[receiver].place
        return separated(self.solved, isis_neighbors(self.database, area), instance, others, text, place)

    def _too_far(self) -> Step:
        instance = self.database.processes[self.process].instance
        text = (
            f"the way to it is longer than narrow metrics can count, which is {NARROW_PATH} (ISO 10589: MaxPathMetric)"
        )
        return Step(instance, text, self.own.place, True)

    def _without_address(self) -> Step | None:
        """The neighbour on the shortest way that lacks an address of the prefix's family (RFC 5308): the next hop."""
        offered = [one for one in self.plain.candidates(self.process, self.prefix) if not one.out]
        best = min(offered, key=lambda one: (one.ranks["kind"], one.metric), default=None)
        if best is None or best.graph is None or best.next_hops or best.ends[0] == best.ends[1]:
            return None
        peer = self.solved.topology.ports[best.graph.first_edges(*best.ends)[0].peer]
        text = (
            f"the shortest way leads to {peer.name}, which has no IPv{self.prefix.family} address to send to,"
            " and no longer way is taken instead (RFC 5308)"
        )
        return Step(peer.instance, text, peer.interface.place, True)

    def _into_level_1(self) -> list[Step]:
        """A router of level 1 alone, and what stands elsewhere (RFC 5302)."""
        leaks = self._leaks()
        if leaks:
            return leaks
        area, name = area_of(self.own, 1), self.plain.name(self.process)
        both = self._of_both_levels(area)
        if not both:
            text = (
                f"{name} is of level 1 and {self.plain.name(self.origin)} of level {max(self.other.levels)}, and no"
                f" router of area {self.own.area} is of both: nothing of other levels and areas comes in"
            )
            return self._separated(area, self.process, [self.origin], text)
        if not set(both) & set(self.plain.graph(area).distances(self.process)):
            names = some_of([self.plain.name(one) for one in both], 3)
            text = f"{name} is of level 1, and no path leads to {names}, which would lead it on to other areas"
            return self._separated(area, self.process, both, text)
        text = f"{name} is of level 1: of other areas it knows what is leaked, and follows the attached default"
        return [Step(self.database.processes[self.process].instance, text, self.own.place, True)]

    def _of_both_levels(self, area: IsisArea) -> list[int]:
        return [one for one in self.database.areas[area].routers if 2 in self.database.configured[one].levels]

    def _out_of_level_1(self) -> list[Step]:
        """Why what is said at level 1 of an area does not come to a router of level 2 (RFC 1195 section 3.2)."""
        level_1, area = area_of(self.other, 1), self.other.area
        both = self._of_both_levels(level_1)
        if not both:
            text = f"no router of area {area} is of both levels, so that level 2 does not hear what level 1 has there"
            return [Step(self.database.processes[self.origin].instance, text, self.other.place, True)]
        having = [one for one in both if self.plain.level_1_cost(one, self.prefix) is not None]
        names = some_of([self.plain.name(one) for one in having or both], 3)
        if having:
            text = f"at level 2 no path leads to {names}, which {'has' if len(having) == 1 else 'have'} it at level 1"
            return self._separated(LEVEL_2, self.process, having, text)
        text = f"{names} of area {area} and of level 2 does not hear it at level 1"
        return self._separated(level_1, both[0], [self.origin], text)

    def _leaks(self) -> list[Step]:
        """What routers that leak into the area of a level 1 router do with the prefix, statement by statement."""
        steps, area = list[Step](), area_of(self.own, 1)
        for router in self.database.areas[area].routers:
            if router == self.process or self.database.configured[router].leak is None:
                continue
            leak, name = self.plain.leak_decision(router, self.prefix), self.plain.name(router)
            if leak is None:
                steps += self._unknown_to(router) if len(steps) < MOST_LEAKING else []
                continue
            _, policy, decision = leak
            if policy is not None and decision is not None and not decision.accepted:
                place = decision.by.place if decision.by is not None else policy.place
                text = f"{name} does not leak it into level 1: {decision.words(policy)}"
                steps.append(Step(self.database.processes[router].instance, text, place, True))
            elif router not in self.plain.graph(area).distances(self.process):
                steps += self._separated(
                    area, self.process, [router], f"at level 1 no path leads to {name}, which leaks it"
                )
        return steps

    def _unknown_to(self, router: int) -> list[Step]:
        """Why a router that leaks has nothing to leak."""
        if router == self.origin or self.database.configured[router].levels == (1,):
            return []
        return IsisStops(self.solved, self.plain, self.prefix, self.origin, router).steps()

    def not_attached(self) -> list[Step]:
        """Why a router of level 1 follows no default: none of its area is attached to others."""
        area, name = area_of(self.own, 1), self.plain.name(self.process)
        both = self._of_both_levels(area)
        beyond = [one for one, isis in enumerate(self.database.configured) if 2 in isis.levels and one not in both]
        if not both:
            text = f"{name} is of level 1, and no router of area {self.own.area} is of level 2 too: it has no default"
            return [Step(self.database.processes[self.process].instance, text, self.own.place, True)]
        return [
            step
            for router in both[:MOST_LEAKING]
            for step in self._separated(
                LEVEL_2,
                router,
                beyond,
                f"{self.plain.name(router)} reaches no other area at level 2, so that no default leads to it",
            )
        ]

    def _is_said_at_level_1(self) -> bool:
        said = self.plain.brought(area_of(self.other, 1), self.prefix)
        return any(router == self.origin for router, *_ in said)


def isis_neighbors(database: IsisDatabase, domain: IsisArea) -> Neighbors:
    """Of one level and area."""
    hears = {number: {(edge.port, edge.peer) for edge in one.edges} for number, one in database.areas.items()}
    return Neighbors(
        "IS-IS",
        "isis-neighbours",
        instances_running(database.processes),
        hears.get(domain, set()),
        {port: (one.settings.passive, one.settings.place) for port, one in database.ports.items()},
        database.apart,
        elsewhere=set().union(*hears.values()),
    )
