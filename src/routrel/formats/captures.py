"""Capture folders: what a Linux router's own commands print, read as devices known by their tables.

docs/captures.md lists the files. What the model cannot represent becomes a gap of the device, with its
place; a file that is broken, or an address that cannot be, is an error of the load.
"""

import re
from collections import defaultdict
from collections.abc import Mapping
from dataclasses import dataclass, field
from datetime import datetime
from typing import Any

from routrel.formats.archives import FIRST_OF_CAPTURE
from routrel.formats.cabling import Cabling, Heard
from routrel.formats.errors import ErrorList, InputError, LoadError, quoted
from routrel.formats.json_items import json_items
from routrel.formats.nftables import read_filters
from routrel.formats.routing_rules import TABLES, default_rules, read_rules
from routrel.formats.scalars import printable, timestamp
from routrel.formats.shapes import (
    ADDRESS_KEYS,
    ADDRESS_SHAPE,
    FORWARDING_KEYS,
    FORWARDING_SHAPE,
    INFO_KEYS,
    LLDP_SHAPE,
    NEIGHBOR_KEYS,
    NEIGHBOR_SHAPE,
    ROUTE_SHAPE,
    RULE_SHAPE,
    is_shaped,
)
from routrel.model.addresses import Address, InterfaceAddress, Prefix
from routrel.model.devices import Device, Gap, Interface
from routrel.model.kernel_routing import KernelRoute, KernelRouting, RoutingRule, TableAction
from routrel.model.network import InterfaceName
from routrel.model.observed import ObservedNextHop, ObservedRoute
from routrel.model.places import Place
from routrel.model.routing import ROUTING_PROTOCOLS, RouteAction

CAPTURE_FILE = "capture.json"
ROUTE_ACTIONS: dict[str, RouteAction] = {
    "unicast": "forward",
    "local": "forward",
    "blackhole": "discard",
    "unreachable": "reject",
    "prohibit": "reject",
}
PASSED_OVER = ("broadcast", "anycast", "multicast")
ROUTE_KEYS = {
    *("dst", "gateway", "dev", "type", "protocol", "scope", "prefsrc", "metric", "flags", "table", "tos", "nexthops"),
    *("nhid", "pref", "weight", "src", "advmss", "mtu", "hoplimit", "initcwnd", "initrwnd", "rto_min", "expires"),
    *("cache", "metrics", "quickack", "window", "rtt", "rttvar", "ssthresh", "cwnd", "reordering", "error"),
}
"""Keys of a route that are read, or that decide nothing of where a packet goes."""

PLAIN_KINDS = ("veth", "dummy", "macvlan", "ipvlan", "ifb", "netkit")
"""Kinds of interfaces that send frames as a card does, or to nobody."""

ADMINISTRATOR = ("static", "boot")


@dataclass(slots=True)
class _Captured:
    """One device while it is put together."""

    name: str
    interfaces: dict[str, Interface] = field(default_factory=dict)
    observed: list[ObservedRoute] = field(default_factory=list)
    tables: dict[tuple[int, str], list[KernelRoute]] = field(default_factory=lambda: defaultdict(list))
    gaps: list[Gap] = field(default_factory=list)
    forwarding: set[str] | None = None
    """Interfaces that take packets for others, None where no file says so."""
    closed: set[tuple[int, str]] = field(default_factory=set)
    """(family, interface) by which no packets for others are taken."""
    ignoring: set[tuple[str, str]] = field(default_factory=set)
    """(family, interface) whose routes the kernel leaves aside while there is no carrier."""
    peers: dict[tuple[str, Address], Address | None] = field(default_factory=dict)
    """By interface and the address at its other end: its own address there."""


def read_about(files: Mapping[str, bytes], errors: ErrorList) -> tuple[str, datetime | None]:
    """A folder's name and time, as far as it says them."""
    name, taken_at = "", None
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
    return name, taken_at


def read_captured_device(folder: str, files: Mapping[str, bytes], cabling: Cabling, errors: ErrorList) -> Device:
    """A device by its sub-folder, its neighbours noted in ``cabling``; raises ``LoadError``."""
    try:
        device = _read_device(folder, files, errors, cabling.peers)
        _read_neighbors(device, files, errors, cabling)
        return device
    except (TypeError, ValueError, AttributeError, KeyError, IndexError) as error:
        place = Place(folder, 1, 1)
        raise LoadError([InputError(place, f"what was captured here cannot be read: {quoted(error)}")]) from None


