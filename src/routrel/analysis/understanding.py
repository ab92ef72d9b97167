"""What was understood of an input: counts by kind, what the model does not hold, and where it ends."""

from collections import Counter, defaultdict
from collections.abc import Iterator, Sequence
from typing import NamedTuple

from routrel.analysis.answers import model
from routrel.analysis.contest.why import at_text
from routrel.analysis.doubtful_cables import doubtful_cables
from routrel.model.addresses import Address
from routrel.model.devices import Device
from routrel.model.observed import ObservedRoute
from routrel.model.places import Place
from routrel.model.routing import RoutingInstance, StaticRoute
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
    known_by = Counter[str](device.known_by for device in devices)
    gaps, ends, partly, heard = _gaps(solved), [*_open_ends(solved)], _by_documents(solved), [*_heard(solved)]
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
        known_by=[model.Count(kind, count) for kind, count in known_by.most_common()],
        by_documents=partly[:MOST_LISTED],
        by_documents_count=len(partly),
        whole_count=known_by["models"] - len(partly),
        not_represented=gaps[:MOST_LISTED],
        not_represented_count=len(gaps),
        open_ends=ends[:MOST_LISTED],
        open_ends_count=len(ends),
        heard=heard[:MOST_LISTED],
        heard_count=len(heard),
        add_first=_add_first(solved),
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
            devices[gap.what].append(device.name)
    ordered = sorted(devices.items(), key=lambda one: -len(one[1]))
    return [
        model.GapCount(message, len(names), list(dict.fromkeys(names))[:MOST_DEVICES]) for message, names in ordered
    ]


def _by_documents(solved: Solved) -> list[model.DeviceUnderstood]:
    """The devices of whose documents something is not represented, the most first."""
    found = [
        model.DeviceUnderstood(device.name, count.all, count.used, count.not_represented, device.place or None)
        for device in solved.network.devices.values()
        if (count := device.statements) is not None and count.not_represented
    ]
    return sorted(found, key=lambda one: (-one.not_represented, -one.statements, one.device))


def _open_ends(solved: Solved) -> Iterator[model.OpenEnd]:
    """Where knowledge ends: neighbours, next hops and other ends that no device of the network has."""
    asked = [*_asked(solved)]
    for one in asked:
        what = f"BGP neighbour {one.address} of AS {one.number}" if one.number is not None else one.what
        yield model.OpenEnd(one.device, what, one.place or None)
    heard = {Address.parse(one.address) for one in _heard(solved)}
    yield from doubtful_cables(solved, heard | {one.address for one in asked})


class _Asked(NamedTuple):
    """An address that no device has, and what of a device leads there: a session with an AS, or some routes."""

    device: str
    address: Address
    number: int | None
    routes: int
    what: str
    place: Place


def _asked(solved: Solved) -> Iterator[_Asked]:
    owners = solved.topology.owners
    for device, routing in _routing(solved):
        for neighbor in routing.bgp.neighbors if routing.bgp is not None else ():
            if neighbor.enabled and neighbor.address not in owners and not neighbor.received:
                yield _Asked(device.name, neighbor.address, neighbor.number, 0, "", neighbor.place)
        hops = [(one.next_hop, one) for one in routing.static if one.next_hop is not None]
        yield from _led(device.name, [(hop, one) for hop, one in hops if hop not in owners], "static route")
    for device in solved.network.devices.values():
        if device.known_by == "text":
            continue
        seen = {address for _, address in device.neighbors}
        led = [
            (hop.address, route)
            for route in device.observed
            for hop in route.next_hops
            if hop.address is not None and hop.address not in owners
        ]
        yield from _led(device.name, [(hop, one) for hop, one in led if hop not in seen], "route read off it")


def _heard(solved: Solved) -> Iterator[model.HeardNeighbor]:
    """Neighbours outside the network whose paths are known."""
    for device, routing in _routing(solved):
        for one in routing.bgp.neighbors if routing.bgp is not None else ():
            if one.received and not solved.topology.is_configured(one.address):
                count, file = sum(map(len, one.received)), one.received[0].file
                yield model.HeardNeighbor(device.name, str(one.address), one.number, count, file, one.place or None)


def _led(device: str, hops: Sequence[tuple[Address, StaticRoute | ObservedRoute]], kind: str) -> Iterator[_Asked]:
    """Routes of a device by the next hop that nobody has."""
    by_hop: dict[Address, list[StaticRoute | ObservedRoute]] = defaultdict(list)
    for hop, route in hops:
        by_hop[hop].append(route)
    for hop, routes in by_hop.items():
        of = (
            f"{len(routes)} {kind.replace('route', 'routes')}"
            if len(routes) > 1
            else f"the {kind} to {routes[0].prefix}"
        )
        yield _Asked(device, hop, None, len(routes), f"next hop {hop} of {of}", routes[0].place)


def _add_first(solved: Solved) -> list[model.MissingDevice]:
    """The addresses that most sessions and routes lead to, of those that no device has."""
    found: dict[Address, list[_Asked]] = defaultdict(list)
    for one in _asked(solved):
        found[one.address].append(one)
    missing = [
        model.MissingDevice(
            str(address),
            sum(one.number is not None for one in asked),
            sum(one.routes for one in asked),
            list(dict.fromkeys(one.device for one in asked))[:MOST_DEVICES],
        )
        for address, asked in found.items()
    ]
    return sorted(missing, key=lambda one: (-len(one.devices), -one.sessions - one.routes))[:MOST_DEVICES]


KNOWN_BY = {
    "text": "by texts of the network file",
    "capture": "by captures",
    "models": "by documents in open models",
    "table": "by a routing table alone",
}


def understanding_lines(found: model.Understanding) -> Iterator[str]:
    """What was understood as lines for a terminal."""
    for kind in found.known_by:
        yield f"{kind.count} device{'' if kind.count == 1 else 's'} {KNOWN_BY[kind.kind]}"
    for one in found.by_documents:
        left = f"{one.not_represented} of {one.statements} statements not represented"
        yield f"{one.device}: {left}{at_text(one.place)}"
    if found.whole_count:
        yield f"{found.whole_count} devices whose documents are all in the model, or decide nothing of where packets go"
    for gap in found.not_represented:
        times = f", {gap.count} times" if gap.count > 1 else ""
        yield f"not represented: {gap.message} ({', '.join(gap.devices[:4])}{times})"
    for end in found.open_ends:
        cables = f"; {' or '.join(offer.label for offer in end.offers)}?" if end.offers else ""
        yield f"open end: {end.device}: {end.what}{cables}{at_text(end.place)}"
    for heard in found.heard:
        paths = f"{heard.paths:,} path{'' if heard.paths == 1 else 's'}"
        whose = f"{heard.address}, AS {heard.number}, in {heard.file}"
        yield f"heard: {heard.device}: {paths} of {whose}{at_text(heard.place)}"
    for missing in found.add_first:
        leads = [
            f"{count} {what}{'' if count == 1 else 's'}"
            for count, what in ((missing.sessions, "session"), (missing.routes, "route"))
            if count
        ]
        yield f"to add: whoever has {missing.address}: {' and '.join(leads)} of {', '.join(missing.devices[:4])}"
