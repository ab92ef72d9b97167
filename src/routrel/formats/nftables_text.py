"""Filter rules in nft's own words, from their listing: the line that stands in the ruleset."""

from collections.abc import Sequence
from typing import Any

LONGEST = 400
"""Characters of a rule that are shown; a longer one ends in an ellipsis."""


def rule_text(expressions: Sequence[dict[str, Any]]) -> str:
    """A rule as nft writes it, without its comment and counters."""
    words = [word for one in expressions if (word := _statement(*next(iter(one.items()))))]
    text = " ".join(words)
    return text if len(text) <= LONGEST else text[: LONGEST - 1] + "…"


def _statement(name: str, found: Any) -> str:
    if name == "match":
        operator = "" if found.get("op") in ("==", "in") else f"{found.get('op')} "
        return f"{_value(found.get('left'))} {operator}{_value(found.get('right'))}"
    if name in ("jump", "goto"):
        return f"{name} {found.get('target')}"
    if name == "vmap":
        return f"{_value(found.get('key'))} vmap {_value(found.get('data'))}"
    if name == "mangle":
        return f"{_value(found.get('key'))} set {_value(found.get('value'))}"
    if name == "reject":
        if not isinstance(found, dict):
            return "reject"
        reason = f" {found['expr']}" if "expr" in found else ""
        return f"reject with {found.get('type')}{reason}"
    if name in ("snat", "dnat", "masquerade", "redirect"):
        return _translation(name, found if isinstance(found, dict) else {})
    if name in ("counter", "last"):
        return ""
    if name == "log":
        prefix = found.get("prefix") if isinstance(found, dict) else None
        return f'log prefix "{prefix}"' if prefix else "log"
    if name == "limit":
        if not isinstance(found, dict):
            return f'limit name "{found}"'
        over = "over " if found.get("inv") else ""
        return f"limit rate {over}{found.get('rate')}/{found.get('per')}"
    if name == "quota" and isinstance(found, dict):
        return f"quota {'over ' if found.get('inv') else ''}{found.get('val')} {found.get('val_unit')}"
    if name == "ct count" and isinstance(found, dict):
        return f"ct count {'over ' if found.get('inv') else ''}{found.get('val')}"
    if name == "set" and isinstance(found, dict):
        return f"{found.get('op')} {found.get('set')} {{ {_value(found.get('elem'))} }}"
    return name if found is None else f"{name} {_value(found)}"


def _translation(name: str, found: dict[str, Any]) -> str:
    family = f" {found['family']}" if "family" in found else ""
    address = _value(found["addr"]) if "addr" in found else ""
    port = f":{_value(found['port'])}" if "port" in found else ""
    to = f"{family} to {address}{port}" if address or port else family
    flags = found.get("flags", [])
    return " ".join([f"{name}{to}", *map(str, flags if isinstance(flags, list) else [flags])])


def _value(found: Any) -> str:
    if isinstance(found, list):
        return ",".join(map(_value, found))
    if isinstance(found, bool):
        return "exists" if found else "missing"
    if not isinstance(found, dict) or not found:
        return str(found)
    name, inner = next(iter(found.items()))
    if name == "payload" and isinstance(inner, dict):
        return f"{inner.get('protocol', inner.get('base'))} {inner.get('field', inner.get('offset'))}"
    if name == "meta" and isinstance(inner, dict):
        key = str(inner.get("key"))
        return key if key in ("iifname", "oifname", "iif", "oif") else f"meta {key}"
    if name == "ct" and isinstance(inner, dict):
        return " ".join(["ct", *([inner["dir"]] if "dir" in inner else []), str(inner.get("key"))])
    if name == "fib" and isinstance(inner, dict):
        flags = inner.get("flags", [])
        return f"fib {' . '.join(flags if isinstance(flags, list) else [flags])} {inner.get('result')}"
    if name == "prefix" and isinstance(inner, dict):
        return f"{inner.get('addr')}/{inner.get('len')}"
    if name == "range" and isinstance(inner, list):
        return "-".join(map(_value, inner))
    if name == "concat" and isinstance(inner, list):
        return " . ".join(map(_value, inner))
    if name == "set" and isinstance(inner, list):
        return "{ " + ", ".join(_element(one) for one in inner) + " }"
    if name == "elem" and isinstance(inner, dict):
        return _value(inner.get("val"))
    if name == "map" and isinstance(inner, dict):
        return f"{_value(inner.get('key'))} map {_value(inner.get('data'))}"
    if name in ("&", "|", "^", "<<", ">>") and isinstance(inner, list):
        return f" {name} ".join(map(_value, inner))
    if name in ("jump", "goto") and isinstance(inner, dict):
        return f"{name} {inner.get('target')}"
    if inner is None:
        return str(name)
    return f"{name} {_value(inner)}"


def _element(one: Any) -> str:
    if isinstance(one, list) and len(one) == 2:
        return f"{_value(one[0])} : {_value(one[1])}"
    return _value(one)
