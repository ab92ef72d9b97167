"""BGP's UPDATE messages as they are sent (RFC 4271 section 4.3, 4760, 7911; malformed ones by RFC 7606).

A message whose prefixes cannot be told ends the session by RFC 7606 section 3 (i), (j) and 5.3: whoever received it has
no use for it, and ``BrokenMessageError`` says why. One whose attributes alone are malformed withdraws its prefixes.
"""

import struct
from typing import NamedTuple

from routrel.formats.mrt.attributes import (
    AS_PATH,
    EXTENDED_LENGTH,
    MP_REACH_NLRI,
    NEXT_HOP,
    ORIGIN,
)
from routrel.model.addresses import BITS, Prefix
from routrel.model.announcements import UNNUMBERED

MP_UNREACH_NLRI = 15
HEADER_LENGTH = 19
UPDATE = 2
MARKER = b"\xff" * 16
UNICAST = 1
FAMILIES = {1: 4, 2: 6}
LENGTH = struct.Struct(">H")

Path = tuple[Prefix, int]
"""A prefix and the identifier of the path, ``UNNUMBERED`` where paths have none."""


class BrokenMessageError(ValueError):
    """A message of which not even the prefixes can be told."""


class Update(NamedTuple):
    """``attributes`` are as they came, but for MP_REACH_NLRI, of which the next hop alone is kept: the same for all
    paths that share them. ``malformed`` says that they cannot count; ``passed_over`` names families beside."""

    withdrawn: list[Path]
    announced: list[Path]
    attributes: bytes
    malformed: str
    passed_over: tuple[str, ...]


class Known:
    """Prefixes read before, by how they are written: there are far fewer than times they are."""

    def __init__(self) -> None:
        self.of: dict[int, dict[bytes, Prefix]] = {4: {}, 6: {}}


def read_update(data: bytes, start: int, end: int, has_paths: bool, known: Known) -> Update | None:
    """The message from ``start`` to ``end``; None where it is of another type. Raises ``BrokenMessageError``."""
    if end - start < HEADER_LENGTH or data[start : start + 16] != MARKER:
        raise BrokenMessageError("a message without its marker")
    if LENGTH.unpack_from(data, start + 16)[0] != end - start:
        raise BrokenMessageError("a message of another length than it says")
    if data[start + 18] != UPDATE:
        return None
    at = start + HEADER_LENGTH
    if end - at < 4:
        raise BrokenMessageError("an UPDATE that ends inside its lengths")
    attributes_at = at + 2 + (data[at] << 8 | data[at + 1])
    if attributes_at + 2 > end:
        raise BrokenMessageError("withdrawn routes longer than the message")
    first = attributes_at + 2
    behind = first + (data[attributes_at] << 8 | data[attributes_at + 1])
    if behind > end:
        raise BrokenMessageError("attributes longer than the message")
    withdrawn = _paths(data, at + 2, attributes_at, 4, has_paths, known) if attributes_at > at + 2 else []
    announced = _paths(data, behind, end, 4, has_paths, known) if behind < end else []
    if not announced and first == behind:
        return Update(withdrawn, announced, b"", "", ())
    return _with_attributes(data, first, behind, withdrawn, announced, has_paths, known)


def _with_attributes(
    data: bytes, first: int, end: int, withdrawn: list[Path], announced: list[Path], has_paths: bool, known: Known
) -> Update:
    kept, malformed, seen, passed_over, at = [], "", 0, list[str](), first
    is_plain = bool(announced)
    while at < end:
        begin = at
        if end - at < 3:
            malformed = "the attributes end inside the head of one"
            break
        wide = data[at] & EXTENDED_LENGTH
        kind = data[at + 1]
        if wide and end - at < 4:
            malformed = "the attributes end inside the head of one"
            break
        length = data[at + 2] << 8 | data[at + 3] if wide else data[at + 2]
        at += 4 if wide else 3
        if length > end - at:
            malformed = f"attribute {kind} says {length} bytes, {end - at} are left"
            break
        if kind in (MP_REACH_NLRI, MP_UNREACH_NLRI):
            if seen >> kind & 1:
                raise BrokenMessageError(f"attribute {kind} stands twice")
            family, found, hop = _reached(data, at, at + length, kind, has_paths, known)
            if not family:
                passed_over.append(hop.decode())
            elif kind == MP_UNREACH_NLRI:
                withdrawn += found
            else:
                announced += found
                kept.append(bytes([0x80, MP_REACH_NLRI, len(hop)]) + hop)
        else:
            kept.append(data[begin : at + length])
        seen |= 1 << kind
        at += length
    if announced and not malformed:
        needed = (ORIGIN, AS_PATH, NEXT_HOP) if is_plain else (ORIGIN, AS_PATH)
        lacking = [kind for kind in needed if not seen >> kind & 1]
        malformed = f"attribute {lacking[0]} is not there" if lacking else ""
    return Update(withdrawn, announced, b"".join(kept), malformed, tuple(passed_over))


def _reached(data: bytes, at: int, end: int, kind: int, has_paths: bool, known: Known) -> tuple[int, list[Path], bytes]:
    """Family, paths and next hop of MP_REACH_NLRI or MP_UNREACH_NLRI; 0 with its name for one that is not modelled."""
    if end - at < 3:
        raise BrokenMessageError(f"attribute {kind} ends before its prefixes")
    family, subsequent = FAMILIES.get(data[at] << 8 | data[at + 1], 0), data[at + 2]
    if not family or subsequent != UNICAST:
        return 0, [], f"address family {data[at] << 8 | data[at + 1]}, {subsequent}".encode()
    at += 3
    hop = b""
    if kind == MP_REACH_NLRI:
        if at >= end or at + 2 + data[at] > end:
            raise BrokenMessageError("a next hop longer than its attribute")
        hop = data[at : at + 1 + data[at]]
        at += 2 + data[at]
    return family, _paths(data, at, end, family, has_paths, known), hop


def _paths(data: bytes, at: int, end: int, family: int, has_paths: bool, known: Known) -> list[Path]:
    """Prefixes one after the other; bits beyond their length are of no meaning (RFC 4271 section 4.3)."""
    found = list[Path]()
    of, bits, path = known.of[family], BITS[family], UNNUMBERED
    while at < end:
        if has_paths:
            if end - at < 5:
                raise BrokenMessageError("the prefixes end inside one")
            path = int.from_bytes(data[at : at + 4], "big")
            at += 4
        length = data[at]
        behind = at + 1 + (length + 7 >> 3)
        if length > bits or behind > end:
            raise BrokenMessageError(f"a prefix of {length} bits")
        raw = data[at:behind]
        prefix = of.get(raw)
        if prefix is None:
            shift = bits - length
            value = int.from_bytes(raw[1:], "big") << bits - 8 * (len(raw) - 1)
            prefix = of[raw] = Prefix(family, value >> shift << shift, length)
        found.append((prefix, path))
        at = behind
    return found
