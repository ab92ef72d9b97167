"""A speaker of BMP that is none: says what a network's routers hear, and then what happened, to try a listener.

Messages by RFC 7854 section 4, of BGP by RFC 4271 section 4.3 and 4760 section 3, with AS numbers of four bytes.
"""

import struct
from collections.abc import Iterable, Iterator
from datetime import datetime

from routrel.formats.mrt.attributes import (
    AS_PATH,
    COMMUNITIES,
    EXTENDED_LENGTH,
    LARGE_COMMUNITIES,
    LOCAL_PREF,
    MP_REACH_NLRI,
    MULTI_EXIT_DISC,
    NEXT_HOP,
    ORIGIN,
)
from routrel.formats.mrt.messages import HEADER_LENGTH, MARKER, MP_UNREACH_NLRI, UNICAST, UPDATE
from routrel.formats.routing_grammar import community_numbers
from routrel.listening.bmp import COMMON, INITIATION, PEER, PEER_DOWN, PEER_UP, ROUTE_MONITORING, VERSION
from routrel.model.addresses import Address, Prefix
from routrel.model.announcements import microseconds
from routrel.model.policies import ORIGINS
from routrel.model.received import HeardSession, PathAttributes

OPEN = 1
HOLD_TIME = 180
TRANSITIVE, OPTIONAL = 0x40, 0x80
AS_TRANS = 23_456
MOST_IN_SEGMENT = 255
PORT = 179


def initiation(name: str) -> bytes:
    """Who speaks (section 4.3)."""
    said = b"".join(
        struct.pack(">HH", kind, len(text)) + text for kind, text in ((1, b"Routrel, a stand-in"), (2, name.encode()))
    )
    return _message(INITIATION, said)


def session_up(session: HeardSession, moment: datetime) -> Iterator[bytes]:
    """A neighbour comes up, and says all its paths (sections 4.10 and 4.6)."""
    opened = _open(session.number, session.identifier) + _open(session.neighbor_number, session.neighbor_identifier)
    yield _message(PEER_UP, _peer(session, moment) + _wide(session.local) + struct.pack(">HH", PORT, PORT) + opened)
    for prefix, path in session.paths:
        yield announced(session, prefix, path, moment)


def session_down(session: HeardSession, moment: datetime) -> bytes:
    """A neighbour goes down without a word (section 4.9, reason 4)."""
    return _message(PEER_DOWN, _peer(session, moment) + b"\4")


def announced(session: HeardSession, prefix: Prefix, path: PathAttributes, moment: datetime) -> bytes:
    """A neighbour says a path."""
    return _route(session, moment, _attributes(session, prefix, path), prefix if prefix.family == 4 else None)


def withdrawn(session: HeardSession, prefix: Prefix, moment: datetime) -> bytes:
    """A neighbour takes a path back."""
    if prefix.family == 4:
        gone = _written(prefix)
        return _message(
            ROUTE_MONITORING, _peer(session, moment) + _bgp(UPDATE, struct.pack(">H", len(gone)) + gone + b"\0\0")
        )
    gone = _attribute(OPTIONAL, MP_UNREACH_NLRI, struct.pack(">HB", 2, UNICAST) + _written(prefix))
    return _route(session, moment, gone, None)


def _route(session: HeardSession, moment: datetime, attributes: bytes, prefix: Prefix | None) -> bytes:
    body = struct.pack(">HH", 0, len(attributes)) + attributes + (b"" if prefix is None else _written(prefix))
    return _message(ROUTE_MONITORING, _peer(session, moment) + _bgp(UPDATE, body))


def _message(kind: int, body: bytes) -> bytes:
    return COMMON.pack(VERSION, COMMON.size + len(body), kind) + body


def _peer(session: HeardSession, moment: datetime) -> bytes:
    seconds, micros = divmod(microseconds(moment), 1_000_000)
    flags = 0x80 if session.neighbor.family == 6 else 0
    identifier = session.neighbor_identifier.to_bytes(4, "big")
    return PEER.pack(0, flags, b"", _wide(session.neighbor), session.neighbor_number, identifier, seconds, micros)


def _wide(address: Address) -> bytes:
    """An address in sixteen bytes."""
    return address.value.to_bytes(16, "big")


def _open(number: int, identifier: int) -> bytes:
    """An OPEN: unicast of both families, AS numbers of four bytes (RFC 5492, 4760, 6793)."""
    said = [struct.pack(">BBHBB", 1, 4, family, 0, UNICAST) for family in (1, 2)]
    said.append(struct.pack(">BBI", 65, 4, number))
    optional = b"".join(bytes([2, len(one)]) + one for one in said)
    short = number if number < 1 << 16 else AS_TRANS
    return _bgp(OPEN, struct.pack(">BHHIB", 4, short, HOLD_TIME, identifier, len(optional)) + optional)


def _bgp(kind: int, body: bytes) -> bytes:
    return MARKER + struct.pack(">HB", HEADER_LENGTH + len(body), kind) + body


def _written(prefix: Prefix) -> bytes:
    width = 4 if prefix.family == 4 else 16
    return bytes([prefix.length]) + prefix.network.to_bytes(width, "big")[: -(-prefix.length // 8)]


def _attributes(session: HeardSession, prefix: Prefix, path: PathAttributes) -> bytes:
    hop = path.next_hop or session.neighbor
    found = _attribute(TRANSITIVE, ORIGIN, bytes([ORIGINS.index(path.origin)]))
    found += _attribute(TRANSITIVE, AS_PATH, b"".join(_segments(path.as_path)))
    if prefix.family == 4:
        found += _attribute(TRANSITIVE, NEXT_HOP, (hop.value & 0xFFFFFFFF).to_bytes(4, "big"))
    if path.med is not None:
        found += _attribute(OPTIONAL, MULTI_EXIT_DISC, struct.pack(">I", path.med))
    if session.is_internal:
        found += _attribute(TRANSITIVE, LOCAL_PREF, struct.pack(">I", path.local_preference))
    numbers = [community_numbers(one) for one in sorted(path.communities)]
    for count, kind, form in ((2, COMMUNITIES, ">HH"), (3, LARGE_COMMUNITIES, ">III")):
        of = [struct.pack(form, *one) for one in numbers if len(one) == count]
        found += _attribute(TRANSITIVE | OPTIONAL, kind, b"".join(of)) if of else b""
    if prefix.family == 6:
        reached = struct.pack(">HBB", 2, UNICAST, 16) + _wide(hop) + b"\0" + _written(prefix)
        found += _attribute(OPTIONAL, MP_REACH_NLRI, reached)
    return found


def _segments(numbers: tuple[int, ...]) -> Iterable[bytes]:
    for at in range(0, len(numbers), MOST_IN_SEGMENT):
        part = numbers[at : at + MOST_IN_SEGMENT]
        yield bytes([2, len(part)]) + struct.pack(f">{len(part)}I", *part)


def _attribute(flags: int, kind: int, value: bytes) -> bytes:
    if len(value) > 255:
        return bytes([flags | EXTENDED_LENGTH, kind]) + struct.pack(">H", len(value)) + value
    return bytes([flags, kind, len(value)]) + value
