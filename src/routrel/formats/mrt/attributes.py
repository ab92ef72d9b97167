"""BGP path attributes on the wire (RFC 4271 section 4.3, 4760, 6793, 1997, 4456, 8092).

What is malformed raises ``MalformedAttributesError``: whoever reads decides, as RFC 7606 says,
what of the route stands.
"""

import struct
from collections.abc import Iterator
from functools import lru_cache

from routrel.formats.routing_grammar import community
from routrel.model.addresses import Address
from routrel.model.policies import ORIGINS
from routrel.model.received import DEFAULT_LOCAL_PREFERENCE, PathAttributes

ORIGIN, AS_PATH, NEXT_HOP, MULTI_EXIT_DISC, LOCAL_PREF = range(1, 6)
COMMUNITIES, ORIGINATOR_ID, CLUSTER_LIST = 8, 9, 10
MP_REACH_NLRI, AS4_PATH, LARGE_COMMUNITIES = 14, 17, 32
EXTENDED_LENGTH = 0x10
AS_SET, AS_SEQUENCE, CONFED_SEQUENCE, CONFED_SET = 1, 2, 3, 4

KEPT = 1 << 16
"""Values kept of each kind: a full table has far fewer AS paths, communities and next hops than routes."""


class MalformedAttributesError(ValueError):
    """Attributes that are not as the RFCs have them; the message says which, and how."""


def split(data: bytes) -> Iterator[tuple[int, bytes]]:
    """Type and value of each attribute; the first of a type that stands twice counts (RFC 7606 section 3 g)."""
    seen = set[int]()
    at, end = 0, len(data)
    while at < end:
        if end - at < 3:
            raise MalformedAttributesError("the attributes end inside the head of one")
        flags, kind = data[at], data[at + 1]
        wide = flags & EXTENDED_LENGTH
        if wide and end - at < 4:
            raise MalformedAttributesError("the attributes end inside the head of one")
        length = data[at + 2] << 8 | data[at + 3] if wide else data[at + 2]
        at += 4 if wide else 3
        if length > end - at:
            raise MalformedAttributesError(f"attribute {kind} says {length} bytes, {end - at} are left")
        if kind not in seen:
            seen.add(kind)
            yield kind, data[at : at + length]
        at += length


def read_attributes(data: bytes, number_size: int = 4) -> PathAttributes:
    """The attributes of a path; AS numbers have ``number_size`` bytes (RFC 6793).

    Sets in an AS path count as one AS (RFC 4271 section 9.1.2.2 a): their lowest number stands for them. Segments of
    confederations count as none (RFC 5065 section 5.3).
    """
    found = dict(split(data))
    get = found.get
    path = _as_path(get(AS_PATH, b""), number_size)
    if number_size == 2 and AS4_PATH in found:
        path = _merged(path, _as_path(found[AS4_PATH], 4))
    preference = get(LOCAL_PREF)
    return PathAttributes(
        path,
        _origin(get(ORIGIN)),
        _number(get(MULTI_EXIT_DISC)),
        DEFAULT_LOCAL_PREFERENCE if preference is None else int.from_bytes(_whole(preference), "big"),
        _communities(get(COMMUNITIES, b""), get(LARGE_COMMUNITIES, b"")),
        _next_hop(get(NEXT_HOP), get(MP_REACH_NLRI)),
        _number(get(ORIGINATOR_ID)),
        _numbers(get(CLUSTER_LIST, b"")),
    )


def _origin(value: bytes | None) -> str:
    if value is None:
        return "incomplete"
    if len(value) != 1 or value[0] >= len(ORIGINS):
        raise MalformedAttributesError(f"there is no origin {value.hex()}")
    return ORIGINS[value[0]]


def _whole(value: bytes) -> bytes:
    if len(value) != 4:
        raise MalformedAttributesError(f"a number of {len(value)} bytes and not 4")
    return value


def _number(value: bytes | None) -> int | None:
    return None if value is None else int.from_bytes(_whole(value), "big")


def _numbers(value: bytes) -> tuple[int, ...]:
    if len(value) % 4:
        raise MalformedAttributesError(f"a cluster list has {len(value)} bytes, which is no multiple of 4")
    return struct.unpack(f">{len(value) // 4}I", value)


@lru_cache(KEPT)
def _communities(short: bytes, large: bytes) -> frozenset[str]:
    """RFC 1997: two halves of a number; RFC 8092: three numbers."""
    found = []
    for value, size, form in ((short, 4, ">HH"), (large, 12, ">III")):
        if len(value) % size:
            raise MalformedAttributesError(f"communities have {len(value)} bytes, which is no multiple of {size}")
        found += [community(":".join(map(str, one))) for one in struct.iter_unpack(form, value)]
    return frozenset(found)


@lru_cache(KEPT)
def _as_path(value: bytes, size: int) -> tuple[int, ...]:
    path: list[int] = []
    at = 0
    while at < len(value):
        if len(value) - at < 2:
            raise MalformedAttributesError("the AS path ends inside a segment")
        kind, count = value[at], value[at + 1]
        at += 2
        if not AS_SET <= kind <= CONFED_SET or len(value) - at < count * size or not count:
            raise MalformedAttributesError(f"segment of type {kind} and {count} numbers in an AS path")
        numbers = struct.unpack_from(f">{count}{'I' if size == 4 else 'H'}", value, at)
        at += count * size
        if kind == AS_SEQUENCE:
            path += numbers
        elif kind == AS_SET:
            path.append(min(numbers))
    return tuple(path)


def _merged(path: tuple[int, ...], wide: tuple[int, ...]) -> tuple[int, ...]:
    """RFC 6793 section 4.2.3: the last numbers as the speakers of wide numbers gave them."""
    return path if len(wide) > len(path) else (*path[: len(path) - len(wide)], *wide)


@lru_cache(KEPT)
def _next_hop(plain: bytes | None, reach: bytes | None) -> Address | None:
    """NEXT_HOP, or the one of MP_REACH_NLRI: whole, or its next hop alone (RFC 6396 section 4.3.4)."""
    if reach is None:
        if plain is None:
            return None
        reach = bytes([len(plain)]) + plain
    elif reach[:1] == b"\0":
        reach = reach[3:]  # with its address family, as in an UPDATE
    hop = reach[1 : 1 + reach[0]] if reach else b""
    if not reach or len(hop) < reach[0] or len(hop) not in (4, 16, 32):
        raise MalformedAttributesError(f"a next hop of {len(hop)} bytes")
    if len(hop) == 4:
        return Address(4, int.from_bytes(hop, "big"))
    first, second = (Address(6, int.from_bytes(hop[at : at + 16], "big")) for at in (0, len(hop) - 16))
    return second if not first.value else first
