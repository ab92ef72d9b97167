"""Statements of filter rules as ``nft -j`` lists them: conditions, what is done to a packet, verdicts."""

from collections.abc import Iterable, Mapping
from typing import Any

from routrel.formats.nftables_values import (
    ADDRESS_BITS,
    FLAGS,
    NAMES,
    UnreadableError,
    bits,
    listed,
    number,
    span,
    value,
    value_map,
    value_set,
)
from routrel.model.filter_programs import (
    ChainKey,
    Concatenation,
    Condition,
    Constant,
    Expression,
    Fib,
    Field,
    MapLookup,
    Operation,
    Operator,
    Range,
    SetField,
    SetMark,
    Statement,
    Translation,
    Unsaid,
    UnsaidCondition,
    Untrack,
    Value,
    ValueMap,
    ValueSet,
    Verdict,
    VerdictMap,
)

HARMLESS = frozenset({"counter", "log", "comment", "nftrace"})
"""Statements that decide nothing."""

UNSAID_CONDITIONS = {
    "limit": "how many packets came before it (limit)",
    "quota": "how much was carried before it (quota)",
    "ct count": "how many connections there are (ct count)",
}
UNSAID_VERDICTS = {
    "queue": "what the program that is asked says (queue)",
    "synproxy": "a synproxy",
    "tproxy": "a transparent proxy (tproxy)",
    "fwd": "a packet handed to another interface (fwd)",
    "xt": "an extension that nft does not list (xt)",
}
PASSED_OVER = {
    "ct helper": "a connection helper",
    "ct timeout": "a connection timeout",
    "ct expectation": "an expected connection",
    "flow": "a flowtable",
    "dup": "copies of packets (dup)",
    "secmark": "a security mark",
    "last": "",
}
"""Statements that change nothing of the packet itself; '' is not worth a word."""

META_TYPES = {
    "iifname": "ifname",
    "oifname": "ifname",
    "iif": "iface_index",
    "oif": "iface_index",
    "l4proto": "inet_proto",
    "nfproto": "nf_proto",
    "protocol": "ether_type",
    "mark": "mark",
    "length": "integer",
    "pkttype": "pkt_type",
    "skuid": "text",
    "skgid": "text",
}
CT_TYPES = {
    "state": "ct_state",
    "status": "ct_status",
    "direction": "ct_dir",
    "mark": "mark",
    "l3proto": "nf_proto",
    "protocol": "inet_proto",
    "proto-src": "inet_service",
    "proto-dst": "inet_service",
    "ip saddr": "ipv4_addr",
    "ip daddr": "ipv4_addr",
    "ip6 saddr": "ipv6_addr",
    "ip6 daddr": "ipv6_addr",
}
PAYLOAD_TYPES = {
    ("ip", "saddr"): "ipv4_addr",
    ("ip", "daddr"): "ipv4_addr",
    ("ip", "protocol"): "inet_proto",
    ("ip", "dscp"): "dscp",
    ("ip", "length"): "integer",
    ("ip", "version"): "integer",
    ("ip6", "saddr"): "ipv6_addr",
    ("ip6", "daddr"): "ipv6_addr",
    ("ip6", "nexthdr"): "inet_proto",
    ("ip6", "dscp"): "dscp",
    ("ip6", "length"): "integer",
    ("ip6", "version"): "integer",
    ("tcp", "flags"): "tcp_flag",
    ("icmp", "type"): "icmp_type",
    ("icmp", "code"): "icmp_code",
    ("icmpv6", "type"): "icmpv6_type",
    ("icmpv6", "code"): "icmpv6_code",
    ("ether", "type"): "ether_type",
}
REJECTS = {
    "tcp reset": (Condition(Field("meta", "l4proto"), "==", 6),),
    "icmp": (Condition(Field("meta", "nfproto"), "==", 2),),
    "icmpv6": (Condition(Field("meta", "nfproto"), "==", 10),),
}
PORTED = ("tcp", "udp", "th", "sctp", "dccp", "udplite")
_TRANSLATION = {"family", "addr", "port", "flags", "type_flags"}
KEYS = {
    "match": {"op", "left", "right"},
    "payload": {"protocol", "field", "base", "offset", "len"},
    "meta": {"key"},
    "ct": {"key", "dir", "family"},
    "fib": {"result", "flags"},
    "vmap": {"key", "data"},
    "map": {"key", "data"},
    "mangle": {"key", "value"},
    "jump": {"target"},
    "goto": {"target"},
    "reject": {"type", "expr"},
    "snat": _TRANSLATION,
    "dnat": _TRANSLATION,
    "masquerade": _TRANSLATION,
    "redirect": _TRANSLATION,
}
"""Keys of statements and expressions that are read."""

