"""Expressions, conditions and sets compiled to plain functions of a packet.

A function gives a value, ``UNSAID`` where no capture tells it, or ``ABSENT`` where the packet has no such thing:
then the rule does not match, whatever the comparison (nft(8): payload and ct expressions end the rule).
"""

from bisect import bisect_right
from collections.abc import Callable
from operator import and_, lshift, or_, rshift, xor
from typing import Any, Protocol

import numpy as np

from routrel.forwarding.programs.packets import (
    ABSENT,
    ECHO,
    TCP_FLAGS,
    UNSAID,
    UNTRACKED,
    Between,
    Packet,
    Partly,
    Unknown,
)
from routrel.model.addresses import Address
from routrel.model.filter_programs import (
    Concatenation,
    Condition,
    Constant,
    Expression,
    Fib,
    Field,
    MapLookup,
    Operation,
    Range,
    Unsaid,
    Value,
    ValueMap,
    ValueSet,
)
from routrel.model.filters import ICMP, ICMPV6, TCP, UDP, Header

Getter = Callable[[Packet], Any]
Test = Callable[[Packet], bool | None]
"""None: it cannot be told."""

PORTED_ROOMS = {"tcp": (TCP,), "udp": (UDP,), "sctp": (132,), "dccp": (33,), "udplite": (136,)}
OTHER_ROOMS = {"esp": 50, "ah": 51, "comp": 108, "igmp": 2, "gre": 47}
OPERATIONS: dict[str, Callable[[Any, Any], Any]] = {"&": and_, "|": or_, "^": xor, "<<": lshift, ">>": rshift}
MOST_BITS = 128
NOT_A_FRAGMENT = Partly(0, 0x4000)
"""The fragment field of a whole packet; whether it may be cut into fragments is not known."""

FEW_BOXES = 16


class Surroundings(Protocol):
    """What a device's rules may ask of the device itself."""

    def route_interface(self, header: Header, interface: str | None, mark: int | None) -> str:
        """The interface that its tables send a header's destination out of, '' where they have none.

        Of several ways the one by ``interface`` where there is one; ``mark`` is None where it is not known.
        """

    def address_type(self, address: Address, iif: str | None) -> int:
        """The type of an address, as the number that ``fib`` gives."""

    def own_address(self, interface: str, family: int, towards: Address | None) -> Address | None:
        """The address of an interface that is in the subnet of what it sends to, else its first."""


def getter(expression: Expression, around: Surroundings) -> Getter:
    """An expression as a function of a packet."""
    if isinstance(expression, Field):
        return _field(expression)
    if isinstance(expression, Constant):
        constant = expression.value
        return lambda packet: constant
    if isinstance(expression, Unsaid):
        return lambda packet: UNSAID
    if isinstance(expression, Fib):
        return _fib(expression, around)
    if isinstance(expression, Operation):
        return _operation(expression, around)
    if isinstance(expression, Concatenation):
        parts = [getter(part, around) for part in expression.parts]
        return lambda packet: _joined([part(packet) for part in parts])
    return _looked_up(expression, around)


def _joined(values: list[Any]) -> Any:
    if ABSENT in values:
        return ABSENT
    return UNSAID if any(isinstance(value, Unknown | Between | Partly) for value in values) else tuple(values)


def _operation(expression: Operation, around: Surroundings) -> Getter:
    left, right = getter(expression.left, around), getter(expression.right, around)
    operation = OPERATIONS[expression.operator]

    def result(packet: Packet) -> Any:
        one, other = left(packet), right(packet)
        if one is ABSENT or other is ABSENT:
            return ABSENT
        if isinstance(one, Partly) and expression.operator == "&" and isinstance(other, int):
            return UNSAID if one.unknown & other else one.value & other
        if not isinstance(one, int) or not isinstance(other, int):
            return UNSAID
        if expression.operator in ("<<", ">>") and not 0 <= other <= MOST_BITS:
            return UNSAID
        return operation(one, other) & 0xFFFFFFFF if expression.operator == "<<" else operation(one, other)

    return result


def _looked_up(expression: MapLookup, around: Surroundings) -> Getter:
    key, find = getter(expression.key, around), lookup(expression.data)

    def result(packet: Packet) -> Any:
        value = key(packet)
        if value is ABSENT or isinstance(value, Unknown | Between | Partly):
            return value if value is ABSENT else UNSAID
        return find(value)

    return result


def _fib(expression: Fib, around: Surroundings) -> Getter:
    flags = expression.flags

    def result(packet: Packet) -> Any:
        address = packet.header.source if "saddr" in flags else packet.header.destination
        asked = packet.iif if "iif" in flags else packet.oif if "oif" in flags else None
        if expression.result == "type":
            return around.address_type(address, asked)
        if _is_at_its_socket(packet):
            return packet.iif
        header = packet.header if "daddr" in flags else packet.header.reply()
        mark = packet.mark if "mark" in flags else 0
        found = around.route_interface(
            header._replace(source_port=None, destination_port=None), asked, mark if isinstance(mark, int) else None
        )
        # With an interface asked for, a route by another one counts for none.
        return "" if asked is not None and found != asked else found

    return result


