"""What must have happened between two times at which a network was looked at: their differences, as events.

An event has the time at which it was seen; it happened at some moment since the time before. What neither goes down nor
comes up, nor is a setting with a number, is told by comparing the revisions.
"""

from collections.abc import Iterator
from datetime import datetime

from routrel.model.adjacencies import speaking
from routrel.model.changes import Change
from routrel.model.devices import Device
from routrel.model.events import Event
from routrel.model.network import Network
from routrel.model.places import NOWHERE
from routrel.model.routing import DEFAULT_INSTANCE, IsisInterface, OspfInterface


def seen_events(before: Network, after: Network, seen: datetime, note: str) -> list[Event]:
    """The events by which one network became another, as far as differences tell."""
    changes = [*_links(before, after)]
    for name, device in after.devices.items():
        if name in before.devices and before.devices[name] != device:
            changes += _of_device(before.devices[name], device)
    return [Event(seen, change, note, NOWHERE) for change in changes]


def _turned(what: str, at: str, was_on: bool, is_on: bool, **values: str) -> Iterator[Change]:
    if was_on != is_on:
        yield Change("enable" if is_on else "disable", what, at, dict(values), True, NOWHERE)


def _links(before: Network, after: Network) -> Iterator[Change]:
    known = {link.ends: link for link in before.links}
    for link in after.links:
        if link.ends in known:
            yield from _turned("link", str(link.ends[0]), known[link.ends].enabled, link.enabled)


def _of_device(old: Device, new: Device) -> Iterator[Change]:
    if old.enabled != new.enabled:
        yield from _turned("device", new.name, old.enabled, new.enabled)
        return  # its interfaces went with it
    for name, interface in new.interfaces.items():
        was = old.interfaces.get(name)
        if was is None:
            continue
        at = f"{new.name}:{name}"
        yield from _turned("interface", at, was.enabled, interface.enabled)
        if was.mtu != interface.mtu:
            yield Change("set", "mtu", at, {"to": interface.mtu}, True, NOWHERE)
        if was.vrf == interface.vrf:
            yield from _settings(old, new, name, at)
    yield from _sessions(old, new)


def _settings(old: Device, new: Device, name: str, at: str) -> Iterator[Change]:
    """Costs and metrics of an interface that speaks the same protocols as before."""
    pairs = list(zip(speaking(old, name), speaking(new, name), strict=False))
    for was, now in pairs:
        if isinstance(was, OspfInterface) and isinstance(now, OspfInterface) and was.cost != now.cost:
            if sum(isinstance(one, OspfInterface) for _, one in pairs) == 1:
                yield Change("set", "cost", at, {"to": now.cost}, True, NOWHERE)
        elif isinstance(was, IsisInterface) and isinstance(now, IsisInterface) and was.metric != now.metric:
            yield Change("set", "metric", at, {"to": now.metric, "protocol": "isis"}, True, NOWHERE)
    silent = [all(one.passive for one in of) for of in zip(*pairs, strict=True)] if pairs else []
    if silent:
        yield from _turned("adjacency", at, not silent[0], not silent[1])


def _sessions(old: Device, new: Device) -> Iterator[Change]:
    for vrf in (DEFAULT_INSTANCE, *new.vrfs):
        was, now = (one.routing if vrf == DEFAULT_INSTANCE else one.vrfs.get(vrf) for one in (old, new))
        if was is None or now is None or was.bgp is None or now.bgp is None:
            continue
        known = {neighbor.address: neighbor for neighbor in was.bgp.neighbors}
        values = {} if vrf == DEFAULT_INSTANCE else {"vrf": vrf}
        for neighbor in now.bgp.neighbors:
            if neighbor.address in known:
                at = f"{new.name} {neighbor.address}"
                yield from _turned("session", at, known[neighbor.address].enabled, neighbor.enabled, **values)
