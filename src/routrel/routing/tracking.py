"""Networks that virtual routers track (RFC 8347), settled with the tables that have routes for them or not.

Who is active for a virtual router leads packets, and by BGP's sessions also what tables come to. All tracked networks
are taken to have a route at first; those without one in the tables that follow are noted, until that stays.
"""

from collections.abc import Callable

import numpy as np

from routrel.model.findings import Doubt, Finding, some_of
from routrel.model.routing import PROTOCOL_ORDER
from routrel.routing.solve import Solved
from routrel.topology.virtual_routers import TrackedBy

MOST_ROUNDS = 20
"""More than tracked networks depend on each other in practice."""

SolvedAgain = Callable[[Solved, frozenset[TrackedBy]], Solved]
"""The network of one solved, with some tracked networks unreached."""


def settled(solved: Solved, again: SolvedAgain) -> Solved:
    """The network with virtual routers that act by the routes of its tables; what does not settle is noted in it."""
    if not solved.topology.segments_tracking:
        return solved
    seen = [solved.topology.unreached]
    while (unreached := _unreached(solved)) != seen[-1]:
        is_out = unreached in seen or len(seen) == MOST_ROUNDS
        before = solved
        solved = again(before, unreached)
        if solved.convergence is before.convergence:
            break  # the same tables, whoever is active
        if is_out:
            solved.unsettled_tracking = _unsettled(solved, unreached ^ before.topology.unreached)
            break
        seen.append(unreached)
    return solved


def _unreached(solved: Solved) -> frozenset[TrackedBy]:
    """The tracked networks without a route in the tables of those who track them."""
    topology, numbers = solved.topology, solved.prefixes.number
    tracked = list(topology.segments_tracking)
    instances = {instance for instance, _ in tracked}
    asked = sorted({numbers[prefix] for _, prefix in tracked if prefix in numbers})
    columns = np.unique(solved.prefix_classes.column[asked])
    for solution in solved.solutions if asked else ():
        solution.prepare([one.number for one in solution.processes if one.instance in instances], columns)
    return frozenset(
        (instance, prefix)
        for instance, prefix in tracked
        if prefix not in numbers or solved.table(instance).get(numbers[prefix]) is None
    )


def _unsettled(solved: Solved, turning: frozenset[TrackedBy]) -> tuple[Finding, list[Doubt]]:
    topology = solved.topology
    named = [f"{prefix} on {topology.instance_name(instance)}" for instance, prefix in sorted(turning)]
    devices = sorted({topology.devices[topology.instances[instance].device].name for instance, _ in turning})
    routers = [
        router
        for port in topology.ports
        for router in port.interface.virtual_routers
        if any((port.instance, one.prefix) in turning for one in router.tracked_networks)
    ]
    text = (
        f"virtual routers track {some_of(named)}, and whether there is a route hangs on who is active for them: that"
        " does not settle, and what is shown is one of its states"
    )
    places = tuple(router.place for router in routers)
    everywhere = frozenset(one.index for one in topology.instances)
    doubts = [Doubt(protocol, everywhere, text) for protocol in PROTOCOL_ORDER]
    return Finding("virtual-router", "error", text, devices[0], "", places), doubts