def _is_at_its_socket(packet: Packet) -> bool:
    """Whether the kernel takes the way in for the answer: from the loopback interface, and of packets that a
    connected socket of the device waits for (nft_fib.h, nft_fib_can_skip)."""
    if packet.hook not in ("ingress", "prerouting", "input"):
        return False
    is_socket = packet.hook == "input" and packet.kind == "following" and packet.header.protocol == TCP
    return packet.iif == "lo" or is_socket


def _field(field: Field) -> Getter:
    room, name = field.room, field.name
    if room == "meta":
        return META.get(name, lambda packet: UNSAID)
    if room.startswith("ct"):
        return _connection_field(room.removeprefix("ct").strip(), name)
    if room in ("ip", "ip6"):
        return _network_field(4 if room == "ip" else 6, name)
    if room == "th":
        return lambda packet: _port(packet.header, name, UNSAID)
    if room in PORTED_ROOMS:
        return _transport_field(PORTED_ROOMS[room][0], name)
    if room in ("icmp", "icmpv6"):
        return _icmp_field(ICMP if room == "icmp" else ICMPV6, name)
    if room in OTHER_ROOMS:
        number = OTHER_ROOMS[room]
        return lambda packet: UNSAID if packet.header.protocol == number else ABSENT
    if room == "exthdr":
        return lambda packet: 0
    if room == "ether" and name == "type":
        return META["protocol"]
    return lambda packet: UNSAID


def _port(header: Header, name: str, otherwise: Unknown) -> Any:
    port = header.source_port if name == "sport" else header.destination_port if name == "dport" else None
    return otherwise if port is None else port


def _network_field(family: int, name: str) -> Getter:
    def result(packet: Packet) -> Any:
        header = packet.header
        if header.source.family != family:
            return ABSENT
        if name == "saddr":
            return header.source.value
        if name == "daddr":
            return header.destination.value
        if name in ("protocol", "nexthdr"):
            return header.protocol
        if name == "dscp":
            return packet.dscp
        if name == "version":
            return family
        if name == "length":
            length = packet.length
            return length if family == 4 else Between(length.low - 40, length.high - 40)
        if name in ("ttl", "hoplimit"):
            return Between(2, 255)  # one that would end there is not walked
        if name == "hdrlength":
            return 5
        if name == "ecn":
            return 0
        if name == "frag-off":
            return NOT_A_FRAGMENT
        return UNSAID

    return result


def _transport_field(protocol: int, name: str) -> Getter:
    def result(packet: Packet) -> Any:
        header = packet.header
        if header.protocol != protocol:
            return ABSENT
        if name == "sport":
            return header.source_port
        if name == "dport":
            return header.destination_port
        if name == "length" and protocol == UDP:
            base = 20 if packet.family == 4 else 40
            return Between(packet.length.low - base, packet.length.high - base)
        if name == "flags" and protocol == TCP:
            return TCP_FLAGS[packet.kind]
        return UNSAID

    return result


def _icmp_field(protocol: int, name: str) -> Getter:
    def result(packet: Packet) -> Any:
        if packet.header.protocol != protocol:
            return ABSENT
        if name == "type":
            return ECHO[protocol][packet.is_reply]
        return 0 if name == "code" else UNSAID

    return result


def _connection_field(direction: str, name: str) -> Getter:
    def result(packet: Packet) -> Any:
        if name == "state":
            return packet.state
        connection = packet.connection
        if connection is None or packet.state == UNTRACKED:
            return ABSENT
        if name == "mark":
            return connection.mark
        if name == "status":
            return connection.status
        if name == "direction":
            return packet.direction
        header = connection.original if direction != "reply" else connection.translated.reply()
        if name == "l3proto":
            return 2 if header.source.family == 4 else 10
        if name == "protocol":
            return header.protocol
        if name == "proto-src":
            return ABSENT if header.source_port is None else header.source_port
        if name == "proto-dst":
            return ABSENT if header.destination_port is None else header.destination_port
        if name.endswith(("saddr", "daddr")):
            address = header.source if name.endswith("saddr") else header.destination
            wanted = {"ip": 4, "ip6": 6}.get(name.split(" ")[0], address.family)
            return address.value if address.family == wanted else ABSENT
        if name == "zone":
            return 0
        return UNSAID

    return result


def _owner(packet: Packet) -> Any:
    """Who made the packet: nobody here where it came in."""
    return UNSAID if packet.own else ABSENT


META: dict[str, Getter] = {
    "iifname": lambda packet: packet.iif,
    "oifname": lambda packet: packet.oif,
    "iif": lambda packet: packet.iif,
    "oif": lambda packet: packet.oif,
    "l4proto": lambda packet: packet.header.protocol,
    "nfproto": lambda packet: 2 if packet.header.source.family == 4 else 10,
    "protocol": lambda packet: 0x0800 if packet.header.source.family == 4 else 0x86DD,
    "mark": lambda packet: packet.mark,
    "length": lambda packet: packet.length,
    "pkttype": lambda packet: 0,
    "skuid": _owner,
    "skgid": _owner,
    "cgroup": _owner,
}


