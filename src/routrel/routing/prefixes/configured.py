"""What configurations say of prefixes: which can stand in a table, and what tells them apart whatever protocols do."""

from collections.abc import Iterable, Sequence

import numpy as np

from routrel.model.addresses import Prefix
from routrel.model.network import Network
from routrel.model.policies import PrefixMatch
from routrel.routing.arrays import Column
from routrel.routing.policies import matching
from routrel.routing.prefixes.distinctions import PrefixDistinctions
from routrel.routing.prefixes.index import PrefixIndex
from routrel.routing.protocol import ProtocolDatabase
from routrel.routing.rib.static import static_candidates
from routrel.topology.segments import Topology

UNCONNECTED = -1


def number_prefixes(
    topology: Topology, databases: Iterable[ProtocolDatabase], base: PrefixIndex | None = None
) -> PrefixIndex:
    """Every prefix that can stand in a table; those of ports are given first, in their order.

    ``base`` itself where it is of the same prefixes.
    """
    prefixes = list(topology.prefixes)
    for device in topology.devices:
        prefixes.extend(route.prefix for route in device.gateways)
        prefixes.extend(route.prefix for route in device.observed)
    for instance in topology.instances:
        if instance.routing is not None:
            prefixes.extend(route.prefix for route in instance.routing.static)
    for database in databases:
        prefixes.extend(database.prefixes())
    is_same = base is not None and base.source == (prefixes, topology.hosts)
    return base if base is not None and is_same else PrefixIndex(prefixes, topology.hosts)


def has_prefixes_of(
    topology: Topology,
    databases: Sequence[ProtocolDatabase],
    other: Topology,
    other_databases: Sequence[ProtocolDatabase],
) -> bool:
    """Whether a glance tells that ``number_prefixes`` would find the same of two topologies."""
    touched = topology.touched_since(other)
    if touched is None or topology.prefixes is not other.prefixes:
        return False
    for number in touched:
        here, there = topology.devices[number], other.devices[number]
        if (here.gateways, here.observed) != (there.gateways, there.observed):
            return False
        for instance in topology.instances_of(number):
            statics = [one.instances[instance].routing for one in (topology, other)]
            if len({None if one is None else one.static for one in statics}) > 1:
                return False
    return all(new.brings_prefixes_of(old) for new, old in zip(databases, other_databases, strict=True))


def configured_distinctions(topology: Topology, network: Network, prefixes: PrefixIndex) -> PrefixDistinctions:
    """Connected and static routes, policies' lists; ``prefixes`` are as ``number_prefixes`` gives them."""
    distinctions = PrefixDistinctions(prefixes)
    for family in (4, 6):
        distinctions.add_single(Prefix(family, 0, 0))
    of_port: Column = topology.instance_column.copy()
    of_port[[port.index for port in topology.ports if port.down]] = UNCONNECTED
    of_subnet = of_port[topology.ports_of_prefixes]
    subnets = prefixes.given[: len(of_subnet)]
    shown = ~prefixes.is_link_local[subnets] & (of_subnet != UNCONNECTED)
    distinctions.add_columns(subnets[shown], of_subnet[shown])
    for instance in topology.instances:
        if not (instance.routing and instance.routing.static) and not topology.devices[instance.device].gateways:
            continue
        for static in static_candidates(topology, instance.index):
            if static.next_hop is not None and static.prefix.contains(static.next_hop):
                distinctions.add_single(static.prefix)
            how = static.next_hop, static.interface, static.action, static.preference, static.metric, static.tag
            distinctions.add(static.prefix, (instance.index, how))
    for matches in _prefix_lists(network):
        distinctions.add_numbers(np.flatnonzero(matching(matches, prefixes)), matches)
    return distinctions


def _prefix_lists(network: Network) -> Sequence[tuple[PrefixMatch, ...]]:
    found: dict[tuple[PrefixMatch, ...], None] = {}
    for device in network.devices.values():
        for policy in device.policies.values():
            for statement in policy.statements:
                if statement.match.prefixes is not None:
                    found[statement.match.prefixes] = None
    return list(found)
