"""System ids that stand twice among IS-IS routers that hear each other (ISO 10589 section 7.1.1: unique)."""

from collections import defaultdict

from routrel.model.findings import Doubt, Finding
from routrel.routing.duplicate_identifiers import identifier_twice
from routrel.routing.isis.database import IsisDatabase
from routrel.topology.disjoint_sets import DisjointSets


def twice_given_system_ids(database: IsisDatabase) -> tuple[list[Finding], list[Doubt]]:
    """What IS-IS makes of them is not defined: each router takes the other's LSPs for its own."""
    if len({one.system for one in database.configured}) == len(database.configured):
        return [], []
    found: dict[tuple[str, tuple[int, ...]], frozenset[int]] = {}
    for area in database.areas.values():
        joined: DisjointSets[int] = DisjointSets()
        for edge in area.edges:
            joined.join(edge.source, edge.target)
        holders: dict[tuple[int, str], list[int]] = defaultdict(list)
        for router in area.routers:
            holders[joined.find(router), database.configured[router].system].append(router)
        for (number, system), routers in holders.items():
            if len(routers) > 1:
                members = frozenset(router for router in area.routers if joined.find(router) == number)
                key = system, tuple(routers)
                found[key] = found.get(key, frozenset()) | members
    said = [
        identifier_twice(
            database.topology,
            "isis",
            [(database.processes[router].instance, database.processes[router].place) for router in holders_of],
            frozenset(database.processes[router].instance for router in members),
            f"IS-IS system id {system}",
            "each takes the others' LSPs for its own, so that routes come and go (ISO 10589 section 7.3.16)",
        )
        for (system, holders_of), members in found.items()
    ]
    return [finding for finding, _ in said], [doubt for _, doubt in said]