OPERATORS: dict[str, Operator] = {"==": "==", "!=": "!=", "<": "<", ">": ">", "<=": "<=", ">=": ">=", "in": "in"}


class StatementReader:
    """Reads the statements of one rule; sets and maps are those of its table."""

    def __init__(self, family: str, table: str, sets: Mapping[ChainKey, ValueSet], maps: Mapping[ChainKey, ValueMap]):
        self.family = family
        self.table = table
        self.sets = sets
        self.maps = maps
        self.gaps: list[str] = []
        self.is_foreign = False
        """Whether some part of the rule is an extension that nft does not list."""

    def statements(self, expression: dict[str, Any]) -> list[Statement]:
        """One listed expression; what cannot be read is a condition that no one can tell."""
        name, found = next(iter(expression.items()))
        try:
            return self._statements(name, found)
        except (UnreadableError, ValueError, KeyError, TypeError, AttributeError, StopIteration) as error:
            reason = str(error) if isinstance(error, UnreadableError) else f"{name} as it is listed"
            self.gaps.append(f"a rule is not represented whole: {reason}")
            self.is_foreign = True
            return [UnsaidCondition(reason)]

    def _statements(self, name: str, found: Any) -> list[Statement]:
        _refuse_unread(name, found)
        if name == "match":
            return [self._condition(found)]
        if name in ("accept", "drop", "return", "continue"):
            return [Verdict(name)]  # type: ignore[arg-type]
        if name == "reject":
            # What it answers with holds for packets of that kind only; nft does not always list the condition.
            kind = found.get("type") if isinstance(found, dict) else None
            return [*REJECTS.get(str(kind), ()), Verdict("reject")]
        if name in ("jump", "goto"):
            return [Verdict(name, str(found["target"]))]  # type: ignore[arg-type]
        if name == "vmap":
            left = self.expression(found["key"])
            return [VerdictMap(left, self._map(left, found["data"], ("verdict",)))]
        if name == "mangle":
            return self._mangle(found)
        if name in ("snat", "dnat", "masquerade", "redirect"):
            return [self._translation(name, found or {})]
        if name == "notrack":
            return [Untrack()]
        if name in HARMLESS or name in ("set", "map", "meter"):
            # What is put into a set is what later lookups of that set do not know.
            return []
        if name in UNSAID_CONDITIONS:
            return [UnsaidCondition(UNSAID_CONDITIONS[name])]
        if name in UNSAID_VERDICTS:
            self.is_foreign = True
            return [UnsaidCondition(UNSAID_VERDICTS[name])]
        if name in PASSED_OVER:
            if PASSED_OVER[name]:
                self.gaps.append(f"{PASSED_OVER[name]} of a rule is not represented")
            return []
        raise UnreadableError(f"the statement {name}")

    def expression(self, raw: Any) -> Expression:
        """The left side of a condition, the key of a map, or a value that is computed."""
        if not isinstance(raw, dict) or not raw:
            raise UnreadableError(f"the expression {raw!r}")
        name, found = next(iter(raw.items()))
        _refuse_unread(name, found)
        if name == "payload":
            if "field" not in found:
                return Unsaid("bytes of the packet at an offset")
            return Field(str(found["protocol"]), str(found["field"]))
        if name == "meta":
            return Field("meta", str(found["key"]))
        if name == "ct":
            direction = f" {found['dir']}" if "dir" in found else ""
            return Field(f"ct{direction}", str(found["key"]))
        if name == "fib":
            return Fib(str(found["result"]), frozenset(map(str, listed(found["flags"]))))
        if name == "concat":
            return Concatenation(tuple(self.expression(one) for one in found))
        if name in ("&", "|", "^", "<<", ">>"):
            first, *others = found
            left = self.expression(first)
            kind = self.kinds(left)[0]
            for other in others:
                is_expression = isinstance(other, dict) and not set(other) & {"|", "&"}
                right = self.expression(other) if is_expression else Constant(_bits(kind, other))
                left = Operation(name, left, right)
            return left
        if name == "map":
            left = self.expression(found["key"])
            return MapLookup(left, self._map(left, found["data"], ("integer",)))
        if name == "exthdr":
            return Field("exthdr", str(found.get("name")))
        return Unsaid(f"{name} of the packet")

    def kinds(self, left: Expression) -> tuple[str, ...]:
        """The types of an expression's values, one for each part."""
        if isinstance(left, Concatenation):
            return tuple(kind for part in left.parts for kind in self.kinds(part))
        if isinstance(left, Operation):
            return self.kinds(left.left)
        if isinstance(left, Fib):
            return ("fib_addrtype",) if left.result == "type" else ("ifname",)
        if isinstance(left, Field):
            if left.room == "meta":
                return (META_TYPES.get(left.name, "text"),)
            if left.room.startswith("ct"):
                name = left.name
                if name in ("saddr", "daddr"):
                    name = f"{'ip6' if self.family == 'ip6' else 'ip'} {name}"
                return (CT_TYPES.get(name, "text"),)
            if left.room in PORTED and left.name in ("sport", "dport"):
                return ("inet_service",)
            return (PAYLOAD_TYPES.get((left.room, left.name), "text" if left.room == "ether" else "integer"),)
        return ("text",)

    def _condition(self, found: Any) -> Statement:
        left = self.expression(found["left"])
        operator = OPERATORS.get(str(found.get("op")))
        if operator is None:
            raise UnreadableError(f"the comparison {found.get('op')}")
        raw, kinds = found["right"], self.kinds(left)
        if isinstance(left, Unsaid):
            return UnsaidCondition(left.what)
        if isinstance(left, Field) and left.room == "meta" and left.name not in META_TYPES:
            return UnsaidCondition(f"meta {left.name} of a packet")
        if isinstance(left, Fib) and isinstance(raw, bool):
            return Condition(left, "!=" if raw == (operator == "==") else "==", "")
        if isinstance(raw, str) and raw.startswith("@"):
            return Condition(left, "not in" if operator == "!=" else "in", self._set(raw[1:]))
        if isinstance(raw, dict) and "set" in raw:
            values = value_set(kinds, listed(raw["set"]))
            return Condition(left, "not in" if operator == "!=" else "in", values)
        if len(kinds) > 1:
            return Condition(left, "not in" if operator == "!=" else "in", value_set(kinds, [raw]))
        kind = kinds[0]
        if kind in FLAGS:
            mask = _bits(kind, raw)
            if operator == "in":
                return Condition(left, "bits", mask)
            if operator == "!=" and isinstance(left, Field):
                return Condition(left, "no bits", mask) if left.room.startswith("ct") else Condition(left, "!=", mask)
            return Condition(left, operator, mask)
        if isinstance(left, Operation):
            return Condition(left, operator, _bits(kind, raw))
        if isinstance(raw, list):
            return Condition(left, "not in" if operator == "!=" else "in", value_set(kinds, raw))
        right = span(kind, raw)
        if isinstance(right, Range) or (kind == "ifname" and isinstance(right, str) and right.endswith("*")):
            return Condition(left, "not in" if operator == "!=" else "in", value_set(kinds, [raw]))
        return Condition(left, "==" if operator == "in" else operator, right)

    def _set(self, name: str) -> ValueSet:
        found = self.sets.get((self.family, self.table, name))
        if found is None:
            raise UnreadableError(f"the set {name}, which is not listed")
        return found

    def _map(self, left: Expression, raw: Any, given: tuple[str, ...]) -> ValueMap:
        if isinstance(raw, str) and raw.startswith("@"):
            found = self.maps.get((self.family, self.table, raw[1:]))
            if found is None:
                raise UnreadableError(f"the map {raw[1:]}, which is not listed")
            return found
        elements = listed(raw["set"])
        return value_map(self.kinds(left), [(one, self.given(given, value)) for one, value in elements])

    def given(self, kinds: tuple[str, ...], raw: Any) -> object:
        """What a map gives: a verdict, a value, a range, or several of them."""
        if kinds == ("verdict",):
            name, found = next(iter(raw.items()))
            return Verdict(name, str(found["target"]) if isinstance(found, dict) and "target" in found else "")
        if isinstance(raw, dict) and "concat" in raw:
            parts = raw["concat"]
            return tuple(self.given((kind,), one) for kind, one in zip(_filled(kinds, len(parts)), parts, strict=True))
        return span(_kind_of(kinds[0], raw), raw)

    def _mangle(self, found: Any) -> list[Statement]:
        target, raw = self.expression(found["key"]), found["value"]
        if "tcp option" in found["key"]:
            return []  # how large segments may be: it leads no packet elsewhere
        if not isinstance(target, Field):
            self.gaps.append(f"a rule that writes {next(iter(found['key']))} is not represented")
            return []
        kind = self.kinds(target)[0]
        # Flags joined by | are a value; with something of the packet in front, an operation.
        is_expression = isinstance(raw, dict) and (set(raw) != {"|"} or isinstance(listed(raw["|"])[0], dict))
        source: Expression = self.expression(raw) if is_expression else Constant(_bits(kind, raw))
        if target == Field("meta", "mark"):
            return [SetMark("packet", source)]
        if target == Field("ct", "mark"):
            return [SetMark("connection", source)]
        if target.room in ("meta", "ct") and target.name in ("priority", "nftrace", "pkttype", "label", "event"):
            return []
        if (target.room, target.name) in PAYLOAD_TYPES or target.name in ("sport", "dport"):
            return [SetField(target, source)]
        if target.name not in ("ttl", "hoplimit", "ecn", "checksum"):
            self.gaps.append(f"a rule that writes {target.room} {target.name} is not represented")
        return []

    def _translation(self, name: str, found: Mapping[str, Any]) -> Statement:
        family = {"ip": 4, "ip6": 6}.get(str(found.get("family", self.family)))
        kind = "ipv6_addr" if family == 6 else "ipv4_addr"
        flags = [*listed(found.get("flags")), *listed(found.get("type_flags"))]
        addresses = self._target(kind, found["addr"]) if "addr" in found else None
        ports = self._target("inet_service", found["port"]) if "port" in found else None
        return Translation(name, family, addresses, ports, "netmap" in flags or "prefix" in flags)  # type: ignore[arg-type]

    def _target(self, kind: str, raw: Any) -> Range | Expression:
        if isinstance(raw, dict) and not set(raw) & {"range", "prefix"}:
            return self.expression(raw)
        found = span(kind, raw)
        if isinstance(found, Range):
            return found
        if not isinstance(found, int):
            raise UnreadableError(f"the target {raw!r}")
        return Range(found, found)


