"""System ids that stand twice among IS-IS routers that hear each other (ISO 10589 section 7.1.1: unique)."""

from collections import defaultdict

from routrel.model.findings import Doubt, Finding, some_of
from routrel.routing.isis.database import IsisDatabase
from routrel.topology.disjoint_sets import DisjointSets


def twice_given_system_ids(database: IsisDatabase) -> tuple[list[Finding], list[Doubt]]:
    """What IS-IS makes of them is not defined: each router takes the other's LSPs for its own."""
    found: dict[tuple[str, tuple[int, ...]], frozenset[int]] = {}
    for domain in database.domains.values():
        joined: DisjointSets[int] = DisjointSets()
        for edge in domain.edges:
            joined.join(edge.source, edge.target)
        holders: dict[tuple[int, str], list[int]] = defaultdict(list)
        for router in domain.routers:
            holders[joined.find(router), database.configured[router].system].append(router)
        for (number, system), routers in holders.items():
            if len(routers) > 1:
                members = frozenset(router for router in domain.routers if joined.find(router) == number)
                key = system, tuple(routers)
                found[key] = found.get(key, frozenset()) | members
    findings, doubts = [], []
    for (system, holders_of), members in found.items():
        routers = list(holders_of)
        instances = [database.processes[router].instance for router in routers]
        names = [database.topology.instance_name(instance) for instance in instances]
        text = (
            f"{some_of(names)} have the same IS-IS system id {system}: each takes the others' LSPs for its own, so that"
            " routes come and go (ISO 10589 section 7.3.16)"
        )
        findings.append(
            Finding(
                "duplicate-identifier",
                "error",
                f"{text}. The tables shown are those with ids that differ",
                database.topology.devices[database.topology.instances[instances[0]].device].name,
                "",
                tuple(database.processes[router].place for router in routers),
            )
        )
        doubts.append(Doubt("isis", frozenset(database.processes[router].instance for router in members), text))
    return findings, doubts
