"""Messages of BMP (RFC 7854) written out, as a plain speaker does it."""

import ipaddress
import struct

from tests.core import dumps

PEER = "192.0.2.1"
LOCAL = "192.0.2.2"


def message(kind: int, body: bytes, version: int = 3) -> bytes:
    return struct.pack(">BIB", version, 6 + len(body), kind) + body


def address(text: str) -> bytes:
    packed = ipaddress.ip_address(text).packed
    return bytes(16 - len(packed)) + packed


def of_peer(peer: str = PEER, number: int = 64600, flags: int = 0, kind: int = 0, time: float = dumps.TIME) -> bytes:
    wide = 0x80 if ":" in peer else 0
    head = struct.pack(">BB8s", kind, flags | wide, b"") + address(peer) + struct.pack(">I", number)
    return head + b"\x0a\0\0\1" + struct.pack(">II", int(time), round(time % 1 * 1e6))


def opened(number: int, capabilities: bytes = b"") -> bytes:
    """An OPEN: AS numbers of four bytes by capability 65 (RFC 6793)."""
    said = struct.pack(">BBI", 65, 4, number) + capabilities
    optional = bytes([2, len(said)]) + said
    short = number if number < 1 << 16 else 23456
    return dumps.message(struct.pack(">BHHIB", 4, short, 180, 0x0A000001, len(optional)) + optional, 1)


def initiation(name: str = "r1") -> bytes:
    return message(4, struct.pack(">HH", 1, 2) + b"os" + struct.pack(">HH", 2, len(name)) + name.encode())


def peer_up(local: str = LOCAL, own: int = 64500, sent: bytes = b"", heard: bytes = b"", **more) -> bytes:
    number = more.get("number", 64600)
    body = address(local) + struct.pack(">HH", 179, 30_000) + opened(own, sent) + opened(number, heard)
    return message(3, of_peer(**more) + body)


def peer_down(**more) -> bytes:
    return message(2, of_peer(**more) + b"\4")


def route(update: bytes, **more) -> bytes:
    return message(0, of_peer(**more) + update)
