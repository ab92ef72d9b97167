"""Filter rules of a Linux router (``nft -j list ruleset``) as ACLs of its interfaces.

The hooks input and forward give what a packet coming in by an interface meets, output and forward what
one going out meets. An ACL is checked for both kinds of packet, so where the two hooks differ, entries of
input are narrowed to the device's own addresses as destination and stand first (of output: as source).

Rules that accept established traffic make accepting entries stateful: all of them, or those that set the
connection mark which that rule asks for. What cannot be said as an ACL is a gap.
"""

from collections.abc import Iterable, Mapping, Sequence
from dataclasses import dataclass, field, replace
from typing import Any

from routrel.model.addresses import Address, Prefix
from routrel.model.devices import Gap, Interface
from routrel.model.filters import (
    ICMP,
    ICMPV6,
    OSPF,
    PROTOCOL_NUMBERS,
    TCP,
    UDP,
    Acl,
    AclAction,
    AclEntry,
    HeaderMatch,
    PortRange,
)
from routrel.model.places import Place

IGNORED = ("counter", "log", "comment")
PROTOCOLS = {**PROTOCOL_NUMBERS, "ospf": OSPF, "ipv6-icmp": ICMPV6, "igmp": 2, "gre": 47, "esp": 50, "vrrp": 112}
Items = Sequence[tuple[dict[str, Any], Place]]


@dataclass(slots=True)
class Filters:
    """ACLs by name, and per interface the name of the one that applies."""

    acls: dict[str, Acl]
    acl_in: dict[str, str]
    acl_out: dict[str, str]
    gaps: list[Gap]


@dataclass(slots=True)
class _Rule:
    place: Place
    comment: str
    iif: frozenset[str] | None = None
    oif: frozenset[str] | None = None
    matches: list[HeaderMatch] = field(default_factory=lambda: [HeaderMatch()])
    verdict: str = ""
    target: str = ""
    established: bool = False
    wanted_mark: int | None = None
    set_mark: int | None = None
    never: bool = False
    obstacle: str = ""


@dataclass(slots=True)
class _Chain:
    name: str
    hook: str = ""
    priority: int = 0
    policy: str = "accept"
    rules: list[_Rule] = field(default_factory=list)


@dataclass(slots=True)
class _Flat:
    """A hook's rules as one interface meets them."""

    entries: list[AclEntry] = field(default_factory=list)
    names: list[str] = field(default_factory=list)
    marks: list[int | None] = field(default_factory=list)
    stateful: bool = False
    wanted_mark: int | None = None

    def finished(self) -> list[AclEntry]:
        if not self.stateful:
            return self.entries
        return [
            replace(entry, stateful=True) if entry.action == "accept" and self.wanted_mark in (None, mark) else entry
            for entry, mark in zip(self.entries, self.marks, strict=True)
        ]


def read_filters(items: Items, interfaces: Mapping[str, Interface]) -> Filters:
    """The filters of one device; ``interfaces`` are its own, by name."""
    return _Reader(items, interfaces).filters()