def _read_neighbors(device: Device, files: Mapping[str, bytes], errors: ErrorList, cabling: Cabling) -> None:
    """Note a device's neighbours by LLDP."""
    for item, place in _items(files, f"{device.name}/lldp.json"):
        if not is_shaped(item, LLDP_SHAPE, place, errors):
            continue
        if not all(item.get(key) for key in LLDP_SHAPE):
            errors.add(place, "a neighbour without interface, device and remote_interface", found=quoted(item))
            continue
        near = InterfaceName(device.name, item["interface"])
        if near.interface not in device.interfaces:
            errors.dangling(place, "interface", near.interface, device.interfaces)
            continue
        far = InterfaceName(item["device"], item["remote_interface"])
        cabling.heard.append(Heard(near, far, place, is_exact=True))


def _items(files: Mapping[str, bytes], file: str, key: str | None = None) -> list[tuple[dict[str, Any], Place]]:
    return json_items(files[file], file, key) if file in files else []


def _read_device(
    folder: str, files: Mapping[str, bytes], errors: ErrorList, peers: dict[tuple[Address, Address], InterfaceName]
) -> Device:
    """One device; ``peers`` takes the interfaces with an address at their other end, by (own, other)."""
    for first in FIRST_OF_CAPTURE:
        if f"{folder}/{first}" not in files:
            errors.add(Place(f"{folder}/{first}", 1, 1), "this file is missing", allowed="addresses.json, routes.json")
    device = _Captured(folder)
    for item, place in _items(files, f"{folder}/addresses.json"):
        if is_shaped(item, ADDRESS_SHAPE, place, errors):
            _read_interface(device, item, place, errors)
    for item, place in _items(files, f"{folder}/netconf.json"):
        if is_shaped(item, FORWARDING_SHAPE, place, errors):
            _report_unread(device, item, FORWARDING_KEYS, "netconf", place, str(item.get("interface", "")))
            _read_forwarding(device, item, place)
    has_own_file = f"{folder}/routes6.json" in files
    for name in ("routes.json", "routes6.json"):
        for item, place in _items(files, f"{folder}/{name}"):
            if is_shaped(item, ROUTE_SHAPE, place, errors):
                family = 6 if name == "routes6.json" or _is_ipv6(item) else 4
                if name == "routes6.json" or family == 4 or not has_own_file:
                    _read_route(device, item, place, family, errors)
    rules: list[RoutingRule] = []
    for name, family in (("rules.json", 4), ("rules6.json", 6)):
        items = _items(files, f"{folder}/{name}")
        for item, place in items:
            is_shaped(item, RULE_SHAPE, place, errors)
        errors.raise_if_any()
        read, gaps = read_rules(items, family)
        rules += read or default_rules(family)
        device.gaps += gaps
    filters = read_filters(_items(files, f"{folder}/filters.json", "nftables"), errors)
    errors.raise_if_any()
    device.gaps += filters.gaps
    interfaces = device.interfaces
    neighbors = set()
    for item, place in _items(files, f"{folder}/neighbors.json"):
        _report_unread(device, item, NEIGHBOR_KEYS, "a neighbour", place, str(item.get("dev", "")))
        is_known = is_shaped(item, NEIGHBOR_SHAPE, place, errors) and "lladdr" in item
        if is_known and "FAILED" not in item.get("state", []):
            neighbors.add((str(item.get("dev")), _address(str(item.get("dst")))))
    for (name, peer), local in device.peers.items():
        if local is not None:
            peers[local, peer] = InterfaceName(folder, name)
    attached = [i for i in interfaces.values() if not i.is_loopback and i.addresses]
    return Device(
        name=folder,
        place=Place(f"{folder}/addresses.json", 1, 1),
        kind="host" if not _forwards(device, len(attached)) else "router",
        interfaces=interfaces,
        program=filters.program,
        kernel_routing=KernelRouting(
            tuple(rules), {key: tuple(found) for key, found in device.tables.items()}, frozenset(device.closed)
        ),
        observed=tuple(device.observed),
        neighbors=frozenset((name, address) for name, address in neighbors if address is not None),
        gaps=tuple(device.gaps),
    )


def _forwards(device: _Captured, attached: int) -> bool:
    """Whether the kernel forwards; where no file says so, it does if it has two interfaces to forward between."""
    return attached > 1 if device.forwarding is None else bool(device.forwarding)


def _read_forwarding(device: _Captured, item: dict[str, Any], place: Place) -> None:
    """One entry of ``ip -j netconf show``."""
    name = str(item.get("interface"))
    if item.get("rp_filter") == "strict" and name not in ("default", "lo"):
        at = "" if name == "all" else name
        text = f"rp_filter strict of {name}, which drops what does not come in by the way back, is not evaluated"
        device.gaps.append(Gap(f"{device.name}: {text}", place, at))
    if device.forwarding is None:
        device.forwarding = set()
    if item.get("forwarding") and name not in ("all", "default", "lo"):
        device.forwarding.add(name)
    family = {"inet": 4, "inet6": 6}.get(str(item.get("family")))
    if family is not None and item.get("forwarding") is False:
        device.closed.add((family, name))
    if item.get("ignore_routes_with_linkdown"):
        device.ignoring.add((str(item.get("family")), name))


