"""What tells prefixes apart, gathered from configurations and protocols, and the classes that follow."""

from collections.abc import Hashable, Sequence

import numpy as np
import numpy.typing as npt

from routrel.model.addresses import Prefix
from routrel.model.network import Network
from routrel.model.policies import PrefixMatch
from routrel.routing.grouping import classes_of, run_starts
from routrel.routing.policies import matching
from routrel.routing.prefixes import PrefixIndex
from routrel.routing.static import static_candidates
from routrel.topology.segments import Topology

Column = npt.NDArray[np.int64]

UNCONNECTED = -1


class Traits:
    """What is known of each prefix, as (number, trait) pairs."""

    def __init__(self, index: PrefixIndex):
        self.index = index
        self._number_of = index.number
        self._numbers: list[int] = []
        self._traits: list[int] = []
        self._columns: list[tuple[Column, int]] = []
        self._told_apart: list[tuple[Column, Column]] = []
        self._known: dict[Hashable, int] = {}

    def add(self, prefix: Prefix, trait: Hashable) -> None:
        known = self._known
        self._numbers.append(self._number_of[prefix])
        self._traits.append(known.setdefault(trait, len(known)))

    def add_columns(self, numbers: Column, *columns: Column) -> None:
        """A trait for each of some prefixes: the row of columns (n,) of values from 0 that stands beside it.

        Rows of another call are other traits.
        """
        rows = columns[0]
        for column in columns[1:]:
            width = int(column.max(initial=0)) + 1
            if int(rows.max(initial=0)) >= 2**62 // width:
                rows = np.unique(rows, return_inverse=True)[1].reshape(-1)
            rows = rows * width + column
        self._told_apart.append((numbers, np.unique(rows, return_inverse=True)[1].reshape(-1)))

    def add_single(self, prefix: Prefix) -> None:
        """A prefix that is like no other."""
        if prefix in self._number_of:
            self.add(prefix, ("alone", prefix))

    def add_numbers(self, numbers: Column, trait: Hashable) -> None:
        """One trait for several prefixes; by itself it makes none known to any protocol."""
        self._columns.append((numbers, self._known.setdefault(trait, len(self._known))))

    def add_covered(self, prefix: Prefix, trait: Hashable) -> None:
        """One trait for all prefixes within another."""
        covered = self.index.covered(prefix)
        self.add_numbers(np.arange(covered.start, covered.stop), trait)

    def classes(self) -> Column:
        """The class of each prefix, -1 without any trait that ``add`` or ``add_columns`` brought."""
        p = len(self.index)
        parts = [(np.array(self._numbers, np.int64), np.array(self._traits, np.int64))]
        count = len(self._known)
        for numbers, rows in self._told_apart:
            parts.append((numbers, rows + count))
            count += int(rows.max(initial=-1)) + 1
        is_known = np.zeros(p, bool)
        for numbers, _ in parts:
            is_known[numbers] = True
        for more, trait in self._columns:
            kept = more[is_known[more]]
            parts.append((kept, np.full(len(kept), trait, np.int64)))
        family = np.flatnonzero(is_known)
        parts.append((family, np.where(family < self.index.first_of_ipv6, -4, -6)))
        all_numbers = np.concatenate([part[0] for part in parts])
        traits = np.concatenate([part[1] for part in parts])
        order = np.argsort(all_numbers * np.int64(count + 8) + traits + 6)
        all_numbers, traits = all_numbers[order], traits[order]
        starts = run_starts(all_numbers)
        found, _ = classes_of(starts, [traits])
        classes = np.full(p, -1, np.int64)
        classes[all_numbers[starts]] = found
        return classes


def add_configured(traits: Traits, topology: Topology, network: Network, subnets: Column) -> None:
    """What the configuration itself says of prefixes: connected and static routes, policies, lists, ranges.

    ``subnets`` int64: the numbers of the prefixes of all ports, in their order.
    """
    index = traits.index
    for family in (4, 6):
        traits.add_single(Prefix(family, 0, 0))
    instances = [UNCONNECTED if port.down else port.instance for port in topology.ports for _ in port.prefixes]
    of_subnet = np.array(instances, np.int64)
    is_link_local = np.array([prefix.is_link_local for prefix in index.prefixes[index.first_of_ipv6 :]], np.bool_)
    shown = np.concatenate([np.ones(index.first_of_ipv6, np.bool_), ~is_link_local])[subnets]
    shown &= of_subnet != UNCONNECTED
    traits.add_columns(subnets[shown], of_subnet[shown])
    for instance in topology.instances:
        for static in static_candidates(topology, instance.index):
            if static.next_hop is not None and static.prefix.contains(static.next_hop):
                traits.add_single(static.prefix)
            how = static.next_hop, static.interface, static.action, static.preference, static.metric, static.tag
            traits.add(static.prefix, (instance.index, how))
    for matches in _prefix_lists(network):
        traits.add_numbers(np.flatnonzero(matching(matches, index)), matches)


def _prefix_lists(network: Network) -> Sequence[tuple[PrefixMatch, ...]]:
    found: dict[tuple[PrefixMatch, ...], None] = {}
    for device in network.devices.values():
        for policy in device.policies.values():
            for statement in policy.statements:
                if statement.match.prefixes is not None:
                    found[statement.match.prefixes] = None
    return list(found)
