"""Connections across a network that filters nothing: tables alone decide, so that ways to an address are shared."""

from routrel.model.addresses import Address
from routrel.model.filters import Header
from routrel.routing.protocol import Tables
from routrel.topology.segments import Topology

LONGEST_WAY = 64
"""Devices a session's packets may pass: more than any sane way, less than a loop."""


class UnfilteredConnections:
    """Follows the first of equal ways, as ``routrel.forwarding.connections`` does where something filters."""

    def __init__(self, topology: Topology, tables: Tables):
        self.topology = topology
        self.tables = tables
        self._ways: dict[tuple[int, Address], tuple[str, int]] = {}

    def connect(self, caller: int, called: int, call: Header) -> tuple[str, int]:
        """Why a call fails, or '', and how many hops the longer way takes."""
        there, length = self._way(caller, call.destination)
        back, back_length = self._way(called, call.source)
        return there or back, max(length, back_length)

    def _way(self, instance: int, target: Address) -> tuple[str, int]:
        """Why tables do not lead from an instance to an address, or '', and the hops."""
        passed: list[int] = []
        reason, length = self._follow(instance, target, passed)
        for position, one in enumerate(passed):
            self._ways[one, target] = reason, length - position
        return reason, length

    def _follow(self, instance: int, target: Address, passed: list[int]) -> tuple[str, int]:
        """All that are ``passed`` share what is found."""
        owners = {self.topology.ports[port].instance for port in self.topology.owners.get(target, ())}
        for length in range(LONGEST_WAY):
            known = self._ways.get((instance, target))
            if known is not None:
                return known[0], known[1] + length
            passed.append(instance)
            if instance in owners:
                return "", length
            name = self.topology.instance_name(instance)
            route = self.tables(instance).lookup(target)
            if route is None or route.action != "forward" or not route.next_hops:
                return f"{name} has no route to {target}", length
            hop = route.next_hops[0]
            peer = hop.neighbor
            if peer < 0:
                answering = self.topology.on_segment(self.topology.segment_of[hop.port], hop.address or target)
                peer = -1 if answering is None else answering
            if peer < 0:
                return f"nobody answers for {hop.address or target}, where {name} sends packets for {target}", length
            instance = self.topology.ports[peer].instance
        return f"packets for {target} go round in a loop", LONGEST_WAY