class _Reader:
    def __init__(self, items: Items, interfaces: Mapping[str, Interface]):
        self.interfaces = interfaces
        self.chains: dict[tuple[str, str, str], _Chain] = {}
        self.gaps: dict[Place, Gap] = {}
        self.own = [address.address for interface in interfaces.values() for address in interface.addresses]
        for item, place in items:
            kind, value = next(iter(item.items()))
            if kind in ("set", "map"):
                self._gap("a named set or map is not represented", place)
            elif kind in ("chain", "rule") and not isinstance(value, dict):
                self._gap(f"a {kind} that cannot be read is not represented", place)
            elif kind == "chain":
                self._add_chain(value, place)
            elif kind == "rule":
                key = (str(value.get("family")), str(value.get("table")), str(value.get("chain")))
                if key in self.chains:
                    self.chains[key].rules.append(read_rule(value, place))

    def _gap(self, message: str, place: Place, affects: str = "") -> None:
        self.gaps.setdefault(place, Gap(message, place, affects))

    def _add_chain(self, item: dict[str, Any], place: Place) -> None:
        priority = item.get("prio", 0)
        chain = _Chain(
            str(item.get("name")),
            str(item.get("hook", "")),
            priority if isinstance(priority, int) else 0,
            str(item.get("policy", "accept")),
        )
        if chain.hook and item.get("type") != "filter":
            self._gap(f"chain {chain.name} of type {item.get('type')} is not represented", place)
            chain.hook = "other"
        elif chain.hook in ("prerouting", "postrouting", "ingress", "egress"):
            self._gap(f"chain {chain.name} at hook {chain.hook} is not represented", place)
        self.chains[str(item.get("family")), str(item.get("table")), chain.name] = chain

    def filters(self) -> Filters:
        acls: dict[str, Acl] = {}
        applied: dict[str, dict[str, str]] = {"in": {}, "out": {}}
        for name, interface in self.interfaces.items():
            if interface.is_loopback:
                continue
            for direction, own_hook in (("in", "input"), ("out", "output")):
                acl = self._acl(name, direction, own_hook)
                if acl is None:
                    continue
                standing = acls.setdefault(acl.name, acl)
                if _meaning(standing.entries) != _meaning(acl.entries):
                    acl = replace(acl, name=f"{acl.name}-{name}-{direction}")
                    acls[acl.name] = acl
                applied[direction][name] = acl.name
        return Filters(acls, applied["in"], applied["out"], list(self.gaps.values()))

    def _acl(self, interface: str, direction: str, own_hook: str) -> Acl | None:
        own, names = self._hook_entries(own_hook, interface, direction)
        passing, passing_names = self._hook_entries("forward", interface, direction)
        if own is None and passing is None:
            return None
        if _meaning(own) == _meaning(passing):
            entries = passing or []
        else:
            first = [AclEntry("accept")] if own is None else own
            if not first or first[-1].match != HeaderMatch():
                first = [*first, AclEntry("drop", name="policy")]
            entries = [*self._narrowed(first, direction), *([AclEntry("accept")] if passing is None else passing)]
        used = list(dict.fromkeys([*passing_names, *names]))
        name = used[0] if len(used) == 1 else f"{interface}-{direction}"
        place = entries[0].place if entries else Place("", 0, 0)
        return Acl(name, tuple(entries), place)

    def _narrowed(self, entries: Iterable[AclEntry], direction: str) -> list[AclEntry]:
        """Entries of the device's own hook, for packets to (or from) its own addresses only."""
        side = "destination" if direction == "in" else "source"
        narrowed = []
        for entry in entries:
            standing: Prefix | None = getattr(entry.match, side)
            for address in self.own:
                if standing is None or standing.contains(address):
                    other = entry.match.source if side == "destination" else entry.match.destination
                    if other is None or other.family == address.family:
                        match = narrowed_match(entry.match, side, address.host_prefix())
                        narrowed.append(replace(entry, match=match))
        return narrowed

    def _hook_entries(self, hook: str, interface: str, direction: str) -> tuple[list[AclEntry] | None, list[str]]:
        """The entries of a hook for an interface, None where it lets all pass, and the chains they are of."""
        found: list[AclEntry] | None = None
        names: list[str] = []
        for chain in sorted(self.chains.values(), key=lambda chain: chain.priority):
            if chain.hook != hook:
                continue
            flat = _Flat()
            decided = self._flatten(chain, chain, interface, direction, flat, set())
            entries = flat.finished()
            if hook == "forward" and not entries and self._is_other_direction(chain, direction):
                continue
            if not decided and chain.policy == "accept":
                if not any(entry.action != "accept" for entry in entries):
                    continue
                entries.append(AclEntry("accept", name="policy"))
            if found is not None and _meaning(entries) != _meaning(found):
                self._gap(
                    f"several chains at hook {hook} filter {interface}; only the first is represented",
                    chain.rules[0].place if chain.rules else Place("", 0, 0),
                    interface,
                )
                continue
            found = entries
            names = flat.names
        return found, names

    def _is_other_direction(self, chain: _Chain, direction: str) -> bool:
        """Whether a forward chain speaks of the other direction's interfaces only."""
        if direction == "in":
            return bool(chain.rules) and all(rule.oif is not None or rule.established for rule in chain.rules)
        return all(rule.oif is None for rule in chain.rules)

    def _flatten(
        self, base: _Chain, chain: _Chain, interface: str, direction: str, flat: _Flat, inside: set[str]
    ) -> bool:
        """Add a chain's rules to ``flat``; True where the last one decides for every packet."""
        for rule in chain.rules:
            if rule.established:
                flat.stateful, flat.wanted_mark = True, rule.wanted_mark
                continue
            wanted, other = (rule.iif, rule.oif) if direction == "in" else (rule.oif, rule.iif)
            if wanted is not None and interface not in wanted:
                continue
            if base.hook == "forward" and direction == "out" and wanted is None and chain is base:
                continue  # met as a packet comes in
            if other is not None:
                if wanted is not None:
                    self._gap("a rule for a pair of interfaces is not represented", rule.place, interface)
                continue
            if rule.obstacle:
                self._gap(f"a rule is not represented: {rule.obstacle}", rule.place, interface)
                continue
            if rule.never:
                continue
            if rule.verdict in ("jump", "goto"):
                target = next((c for c in self.chains.values() if c.name == rule.target), None)
                if target is None or rule.matches != [HeaderMatch()] or rule.target in inside:
                    self._gap(f"a jump to {rule.target} under a condition is not represented", rule.place, interface)
                    continue
                flat.names.append(rule.target)
                if self._flatten(base, target, interface, direction, flat, {*inside, rule.target}):
                    return True
                continue
            if rule.verdict == "return":
                if rule.matches == [HeaderMatch()]:
                    return False
                self._gap("a conditional return is not represented", rule.place, interface)
                continue
            action = _action(rule.verdict)
            if action is None:
                continue
            if chain is base:
                flat.names.append(chain.name)
            for match in rule.matches:
                flat.entries.append(AclEntry(action, match, rule.comment, place=rule.place))
                flat.marks.append(rule.set_mark)
            if rule.matches == [HeaderMatch()]:
                return True
        return False


