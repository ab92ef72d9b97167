"""Policy routing rules of a Linux router (``ip -j rule show``) as steering entries per interface.

A rule that names a table becomes one entry per route of that table, longest first; the rules of the
kernel's own tables stand for "the table decides". These rules are IPv4's.
"""

from collections import defaultdict
from collections.abc import Mapping, Sequence
from typing import Any, NamedTuple

from routrel.model.addresses import Address, Prefix
from routrel.model.devices import Gap
from routrel.model.filters import OSPF, PROTOCOL_NUMBERS, HeaderMatch, PortRange, SteeringEntry
from routrel.model.places import Place
from routrel.model.routing import RouteAction

OWN_TABLES = ("local", "main", "default", "255", "254", "253")
UNSUPPORTED = (
    "oif",
    "fwmark",
    "tos",
    "not",
    "uid_start",
    "goto",
    "suppress_prefixlength",
    "suppress_ifgroup",
    "l3mdev",
)
ALL_IPV4 = Prefix(4, 0, 0)


class TableRoute(NamedTuple):
    """A route of a table that rules point to; a None among the next hops is a connected one."""

    prefix: Prefix
    action: RouteAction
    next_hops: tuple[Address | None, ...]
    metric: int
    place: Place


def read_rules(
    items: Sequence[tuple[dict[str, Any], Place]], tables: Mapping[str, list[TableRoute]], interfaces: Sequence[str]
) -> tuple[dict[str, list[SteeringEntry]], list[Gap]]:
    """Steering entries by incoming interface, and what could not be represented."""
    entries: dict[str, list[SteeringEntry]] = defaultdict(list)
    gaps: list[Gap] = []
    for item, place in sorted(items, key=lambda pair: pair[0].get("priority", 0)):
        table, action = item.get("table"), item.get("action")
        plain = not (set(item) - {"priority", "src", "table", "protocol"}) and item.get("src", "all") == "all"
        if plain and table in OWN_TABLES:
            continue
        shown = f"rule {item.get('priority', 0)}"
        unsupported = [key for key in UNSUPPORTED if key in item]
        match = _match(item)
        if unsupported or match is None:
            gaps.append(Gap(f"{shown} is not represented: {', '.join(unsupported) or 'its match'}", place, _iif(item)))
            continue
        if "iif" not in item:
            gaps.append(Gap(f"{shown} also steers packets of the device itself; that is not represented", place))
        made = _entries(table, action, match, tables, shown, place, gaps, _iif(item))
        for interface in [item["iif"]] if "iif" in item else interfaces:
            entries[interface] += made
    return {name: made for name, made in entries.items() if made}, gaps


def _iif(item: dict[str, Any]) -> str:
    return str(item.get("iif", ""))


def _entries(
    table: str | None,
    action: str | None,
    match: HeaderMatch,
    tables: Mapping[str, list[TableRoute]],
    shown: str,
    place: Place,
    gaps: list[Gap],
    interface: str,
) -> list[SteeringEntry]:
    if action in ("blackhole", "unreachable", "prohibit"):
        return [SteeringEntry("discard", match, description=shown, place=place)]
    if table in OWN_TABLES:
        return [SteeringEntry("table", match, description=shown, place=place)]
    made = []
    best: dict[Prefix, TableRoute] = {}
    for route in sorted(tables.get(str(table), ()), key=lambda route: route.metric):
        best.setdefault(route.prefix, route)
    assert match.destination is not None
    for prefix in sorted(best, key=lambda prefix: -prefix.length):
        route = best[prefix]
        if not prefix.overlaps(match.destination):
            continue
        narrowed = HeaderMatch(
            match.protocol,
            match.source,
            prefix if match.destination.covers(prefix) else match.destination,
            match.source_ports,
            match.destination_ports,
        )
        if route.action != "forward":
            made.append(SteeringEntry("discard", narrowed, description=shown, place=place))
            continue
        gateways = tuple(hop for hop in route.next_hops if hop is not None)
        if len(gateways) != 1:
            gaps.append(Gap(f"{shown}: the route for {prefix} has no single gateway", route.place, interface))
        if gateways:
            made.append(SteeringEntry("forward", narrowed, gateways[:1], shown, place))
    return made


def _match(item: dict[str, Any]) -> HeaderMatch | None:
    try:
        protocol = _protocol(item["ipproto"]) if "ipproto" in item else None
        return HeaderMatch(
            protocol,
            _prefix(item, "src"),
            _prefix(item, "dst") or ALL_IPV4,
            _ports(item, "sport"),
            _ports(item, "dport"),
        )
    except (ValueError, TypeError):
        return None


def _protocol(value: str | int) -> int:
    names = {**PROTOCOL_NUMBERS, "ospf": OSPF, "ipv6-icmp": PROTOCOL_NUMBERS["icmpv6"]}
    return names[value] if isinstance(value, str) and value in names else int(value)


def _prefix(item: dict[str, Any], key: str) -> Prefix | None:
    text = item.get(key, "all")
    if text == "all":
        return None
    length = item.get(f"{key}len", 32)
    return Prefix.of(4, Address.parse(str(text)).value, int(length))


def _ports(item: dict[str, Any], key: str) -> tuple[PortRange, ...]:
    if f"{key}_start" in item:
        return (PortRange(int(item[f"{key}_start"]), int(item[f"{key}_end"])),)
    return (PortRange(int(item[key]), int(item[key])),) if key in item else ()
