"""Filter rules of a Linux router (``nft -j list ruleset``) as a filter program.

Everything that is listed becomes part of the program, or is said: what a rule asks that no capture tells is a
condition of its own kind, which the walk answers both ways; what cannot be read is an error with its place.
Tables of frames (bridge, arp) filter nothing that is routed and are passed over.
"""

from collections import Counter, defaultdict
from collections.abc import Sequence
from dataclasses import dataclass, field
from typing import Any

from routrel.formats.errors import ErrorList, quoted
from routrel.formats.nftables_statements import StatementReader
from routrel.formats.nftables_text import rule_text
from routrel.formats.nftables_values import UnreadableError, listed, value_map, value_set
from routrel.model.devices import Gap
from routrel.model.fields import replace
from routrel.model.filter_programs import (
    HOOKS,
    Chain,
    ChainKey,
    FilterProgram,
    Rule,
    ValueMap,
    ValueSet,
    Verdict,
    VerdictMap,
)
from routrel.model.places import Place

Items = Sequence[tuple[dict[str, Any], Place]]

ROUTED_FAMILIES = ("ip", "ip6", "inet", "netdev")
FRAME_FAMILIES = ("bridge", "arp")
PRIORITIES = {"raw": -300, "mangle": -150, "dstnat": -100, "filter": 0, "security": 50, "srcnat": 100}
MOST_JUMPS = 16
"""The kernel's own limit on jumps inside jumps."""

MOST_BASE_CHAINS = 1024

OBJECTS = {"counter", "quota", "limit", "ct helper", "ct timeout", "ct expectation", "synproxy", "secmark"}
"""Named objects that rules refer to: what they do is said at the rules."""

KEYS = {
    "table": {"family", "name", "handle", "flags", "comment"},
    "chain": {"family", "table", "name", "handle", "type", "hook", "prio", "policy", "dev", "devices", "comment"},
    "rule": {"family", "table", "chain", "handle", "expr", "comment", "index", "position"},
    "set": {
        *("family", "table", "name", "handle", "type", "flags", "elem", "timeout", "gc-interval", "size", "policy"),
        *("auto-merge", "comment", "stmt"),
    },
}
KEYS["map"] = KEYS["set"] | {"map"}


@dataclass(slots=True)
class Filters:
    """The program of one device, and what was listed and is not in it."""

    program: FilterProgram | None
    gaps: list[Gap] = field(default_factory=list)


def read_filters(items: Items, errors: ErrorList) -> Filters:
    """The filters of one device; what cannot be read is added to ``errors``."""
    return _Reader(items, errors).filters()


