"""Where the lists stand that changes add to and take from, and which of their entries a change means."""

from collections.abc import Mapping, Sequence
from typing import Any

from routrel.formats.changes.finding import ChangeError, area_key, no_such, ospf_paths, routing_path
from routrel.formats.changes.text_edits import Path, at_path, written
from routrel.formats.errors import quoted
from routrel.model.changes import Change
from routrel.model.devices import Device
from routrel.model.routing import DEFAULT_INSTANCE, ROUTING_PROTOCOLS


def list_path(change: Change, device: Device, data: Any) -> tuple[Path, str]:
    """Where a list stands, and what it is called."""
    name, values, what = device.name, change.values, change.what
    if what in ("acl_entry", "statement", "steering_entry"):
        key = values["acl" if what == "acl_entry" else "policy"]
        part, kind = {
            "acl_entry": ("acls", "ACL"),
            "statement": ("policies", "policy"),
            "steering_entry": ("forwarding_policies", "forwarding policy"),
        }[what]
        known = at_path(data, (part,)) or {}
        if key not in known and change.verb != "add":
            raise no_such(f"{kind} on {name}", key, known)
        return (part, key), f"{kind} {key} of {name}"
    vrf = values.get("vrf", DEFAULT_INSTANCE)
    routing = routing_path(device, vrf)
    where = name if vrf == DEFAULT_INSTANCE else f"{name}, {vrf}"
    if what == "static":
        return (*routing, "static"), f"the static routes of {where}"
    if what == "range":
        found = ospf_paths(data, routing, values.get("instance"))
        if len(found) != 1:
            count = "several OSPF instances" if found else "no OSPF"
            raise ChangeError(f"{where} has {count}", "", "instance: its name" if found else "")
        area = area_key(data, found[0], values["area"])
        if at_path(data, (*found[0], "areas", area)) is None:
            raise no_such(f"area on {name}", area, at_path(data, (*found[0], "areas")) or ())
        return (*found[0], "areas", area, "ranges"), f"the ranges of area {area} of {where}"
    if what == "redistribution":
        into = values["into"]
        protocols = [one for one in ROUTING_PROTOCOLS if at_path(data, (*routing, one))]
        if into not in protocols:
            raise no_such(f"protocol on {where}", into, protocols)
        path = (*routing, into)
        if into == "ospf":
            found = ospf_paths(data, routing, values.get("instance"))
            if len(found) != 1:
                raise ChangeError(f"{where} has several OSPF instances", "", "instance: its name")
            path = found[0]
        return (*path, "redistribute"), f"what {where} redistributes into {into}"
    if at_path(data, (*routing, "bgp")) is None:
        raise ChangeError(f"{where} does not speak BGP")
    if what == "aggregate":
        return (*routing, "bgp", "aggregates"), f"the BGP aggregates of {where}"
    return (*routing, "bgp", "networks"), f"the BGP networks of {where}"


def entry_number(values: Mapping[str, Any], items: Sequence[Any], label: str) -> int:
    """The index of the entry that a change means, by what it was or by its number from 1."""
    number, was = values.get("number"), values.get("was")
    if was is None and number is None:
        raise ChangeError(
            "it is not said which entry is meant", "", "number: from 1, or was: the entry as it is written"
        )
    if was is None:
        if not isinstance(number, int) or isinstance(number, bool) or not 0 < number <= len(items):
            raise ChangeError(f"no entry of this number is in {label}", quoted(number), _numbers(items))
        return number - 1
    if isinstance(number, int) and 0 < number <= len(items) and items[number - 1] == was:
        return number - 1
    return _the_one(was, items, label, "no such entry")


def before_number(values: Mapping[str, Any], items: Sequence[Any], label: str) -> int | None:
    """The index that an entry goes before; None where it goes to the end."""
    before = values.get("before")
    if before is None:
        return None
    if isinstance(before, int) and not isinstance(before, bool):
        if not 0 < before <= len(items) + 1:
            raise ChangeError(f"no entry of this number is in {label}", quoted(before), _numbers(items))
        return before - 1
    return _the_one(before, items, label, "no such entry to stand before")


def _the_one(entry: Any, items: Sequence[Any], label: str, none: str) -> int:
    """The index of the one entry that is the same."""
    found = [index for index, item in enumerate(items) if item == entry]
    if len(found) != 1:
        message = f"{none} is in {label}" if not found else f"this entry is {len(found)} times in {label}"
        raise ChangeError(message, written(entry), _numbers(items))
    return found[0]


def _numbers(items: Sequence[Any]) -> str:
    return f"1 to {len(items)}" if items else "the list is empty"
