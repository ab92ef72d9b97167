"""What the values of a command's JSON output must be, key by key; keys that are not named are left alone."""

from collections.abc import Mapping
from typing import Any

from routrel.formats.errors import ErrorList, quoted
from routrel.model.places import Place

Shape = Mapping[str, object]
"""A type, ``[type]`` for a list of such, ``(type, type)`` for either, or a shape for an object inside."""

ADDRESS_SHAPE: Shape = {
    "ifname": str,
    "flags": [str],
    "mtu": int,
    "link_type": str,
    "address": str,
    "link": str,
    "master": str,
    "addr_info": [{"local": str, "prefixlen": int, "scope": str}],
    "linkinfo": {"info_kind": str, "info_data": {"id": int}},
}
_HOP: dict[str, object] = {"gateway": str, "dev": str, "flags": [str], "weight": int}
ROUTE_SHAPE: Shape = {
    **_HOP,
    "dst": str,
    "type": str,
    "protocol": str,
    "metric": int,
    "table": (str, int),
    "tos": (str, int),
    "prefsrc": str,
    "nexthops": [_HOP],
}
RULE_SHAPE: Shape = {
    "priority": int,
    "src": str,
    "srclen": int,
    "dst": str,
    "dstlen": int,
    "iif": str,
    "oif": str,
    "table": (str, int),
    "action": str,
    "ipproto": (str, int),
    "protocol": (str, int),
    "fwmark": (str, int),
    "fwmask": (str, int),
    "tos": (str, int),
    "goto": int,
    "suppress_prefixlen": int,
    "uid_start": int,
    "uid_end": int,
    "sport": int,
    "sport_start": int,
    "sport_end": int,
    "dport": int,
    "dport_start": int,
    "dport_end": int,
}
FORWARDING_SHAPE: Shape = {
    "family": str,
    "interface": str,
    "forwarding": bool,
    "ignore_routes_with_linkdown": bool,
}
NEIGHBOR_SHAPE: Shape = {"dst": str, "dev": str, "lladdr": str, "state": [str]}
LLDP_SHAPE: Shape = {"interface": str, "device": str, "remote_interface": str}
WORDS: dict[object, str] = {str: "text", int: "a number", bool: "true or false"}
NUMBERS = {"mtu": (0, 2**32 - 1), "metric": (0, 2**32 - 1), "priority": (0, 2**32 - 1), "prefixlen": (0, 128)}
"""The ranges of numbers, where they are not those of ports."""


def is_shaped(item: Mapping[str, Any], shape: Shape, place: Place, errors: ErrorList) -> bool:
    """Whether an entry is as the command prints it; what is not is an error with its place."""
    before = len(errors.errors)
    for key, wanted in shape.items():
        if key in item:
            _check(key, item[key], wanted, place, errors)
    return len(errors.errors) == before


def _check(key: str, value: Any, wanted: object, place: Place, errors: ErrorList) -> None:
    if isinstance(wanted, dict):
        if isinstance(value, dict):
            is_shaped(value, wanted, place, errors)
        else:
            errors.add(place, f"{key!r} is not what the command prints", found=quoted(value), allowed="an object")
    elif isinstance(wanted, list):
        if not isinstance(value, list):
            errors.add(place, f"{key!r} is not what the command prints", found=quoted(value), allowed="a list")
            return
        for one in value:
            _check(key, one, wanted[0], place, errors)
    else:
        kinds = wanted if isinstance(wanted, tuple) else (wanted,)
        if not isinstance(value, kinds) or isinstance(value, bool) != (kinds == (bool,)):
            allowed = " or ".join(WORDS[kind] for kind in kinds)
            errors.add(place, f"{key!r} is not what the command prints", found=quoted(value), allowed=allowed)
        elif isinstance(value, int) and key in NUMBERS and not NUMBERS[key][0] <= value <= NUMBERS[key][1]:
            allowed = f"{NUMBERS[key][0]} to {NUMBERS[key][1]}"
            errors.add(place, f"{key!r} is out of range", found=str(value), allowed=allowed)


ADDRESS_KEYS = {
    *("ifindex", "link", "link_index", "link_netnsid", "ifname", "flags", "mtu", "qdisc", "operstate", "linkmode"),
    *("group", "txqlen", "link_type", "address", "broadcast", "permaddr", "promiscuity", "allmulti", "min_mtu"),
    *("max_mtu", "linkinfo", "inet6_addr_gen_mode", "num_tx_queues", "num_rx_queues", "gso_max_size"),
    *("gso_max_segs", "tso_max_size", "tso_max_segs", "gro_max_size", "gso_ipv4_max_size", "gro_ipv4_max_size"),
    *("addr_info", "master", "altnames", "ifalias", "parentbus", "parentdev", "phys_port_id", "phys_port_name"),
    *("phys_switch_id", "stats", "stats64", "vfinfo_list", "vlan_flags", "devlink_port", "max_pacing_offload_horizon"),
}
INFO_KEYS = {
    *("family", "local", "address", "prefixlen", "broadcast", "anycast", "scope", "label", "metric", "protocol"),
    *("dynamic", "noprefixroute", "secondary", "temporary", "deprecated", "tentative", "dadfailed", "nodad", "home"),
    *("mngtmpaddr", "optimistic", "autojoin", "stable-privacy", "valid_life_time", "preferred_life_time"),
}
NEIGHBOR_KEYS = {
    *("dst", "dev", "lladdr", "state", "router", "proxy", "used", "refcnt", "probes", "protocol"),
    "extern_learn",
}
FORWARDING_KEYS = {
    *("family", "interface", "forwarding", "rp_filter", "mc_forwarding", "proxy_neigh", "input"),
    *("ignore_routes_with_linkdown", "bc_forwarding"),
}
"""Keys that are read, or that decide nothing of where a packet goes; any other is reported."""
