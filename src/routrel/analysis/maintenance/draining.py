"""Which costs to raise, and which priorities of virtual routers to lower, so that traffic that only passes something
goes elsewhere before it is shut.

A router's own interfaces are enough: whatever passes it leaves by one of them, as when it announces itself with the
highest metrics (RFC 6987). What has no costs of its own, a cable or a switch, is drained at the routers around it.
"""

from collections.abc import Iterator
from typing import Any

from routrel.analysis.expectations.failures import Failure
from routrel.analysis.offered_changes import cost_set
from routrel.analysis.virtual_routers import priority_set
from routrel.model.virtual_routers import LOWEST_PRIORITY
from routrel.routing.protocol import ProtocolDatabase
from routrel.routing.solve import Solved
from routrel.topology.segments import Topology


def ports_over(topology: Topology, failure: Failure) -> set[int]:
    """Ports out of which traffic passes something: a router's own; of a cable or a switch, those around it."""
    routers = {port.name.device for port in topology.ports if port.interface.addresses}
    own = {
        port.index for port in topology.ports if port.name.device in failure.devices or port.name in failure.interfaces
    }
    links = set(failure.links)
    for number, link in enumerate(topology.network.links):
        if any(end.device in failure.devices and end.device not in routers for end in link.ends):
            links.add(number)
    around = set[int]()
    for segment in topology.segments:
        is_between_two = len(segment.ports) == 2 and any(
            topology.ports[port].name in failure.interfaces for port in segment.ports
        )
        if is_between_two or links.intersection(segment.links):
            around.update(segment.ports)
    return own | around


def drained_by(solved: Solved, ports: set[int]) -> list[dict[str, Any]]:
    """The changes that lead traffic away from some ports; none where none of them has a cost or is active."""
    raised = [
        change
        for port in sorted(ports)
        for database in solved.databases
        for change in _raised(solved, database, port, ports)
    ]
    return raised + [change for port in sorted(ports) for change in _stepped_down(solved.topology, port, ports)]


def _stepped_down(topology: Topology, number: int, ports: set[int]) -> Iterator[dict[str, Any]]:
    """Where a port is active for virtual routers, and another that stays would take over from the lowest priority."""
    port = topology.ports[number]
    for group in topology.virtual_groups.get(topology.segment_of[number], ()):
        active, following = group.active, next((one for one in group.contenders if one.port not in ports), None)
        # An owner's priority is always the highest, and one that does not preempt waits until nobody is active.
        if active.port != number or active.is_owner or following is None:
            continue
        if following.priority > LOWEST_PRIORITY and following.router.preempt:
            yield priority_set(port, active.router, LOWEST_PRIORITY)


def _raised(solved: Solved, database: ProtocolDatabase, port: int, ports: set[int]) -> Iterator[dict[str, Any]]:
    """A cost raised; that of a subnet to which no neighbour leads where another router that stays leads to it too."""
    topology = solved.topology
    highest = database.highest_cost(port)
    if not highest or topology.ports[port].interface.is_loopback:
        return
    if database.ports[port].settings.passive:
        beside = topology.segments[topology.segment_of[port]].ports if topology.segment_of[port] >= 0 else ()
        if not any(one in database.ports and topology.ports[one].up for one in beside if one not in ports):
            return
    process = database.processes[database.ports[port].process]
    device = topology.devices[topology.ports[port].device]
    yield cost_set(device, topology.ports[port].name, process.protocol, highest, process.families[0])
