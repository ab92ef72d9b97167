"""Policies and prefix sets written in ietf-routing-policy (RFC 9067); a policy it cannot hold is left whole."""

from itertools import chain, count
from typing import Any

from routrel.formats.models.writing_lists import entry_names

Data = dict[str, Any]

RESULTS = {"accept": "accept-route", "reject": "reject-route"}
SOURCES = {"connected": "ietf-routing:direct", "static": "ietf-routing:static", "isis": "ietf-isis:isis"}
MATCHES = {"prefixes", "protocol"}
SETS = {"metric", "tag", "preference"}


def write_policies(rest: Data) -> Data:
    """What of the policies and prefix sets the model holds, taken out of a device's data."""
    sets = [_prefix_set(name, entries) for name, entries in rest.pop("prefix_sets", {}).items()]
    known = {one["name"] for one in sets}
    definitions = []
    for name, statements in list(rest.get("policies", {}).items()):
        if not all(map(_is_held, statements)):
            continue
        written = []
        own_names = entry_names(statements)
        for number, statement in enumerate(statements, 1):
            prefixes = statement.get("match", {}).get("prefixes")
            if isinstance(prefixes, list):
                numbered = (f"{name}-{number}{tail}" for tail in chain([""], count(2)))
                own = next(one for one in numbered if one not in known)
                known.add(own)
                sets.append(_prefix_set(own, prefixes))
                prefixes = own
            written.append(_statement(own_names[number - 1], statement, prefixes))
        definitions.append({"name": name, "statements": {"statement": written}})
        rest["policies"].pop(name)
    top: Data = {}
    if sets:
        top["defined-sets"] = {"prefix-sets": {"prefix-set": sets}}
    if definitions:
        top["policy-definitions"] = {"policy-definition": definitions}
    return top


def _is_held(statement: Data) -> bool:
    match, made = statement.get("match") or {}, statement.get("set") or {}
    return (
        set(match) <= MATCHES
        and set(made) <= SETS
        and match.get("protocol", "connected") in tuple(SOURCES)
        and match.get("prefixes") != []
    )


def _prefix_set(name: str, entries: list[Any]) -> Data:
    listed = []
    for entry in entries:
        own = {"prefix": entry} if isinstance(entry, str) else entry
        length = int(own["prefix"].partition("/")[2])
        low = own.get("min_length", length)
        whole = 128 if ":" in own["prefix"] else 32
        high = own.get("max_length", whole if "min_length" in own else length)
        listed.append({"ip-prefix": own["prefix"], "mask-length-lower": low, "mask-length-upper": high})
    mode = "ipv6" if listed and ":" in listed[0]["ip-prefix"] else "ipv4"
    return {"name": name, "mode": mode, "prefixes": {"prefix-list": listed}}


def _statement(name: str, statement: Data, prefixes: str | None) -> Data:
    written: Data = {"name": name}
    conditions: Data = {}
    protocol = (statement.get("match") or {}).get("protocol")
    if protocol is not None:
        conditions["source-protocol"] = SOURCES[protocol]
    if prefixes is not None:
        conditions["match-prefix-set"] = {"prefix-set": prefixes}
    if conditions:
        written["conditions"] = conditions
    actions: Data = {}
    made = statement.get("set") or {}
    if "metric" in made:
        actions["set-metric"] = {"metric-modification": "set-metric", "metric": made["metric"]}
    if "tag" in made:
        actions["set-tag"] = made["tag"]
    if "preference" in made:
        actions["set-route-preference"] = made["preference"]
    if statement["result"] in RESULTS:
        actions["policy-result"] = RESULTS[statement["result"]]
    if actions:
        written["actions"] = actions
    return written
