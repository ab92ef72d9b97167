"""Values in ``nft -j`` listings: names of protocols, states and flags, addresses, ranges and sets, made canonical."""

from collections.abc import Iterable, Mapping
from typing import Any

from routrel.model.addresses import Address
from routrel.model.filter_programs import Range, Value, ValueMap, ValueSet

PROTOCOLS = {
    "icmp": 1,
    "igmp": 2,
    "ipencap": 4,
    "ipip": 4,
    "tcp": 6,
    "udp": 17,
    "dccp": 33,
    "ipv6": 41,
    "ipv6-frag": 44,
    "gre": 47,
    "esp": 50,
    "ah": 51,
    "ipv6-icmp": 58,
    "icmpv6": 58,
    "ospf": 89,
    "pim": 103,
    "comp": 108,
    "ipcomp": 108,
    "vrrp": 112,
    "l2tp": 115,
    "sctp": 132,
    "udplite": 136,
}
STATES = {"invalid": 1, "established": 2, "related": 4, "new": 8, "untracked": 64}
STATUS = {
    "expected": 1,
    "seen-reply": 2,
    "assured": 4,
    "confirmed": 8,
    "snat": 16,
    "dnat": 32,
    "dying": 512,
}
TCP_FLAGS = {"fin": 1, "syn": 2, "rst": 4, "psh": 8, "ack": 16, "urg": 32, "ecn": 64, "cwr": 128}
ICMP_TYPES = {
    "echo-reply": 0,
    "destination-unreachable": 3,
    "source-quench": 4,
    "redirect": 5,
    "echo-request": 8,
    "router-advertisement": 9,
    "router-solicitation": 10,
    "time-exceeded": 11,
    "parameter-problem": 12,
    "timestamp-request": 13,
    "timestamp-reply": 14,
    "info-request": 15,
    "info-reply": 16,
    "address-mask-request": 17,
    "address-mask-reply": 18,
}
ICMPV6_TYPES = {
    "destination-unreachable": 1,
    "packet-too-big": 2,
    "time-exceeded": 3,
    "parameter-problem": 4,
    "echo-request": 128,
    "echo-reply": 129,
    "mld-listener-query": 130,
    "mld-listener-report": 131,
    "mld-listener-done": 132,
    "mld-listener-reduction": 132,
    "nd-router-solicit": 133,
    "nd-router-advert": 134,
    "nd-neighbor-solicit": 135,
    "nd-neighbor-advert": 136,
    "nd-redirect": 137,
    "router-renumbering": 138,
    "ind-neighbor-solicit": 141,
    "ind-neighbor-advert": 142,
    "mld2-listener-report": 143,
}
ICMP_CODES = {
    "net-unreachable": 0,
    "host-unreachable": 1,
    "prot-unreachable": 2,
    "port-unreachable": 3,
    "frag-needed": 4,
    "net-prohibited": 9,
    "host-prohibited": 10,
    "admin-prohibited": 13,
}
ICMPV6_CODES = {
    "no-route": 0,
    "admin-prohibited": 1,
    "addr-unreachable": 3,
    "port-unreachable": 4,
    "policy-fail": 5,
    "reject-route": 6,
}
DSCP = {f"cs{number}": 8 * number for number in range(8)} | {
    f"af{high}{low}": 8 * high + 2 * low for high in range(1, 5) for low in range(1, 4)
}
DSCP |= {"be": 0, "ef": 46, "va": 44, "le": 1}
FIB_TYPES = {
    name: number
    for number, name in enumerate(
        ("unspec", "unicast", "local", "broadcast", "anycast", "multicast", "blackhole", "unreachable", "prohibit")
    )
}
NAMES: Mapping[str, Mapping[str, int]] = {
    "inet_proto": PROTOCOLS,
    "ct_state": STATES,
    "ct_status": STATUS,
    "tcp_flag": TCP_FLAGS,
    "icmp_type": ICMP_TYPES,
    "icmpv6_type": ICMPV6_TYPES,
    "icmp_code": ICMP_CODES,
    "icmpv6_code": ICMPV6_CODES,
    "dscp": DSCP,
    "fib_addrtype": FIB_TYPES,
    "ct_dir": {"original": 0, "reply": 1},
    "nf_proto": {"ipv4": 2, "ipv6": 10},
    "ether_type": {"ip": 0x0800, "arp": 0x0806, "ip6": 0x86DD, "8021q": 0x8100, "8021ad": 0x88A8, "vlan": 0x8100},
    "pkt_type": {"host": 0, "unicast": 0, "broadcast": 1, "multicast": 2, "other": 3},
}
FLAGS = frozenset({"ct_state", "ct_status", "tcp_flag"})
"""Types whose values are bits: several of them named together are one value."""

ADDRESS_BITS = {"ipv4_addr": (4, 32), "ipv6_addr": (6, 128)}


class UnreadableError(ValueError):
    """A value that cannot be read as what it stands for."""


def listed(found: Any) -> list[Any]:
    """Members of what nft lists as one value where there is but one, and leaves out where there is none."""
    if found is None:
        return []
    return found if isinstance(found, list) else [found]


