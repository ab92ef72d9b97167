"""Capture folders: what a Linux router's own commands print, read as devices known by their tables.

docs/captures.md lists the files. What the model cannot represent becomes a gap of the device, with its
place; a file that is broken, or an address that cannot be, is an error of the load.
"""

import re
from collections import defaultdict
from collections.abc import Mapping
from dataclasses import dataclass, field, replace
from typing import Any

from routrel.collecting import collecting_later
from routrel.formats.errors import ErrorList, LoadError, quoted
from routrel.formats.grammar import NAME, printable, timestamp
from routrel.formats.json_items import json_items
from routrel.formats.network_file import read_names
from routrel.formats.nftables import read_filters
from routrel.formats.policy_rules import TableRoute, read_rules
from routrel.formats.shapes import ADDRESS_SHAPE, LLDP_SHAPE, NEIGHBOR_SHAPE, ROUTE_SHAPE, RULE_SHAPE, is_shaped
from routrel.model.addresses import Address, InterfaceAddress, Prefix
from routrel.model.devices import Device, Gap, Interface, ObservedNextHop, ObservedRoute
from routrel.model.filters import ForwardingPolicy
from routrel.model.network import InterfaceName, Link, Network
from routrel.model.places import Place
from routrel.model.routing import RouteAction

CAPTURE_FILE = "capture.json"
NAMES_FILE = "names.yaml"
ROUTE_ACTIONS: dict[str, RouteAction] = {
    "unicast": "forward",
    "local": "forward",
    "blackhole": "discard",
    "unreachable": "reject",
    "prohibit": "reject",
}
PASSED_OVER = ("broadcast", "anycast", "multicast")
NAMED_PROTOCOLS = ("ospf", "isis", "rip", "eigrp", "bgp")
ADMINISTRATOR = ("static", "boot")
FIRST_FILES = ("addresses.json", "routes.json")


def is_capture(files: Mapping[str, bytes]) -> bool:
    """Whether named texts are a capture folder's: some sub-folder holds what a capture starts with."""
    return any(re.fullmatch(r"[^/]+/(addresses|routes)\.json", name) for name in files)


@dataclass(slots=True)
class _Captured:
    """One device while it is put together."""

    name: str
    interfaces: dict[str, Interface] = field(default_factory=dict)
    observed: list[ObservedRoute] = field(default_factory=list)
    tables: dict[str, list[TableRoute]] = field(default_factory=lambda: defaultdict(list))
    gaps: list[Gap] = field(default_factory=list)


@collecting_later()
def read_capture(files: Mapping[str, bytes]) -> Network:
    """The network of a capture folder; raises ``LoadError`` with every error found."""
    errors = ErrorList()
    name, taken_at = "capture", None
    if CAPTURE_FILE in files:
        try:
            wrapped = b'{"items":[' + files[CAPTURE_FILE] + b"]}"
            (about, _), *_ = json_items(wrapped, CAPTURE_FILE, "items")
            name = printable(str(about.get("name", name)))
            taken_at = timestamp(str(about["taken_at"])) if "taken_at" in about else None
        except LoadError as error:
            errors.errors.extend(error.errors)
        except ValueError as error:
            errors.add(Place(CAPTURE_FILE, 1, 1), f"this is not a JSON object with name and taken_at: {error}")
    folders = sorted({file.split("/")[0] for file in files if "/" in file})
    devices: dict[str, Device] = {}
    ends: dict[InterfaceName, set[InterfaceName]] = defaultdict(set)
    for folder in folders:
        if not re.fullmatch(NAME, folder):
            errors.add(Place(folder, 1, 1), "the folder's name is no device name", found=quoted(folder), allowed=NAME)
            continue
        try:
            devices[folder] = _read_device(folder, files, errors)
            for item, place in _items(files, f"{folder}/lldp.json"):
                if not is_shaped(item, LLDP_SHAPE, place, errors):
                    continue
                if not all(item.get(key) for key in LLDP_SHAPE):
                    errors.add(place, "a neighbour without interface, device and remote_interface", found=quoted(item))
                    continue
                near = InterfaceName(folder, item["interface"])
                far = InterfaceName(item["device"], item["remote_interface"])
                if near.interface not in devices[folder].interfaces:
                    errors.dangling(place, "interface", near.interface, devices[folder].interfaces)
                    continue
                ends[near].add(far)
                if far.device not in folders:
                    devices[folder] = _with_gap(
                        devices[folder], f"{near} is cabled to {far}, which was not captured", place, near.interface
                    )
        except LoadError as error:
            errors.errors.extend(one for one in error.errors if one not in errors.errors)
        except (TypeError, ValueError, AttributeError, KeyError, IndexError) as error:
            errors.add(Place(folder, 1, 1), f"what was captured here cannot be read: {quoted(error)}")
    names = read_names(files[NAMES_FILE], NAMES_FILE, errors) if NAMES_FILE in files else None
    errors.raise_if_any()
    return Network(
        name=name,
        taken_at=taken_at,
        devices=devices,
        links=_links(ends, devices),
        endpoints={n: e for n, e in names.endpoints.items() if n not in devices} if names else {},
        services=names.services if names else {},
    )