class _Reader:
    def __init__(self, items: Items, errors: ErrorList):
        self.errors = errors
        self.gaps: list[Gap] = []
        self.chains: dict[ChainKey, Chain] = {}
        self.rules: dict[ChainKey, list[Rule]] = defaultdict(list)
        self.sets: dict[ChainKey, ValueSet] = {}
        self.maps: dict[ChainKey, ValueMap] = {}
        self._by_kind: dict[str, list[tuple[dict[str, Any], Place]]] = defaultdict(list)
        for item, place in items:
            kind, found = next(iter(item.items()))
            self._sort(kind, found, place)

    def _sort(self, kind: str, found: Any, place: Place) -> None:
        if kind == "metainfo":
            return
        if kind == "flowtable":
            self.gaps.append(Gap("a flowtable is not represented: packets of its flows pass by the rules", place))
            return
        if kind in OBJECTS:
            return
        if kind not in KEYS:
            self.gaps.append(Gap(f"an entry {kind!r} of the filters is not represented", place))
            return
        if not isinstance(found, dict) or not all(
            isinstance(found.get(key), str)
            for key in ("family", "name" if kind != "rule" else "chain", "table" if kind != "table" else "name")
        ):
            allowed = "an object with family, table and name" if kind != "rule" else "one with family, table and chain"
            self.errors.add(place, f"a {kind} is not what the command prints", found=quoted(found), allowed=allowed)
            return
        family = found["family"]
        if family in FRAME_FAMILIES:
            return
        if family not in ROUTED_FAMILIES:
            allowed = ", ".join((*ROUTED_FAMILIES, *FRAME_FAMILIES))
            self.errors.add(place, f"a {kind} of an unknown family", found=quoted(family), allowed=allowed)
            return
        for key in sorted(set(found) - KEYS[kind]):
            self.gaps.append(Gap(f"{key!r} of a {kind} is not represented", place))
        if kind == "table" and "dormant" in listed(found.get("flags", [])):
            self.gaps.append(Gap(f"table {found['name']} is dormant: none of its chains is asked", place))
        self._by_kind[kind].append((found, place))

    def filters(self) -> Filters:
        for item, place in self._by_kind["set"]:
            self._add_set(item, place)
        for item, place in self._by_kind["map"]:
            self._add_map(item, place)
        dormant = {(t["family"], t["name"]) for t, _ in self._by_kind["table"] if "dormant" in listed(t.get("flags"))}
        for item, place in self._by_kind["chain"]:
            if (item["family"], item["table"]) not in dormant:
                self._add_chain(item, place)
        for item, place in self._by_kind["rule"]:
            if (item["family"], item["table"]) not in dormant:
                self._add_rule(item, place)
        for key, rules in self.rules.items():
            chain = self.chains[key]
            self.chains[key] = replace(chain, rules=tuple(rules))
        self._check_targets()
        self._check_hooks()
        return Filters(FilterProgram(self.chains) if any(c.hook for c in self.chains.values()) else None, self.gaps)

    def _add_chain(self, item: dict[str, Any], place: Place) -> None:
        key = item["family"], item["table"], item["name"]
        if "hook" not in item:
            self.chains[key] = Chain(*key, place=place)
            return
        hook, priority, policy = item["hook"], item.get("prio", 0), item.get("policy", "accept")
        if isinstance(priority, str):
            priority = PRIORITIES.get(priority, priority)
        if policy not in ("accept", "drop"):
            self.errors.add(place, f"the policy of chain {key[2]}", found=quoted(policy), allowed="accept, drop")
        elif hook == "egress":
            self.gaps.append(Gap(f"chain {key[2]} at hook egress is not represented", place))
        elif hook not in HOOKS:
            self.errors.add(place, f"the hook of chain {key[2]}", found=quoted(hook), allowed=", ".join(HOOKS))
        elif not isinstance(priority, int) or isinstance(priority, bool):
            self.errors.add(place, f"the priority of chain {key[2]}", found=quoted(priority), allowed="a number")
        elif item.get("type", "filter") not in ("filter", "nat", "route"):
            self.errors.add(
                place, f"the type of chain {key[2]}", found=quoted(item.get("type")), allowed="filter, nat, route"
            )
        else:
            devices = tuple(map(str, listed(item.get("dev", item.get("devices"))))) or None
            kind = str(item.get("type", "filter"))
            self.chains[key] = Chain(*key, (), hook, kind, priority, policy, devices, place)
            return
        self.chains[key] = Chain(*key, place=place)

    def _kinds(self, item: dict[str, Any]) -> tuple[str, ...]:
        kinds = item.get("type")
        return tuple(map(str, kinds)) if isinstance(kinds, list) else (str(kinds),)

    def _unsaid(self, item: dict[str, Any]) -> str:
        flags = listed(item.get("flags"))
        if "dynamic" in flags or "timeout" in flags or "timeout" in item:
            return f"what packets have put into set {item['name']}"
        return ""

    def _add_set(self, item: dict[str, Any], place: Place) -> None:
        try:
            elements = listed(item.get("elem"))
            self.sets[item["family"], item["table"], item["name"]] = value_set(
                self._kinds(item), elements, self._unsaid(item)
            )
        except (ValueError, KeyError, TypeError) as error:
            self._cannot_read("set", item, place, error)

    def _add_map(self, item: dict[str, Any], place: Place) -> None:
        reader = StatementReader(item["family"], item["table"], self.sets, self.maps)
        given = item.get("map")
        kinds = tuple(given) if isinstance(given, list) else tuple(str(given).split(" . "))
        try:
            elements = [(key, reader.given(kinds, value)) for key, value in listed(item.get("elem"))]
            self.maps[item["family"], item["table"], item["name"]] = value_map(
                self._kinds(item), elements, self._unsaid(item)
            )
        except (ValueError, KeyError, TypeError) as error:
            self._cannot_read("map", item, place, error)

    def _cannot_read(self, what: str, item: dict[str, Any], place: Place, error: Exception) -> None:
        """Of a set or map: rules that ask it are not sure; nothing else is lost."""
        reason = str(error) if isinstance(error, UnreadableError) else f"an element that cannot be read ({error})"
        self.gaps.append(Gap(f"{what} {item['name']} is not represented: {reason}", place))
        unsaid = f"what is in {what} {item['name']}"
        key = item["family"], item["table"], item["name"]
        if what == "set":
            self.sets[key] = ValueSet(unsaid=unsaid)
        else:
            self.maps[key] = ValueMap(unsaid=unsaid)

    def _add_rule(self, item: dict[str, Any], place: Place) -> None:
        key = item["family"], item["table"], item["chain"]
        if key not in self.chains:
            names = sorted(name for family, table, name in self.chains if (family, table) == key[:2])
            self.errors.dangling(place, "chain", item["chain"], names)
            return
        expressions = item.get("expr", [])
        if not isinstance(expressions, list) or not all(isinstance(one, dict) and one for one in expressions):
            self.errors.add(place, "'expr' of a rule is not what the command prints", found=quoted(expressions))
            return
        reader = StatementReader(item["family"], item["table"], self.sets, self.maps)
        statements = tuple(statement for one in expressions for statement in reader.statements(one))
        if reader.is_foreign and not any(isinstance(one, Verdict | VerdictMap) for one in statements):
            statements = (*statements, Verdict("unsaid"))
        text = rule_text(expressions)
        self.gaps += [Gap(f"{message}: {text}", place) for message in reader.gaps]
        rules = self.rules[key]
        rules.append(Rule(len(rules) + 1, text, statements, str(item.get("comment", "")), place))

    def _check_hooks(self) -> None:
        """The kernel takes so many base chains at a hook and no more (nf_hook_entries, MAX_HOOK_COUNT)."""
        count: Counter[str] = Counter()
        for chain in self.chains.values():
            if chain.hook:
                count[chain.hook] += 1
                if count[chain.hook] == MOST_BASE_CHAINS + 1:
                    what = f"more base chains at hook {chain.hook} than the kernel takes"
                    self.errors.add(chain.place, what, allowed=f"at most {MOST_BASE_CHAINS:,}")

    def _check_targets(self) -> None:
        """Chains that rules jump to are there, and do not come round (the kernel refuses both)."""
        targets: dict[ChainKey, list[tuple[str, Rule]]] = {
            key: [(name, rule) for rule in chain.rules for name in _targets(rule)] for key, chain in self.chains.items()
        }
        for key, found in targets.items():
            for name, rule in found:
                if (key[0], key[1], name) not in self.chains:
                    names = sorted(one for family, table, one in self.chains if (family, table) == key[:2])
                    self.errors.dangling(rule.place, "chain", name, names)
        depth: dict[ChainKey, int] = {}
        for start in self.chains:
            stack: list[tuple[ChainKey, bool]] = [(start, False)]
            on_way: set[ChainKey] = set()
            while stack:
                key, is_done = stack.pop()
                below = [(key[0], key[1], name) for name, _ in targets.get(key, ())]
                if is_done:
                    on_way.discard(key)
                    depth[key] = 1 + max((depth.get(one, 0) for one in below), default=0)
                    continue
                if key in depth or key not in self.chains:
                    continue
                if key in on_way:
                    self.errors.add(self.chains[key].place, f"chain {key[2]} is jumped to from within itself")
                    return
                on_way.add(key)
                stack.append((key, True))
                for one in below:
                    if one in on_way:
                        self.errors.add(self.chains[one].place, f"chain {one[2]} is jumped to from within itself")
                        return
                    stack.append((one, False))
            if depth.get(start, 0) > MOST_JUMPS + 1:
                self.errors.add(
                    self.chains[start].place,
                    f"jumps from chain {start[2]} go too deep",
                    found=str(depth[start] - 1),
                    allowed=f"at most {MOST_JUMPS}, as in the kernel",
                )
                return


def _targets(rule: Rule) -> list[str]:
    found = [one.target for one in rule.statements if isinstance(one, Verdict) and one.target]
    for one in rule.statements:
        if isinstance(one, VerdictMap):
            given = [
                *one.data.single.values(),
                *(v for _, v in (*one.data.ranges, *one.data.boxes, *one.data.wildcards)),
            ]
            found += [verdict.target for verdict in given if isinstance(verdict, Verdict) and verdict.target]
    return list(dict.fromkeys(found))
