"""What changed between two states, slowly: one header at a time through the walker itself."""

from itertools import product

from routrel.analysis.held.services import ServiceSpace
from routrel.forwarding.trace import Start, Trace
from routrel.forwarding.walk import ORIGIN, Walker, stateful_devices
from routrel.model.addresses import Address
from routrel.model.filters import Header, HeaderMatch, PortRange
from routrel.routing.solve import Solved

PORTS = [21, 22, 23, 80, 443, 444, 1023, 1024, 50000]
SERVICES = [
    *((protocol, None, None) for protocol in (1, 58, 89, 253)),
    *((protocol, near, far) for protocol in (6, 17) for near, far in product(PORTS, PORTS)),
]


class Reference:
    """One state."""

    def __init__(self, solved: Solved):
        self.solved, self.topology, self.walker = solved, solved.topology, Walker(solved)

    def conversation(self, device: str, port: str | None, header: Header) -> tuple[object, object]:
        """The course of a packet, and of the answer to it: edges, ends and their verdicts; None for no answer."""
        start = self._start(device, port, header)
        if start is None:
            return "cut off", None
        there = self.walker.walk([start])
        answers = set[Start]()
        for verdict, stop, out in self._ends(there):
            if verdict == "arrives":
                answers.add(Start(stop.instance, ORIGIN, header.reply()))
            elif verdict in ("leaves", "delivered"):
                answers.add(Start(stop.instance, out, header.reply()))
        if not answers:
            return self._course(there), None
        back = self.walker.walk(sorted(answers), stateful_devices(there))
        return self._course(there), self._course(back)

    def _start(self, device: str, port: str | None, header: Header) -> Start | None:
        number = self.topology.device_index[device]
        if port is None:
            owners = self.topology.owners.get(header.source, ())
            is_own = any(self.topology.ports[one].device == number for one in owners)
            return Start(number, ORIGIN, header) if is_own else None
        found = self.topology.port(device, port)
        return Start(found.instance, found.index, header) if found.up else None

    def _ends(self, trace: Trace):
        for ending in trace.endings:
            stop = trace.stops[ending.stop]
            branch = stop.branches[ending.branch] if ending.branch >= 0 else None
            verdict, out = ending.verdict, -1 if branch is None else branch.port
            is_subnet = stop.route is not None and stop.route.protocol == "connected" and stop.steering is None
            if stop.steering is not None:
                is_subnet = not stop.steering.used and stop.route is not None and stop.route.protocol == "connected"
            if verdict == "unresolved" and branch is not None and not branch.via_next_hop and is_subnet:
                verdict = "delivered"
            if verdict == "blocked" and branch is None:
                out = stop.ingress
            yield verdict, stop, out

    def _course(self, trace: Trace) -> object:
        ports = self.topology.ports
        ends = {
            (verdict, ports[out].name if out >= 0 else None, stop.device)
            for verdict, stop, out in self._ends(trace)
            if verdict != "loops"
        }
        edges = {
            (ports[branch.port].name, trace.stops[branch.target].device)
            for stop in trace.stops
            for branch in stop.branches
            if branch.target >= 0
        }
        return frozenset(ends), frozenset(edges), trace.has_loop


def header_of(service, source: Address, destination: Address) -> Header:
    """A header of a service between two addresses."""
    protocol, near, far = service
    return Header(protocol, source, destination, near, far)


def cell_of(space: ServiceSpace, service) -> int:
    """The cell of a service; protocols that no entry names share one."""
    protocol, near, far = service
    ports = [() if one is None else (PortRange(one, one),) for one in (near, far)]
    named = space.matched(HeaderMatch(protocol=protocol, source_ports=ports[0], destination_ports=ports[1]))
    if named:
        return named
    return space.everything & ~sum(space.matched(HeaderMatch(protocol=one)) for one in range(256))