def _with_gap(device: Device, message: str, place: Place, affects: str) -> Device:
    return replace(device, gaps=(*device.gaps, Gap(message, place, affects)))


def _items(files: Mapping[str, bytes], file: str, key: str | None = None) -> list[tuple[dict[str, Any], Place]]:
    return json_items(files[file], file, key) if file in files else []


def _links(ends: dict[InterfaceName, set[InterfaceName]], devices: dict[str, Device]) -> tuple[Link, ...]:
    """Cables from what neighbours said of each other; ends heard together share one segment."""
    group: dict[InterfaceName, set[InterfaceName]] = {}
    for near, others in sorted(ends.items()):
        for end in (near, *sorted(others)):
            if end.device in devices and end.interface in devices[end.device].interfaces:
                mine, its = group.setdefault(near, {near}), group.setdefault(end, {end})
                if mine is not its:
                    mine |= its
                    for member in its:
                        group[member] = mine
    unique = {id(members): members for members in group.values() if len(members) > 1}
    return tuple(Link(tuple(sorted(members))) for members in sorted(unique.values(), key=min))


def _read_device(folder: str, files: Mapping[str, bytes], errors: ErrorList) -> Device:
    for first in FIRST_FILES:
        if f"{folder}/{first}" not in files:
            errors.add(Place(f"{folder}/{first}", 1, 1), "this file is missing", allowed="addresses.json, routes.json")
    device = _Captured(folder)
    for item, place in _items(files, f"{folder}/addresses.json"):
        if is_shaped(item, ADDRESS_SHAPE, place, errors):
            _read_interface(device, item, place, errors)
    for name, family in (("routes.json", 4), ("routes6.json", 6)):
        for item, place in _items(files, f"{folder}/{name}"):
            if is_shaped(item, ROUTE_SHAPE, place, errors):
                _read_route(device, item, place, family, errors)
    rules = _items(files, f"{folder}/rules.json")
    for item, place in rules:
        is_shaped(item, RULE_SHAPE, place, errors)
    errors.raise_if_any()
    entries, gaps = read_rules(rules, device.tables, list(device.interfaces))
    device.gaps += gaps
    policies = {f"rules-{name}": ForwardingPolicy(f"rules-{name}", tuple(rules)) for name, rules in entries.items()}
    filters = read_filters(_items(files, f"{folder}/filters.json", "nftables"), errors)
    errors.raise_if_any()
    device.gaps += filters.gaps
    interfaces = {
        name: replace(
            interface,
            forwarding_policy=f"rules-{name}" if name in entries else None,
        )
        for name, interface in device.interfaces.items()
    }
    neighbors = set()
    for item, place in _items(files, f"{folder}/neighbors.json"):
        is_known = is_shaped(item, NEIGHBOR_SHAPE, place, errors) and "lladdr" in item
        if is_known and "FAILED" not in item.get("state", []):
            neighbors.add((str(item.get("dev")), _address(str(item.get("dst")))))
    attached = [i for i in interfaces.values() if not i.is_loopback and i.addresses]
    return Device(
        name=folder,
        place=Place(f"{folder}/addresses.json", 1, 1),
        # No file says whether the kernel forwards; with one interface it has nowhere to forward to.
        kind="host" if len(attached) <= 1 else "router",
        interfaces=interfaces,
        program=filters.program,
        forwarding_policies=policies,
        observed=tuple(device.observed),
        neighbors=frozenset((name, address) for name, address in neighbors if address is not None),
        gaps=tuple(device.gaps),
    )


def _address(text: str) -> Address | None:
    try:
        return Address.parse(text.split("%")[0])
    except ValueError:
        return None