def value(kind: str, raw: Any) -> Value:
    """One value of a type, canonical."""
    if isinstance(raw, dict):
        if "concat" in raw:
            raise UnreadableError(f"several values for one of {kind}")
        if "|" in raw and kind in FLAGS | {"integer", "mark"}:
            return bits(kind, raw["|"])
        if "elem" in raw:
            return value(kind, raw["elem"]["val"])
        raise UnreadableError(f"the value {raw}")
    if isinstance(raw, list) and kind in FLAGS:
        return bits(kind, raw)
    if kind in ADDRESS_BITS and isinstance(raw, str):
        address = Address.parse(raw)
        if address.family != ADDRESS_BITS[kind][0]:
            raise UnreadableError(f"the address {raw} of another family")
        return address.value
    if isinstance(raw, bool):
        return int(raw)
    if isinstance(raw, int):
        return raw
    if isinstance(raw, str):
        if kind in ("ifname", "iface_index", "text"):
            return raw
        names = NAMES.get(kind, {})
        if raw in names:
            return names[raw]
        try:
            return int(raw, 0)
        except ValueError:
            raise UnreadableError(f"the {kind} {raw!r}") from None
    raise UnreadableError(f"the value {raw}")


def bits(kind: str, raw: Any) -> int:
    """Several flags as one number."""
    total = 0
    for one in raw if isinstance(raw, list) else [raw]:
        total |= number(kind, one)
    return total


def number(kind: str, raw: Any) -> int:
    """One value that is a number."""
    found = value(kind, raw)
    if not isinstance(found, int):
        raise UnreadableError(f"the {kind} {raw!r}")
    return found


def span(kind: str, raw: Any) -> Range | Value:
    """A range, a prefix as the range of its addresses, or a single value."""
    if isinstance(raw, dict) and "elem" in raw:
        return span(kind, raw["elem"]["val"])
    if isinstance(raw, dict) and "prefix" in raw:
        found, length = number(kind, raw["prefix"]["addr"]), int(raw["prefix"]["len"])
        size = ADDRESS_BITS[kind][1] if kind in ADDRESS_BITS else 16 if kind == "inet_service" else 32
        if not 0 <= length <= size:
            raise UnreadableError(f"the prefix {raw['prefix']}")
        low = found >> (size - length) << (size - length)
        return Range(low, low + (1 << (size - length)) - 1)
    if isinstance(raw, dict) and "range" in raw:
        low, high = (number(kind, one) for one in raw["range"])
        return Range(low, high)
    return value(kind, raw)


def key(kinds: tuple[str, ...], raw: Any) -> tuple[Any, ...]:
    """The parts of an element's key, one for each type."""
    if isinstance(raw, dict) and "elem" in raw:
        return key(kinds, raw["elem"]["val"])
    if len(kinds) == 1:
        return (span(kinds[0], raw),)
    if not (isinstance(raw, dict) and "concat" in raw and len(raw["concat"]) == len(kinds)):
        raise UnreadableError(f"the element {raw}, which is not of {' . '.join(kinds)}")
    return tuple(span(kind, one) for kind, one in zip(kinds, raw["concat"], strict=True))


def value_set(kinds: tuple[str, ...], elements: Iterable[Any], unsaid: str = "") -> ValueSet:
    """A set of elements as they are listed; ``kinds`` are the types of the key's parts."""
    single: set[Value] = set()
    ranges: list[Range] = []
    wildcards: list[str] = []
    boxes: list[tuple[Range | str, ...]] = []
    for element in elements:
        parts = key(kinds, element)
        if len(parts) == 1:
            (part,) = parts
            if isinstance(part, Range):
                ranges.append(part)
            elif isinstance(part, str) and _is_wildcard(kinds[0], part):
                wildcards.append(part[:-1])
            else:
                single.add(part)
        elif any(isinstance(part, Range) for part in parts):
            boxes.append(tuple(_as_range(part) for part in parts))
        else:
            single.add(parts)
    return ValueSet(frozenset(single), tuple(sorted(ranges)), tuple(wildcards), tuple(boxes), unsaid)


def value_map(kinds: tuple[str, ...], elements: Iterable[tuple[Any, object]], unsaid: str = "") -> ValueMap:
    """A map of elements as they are listed, with what each gives."""
    single: dict[Value, object] = {}
    ranges: list[tuple[Range, object]] = []
    wildcards: list[tuple[str, object]] = []
    boxes: list[tuple[tuple[Range | str, ...], object]] = []
    for raw, given in elements:
        parts = key(kinds, raw)
        if len(parts) == 1:
            (part,) = parts
            if isinstance(part, Range):
                ranges.append((part, given))
            elif isinstance(part, str) and _is_wildcard(kinds[0], part):
                wildcards.append((part[:-1], given))
            else:
                single[part] = given
        elif any(isinstance(part, Range) for part in parts):
            boxes.append((tuple(_as_range(part) for part in parts), given))
        else:
            single[parts] = given
    ranges.sort(key=lambda one: one[0])
    return ValueMap(single, tuple(ranges), tuple(boxes), tuple(wildcards), unsaid)


def _is_wildcard(kind: str, text: str) -> bool:
    return kind == "ifname" and text.endswith("*") and not text.endswith("\\*")


def _as_range(part: Range | Value) -> Range | str:
    if isinstance(part, Range | str):
        return part
    assert isinstance(part, int)
    return Range(part, part)