def condition(found: Condition, around: Surroundings) -> Test:
    """A condition as a function of a packet."""
    left, operator, right = getter(found.left, around), found.operator, found.right
    if isinstance(right, ValueSet):
        member, wanted = membership(right), operator == "in"
        unsaid = bool(right.unsaid)

        def among(packet: Packet) -> bool | None:
            value = left(packet)
            if value is ABSENT:
                return False
            if unsaid or isinstance(value, Unknown | Between | Partly):
                return None
            return member(value) == wanted

        return among

    def compared(packet: Packet) -> bool | None:
        value = left(packet)
        if value is ABSENT:
            return False
        if isinstance(value, Unknown | Partly):
            return None
        if isinstance(value, Between):
            return _compare_between(value, operator, right)
        return _compare(value, operator, right)

    return compared


def _compare(value: Any, operator: str, right: Any) -> bool:
    if operator == "==":
        return bool(value == right)
    if operator == "!=":
        return bool(value != right)
    if operator in ("bits", "no bits"):
        return bool(value & right) == (operator == "bits")
    if operator == "<":
        return bool(value < right)
    if operator == ">":
        return bool(value > right)
    return bool(value <= right) if operator == "<=" else bool(value >= right)


def _compare_between(value: Between, operator: str, right: Any) -> bool | None:
    """The answer where it is the same for every number that the value may be."""
    low, high = (_compare(end, operator, right) for end in value)
    if operator in ("==", "!=") and value.low <= right <= value.high:
        return None
    return low if low == high else None


def membership(values: ValueSet) -> Callable[[Value], bool]:
    """Whether a set holds a value."""
    single, wildcards = values.single, values.wildcards
    starts, ends = [one.low for one in values.ranges], [one.high for one in values.ranges]
    boxes = _boxes([(box, True) for box in values.boxes])

    def holds(value: Value) -> bool:
        if value in single:
            return True
        if starts and isinstance(value, int):
            at = bisect_right(starts, value) - 1
            return at >= 0 and value <= ends[at]
        if wildcards and isinstance(value, str):
            return value.startswith(wildcards)
        return boxes is not None and isinstance(value, tuple) and boxes(value) is not None

    return holds


def lookup(data: ValueMap) -> Callable[[Value], Any]:
    """What a map gives for a value: ``ABSENT`` where nothing, ``UNSAID`` where its content is not known."""
    single, wildcards = data.single, data.wildcards
    starts = [one.low for one, _ in data.ranges]
    boxes = _boxes(list(data.boxes))

    def find(value: Value) -> Any:
        if data.unsaid:
            return UNSAID
        if value in single:
            return single[value]
        if starts and isinstance(value, int):
            at = bisect_right(starts, value) - 1
            if at >= 0 and value <= data.ranges[at][0].high:
                return _given(data.ranges[at][1], data.ranges[at][0], value)
        if isinstance(value, str):
            return next((given for start, given in wildcards if value.startswith(start)), ABSENT)
        found = boxes(value) if boxes is not None and isinstance(value, tuple) else None
        return ABSENT if found is None else found

    return find


def _given(given: object, key: Range, value: int) -> object:
    """What a range of keys gives; a range of the same size is mapped onto, address by address (netmap)."""
    if isinstance(given, Range) and given.high - given.low == key.high - key.low:
        return given.low + value - key.low
    return given


def _boxes(boxes: list[tuple[tuple[Range | str, ...], Any]]) -> Callable[[tuple[Any, ...]], Any] | None:
    """What the first box that holds a value gives, or None."""
    if not boxes:
        return None

    def is_in(value: tuple[Any, ...], box: tuple[Range | str, ...]) -> bool:
        return len(value) == len(box) and all(
            part == side if isinstance(side, str) else isinstance(part, int) and side.low <= part <= side.high
            for part, side in zip(value, box, strict=True)
        )

    wide = any(isinstance(side, str) or side.high >= 2**63 for box, _ in boxes for side in box)
    if len(boxes) <= FEW_BOXES or wide or len({len(box) for box, _ in boxes}) > 1:
        return lambda value: next((given for box, given in boxes if is_in(value, box)), None)
    lows, highs = (np.array([[side[end] for side in box] for box, _ in boxes], np.int64).T for end in (0, 1))

    def find(value: tuple[Any, ...]) -> Any:
        if len(value) != len(lows) or not all(isinstance(part, int) and part < 2**63 for part in value):
            return None
        column = np.array(value, np.int64)[:, None]
        at = np.flatnonzero(((lows <= column) & (column <= highs)).all(axis=0))
        return boxes[int(at[0])][1] if len(at) else None

    return find
