"""Messages of BMP (RFC 7854 section 4) as records of MRT that say the same.

What a router says of its neighbours before its policies is what they said; what it says of them after, or of its own
table (RFC 8671, 9069), is counted and left.
"""

import asyncio
import struct
import time
from collections import Counter
from collections.abc import AsyncIterator
from typing import NamedTuple

from routrel.listening.speaking import GarbageError, whole

VERSION = 3
COMMON = struct.Struct(">BIB")
"""Version, length, type."""
PEER = struct.Struct(">BB8s16sI4sII")
"""Type, flags, distinguisher, address, AS, BGP identifier, seconds, microseconds (section 4.2)."""
MOST_BYTES = 1 << 20
"""Of one message; BGP's own have at most 65,535 (RFC 8654)."""
ROUTE_MONITORING, STATISTICS, PEER_DOWN, PEER_UP, INITIATION, TERMINATION, MIRRORING = range(7)
IS_IPV6, AFTER_POLICY, SHORT_NUMBERS, IS_SENT = 0x80, 0x40, 0x20, 0x10
BGP4MP_ET = 17
STATE_CHANGE, MESSAGE, MESSAGE_WITH_PATHS = {False: 5, True: 0}, {False: 4, True: 1}, {False: 9, True: 8}
"""Subtypes, by whether AS numbers have two bytes."""
OPEN_CONFIRM, ESTABLISHED, IDLE = 5, 6, 1
BGP_HEADER = 19
ADD_PATH = 69


class Peer(NamedTuple):
    """A neighbour of the speaker: whose records have its own address and AS, as the messages name it."""

    kind: int
    is_short: bool
    distinguisher: bytes
    address: bytes
    number: int


class Session(NamedTuple):
    """What a neighbour's session agreed on: the speaker's own address and AS, families with identifiers of paths."""

    local: bytes
    number: int
    has_paths: bool


class BmpSpeaker:
    """A speaker of BMP: its messages as records, one after the other."""

    def __init__(self) -> None:
        self.name = ""
        self.sessions: dict[Peer, Session] = {}
        self.left: Counter[str] = Counter()
        """Messages that say nothing of what neighbours said, by kind."""

    async def records(self, reader: asyncio.StreamReader) -> AsyncIterator[bytes]:
        """Records until it ends; raises ``GarbageError``."""
        while head := await whole(reader, COMMON.size):
            version, length, kind = COMMON.unpack(head)
            if version != VERSION:
                raise GarbageError(f"version {version}, not {VERSION}")
            if not COMMON.size <= length <= MOST_BYTES:
                raise GarbageError(f"a message of {length:,} bytes")
            body = await whole(reader, length - COMMON.size)
            if len(body) < length - COMMON.size:
                raise GarbageError("it ends inside a message")
            if found := self.records_of(kind, body, time.time()):
                yield found

    def records_of(self, kind: int, body: bytes, now: float) -> bytes:
        """The records of a message, without its common header; raises ``GarbageError``."""
        if kind in (ROUTE_MONITORING, STATISTICS, PEER_DOWN, PEER_UP, MIRRORING):
            return self._of_peer(kind, body, now)
        if kind == INITIATION:
            self.name = _name(body) or self.name
            return b""
        if kind == TERMINATION:
            return b""
        raise GarbageError(f"there is no message of type {kind}")

    def _of_peer(self, kind: int, body: bytes, now: float) -> bytes:
        if len(body) < PEER.size:
            raise GarbageError("a message ends inside the header of its neighbor")
        peer_kind, flags, distinguisher, raw, number, _, seconds, micros = PEER.unpack_from(body)
        if kind in (STATISTICS, MIRRORING):
            self.left["statistics" if kind == STATISTICS else "mirrored messages"] += 1
            return b""
        if peer_kind != 0 or flags & (AFTER_POLICY | IS_SENT):
            self.left["of other tables than what neighbors say"] += 1
            return b""
        address = raw if flags & IS_IPV6 else raw[12:]
        peer = Peer(peer_kind, bool(flags & SHORT_NUMBERS), distinguisher, address, number)
        moment = (seconds, micros) if seconds else (int(now), int(now % 1 * 1e6))
        rest = body[PEER.size :]
        if kind == PEER_UP:
            self.sessions[peer] = _agreed(rest, bool(flags & IS_IPV6))
            return self._record(peer, STATE_CHANGE, moment, struct.pack(">HH", OPEN_CONFIRM, ESTABLISHED))
        if kind == PEER_DOWN:
            if not rest:
                raise GarbageError("a neighbor goes down for no reason")
            found = self._record(peer, STATE_CHANGE, moment, struct.pack(">HH", ESTABLISHED, IDLE))
            self.sessions.pop(peer, None)
            return found
        if len(rest) < BGP_HEADER:
            raise GarbageError("a route without its message")
        of = self.sessions.get(peer)
        return self._record(peer, MESSAGE_WITH_PATHS if of is not None and of.has_paths else MESSAGE, moment, rest)

    def _record(self, peer: Peer, subtypes: dict[bool, int], moment: tuple[int, int], body: bytes) -> bytes:
        """A record of BGP4MP_ET (RFC 6396 section 4.4): seconds, and microseconds before the rest."""
        of = self.sessions.get(peer) or Session(bytes(len(peer.address)), 0, False)
        # Of AS numbers with two bytes only the attributes of old speakers have some: the header has four where it can.
        is_short = peer.is_short and peer.number < 1 << 16 and of.number < 1 << 16
        head = struct.pack(">HH" if is_short else ">II", peer.number, of.number)
        head += struct.pack(">HH", 0, 2 if len(peer.address) == 16 else 1)
        whole = struct.pack(">I", moment[1]) + head + peer.address + of.local + body
        return struct.pack(">IHHI", moment[0], BGP4MP_ET, subtypes[is_short], len(whole)) + whole


