"""Which costs to raise so that traffic that only passes something goes elsewhere before it is shut.

A router's own interfaces are enough: whatever passes it leaves by one of them, as when it announces itself with the
highest metrics (RFC 6987). What has no costs of its own, a cable or a switch, is drained at the routers around it.
"""

from collections.abc import Iterator
from typing import Any

from routrel.analysis.expectations.failures import Failure
from routrel.analysis.offered_changes import cost_set
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
    """The changes that lead traffic away from some ports; none where none of them has a cost."""
    return [
        change for port in sorted(ports) for database in solved.databases for change in _raised(solved, database, port)
    ]


def _raised(solved: Solved, database: ProtocolDatabase, port: int) -> Iterator[dict[str, Any]]:
    topology = solved.topology
    highest = database.highest_cost(port)
    if not highest or database.ports[port].settings.passive or topology.ports[port].interface.is_loopback:
        return
    process = database.processes[database.ports[port].process]
    device = topology.devices[topology.ports[port].device]
    yield cost_set(device, topology.ports[port].name, process.protocol, highest, process.families[0])