def _refuse_unread(name: str, found: Any) -> None:
    """A key that nobody reads may change what the rest means."""
    unread = sorted(set(found) - KEYS[name]) if name in KEYS and isinstance(found, dict) else []
    if unread:
        raise UnreadableError(f"{unread[0]!r} of {name}")


def _bits(kind: str, raw: Any) -> Value:
    """A value, or flags joined to one."""
    if isinstance(raw, dict) and "|" in raw:
        raw = raw["|"]
    if isinstance(raw, list):
        return bits(kind, raw)
    if isinstance(raw, str) and kind in ADDRESS_BITS:
        return number(kind, raw)
    return value(kind, raw)


def _kind_of(kind: str, raw: Any) -> str:
    """The type of a value in an anonymous map, which says none: addresses are told by their form."""
    if kind in NAMES or kind in ADDRESS_BITS or kind in ("inet_service", "mark"):
        return kind
    text = raw
    if isinstance(raw, dict):
        inner = raw.get("prefix", {}).get("addr") if "prefix" in raw else next(iter(raw.get("range", [""])), "")
        text = inner
    if isinstance(text, str):
        if ":" in text:
            return "ipv6_addr"
        if text.count(".") == 3:
            return "ipv4_addr"
    return "integer"


def _filled(kinds: Iterable[str], count: int) -> tuple[str, ...]:
    found = tuple(kinds)
    return found if len(found) == count else ("integer",) * count
