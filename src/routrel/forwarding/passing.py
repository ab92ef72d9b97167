"""What ways pass: devices, and the cables of ports."""

from msgspec import Struct

from routrel.forwarding.trace import Trace
from routrel.model.network import InterfaceName
from routrel.topology.segments import Topology


class Passed(Struct, frozen=True):
    """Devices and ports, by number; of a port all ends of its cable are meant."""

    devices: frozenset[int] = frozenset()
    ports: frozenset[int] = frozenset()

    def on_some_way(self, trace: Trace) -> bool:
        """Whether some way passes one of them."""
        return any(self._stops(trace, number) or self._leaves(trace, number) for number in range(len(trace.stops)))

    def on_every_way(self, trace: Trace) -> bool:
        """Whether every way passes one of them, however many ways there are."""
        waiting, seen = list(trace.starts), set(trace.starts)
        while waiting:
            number = waiting.pop()
            stop = trace.stops[number]
            if self._stops(trace, number):
                continue
            left = [branch for branch in stop.branches if branch.port not in self.ports]
            if stop.verdict is not None or any(branch.verdict is not None for branch in left):
                return False
            onward = {branch.target for branch in left} - seen
            seen |= onward
            waiting += onward
        return True

    def _stops(self, trace: Trace, number: int) -> bool:
        """Whether a stop is one of them, or is come into by one where the way begins."""
        stop = trace.stops[number]
        return stop.device in self.devices or (number in trace.starts and stop.ingress in self.ports)

    def _leaves(self, trace: Trace, number: int) -> bool:
        return any(branch.port in self.ports for branch in trace.stops[number].branches)


def passed_by_word(topology: Topology, word: str) -> Passed | None:
    """What a word names: a device, ``device:interface``, a site or a link; None where it names nothing."""
    if word in topology.device_index:
        return Passed(frozenset([topology.device_index[word]]))
    device, _, interface = word.partition(":")
    port = topology.port_index.get(InterfaceName(device, interface))
    if port is not None:
        number = topology.link_of.get(topology.ports[port].name)
        ends = () if number is None else topology.network.links[number].ends
        return Passed(ports=frozenset([port, *(topology.port_index[end] for end in ends)]))
    if word in topology.network.sites:
        inside = [number for number, one in enumerate(topology.devices) if one.site == word]
        return Passed(frozenset(inside))
    for link in topology.network.links:
        if link.name and link.name == word:
            return Passed(ports=frozenset(topology.port_index[end] for end in link.ends))
    return None
