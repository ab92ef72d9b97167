"""What of a network is otherwise under a failure, as far as flows ask: devices by their ports, routes by their lookups.

Routes are held against each other as arrays; only instances of which some differ are looked up one by one.
"""

from collections import defaultdict
from collections.abc import Iterable

import numpy as np

from routrel.model.addresses import Address
from routrel.routing.arrays import Column, Flags
from routrel.routing.rib.table import Source, Table
from routrel.routing.solve import Solved
from routrel.topology.segments import Topology

Pair = tuple[int, Address]
"""A routing instance and an address that is looked up there."""


class Asked:
    """What is looked up where, with the prefixes that may lead there, by instance."""

    def __init__(self, solved: Solved, pairs: Iterable[Pair]):
        self.addresses: dict[int, dict[int, set[Address]]] = defaultdict(lambda: defaultdict(set))
        """Per instance, by the number of a prefix, the addresses that it may lead to."""
        self.all_of: dict[int, set[Address]] = defaultdict(set)
        chains = dict[Address, list[int]]()
        for instance, address in pairs:
            self.all_of[instance].add(address)
            if address not in chains:
                chains[address] = solved.prefixes.chain(address)
            for number in chains[address]:
                self.addresses[instance][number].add(address)
        self.numbers: dict[int, Column] = {
            instance: np.array(sorted(of), np.int64) for instance, of in self.addresses.items()
        }
        """The same numbers as a column."""


class Moved:
    """What is otherwise in ``after``: ``devices`` by their ports and neighbours, and ``routes`` that are looked up."""

    def __init__(self, before: Solved, after: Solved, asked: Asked):
        self.devices = _other_devices(before.topology, after.topology)
        self.routes: set[Pair] = set()
        if after.convergence is before.convergence:
            return
        for solution in after.solutions:
            solution.prepare([one.number for one in solution.processes if one.instance in asked.all_of])
        is_comparable = after.prefixes is before.prefixes
        for instance, addresses in asked.all_of.items():
            tables = before.table(instance), after.table(instance)
            differing = _differing(*tables, asked, instance) if is_comparable else None
            if differing is not None:
                of = asked.addresses[instance]
                addresses = set[Address]().union(*(of[number] for number in differing))
            lookups = ((one, [table.lookup(one) for table in tables]) for one in addresses)
            self.routes |= {(instance, one) for one, (was, now) in lookups if was != now}


def _differing(one: Table, other: Table, asked: Asked, instance: int) -> set[int] | None:
    """Numbers of prefixes of which two tables of an instance may have other routes; None where that takes more."""
    if one.install is not None or other.install is not None or len(one.sources) != len(other.sources):
        return None
    of, numbers = asked.addresses[instance], asked.numbers[instance]
    standing = [number for number in {*one.others, *other.others} if number in of]
    found = {number for number in standing if one.other(number) != other.other(number)}
    # Prefixes keep their numbers, their columns may be others.
    columns = one.prefix_classes.column[numbers], other.prefix_classes.column[numbers]
    for pair in zip(one.sources, other.sources, strict=True):
        differs = _gives_otherwise(*pair, *columns)
        if differs is None:
            return None
        found.update(numbers[differs].tolist())
    return found


def _gives_otherwise(was: Source, now: Source, here: Column, there: Column) -> Flags | None:
    """Where two sources differ, by column of both; None where what they say cannot be held against each other."""
    old, new = was.rows, now.rows
    if was.protocol != now.protocol or old.hops != new.hops:
        return None
    # Made with others, rows may have more words than they use.
    words = min(len(old.masks), len(new.masks))
    differs: Flags = (old.kind[here] != new.kind[there]) | (old.metric[here] != new.metric[there])
    for before, after in zip(old.masks[:words], new.masks[:words], strict=True):
        differs |= before[here] != after[there]
    for mask in old.masks[words:]:
        differs |= mask[here] != 0
    for mask in new.masks[words:]:
        differs |= mask[there] != 0
    for before, after in ((old.tag, new.tag), (old.preference, new.preference)):
        if (before is None) != (after is None):
            return None
        if before is not None and after is not None:
            differs |= before[here] != after[there]
    # What is held of a path besides (BGP) tells no packet where to go.
    return differs


def _other_devices(before: Topology, now: Topology) -> set[int]:
    """Devices with a port that is up in one state alone, or that has one beside it on its segment."""
    if before is now:
        return set()
    if [one.ports for one in before.segments] != [one.ports for one in now.segments]:
        moved = {port for port in range(len(now.ports)) if _around(before, port) != _around(now, port)}
    else:
        turned = [port.index for port, was in zip(now.ports, before.ports, strict=True) if port.up != was.up]
        moved = {other for port in turned for other, _ in _around(now, port)}
        for segment in {*before.virtual_groups, *now.virtual_groups}:
            if _active(before, segment) != _active(now, segment):
                moved.update(now.segments[segment].ports)
    return {now.ports[port].device for port in moved}


def _around(topology: Topology, number: int) -> list[tuple[int, bool]]:
    """A port and all on its segment, each with whether it is up, and those that are active for virtual routers."""
    segment = topology.segment_of[number]
    ports = topology.segments[segment].ports if segment >= 0 else ()
    return [(port, topology.ports[port].up) for port in (number, *ports, *_active(topology, segment))]


def _active(topology: Topology, segment: int) -> list[int]:
    """The ports that are active for virtual routers on a segment."""
    return [group.active.port for group in topology.virtual_groups.get(segment, ())]
