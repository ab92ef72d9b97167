"""What flows pass on their ways, all equal-cost ones, there and back."""

from collections.abc import Iterable, Sequence

from routrel.analysis.expectations.conditions import stops_of
from routrel.analysis.expectations.failures import Failure
from routrel.analysis.expectations.stress import Hurt
from routrel.forwarding.flow import Walk
from routrel.routing.solve import Solved


class Passed:
    """Devices, links and interfaces that flows pass."""

    def __init__(self, solved: Solved, walks: Iterable[Walk]):
        topology = self._topology = solved.topology
        stops = [stop for walk in walks for stop in stops_of(walk)]
        ports = {port for stop in stops for port in (stop.ingress, *(branch.port for branch in stop.branches))} - {-1}
        self.devices = {topology.devices[stop.device].name for stop in stops}
        self.interfaces = {topology.cabled_name(topology.ports[port]) for port in ports}
        segments = {topology.segment_of[port] for port in ports} - {-1}
        self.switches = {
            end.device
            for segment in segments
            for number in topology.segments[segment].links
            for end in topology.network.links[number].ends
            if topology.network.devices[end.device].kind == "switch"
        }
        """Those at a segment that is passed: whether flows pass them too, their failure tells."""
        self.links = {
            number
            for segment in segments
            for number in topology.segments[segment].links
            if len(topology.segments[segment].links) == 1
            or any(end in self.interfaces for end in topology.network.links[number].ends)
        }
        """Of cables among switches those that the flows' own interfaces are at."""

    def has(self, failure: Failure, hurts: Sequence[Hurt] = ()) -> bool:
        """Whether flows pass what fails."""
        return bool(
            self.devices & failure.devices
            or self.links & failure.links
            or self.interfaces & failure.interfaces
            or (self.switches & failure.devices and any(hurt.outcome != "single" for hurt in hurts))
        )

    def has_end(self, session: Failure) -> bool:
        """Whether a session that fails has an end at a device that flows pass."""
        return any(
            {device, *(self._topology.ports[port].name.device for port in self._topology.owners.get(to.address, ()))}
            & self.devices
            for device, _, to in session.sessions
        )