def _is_ipv6(item: dict[str, Any]) -> bool:
    """Whether a route of ``ip route show table all``, which lists both families, is IPv6's."""
    hops = item.get("nexthops", [item])
    texts = [str(item.get("dst", "")), *(str(hop.get("gateway", "")) for hop in hops if isinstance(hop, dict))]
    return "pref" in item or any(":" in text for text in texts)


def _report_unread(device: _Captured, item: dict[str, Any], known: set[str], what: str, place: Place, at: str) -> None:
    """Say what an entry holds that is neither read nor known to decide nothing."""
    for key in sorted(set(item) - known):
        device.gaps.append(Gap(f"{device.name}: {key!r} of {what} is not represented", place, at))


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
    _report_unread(device, item, ADDRESS_KEYS, name, place, name)
    addresses = []
    for info in item.get("addr_info", []):
        _report_unread(device, info, INFO_KEYS, f"an address of {name}", place, name)
        peer = _address(str(info["address"])) if "address" in info else None
        if peer is not None:
            device.peers[name, peer] = _address(str(info.get("local")))
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
    elif kind is not None and kind not in PLAIN_KINDS:
        what = f"is a {kind} interface: how its packets are carried is not represented"
        device.gaps.append(Gap(f"{device.name}:{name} {what}", place, name))
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
    action: TableAction | None = "throw" if kind == "throw" else ROUTE_ACTIONS.get(kind)
    if action is None or "encap" in item or "via" in item:
        what = f"of type {kind}" if action is None else "with an encapsulation or a next hop of another family"
        device.gaps.append(Gap(f"{device.name}: a route for {prefix} {what} is not represented", place))
        return
    hops = []
    for hop in item.get("nexthops", [item]):
        if "dead" in hop.get("flags", []) or ("linkdown" in hop.get("flags", []) and _is_ignored(device, hop, family)):
            continue
        if "via" in hop or "encap" in hop:
            device.gaps.append(Gap(f"{device.name}: a next hop for {prefix} is not represented", place))
            continue
        gateway = _address(str(hop["gateway"])) if "gateway" in hop else None
        if hop.get("dev") in device.interfaces:
            hops.append(ObservedNextHop(gateway, hop["dev"]))
        elif "nhid" in item and "dev" not in hop:
            what = f"a route for {prefix} by next hop {item['nhid']}, which is not listed with it, is not represented"
            device.gaps.append(Gap(f"{device.name}: {what}", place))
        elif action == "forward":
            errors.add(
                place, "a route leads out of an interface that is not in addresses.json", found=quoted(hop.get("dev"))
            )
    if action == "forward" and not hops:
        return
    _report_unread(device, item, ROUTE_KEYS, f"the route for {prefix}", place, "")
    table = str(item.get("table", "main"))
    table = TABLES.get(table, table)
    observed = ObservedRoute(
        prefix,
        _protocol(item, kind, device, prefix),
        tuple(hops) if action == "forward" else (),
        None,
        item.get("metric"),
        "forward" if action == "throw" else action,
        place,
    )
    tos = int(str(item.get("tos", 0)), 0)
    if table in ("main", "default", "local") and action != "throw" and not tos:
        device.observed.append(observed)
    if table != "local":
        source = _address(str(item["prefsrc"])) if "prefsrc" in item else None
        device.tables[family, table].append(KernelRoute(observed, action, tos, source))


def _is_ignored(device: _Captured, hop: dict[str, Any], family: int) -> bool:
    """Whether the kernel leaves a next hop aside while its interface has no carrier."""
    name = "inet" if family == 4 else "inet6"
    return bool({(name, "all"), (name, str(hop.get("dev")))} & device.ignoring)


def _protocol(item: dict[str, Any], kind: str, device: _Captured, prefix: Prefix) -> str:
    protocol = item.get("protocol", "boot")
    if protocol == "kernel":
        # A host-length address, a loopback's, has no subnet: it is the connected route itself.
        whole = {a.prefix for interface in device.interfaces.values() for a in interface.addresses}
        return "local" if kind == "local" and prefix not in whole else "connected"
    if protocol in ADMINISTRATOR:
        return "static"
    return protocol if protocol in ROUTING_PROTOCOLS else "observed"


def _prefix(text: Any, family: int) -> Prefix | None:
    if text == "default":
        return Prefix(family, 0, 0)
    try:
        return Prefix.parse(text) if "/" in str(text) else Address.parse(str(text)).host_prefix()
    except ValueError:
        return None
