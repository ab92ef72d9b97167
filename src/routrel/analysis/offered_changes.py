"""What is found out as changes that can be tried (docs/changes.md): of an entry, a route, a tipping point."""

from collections.abc import Iterator
from typing import Any

from routrel.analysis.answers.offers import Offer
from routrel.model.addresses import Prefix
from routrel.model.devices import Device
from routrel.model.fields import replace
from routrel.model.filters import PROTOCOL_NAMES, Acl, AclEntry, Header, HeaderMatch, PortRange
from routrel.model.network import InterfaceName
from routrel.model.routing import DEFAULT_INSTANCE, StaticRoute

Data = dict[str, Any]

COST_SETTINGS = {"ospf": "cost", "isis": "metric", "rip": "metric", "eigrp": "delay"}
"""What counts an interface in each protocol."""

ATTRIBUTE_WORDS = {
    "local preference": "local_preference",
    "weight": "weight",
    "MED": "med",
    "AS path length": "prepend",
}
"""Attributes of BGP paths that a session's policy can set, by how they are called."""


def takes_changes(device: Device) -> bool:
    """Whether changes can name parts of a device: what a Linux router's captures say is changed as text alone."""
    return device.program is None and device.kernel_routing is None


def instance_target(device: str, vrf: str) -> Data:
    """How a change names a routing instance."""
    return {"at": device, **({} if vrf == DEFAULT_INSTANCE else {"vrf": vrf})}


def entry_data(entry: AclEntry) -> Data:
    """An ACL entry as the network file's data."""
    match, more = entry.match, {"name": entry.name, "stateful": entry.stateful}
    found: Data = {"action": entry.action}
    if match.protocol is not None:
        found["protocol"] = PROTOCOL_NAMES.get(match.protocol, match.protocol)
    found |= {key: str(one) for key in ("source", "destination") if (one := getattr(match, key)) is not None}
    for key in ("source_ports", "destination_ports"):
        if ports := getattr(match, key):
            found[key] = [one.low if one.low == one.high else str(one) for one in ports]
    return found | {key: value for key, value in more.items() if value}


def entry_added(device: str, acl: Acl, before: int, entry: AclEntry) -> Data:
    """An entry put before the entry of an index; behind all where there is none."""
    place = {"before": before + 1} if before < len(acl.entries) else {}
    return {"add": "acl_entry", "at": device, "acl": acl.name, **place, "entry": entry_data(entry)}


def entry_mended(device: str, acl: Acl, index: int, field: str, header: Header, decider: int | None) -> Data:
    """A near miss made to match: moved before the entry that decides, or one field set to the packet's."""
    where = {"at": device, "acl": acl.name, "number": index + 1}
    if field == "order":
        assert decider is not None
        return {"move": "acl_entry", **where, "before": decider + 1}
    entry = acl.entries[index]
    return {
        "change": "acl_entry",
        **where,
        "entry": entry_data(replace(entry, match=_mended(entry.match, field, header))),
    }


def _mended(match: HeaderMatch, field: str, header: Header) -> HeaderMatch:
    value: Any = getattr(header, field.removesuffix("s") if field.endswith("_ports") else field)
    if field.endswith("_ports"):
        value = (*getattr(match, field), PortRange(value, value))
    elif field in ("source", "destination"):
        value = value.host_prefix()
    return replace(match, **{field: value})


def static_added(device: str, vrf: str, route: StaticRoute | None, replaced: tuple[int, ...] = ()) -> list[Data]:
    """A static route put to the others where one is given, and those of some indices taken out first."""
    where = instance_target(device, vrf)
    removed = [{"remove": "static", **where, "number": index + 1} for index in sorted(replaced, reverse=True)]
    if route is None:
        return removed
    entry = {"prefix": str(route.prefix), "next_hop": str(route.next_hop)}
    return [*removed, {"add": "static", **where, "entry": entry}]


def cost_set(device: Device, interface: InterfaceName, protocol: str, value: int, family: int) -> Data:
    """What counts an interface in a protocol set to a value."""
    change: Data = {"set": COST_SETTINGS[protocol], "at": str(interface), "to": value}
    if protocol == "ospf":
        routing = (device.routing, *device.vrfs.values())
        found = [
            ospf
            for instance in routing
            for ospf in (instance.ospf if instance else ())
            if any(one.name == interface.interface for area in ospf.areas for one in area.interfaces)
        ]
        if len(found) > 1:
            change["instance"] = next(ospf.name for ospf in found if ospf.family == family)
    elif protocol in ("isis", "rip"):
        change["protocol"] = protocol
    return change


def attribute_set(device: str, vrf: str, neighbor: str, word: str, value: int, now: int, prefix: Prefix) -> Data | None:
    """An attribute of what a session hears about a prefix set to a value; None where no policy sets it."""
    attribute = ATTRIBUTE_WORDS.get(word)
    if attribute is None:
        return None
    to = value - now if attribute == "prepend" else value
    on = {"on": "import"} if attribute in ("med", "prepend") else {}
    where = instance_target(f"{device} {neighbor}", vrf)
    return {"set": attribute, **where, "for": str(prefix), "to": to, **on}


def preference_set(device: str, vrf: str, of: str, value: int) -> Data:
    """The preference of a protocol's routes set to a value."""
    return {"set": "preference", **instance_target(device, vrf), "of": of, "to": value}


def switched(what: str, at: str, is_on: bool, vrf: str = DEFAULT_INSTANCE) -> Offer:
    """What is on off, or the other way round."""
    return Offer("off" if is_on else "on", {"disable" if is_on else "enable": what, **instance_target(at, vrf)})


def taken_out(what: str, where: Data, index: int) -> Offer:
    """An entry of an index taken out of its list."""
    return Offer("take it out", {"remove": what, **where, "number": index + 1})


def in_list(what: str, where: Data, index: int) -> Iterator[Offer]:
    """An entry of an index taken out, and put before the one before it."""
    yield taken_out(what, where, index)
    if index:
        yield Offer("one up", {"move": what, **where, "number": index + 1, "before": index})
