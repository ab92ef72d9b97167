"""What was understood of an input: counts by kind, what the model does not hold, and where it ends."""

from collections import Counter, defaultdict
from collections.abc import Iterator

from routrel.analysis.answers import model
from routrel.model.devices import Device
from routrel.model.routing import RoutingInstance
from routrel.routing.solve import Solved

MOST_LISTED = 200
"""Kinds of gaps, and open ends, that are listed; all are counted."""

MOST_DEVICES = 20
"""Names of devices that are listed of one gap; all are counted."""


def understanding(solved: Solved) -> model.Understanding:
    """The summary that a network opens with."""
    network, topology = solved.network, solved.topology
    devices = network.devices.values()
    kinds = Counter(device.kind for device in devices)
    gaps, ends = _gaps(solved), [*_open_ends(solved)]
    return model.Understanding(
        devices=[model.Count(kind, count) for kind, count in kinds.most_common()],
        sites=len(network.sites),
        links=len(network.links),
        links_down=sum(
            not link.enabled or any(topology.link_state(end) for end in link.ends) for link in network.links
        ),
        interfaces=sum(len(device.interfaces) for device in devices),
        addresses=sum(len(one.addresses) for device in devices for one in device.interfaces.values()),
        prefixes=len(solved.prefixes.prefixes),
        vrfs=sum(len(device.vrfs) for device in devices),
        protocols=_protocols(solved),
        acls=sum(len(device.acls) for device in devices),
        filter_programs=sum(device.program is not None for device in devices),
        policies=sum(len(device.policies) for device in devices),
        observed=sum(bool(device.observed) for device in devices),
        endpoints=len(network.endpoints),
        services=len(network.services),
        not_represented=gaps[:MOST_LISTED],
        not_represented_count=len(gaps),
        open_ends=ends[:MOST_LISTED],
        open_ends_count=len(ends),
    )


def _protocols(solved: Solved) -> list[model.ProtocolCount]:
    """Per protocol its routing instances, and its interfaces or sessions, both versions of OSPF together."""
    instances: dict[str, set[int]] = defaultdict(set)
    spoken: Counter[str] = Counter()
    for solution in solved.solutions:
        if solution.processes:
            instances[solution.protocol] |= {process.instance for process in solution.processes}
            spoken[solution.protocol] += len(solution.database.ports)
    for _, routing in _routing(solved):
        if routing.bgp is not None:
            spoken["bgp"] += len(routing.bgp.neighbors)
    statics = [len(routing.static) for _, routing in _routing(solved) if routing.static]
    found = [model.ProtocolCount(name, len(of), spoken[name]) for name, of in instances.items()]
    return [*found, *([model.ProtocolCount("static", len(statics), sum(statics))] if statics else [])]


def _routing(solved: Solved) -> Iterator[tuple[Device, RoutingInstance]]:
    for instance in solved.topology.instances:
        if instance.routing is not None:
            yield solved.topology.devices[instance.device], instance.routing


def _gaps(solved: Solved) -> list[model.GapCount]:
    """What inputs stated and the model cannot hold, once per kind, the most frequent first."""
    devices: dict[str, list[str]] = defaultdict(list)
    for device in solved.network.devices.values():
        for gap in device.gaps:
            devices[gap.message].append(device.name)
    ordered = sorted(devices.items(), key=lambda one: -len(one[1]))
    return [
        model.GapCount(message, len(names), list(dict.fromkeys(names))[:MOST_DEVICES]) for message, names in ordered
    ]


def _open_ends(solved: Solved) -> Iterator[model.OpenEnd]:
    """Where knowledge ends: neighbours and next hops that no device of the network has."""
    owners = solved.topology.owners
    for device, routing in _routing(solved):
        for neighbor in routing.bgp.neighbors if routing.bgp is not None else ():
            if neighbor.enabled and neighbor.address not in owners:
                what = f"BGP neighbour {neighbor.address} of AS {neighbor.number}"
                yield model.OpenEnd(device.name, what, neighbor.place or None)
        beyond = [one for one in routing.static if one.next_hop is not None and one.next_hop not in owners]
        for next_hop, count in Counter(one.next_hop for one in beyond).items():
            first = next(one for one in beyond if one.next_hop == next_hop)
            of = f"{count} static routes" if count > 1 else f"the static route to {first.prefix}"
            yield model.OpenEnd(device.name, f"next hop {next_hop} of {of}", first.place or None)
