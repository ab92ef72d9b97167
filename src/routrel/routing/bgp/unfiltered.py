"""Connections across a network that filters nothing: tables alone decide, so that ways to an address are shared."""

from routrel.model.addresses import Address
from routrel.model.filters import Header
from routrel.routing.neighbors import Obstacle
from routrel.routing.prefixes.index import PrefixIndex
from routrel.routing.protocol import Connections, Tables
from routrel.routing.routes import NextHop
from routrel.topology.segments import Topology

LONGEST_WAY = 64
"""Devices a session's packets may pass: more than any sane way, less than a loop."""


class UnfilteredConnections(Connections):
    """Follows the first of equal ways, as ``routrel.forwarding.connections`` does where something filters."""

    def __init__(self, topology: Topology, prefixes: PrefixIndex, tables: Tables):
        self.topology = topology
        self.tables = tables
        self._ways: dict[tuple[int, Address], tuple[str, int]] = {}

    def connect(self, caller: int, called: int, call: Header) -> tuple[Obstacle | None, int]:
        """Why a call fails, and how many hops the longer way takes."""
        there, length = self._way(caller, call.destination)
        back, back_length = self._way(called, call.source)
        reason = there or back
        return Obstacle(reason) if reason else None, max(length, back_length)

    def connect_outside(self, caller: int, call: Header) -> tuple[Obstacle | None, int]:
        """Whether the way out leads to somebody whom no device is; the way back comes in where that one left."""
        instance, target = caller, call.destination
        for length in range(1, LONGEST_WAY):
            hop, peer, reason = self._step(instance, target)
            if hop is None:
                return Obstacle(reason), length
            if peer < 0:
                is_ours = hop.address is not None and self.topology.is_configured(hop.address)
                return Obstacle(reason) if is_ours else None, length
            instance = self.topology.ports[peer].instance
        return Obstacle(f"packets for {target} go round in a loop"), LONGEST_WAY

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
            _, peer, reason = self._step(instance, target)
            if peer < 0:
                return reason, length
            instance = self.topology.ports[peer].instance
        return f"packets for {target} go round in a loop", LONGEST_WAY

    def _step(self, instance: int, target: Address) -> tuple[NextHop | None, int, str]:
        """The first of equal ways on from an instance, the port that answers there or -1, and why none does."""
        route = self.tables(instance).lookup(target)
        if route is None or route.action != "forward" or not route.next_hops:
            return None, -1, f"{self.topology.instance_name(instance)} has no route to {target}"
        hop = route.next_hops[0]
        peer: int | None = hop.neighbor
        if hop.neighbor < 0:
            peer = self.topology.on_segment(self.topology.segment_of[hop.port], hop.address or target)
        if peer is None:
            name = self.topology.instance_name(instance)
            return hop, -1, f"nobody answers for {hop.address or target}, where {name} sends packets for {target}"
        return hop, peer, ""
