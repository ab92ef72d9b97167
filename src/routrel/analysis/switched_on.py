"""Remedies that switch on what is off: an interface, link, device or session that a missing route's trail names."""

from collections.abc import Iterable, Iterator
from dataclasses import replace

from routrel.analysis.answers import contests
from routrel.analysis.answers.walks import Remedy
from routrel.analysis.offered_changes import switched, takes_changes
from routrel.analysis.remedies import MOST_DEVICES, cures
from routrel.analysis.stated import Stated
from routrel.forwarding.trace import Stop, Trace
from routrel.model.bgp import BgpNeighbor
from routrel.model.devices import Device, Interface
from routrel.model.network import Link, Network
from routrel.model.places import Place
from routrel.model.routing import DEFAULT_INSTANCE, RoutingInstance
from routrel.routing.solve import Solved
from routrel.solving import solve

MOST_TRIED = 3
"""Things switched on for one cause, each by itself."""


def switched_on(
    solved: Solved, strand: Trace, stop: Stop, stateful: frozenset[int], trail: Iterable[contests.Step]
) -> Remedy | None:
    """The first thing that is off and named by the trail, with which the flow passes a stop."""
    if len(solved.topology.devices) > MOST_DEVICES:
        return None
    named = {place for step in trail for place in (step.place, *step.other_places) if place}
    for one in [one for one in _off(solved.network) if one.place in named][:MOST_TRIED]:
        again = solve(_with(solved.network, one), solved)
        if cures(again, strand, stop, stateful):
            kind, name = one.kind, one.name
            if isinstance(one.what, Interface) and one.device is not None:
                name = f"{one.device.name}:{name}"
            elif isinstance(one.what, BgpNeighbor) and one.device is not None:
                name = f"{one.device.name} {name}"
            at = str(one.what.ends[0]) if isinstance(one.what, Link) else name
            change = switched(kind, at, False, one.vrf if isinstance(one.what, BgpNeighbor) else DEFAULT_INSTANCE)
            return Remedy(f"switch on {kind} {name}", "enabled: true", one.place, [change.change])
    return None


def _off(network: Network) -> Iterator[Stated]:
    """All that is off and can be switched on by a change."""
    for link in network.links:
        if not link.enabled:
            yield Stated(link.place, "link", link.name or " - ".join(map(str, link.ends)), link)
    for device in network.devices.values():
        if not takes_changes(device):
            continue
        if not device.enabled:
            yield Stated(device.place, "device", device.name, device, device)
        for interface in device.interfaces.values():
            if not interface.enabled:
                yield Stated(interface.place, "interface", interface.name, interface, device)
        for vrf, routing in ((DEFAULT_INSTANCE, device.routing), *device.vrfs.items()):
            for neighbor in routing.bgp.neighbors if routing is not None and routing.bgp is not None else ():
                if not neighbor.enabled:
                    yield Stated(neighbor.place, "session", str(neighbor.address), neighbor, device, vrf)


def _with(network: Network, one: Stated) -> Network:
    """The network with something on."""
    what, device = one.what, one.device
    if isinstance(what, Link):
        links = tuple(replace(link, enabled=True) if link is what else link for link in network.links)
        return replace(network, links=links)
    assert device is not None
    if isinstance(what, Device):
        changed = replace(device, enabled=True)
    elif isinstance(what, Interface):
        on = {what.name: replace(what, enabled=True)}
        changed = replace(device, interfaces={**device.interfaces, **on})
    elif one.vrf == DEFAULT_INSTANCE:
        changed = replace(device, routing=_with_session(device.routing, one.place))
    else:
        changed = replace(device, vrfs={**device.vrfs, one.vrf: _with_session(device.vrfs[one.vrf], one.place)})
    return replace(network, devices={**network.devices, device.name: changed})


def _with_session(routing: RoutingInstance | None, place: Place) -> RoutingInstance:
    assert routing is not None and routing.bgp is not None
    neighbors = tuple(
        replace(neighbor, enabled=True) if neighbor.place == place else neighbor for neighbor in routing.bgp.neighbors
    )
    return replace(routing, bgp=replace(routing.bgp, neighbors=neighbors))
