"""How far LSAs of the whole system go, and router ids that stand twice in one system.

RFC 2328 sections 3.6 and 13.3: AS-external LSAs are flooded through normal areas only, so that routers joined
by stub areas and NSSAs alone do not hear each other's. Section 1.2 and appendix C.1: a router id is unique in
the system.
"""

from collections import Counter, defaultdict
from collections.abc import Iterable

import numpy as np

from routrel.model.addresses import Address
from routrel.model.findings import Doubt, Finding
from routrel.routing.duplicate_identifiers import identifier_twice
from routrel.routing.ospf.database import AreaDatabase, OspfDatabase
from routrel.routing.ospf.ports import area_name


def flooding_domains(database: OspfDatabase) -> list[int]:
    """Per process a number, equal where AS-external LSAs of one come to the other."""
    normal = (
        area
        for area in database.areas.values()
        if all(database.area_settings[router, area.number].type == "normal" for router in area.routers)
    )
    return _joined(database, normal)


def systems(database: OspfDatabase) -> list[int]:
    """Per process a number, equal where neighbours join two, in whatever areas."""
    return _joined(database, database.areas.values())


def _joined(database: OspfDatabase, areas: Iterable[AreaDatabase]) -> list[int]:
    """Per process the number of its set, where neighbours in some areas belong together."""
    from scipy.sparse import coo_array
    from scipy.sparse.csgraph import connected_components

    pairs = np.concatenate([area.neighbors for area in areas] or [np.zeros((2, 0), np.int64)], axis=1)
    count = len(database.processes)
    graph = coo_array((np.ones(pairs.shape[1], np.bool_), (pairs[0], pairs[1])), (count, count))
    found: list[int] = connected_components(graph, directed=False)[1].tolist()
    return found


def twice_given_router_ids(database: OspfDatabase) -> tuple[list[Finding], list[Doubt]]:
    """Router ids of several routers that hear each other's LSAs: what OSPF makes of it is not defined."""
    identifiers = [database.router_id(process.number) for process in database.processes]
    if len(set(identifiers)) == len(identifiers):
        return [], []
    system = systems(database)
    holders: dict[tuple[int, Address], list[int]] = defaultdict(list)
    for process, identifier in enumerate(identifiers):
        if identifier is not None:
            holders[system[process], identifier].append(process)
    said = [
        identifier_twice(
            database.topology,
            "ospf",
            [(database.processes[process].instance, database.processes[process].place) for process in processes],
            frozenset(one.instance for one in database.processes if system[one.number] == number),
            f"OSPF router id {identifier}",
            "each takes the others' LSAs for its own, so that routes come and go"
            " (RFC 2328 section 13.4 and appendix C.1)",
        )
        for (number, identifier), processes in holders.items()
        if len(processes) > 1
    ]
    return [finding for finding, _ in said], [doubt for _, doubt in said]


def areas_joined_without_backbone(database: OspfDatabase) -> list[Finding]:
    """Routers in several areas of which none is the backbone (RFC 3509)."""
    count = Counter([process for process, _ in database.area_settings])
    areas_of: dict[int, list[int]] = defaultdict(list)
    for process, area in database.area_settings:
        if count[process] > 1:
            areas_of[process].append(area)
    findings = []
    for process, areas in sorted(areas_of.items()):
        if 0 not in areas:
            name = database.topology.instance_name(database.processes[process].instance)
            findings.append(
                Finding(
                    "ospf-no-backbone",
                    "warning",
                    f"{name} joins the OSPF areas {' and '.join(map(area_name, sorted(areas)))} and is not in the"
                    " backbone: some routers pass routes between the areas (RFC 2328 section 12.4.3, which is shown),"
                    " others do not (RFC 3509 section 2.2)",
                    name,
                    "",
                    tuple(database.area_settings[process, area].place for area in sorted(areas)),
                )
            )
    return findings