def _meaning(entries: Iterable[AclEntry] | None) -> list[tuple[object, ...]] | None:
    """What entries do, wherever they stand: the same rules may be written in two hooks."""
    return None if entries is None else [(entry.action, entry.match, entry.stateful) for entry in entries]


def _action(verdict: str) -> AclAction | None:
    if verdict == "accept":
        return "accept"
    if verdict == "drop":
        return "drop"
    return "reject" if verdict == "reject" else None


def read_rule(item: dict[str, Any], place: Place) -> _Rule:
    """One rule; what it says that an ACL entry cannot is noted as its obstacle."""
    rule = _Rule(place, str(item.get("comment", "")))
    try:
        _read_expressions(rule, item)
    except (ValueError, KeyError, TypeError, AttributeError, StopIteration):
        rule.obstacle = "it cannot be read"
    return rule


def _read_expressions(rule: _Rule, item: dict[str, Any]) -> None:
    state: list[str] = []
    for expression in item.get("expr", []):
        name, value = next(iter(expression.items()))
        if name in IGNORED:
            continue
        if name == "match":
            _read_match(rule, value, state)
        elif name in ("accept", "drop", "return", "reject"):
            rule.verdict = name
        elif name in ("jump", "goto"):
            rule.verdict, rule.target = name, str(value.get("target"))
        elif name == "mangle" and value.get("key") == {"ct": {"key": "mark"}} and isinstance(value.get("value"), int):
            rule.set_mark = value["value"]
        elif name == "limit":
            rule.obstacle = "a rate limit"
        else:
            rule.obstacle = f"the expression {name}"
    if state:
        if "established" in state and rule.verdict == "accept" and "new" not in state:
            rule.established = True
        elif "new" not in state:
            rule.never = True  # the walk's packets open a flow or answer one


