"""Why a prefix that one OSPF process announces does not come to another."""

from collections.abc import Collection

from routrel.analysis.contest.ospf.outside import OspfOutside
from routrel.analysis.contest.separation import Neighbors, instances_running
from routrel.analysis.contest.trail import Step, separated
from routrel.model.addresses import Prefix
from routrel.model.places import Place
from routrel.routing.ospf.area_graphs import BACKBONE
from routrel.routing.ospf.database import OspfDatabase
from routrel.routing.ospf.externals import AUTONOMOUS_SYSTEM
from routrel.routing.ospf.flooding import systems
from routrel.routing.ospf.ports import area_name
from routrel.routing.solve import Solved

MOST_BORDERS = 16
"""Border routers that are looked into for one prefix; of others it is said that they do not have it."""


class OspfStops:
    """``origin`` and ``process`` are the numbers of the two processes."""

    def __init__(self, solved: Solved, plain: OspfOutside, prefix: Prefix, origin: int, process: int):
        self.solved = solved
        self.plain = plain
        self.prefix = prefix
        self.passed: set[int] = set()
        """Processes that were looked at: each border router once."""
        self.origin = origin
        self.process = process
        self.instance = plain.database.processes[process].instance

    def steps(self) -> list[Step]:
        brings = [
            area
            for area in self.plain.areas_of(self.origin)
            if any(router == self.origin for router, _, _ in self.plain.stubs(area, self.prefix))
        ]
        for process in (self.origin, self.process):
            if not self.plain.areas_of(process):
                found = self.plain.database.processes[process]
                text = f"OSPF on {self.plain.name(process)} has no interface that is up, so it has no neighbours"
                return self._separated(None, [self.origin], text, found.place)
        said = (
            self.plain.said_into(self.origin, self.prefix) if self.origin in self.plain.solution.areas.borders else []
        )
        if self.prefix.length == 0:  # a stub area's default goes no further
            said = [area for area in said if area in self.plain.areas_of(self.process)]
        if brings or said:
            return self._inside(self.process, brings or said)
        return self._outside() if self.plain.puts_in(self.origin, self.prefix) else []

    def _separated(
        self, area: int | None, processes: list[int], text: str, place: Place, receiver: int | None = None
    ) -> list[Step]:
        """What keeps this process, or ``receiver``, from the nearest of others, in one area or in all together."""
        instances = [self.plain.database.processes[process].instance for process in processes]
        own = self.instance if receiver is None else self.plain.database.processes[receiver].instance
        areas = None if area is None else [area]
        return separated(self.solved, ospf_neighbors(self.plain.database, areas), own, instances, text, place)

    def _separated_by_type(self, text: str, place: Place) -> list[Step]:
        """What keeps the two from each other but for areas that carry no external routes."""
        settings, areas = self.plain.database.area_settings, self.plain.database.areas
        normal = [n for n, one in areas.items() if all(settings[router, n].type == "normal" for router in one.routers)]
        instance = self.plain.database.processes[self.origin].instance
        neighbors = ospf_neighbors(self.plain.database, normal)
        return separated(self.solved, neighbors, self.instance, [instance], text, place)

    def _stop(self, text: str, place: Place) -> Step:
        return Step(self.instance, text, place, True)

    def _inside(self, process: int, brings: list[int]) -> list[Step]:
        """RFC 2328 section 16.1 and 16.2: within the area, or by way of a border router."""
        self.passed.add(process)
        steps = []
        own = [area for area in self.plain.areas_of(process) if area in brings]
        for area in dict.fromkeys([*own, *self.plain.looked_at(process)]):
            distance = self.plain.graph(area).distances(process)
            place = self._area_place(process, area)
            if area in brings:
                if self.origin not in distance:
                    text = f"in area {area_name(area)} no path leads to {self.plain.name(self.origin)}"
                    steps += self._separated(area, [self.origin], text, place, process)
                continue
            there = [one for one in self.plain.solution.areas.borders if area in self.plain.areas_of(one)]
            borders = [one for one in there if one in distance and one != process]
            if not borders:
                text = f"no border router of area {area_name(area)} is reached"
                within, nearest = (area, there) if there else (None, [self.origin])
                steps += self._separated(within, nearest, text, place, process)
            for border in borders:
                steps += self._border(border, area, brings)
        return steps

    def _border(self, border: int, into: int, brings: list[int]) -> list[Step]:
        """RFC 2328 section 12.4.3: why a border router does not say the prefix in an area."""
        settings = self.plain.database.area_settings[border, into]
        name, where = self.plain.name(border), f"area {area_name(into)}"
        if settings.type != "normal" and settings.no_summary:
            return [self._stop(f"border router {name} says no summaries in {where}: no_summary", settings.place)]
        for area in self.plain.areas_of(border):
            hiding = self.plain.range_hiding(border, area, self.prefix)
            if hiding is not None and border in self.plain.intra_costs(area, self.prefix):
                how = "condenses it into" if hiding.advertise else "hides it in"
                return [self._stop(f"border router {name} {how} range {hiding.prefix}", hiding.place)]
        if self.plain.intra_cost(border, self.prefix) is None and BACKBONE not in self.plain.areas_of(border):
            text = f"border router {name} is not in the backbone, through which areas hear of each other"
            return [self._stop(text, settings.place)]
        is_looked_into = border not in self.passed and len(self.passed) <= MOST_BORDERS
        further = self._inside(border, brings) if is_looked_into else []
        return further or [self._stop(f"border router {name} does not have it either", settings.place)]

    def _outside(self) -> list[Step]:
        """RFC 2328 section 16.4: external LSAs and where they do not go."""
        heard = self.plain.solution.externals.scopes_heard(self.process)
        areas = self.plain.areas_of(self.process)
        types = {self.plain.database.area_settings[self.process, area].type for area in areas}
        own_types = {
            self.plain.database.area_settings[self.origin, area].type for area in self.plain.areas_of(self.origin)
        }
        if own_types == {"stub"}:
            place = self._area_place(self.origin, self.plain.areas_of(self.origin)[0])
            text = f"{self.plain.name(self.origin)} is in a stub area, which carries no external routes"
            return [self._stop(text, place)]
        if "normal" not in types:
            kind = sorted(types)[0]
            text = f"area {area_name(areas[0])} is of type {kind}: external routes of other areas do not enter"
            place = self._area_place(self.process, areas[0])
            joined = "no area that carries them joins the two"
            broken = [one for one in self._separated_by_type(joined, place) if one.place != place and not one.unstated]
            return [self._stop(text, place), *broken]
        system = systems(self.plain.database)
        if system[self.origin] != system[self.process]:
            text = f"no neighbours lead to {self.plain.name(self.origin)}"
            return self._separated(None, [self.origin], text, self._area_place(self.process, areas[0]))
        flooding = self.plain.solution.externals.flooding
        if "normal" in own_types and flooding[self.origin] != flooding[self.process]:
            text = (
                f"external routes of {self.plain.name(self.origin)} do not come here: only stub areas and NSSAs join"
                " the two, which do not carry them (RFC 2328 section 3.6)"
            )
            return self._separated_by_type(text, self._area_place(self.process, areas[0]))
        if AUTONOMOUS_SYSTEM not in heard or own_types == {"nssa"}:
            text = f"what {self.plain.name(self.origin)} brings into its NSSA is not translated for other areas"
            return [self._stop(text, self._area_place(self.origin, self.plain.areas_of(self.origin)[0]))]
        if self.plain.reach_router(self.process, self.origin) is None:
            place = self._area_place(self.process, areas[0])
            return self._separated(None, [self.origin], f"{self.plain.name(self.origin)} is not reached", place)
        return []

    def _area_place(self, process: int, area: int) -> Place:
        return self.plain.database.area_settings[process, area].place


def ospf_neighbors(database: OspfDatabase, areas: Collection[int] | None = None) -> Neighbors:
    """Of some areas, or of all together."""
    hears = {number: {(edge.port, edge.peer) for edge in one.edges} for number, one in database.areas.items()}
    inside = hears.values() if areas is None else [hears.get(area, set()) for area in areas]
    return Neighbors(
        "OSPF" if database.version == 2 else "OSPF version 3",
        "ospf-neighbours",
        instances_running(database.processes),
        set().union(*inside),
        {port: (one.settings.passive, one.settings.place) for port, one in database.ports.items()},
        database.apart,
        networks=[
            frozenset(member.port for member in network)
            for number, one in database.areas.items()
            if areas is None or number in areas
            for network in one.networks
        ],
        elsewhere=set().union(*hears.values()),
    )
