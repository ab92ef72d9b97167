"""What of a network is otherwise under a failure, as far as flows ask: devices by their ports, routes by their lookups.

Routes are held against each other as arrays; only instances of which some differ are looked up one by one.
"""

from collections import defaultdict
from collections.abc import Iterable

import numpy as np

from routrel.model.addresses import Address
from routrel.routing.arrays import Column
from routrel.routing.rib.table import Source, Table
from routrel.routing.solve import Solved
from routrel.topology.segments import Topology

Pair = tuple[int, Address]
"""A routing instance and an address that is looked up there."""


class Asked:
    """What is looked up where, with the prefixes that may lead there: their numbers by instance."""

    def __init__(self, solved: Solved, pairs: Iterable[Pair]):
        self.addresses: dict[int, set[Address]] = defaultdict(set)
        for instance, address in pairs:
            self.addresses[instance].add(address)
        self.numbers: dict[int, list[int]] = {
            instance: sorted({number for address in some for number in solved.prefixes.chain(address)})
            for instance, some in self.addresses.items()
        }


class Moved:
    """What is otherwise in ``after``: ``devices`` by their ports and neighbours, and ``routes`` that are looked up."""

    def __init__(self, before: Solved, after: Solved, asked: Asked):
        self.devices = _other_devices(before.topology, after.topology)
        self.routes: set[Pair] = set()
        if after.convergence is before.convergence:
            return
        for solution in after.solutions:
            solution.prepare([one.number for one in solution.processes if one.instance in asked.addresses])
        is_comparable = after.prefixes is before.prefixes
        for instance, addresses in asked.addresses.items():
            tables = before.table(instance), after.table(instance)
            if not (is_comparable and _is_same(*tables, asked.numbers[instance])):
                lookups = ((one, [table.lookup(one) for table in tables]) for one in addresses)
                self.routes |= {(instance, one) for one, (was, now) in lookups if was != now}


def _is_same(one: Table, other: Table, numbers: list[int]) -> bool:
    """Whether two tables of an instance have the same of all that may be looked up; False where that takes more."""
    if one.install is not None or other.install is not None or len(one.sources) != len(other.sources):
        return False
    if any(one.other(number) != other.other(number) for number in numbers):
        return False
    # Prefixes keep their numbers, their columns may be others.
    columns = one.prefix_classes.column[numbers], other.prefix_classes.column[numbers]
    return all(_gives_the_same(*pair, *columns) for pair in zip(one.sources, other.sources, strict=True))


def _gives_the_same(was: Source, now: Source, here: Column, there: Column) -> bool:
    old, new = was.rows, now.rows
    if was.protocol != now.protocol or old.hops != new.hops:
        return False
    # Made with others, rows may have more words than they use.
    words = min(len(old.masks), len(new.masks))
    if any(mask[here].any() for mask in old.masks[words:]) or any(mask[there].any() for mask in new.masks[words:]):
        return False
    pairs = [(old.kind, new.kind), (old.metric, new.metric), *zip(old.masks[:words], new.masks[:words], strict=True)]
    for more in ((old.tag, new.tag), (old.preference, new.preference)):
        if (more[0] is None) != (more[1] is None):
            return False
        pairs += [] if more[0] is None else [more]
    # What is held of a path besides (BGP) tells no packet where to go.
    return all(np.array_equal(before[here], after[there]) for before, after in pairs)


def _other_devices(before: Topology, now: Topology) -> set[int]:
    """Devices with a port that is up in one state alone, or that has one beside it on its segment."""
    if before is now:
        return set()
    if [one.ports for one in before.segments] != [one.ports for one in now.segments]:
        moved = {port for port in range(len(now.ports)) if _around(before, port) != _around(now, port)}
    else:
        turned = [port.index for port, was in zip(now.ports, before.ports, strict=True) if port.up != was.up]
        moved = {other for port in turned for other, _ in _around(now, port)}
    return {now.ports[port].device for port in moved}


def _around(topology: Topology, number: int) -> list[tuple[int, bool]]:
    """A port and all on its segment, each with whether it is up."""
    segment = topology.segment_of[number]
    ports = topology.segments[segment].ports if segment >= 0 else ()
    return [(port, topology.ports[port].up) for port in (number, *ports)]