def _name(body: bytes) -> str:
    """The speaker's sysName, of type 2 among what it says of itself (section 4.4)."""
    at = 0
    while at + 4 <= len(body):
        kind, length = struct.unpack_from(">HH", body, at)
        at += 4
        if kind == 2:
            return body[at : at + length].decode("utf-8", "replace")[:200]
        at += length
    return ""


def _agreed(body: bytes, is_ipv6: bool) -> Session:
    """Of a session that is up: the own address, and the two OPEN messages (section 4.10)."""
    if len(body) < 20 + 2 * (BGP_HEADER + 10):
        raise GarbageError("a session without its messages")
    local = body[:16] if is_ipv6 else body[12:16]
    sent, rest = _open(body[20:])
    heard, _ = _open(rest)
    has_paths = any(may & 1 and heard[1].get(family, 0) & 2 for family, may in sent[1].items())
    return Session(local, sent[0], has_paths)


def _open(data: bytes) -> tuple[tuple[int, dict[bytes, int]], bytes]:
    """The AS of an OPEN (RFC 4271 section 4.2) and, by family, whether it receives (1) and sends (2) several paths
    (RFC 7911 section 4); and what follows it."""
    if len(data) < BGP_HEADER + 10:
        raise GarbageError("an OPEN message that is too short")
    length = int.from_bytes(data[16:18], "big")
    if not BGP_HEADER + 10 <= length <= len(data) or data[18] != 1:
        raise GarbageError("a session whose messages are no OPEN messages")
    number, paths = int.from_bytes(data[20:22], "big"), dict[bytes, int]()
    for code, value in _capabilities(data[29:length]):
        if code == 65 and len(value) == 4:
            number = int.from_bytes(value, "big")
        elif code == ADD_PATH:
            paths |= {value[at : at + 3]: value[at + 3] for at in range(0, len(value) - 3, 4)}
    return (number, paths), data[length:]


def _capabilities(data: bytes) -> list[tuple[int, bytes]]:
    """Of the optional parameters behind their length (RFC 5492; extended lengths RFC 9072)."""
    found, at, size = list[tuple[int, bytes]](), 0, 1
    if data[:2] == b"\xff\xff":
        at, size = 3, 2
    while at + 1 + size <= len(data):
        kind, length = data[at], int.from_bytes(data[at + 1 : at + 1 + size], "big")
        at += 1 + size
        inner, end = at, min(at + length, len(data))
        while kind == 2 and inner + 2 <= end:
            found.append((data[inner], data[inner + 2 : inner + 2 + data[inner + 1]]))
            inner += 2 + data[inner + 1]
        at += length
    return found