def _read_interface(device: _Captured, item: dict[str, Any], place: Place, errors: ErrorList) -> None:
    name = item.get("ifname")
    if not isinstance(name, str) or not name:
        errors.add(place, "an interface without 'ifname'")
        return
    flags = item.get("flags", [])
    addresses = []
    for info in item.get("addr_info", []):
        try:
            address = InterfaceAddress.parse(f"{info['local']}/{info['prefixlen']}")
        except (KeyError, ValueError, TypeError):
            errors.add(place, f"an address of {name} cannot be read", found=quoted(info), allowed="local and prefixlen")
            continue
        if info.get("scope") != "host":
            addresses.append(address)
    parent, vlan = None, None
    kind = item.get("linkinfo", {}).get("info_kind")
    if kind == "vlan":
        parent, vlan = item.get("link"), item.get("linkinfo", {}).get("info_data", {}).get("id")
    elif kind in ("bridge", "vrf", "bond") or "master" in item:
        what = f"is a {kind}" if kind in ("bridge", "vrf", "bond") else f"belongs to {item.get('master')}"
        device.gaps.append(Gap(f"{device.name}:{name} {what}, which captures do not represent yet", place, name))
    loopback = "LOOPBACK" in flags
    mac = item.get("address") if item.get("link_type") == "ether" else None
    if mac is not None and not re.fullmatch(r"[0-9a-fA-F]{2}(:[0-9a-fA-F]{2}){5}", mac):
        errors.add(place, f"the hardware address of {name} cannot be read", found=quoted(mac), allowed="a MAC address")
        return
    device.interfaces[name] = Interface(
        name=name,
        place=place,
        enabled="UP" in flags and ("LOWER_UP" in flags or loopback),
        addresses=tuple(addresses),
        address_places=(place,) * len(addresses),
        mtu=int(item.get("mtu", 1500)),
        mac=mac,
        kind="loopback" if loopback else ("vlan" if vlan is not None else "ethernet"),
        parent=parent,
        vlan=vlan,
    )


def _read_route(device: _Captured, item: dict[str, Any], place: Place, family: int, errors: ErrorList) -> None:
    kind = item.get("type", "unicast")
    if kind in PASSED_OVER:
        return
    prefix = _prefix(item.get("dst"), family)
    if prefix is None:
        errors.add(place, "the destination of a route cannot be read", found=quoted(item.get("dst")))
        return
    if (prefix.family == 4 and prefix.network >> 24 == 127) or prefix == Prefix(6, 1, 128):
        return  # the host's own loopback
    if prefix.family == 6 and prefix.network >> 120 == 0xFF:
        return  # multicast, which has no tables here
    action = ROUTE_ACTIONS.get(kind)
    if action is None or "encap" in item or "via" in item:
        what = f"of type {kind}" if action is None else "with an encapsulation or a next hop of another family"
        device.gaps.append(Gap(f"{device.name}: a route for {prefix} {what} is not represented", place))
        return
    hops = []
    for hop in item.get("nexthops", [item]):
        if "dead" in hop.get("flags", []) or "linkdown" in hop.get("flags", []):
            continue
        if "via" in hop or "encap" in hop:
            device.gaps.append(Gap(f"{device.name}: a next hop for {prefix} is not represented", place))
            continue
        gateway = _address(str(hop["gateway"])) if "gateway" in hop else None
        if hop.get("dev") in device.interfaces:
            hops.append(ObservedNextHop(gateway, hop["dev"]))
        elif action == "forward":
            errors.add(
                place, "a route leads out of an interface that is not in addresses.json", found=quoted(hop.get("dev"))
            )
    if action == "forward" and not hops:
        return
    table = str(item.get("table", "main"))
    if table in ("main", "default", "local", "254", "255"):
        device.observed.append(
            ObservedRoute(
                prefix,
                _protocol(item, kind, device, prefix),
                tuple(hops) if action == "forward" else (),
                None,
                item.get("metric"),
                action,
                place,
            )
        )
    else:
        device.tables[table].append(
            TableRoute(prefix, action, tuple(hop.address for hop in hops), int(item.get("metric", 0)), place)
        )


def _protocol(item: dict[str, Any], kind: str, device: _Captured, prefix: Prefix) -> str:
    protocol = item.get("protocol", "boot")
    if protocol == "kernel":
        # A host-length address, a loopback's, has no subnet: it is the connected route itself.
        whole = {a.prefix for interface in device.interfaces.values() for a in interface.addresses}
        return "local" if kind == "local" and prefix not in whole else "connected"
    if protocol in ADMINISTRATOR:
        return "static"
    return protocol if protocol in NAMED_PROTOCOLS else "observed"


def _prefix(text: Any, family: int) -> Prefix | None:
    if text == "default":
        return Prefix(family, 0, 0)
    try:
        return Prefix.parse(text) if "/" in str(text) else Address.parse(str(text)).host_prefix()
    except ValueError:
        return None
