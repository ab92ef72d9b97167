"""Routing rules of a Linux router (``ip -j rule show``, ``ip -j -6 rule show``)."""

from collections.abc import Sequence
from typing import Any

from routrel.formats.nftables_values import PROTOCOLS
from routrel.model.addresses import BITS, Address, Prefix
from routrel.model.devices import Gap
from routrel.model.filters import PortRange
from routrel.model.kernel_routing import LOCAL, RoutingRule, RuleAction
from routrel.model.places import Place

KEYS = {
    *("priority", "src", "srclen", "dst", "dstlen", "not", "iif", "oif", "fwmark", "fwmask", "tos", "ipproto"),
    *("sport", "sport_start", "sport_end", "dport", "dport_start", "dport_end", "uid_start", "uid_end", "table"),
    *("suppress_prefixlen", "goto", "nop", "action", "protocol", "unresolved"),
}
"""Keys that are read; any other is said to be not represented."""

HARMLESS = {"iif_detached", "oif_detached"}
TABLES = {"255": "local", "254": "main", "253": "default"}
DEFAULTS = {4: ((0, "local"), (32766, "main"), (32767, "default")), 6: ((0, "local"), (32766, "main"))}


def default_rules(family: int) -> tuple[RoutingRule, ...]:
    """What a kernel has where nobody said anything."""
    return tuple(
        RoutingRule(priority, family, table=table, text=f"from all lookup {table}")
        for priority, table in DEFAULTS[family]
    )


def read_rules(items: Sequence[tuple[dict[str, Any], Place]], family: int) -> tuple[tuple[RoutingRule, ...], list[Gap]]:
    """The rules of a family by priority, and what of them is not represented."""
    rules: list[RoutingRule] = []
    gaps: list[Gap] = []
    for item, place in items:
        name = f"routing rule {item.get('priority', 0)}"
        unread = sorted(set(item) - KEYS - HARMLESS)
        if unread:
            gaps.append(Gap(f"{name} is not represented: {', '.join(unread)}", place, str(item.get("iif", ""))))
            continue
        try:
            rules.append(_rule(item, family, place))
        except (ValueError, TypeError) as error:
            gaps.append(Gap(f"{name} is not represented: {error}", place, str(item.get("iif", ""))))
    rules.sort(key=lambda rule: rule.priority)
    if rules and rules[0].table != LOCAL:
        gaps.append(
            Gap("routing rules that stand before the table of own addresses are asked after it", rules[0].place)
        )
    return tuple(rules), gaps


def _rule(item: dict[str, Any], family: int, place: Place) -> RoutingRule:
    action: RuleAction = "table"
    if "goto" in item:
        action = "goto"
    elif "nop" in item:
        action = "nop"
    elif "action" in item:
        if item["action"] not in ("blackhole", "prohibit", "unreachable"):
            raise ValueError(f"the action {item['action']!r}")
        action = item["action"]
    table = str(item.get("table", "main"))
    mark = None
    if "fwmark" in item:
        mark = _number(item["fwmark"]), _number(item.get("fwmask", 0xFFFFFFFF))
    return RoutingRule(
        int(item.get("priority", 0)),
        family,
        action,
        TABLES.get(table, table),
        int(item["goto"]) if "goto" in item else None,
        "not" in item,
        _prefix(item, "src", family),
        _prefix(item, "dst", family),
        _name(item, "iif"),
        _name(item, "oif"),
        mark,
        _number(item["tos"]) if "tos" in item else None,
        _protocol(item["ipproto"]) if "ipproto" in item else None,
        _ports(item, "sport"),
        _ports(item, "dport"),
        (int(item["uid_start"]), int(item.get("uid_end", item["uid_start"]))) if "uid_start" in item else None,
        int(item["suppress_prefixlen"]) if "suppress_prefixlen" in item else None,
        _text(item, table),
        place,
    )


def _number(value: Any) -> int:
    return int(value, 0) if isinstance(value, str) else int(value)


def _name(item: dict[str, Any], key: str) -> str | None:
    return str(item[key]) if key in item else None


def _protocol(value: Any) -> int:
    return PROTOCOLS[value] if isinstance(value, str) and value in PROTOCOLS else int(value)


def _prefix(item: dict[str, Any], key: str, family: int) -> Prefix | None:
    text = item.get(key, "all")
    if text == "all":
        return None
    length = int(item.get(f"{key}len", BITS[family]))
    address = Address.parse(str(text))
    if address.family != family or not 0 <= length <= BITS[family]:
        raise ValueError(f"the prefix {text}/{length}")
    return Prefix.of(family, address.value, length)


def _ports(item: dict[str, Any], key: str) -> PortRange | None:
    if f"{key}_start" in item:
        return PortRange(int(item[f"{key}_start"]), int(item[f"{key}_end"]))
    return PortRange(int(item[key]), int(item[key])) if key in item else None


def _text(item: dict[str, Any], table: str) -> str:
    """A rule as ``ip rule`` prints it."""
    words = ["not"] if "not" in item else []
    for key, word in (("src", "from"), ("dst", "to")):
        length = f"/{item[f'{key}len']}" if f"{key}len" in item else ""
        if key in item and (key == "src" or item[key] != "all"):
            words.append(f"{word} {item[key]}{length}")
    if "fwmark" in item:
        words.append(f"fwmark {item['fwmark']}" + (f"/{item['fwmask']}" if "fwmask" in item else ""))
    words += [f"{key} {item[key]}" for key in ("tos", "iif", "oif", "ipproto", "sport", "dport") if key in item]
    for key in ("sport", "dport"):
        if f"{key}_start" in item:
            words.append(f"{key} {item[f'{key}_start']}-{item[f'{key}_end']}")
    if "uid_start" in item:
        words.append(f"uidrange {item['uid_start']}-{item['uid_end']}")
    if "goto" in item:
        words.append(f"goto {item['goto']}")
    elif "nop" in item:
        words.append("nop")
    else:
        words.append(str(item["action"]) if "action" in item else f"lookup {table}")
    if "suppress_prefixlen" in item:
        words.append(f"suppress_prefixlength {item['suppress_prefixlen']}")
    return " ".join(words)