def _read_match(rule: _Rule, value: dict[str, Any], state: list[str]) -> None:
    left, right, operator = value.get("left", {}), value.get("right"), value.get("op")
    kind, detail = next(iter(left.items())) if isinstance(left, dict) and left else ("", {})
    if kind == "ct":
        key = detail.get("key")
        if key == "state":
            state += [right] if isinstance(right, str) else _members(right)
            return
        if key == "mark" and operator == "==" and isinstance(right, int):
            rule.wanted_mark = right
            return
        if key == "direction":
            return
    if operator not in ("==", "in"):
        rule.obstacle = f"the comparison {operator}"
        return
    if kind == "meta" and detail.get("key") in ("iifname", "oifname", "iif", "oif"):
        names = frozenset(str(name) for name in _members(right))
        if detail["key"].startswith("i"):
            rule.iif = names
        else:
            rule.oif = names
    elif kind == "meta" and detail.get("key") == "l4proto":
        _narrow(rule, "protocol", [PROTOCOLS.get(p, p) for p in _members(right)])
    elif kind == "payload":
        _read_payload(rule, str(detail.get("protocol")), str(detail.get("field")), right)
    else:
        rule.obstacle = f"a match on {kind} {detail}"


def _read_payload(rule: _Rule, protocol: str, name: str, right: Any) -> None:
    if protocol in ("ip", "ip6") and name in ("saddr", "daddr"):
        prefixes = [_prefix(member) for member in _members(right)]
        if None in prefixes:
            rule.obstacle = "a range of addresses"
            return
        _narrow(rule, "source" if name == "saddr" else "destination", prefixes)
    elif protocol == "ip" and name == "protocol":
        _narrow(rule, "protocol", [PROTOCOLS.get(p, p) for p in _members(right)])
    elif protocol in ("tcp", "udp", "th") and name in ("sport", "dport"):
        if protocol != "th":
            _narrow(rule, "protocol", [TCP if protocol == "tcp" else UDP])
        key = "source_ports" if name == "sport" else "destination_ports"
        ports = tuple(_port(member) for member in _members(right))
        if protocol == "th" and any(match.protocol not in (TCP, UDP) for match in rule.matches):
            _narrow(rule, "protocol", [TCP, UDP])
        rule.matches = [narrowed_match(match, key, ports) for match in rule.matches]
    elif protocol in ("icmp", "icmpv6") and name == "type":
        _narrow(rule, "protocol", [ICMP if protocol == "icmp" else ICMPV6])
        if not any("echo" in str(member) for member in _members(right)):
            rule.never = True  # the walk's icmp is an echo
    else:
        rule.obstacle = f"a match on {protocol} {name}"


def _narrow(rule: _Rule, key: str, values: Sequence[Any]) -> None:
    if any(isinstance(value, str) for value in values):
        rule.obstacle = f"the protocol {values}"
        return
    rule.matches = [narrowed_match(match, key, value) for match in rule.matches for value in values]


def narrowed_match(match: HeaderMatch, key: str, value: Any) -> HeaderMatch:
    """A match with one more field set, by the field's name."""
    return replace(match, **{key: value})


def _members(right: Any) -> list[Any]:
    if isinstance(right, dict) and "set" in right:
        return list(right["set"])
    return list(right) if isinstance(right, list) else [right]


def _prefix(value: Any) -> Prefix | None:
    try:
        if isinstance(value, dict) and "prefix" in value:
            return Prefix.parse(f"{value['prefix']['addr']}/{value['prefix']['len']}")
        return Address.parse(value).host_prefix() if isinstance(value, str) else None
    except ValueError:
        return None


def _port(value: Any) -> PortRange:
    if isinstance(value, dict) and "range" in value:
        low, high = value["range"]
        return PortRange(int(low), int(high))
    return PortRange(int(value), int(value))
