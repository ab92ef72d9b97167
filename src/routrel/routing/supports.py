"""The ports that lookups rest on: whichever others go down, what tables say of some addresses stays as it is.

Told of connected and static routes, and of protocols that tell it of theirs (``ProtocolSolution.supports``), for
prefixes that no other protocol may bring, or none at a preference by which its route would be the table's.
"""

from collections import defaultdict
from collections.abc import Iterable
from functools import cached_property

from routrel.model.addresses import BITS, Address, Prefix
from routrel.model.routing import StaticRoute
from routrel.routing.protocol import AnySolution, Process
from routrel.routing.rib.observed import is_observed_only
from routrel.routing.rib.static import static_candidates
from routrel.routing.solve import Solved

Pair = tuple[int, Address]
"""A routing instance and an address that is looked up there."""


class LookupSupports:
    """Of the tables of one solved network."""

    def __init__(self, solved: Solved):
        self.solved = solved
        self._statics_by_prefix: dict[int, dict[Prefix, list[StaticRoute]]] = {}
        """By instance."""

    @cached_property
    def _has_linux(self) -> bool:
        """Linux devices answer for all their addresses everywhere, and choose sources by what is up."""
        return any(device.kernel_routing is not None for device in self.solved.topology.devices)

    def of(self, pairs: Iterable[Pair]) -> frozenset[int] | None:
        """The ports that the routes looked up rest on, and those of the devices themselves that have subnets of the
        addresses; None where that is not told of some."""
        return self._of([(instance, address, BITS[address.family]) for instance, address in pairs])

    def of_prefix(self, instance: int, prefix: Prefix) -> frozenset[int] | None:
        """The same of the route for a prefix, or the one that covers it."""
        return self._of([(instance, Address(prefix.family, prefix.network), prefix.length)])

    def _of(self, waiting: list[tuple[int, Address, int]]) -> frozenset[int] | None:
        """By instances and addresses, each with the longest prefix that is asked for."""
        if self._has_linux:
            return None
        found, seen = set[int](), set[tuple[int, Address, int]]()
        while waiting:
            asked_for = waiting.pop()
            if asked_for in seen:
                continue
            seen.add(asked_for)
            instance, address, longest = asked_for
            topology = self.solved.topology
            own = [topology.ports[port] for port in topology.ports_of[topology.instances[instance].device]]
            if is_observed_only(topology, instance):
                found.update(port.index for port in own)
                continue
            found.update(port.index for port in own if any(prefix.contains(address) for prefix in port.prefixes))
            table = self.solved.table(instance)
            for number in self.solved.prefixes.chain(address):
                if self.solved.prefixes.lengths[number] > longest:
                    continue
                statics = self._statics(instance, number)
                named = topology.ports_named[topology.instances[instance].device]
                found.update(named[one.interface].index for one in statics if one.interface is not None)
                asked = [one.next_hop for one in statics if one.interface is None and one.next_hop is not None]
                waiting += [(instance, next_hop, BITS[next_hop.family]) for next_hop in asked]
                ports = self._of_protocols(instance, number)
                if ports is None:
                    return None
                found |= ports
                # Before a route that asks the table is in it, what covers it is used.
                if table.get(number) is not None and not asked:
                    break
        return frozenset(found)

    def _statics(self, instance: int, number: int) -> list[StaticRoute]:
        """The static routes for a prefix."""
        if instance not in self._statics_by_prefix:
            found = self._statics_by_prefix[instance] = defaultdict(list)
            for static in static_candidates(self.solved.topology, instance):
                found[static.prefix].append(static)
        return self._statics_by_prefix[instance].get(self.solved.prefixes.prefixes[number], [])

    def _of_protocols(self, instance: int, number: int) -> set[int] | None:
        """What the protocols' routes of an instance for a prefix rest on; None where one that does not tell of its own
        may come to have a better one."""
        if not self.solved.prefix_classes.is_carried[number]:
            return set()
        table, prefix = self.solved.table(instance), self.solved.prefixes.prefixes[number]
        found, stay, others = set[int](), [table.other(number)], list[tuple[AnySolution, Process]]()
        for index, (solution, process) in enumerate(self.solved.processes_of(instance)):
            if prefix.family not in process.families:
                continue
            ports = solution.supports(process.number, number)
            if ports is not None:
                found |= ports
                stay.append(table.source_route(index, number))
            elif solution.may_bring(prefix):
                others.append((solution, process))
        preferences = [route.preference for route in stay if route is not None and route.preference is not None]
        best = min(preferences, default=None) if table.install is None else None
        for solution, process in others:
            lowest = solution.lowest_preference(process.number)
            if best is None or lowest is None or lowest <= best:
                return None
        return found
