"""Dumps of BGP tables (RFC 6396 section 4.3) written out, as a plain writer does it."""

import ipaddress
import struct
from collections.abc import Iterable, Sequence

TIME = 1_795_000_000
IPV4, IPV6, IPV4_PATHS, IPV6_PATHS = 2, 4, 8, 10


def record(subtype: int, body: bytes, kind: int = 13) -> bytes:
    return struct.pack(">IHHI", TIME, kind, subtype, len(body)) + body


def address(text: str) -> bytes:
    return ipaddress.ip_address(text).packed


def index(peers: Iterable[tuple[str, int]], view: str = "", identifier: str = "10.0.0.99") -> bytes:
    """Neighbours by address and AS; those below 65536 in two bytes."""
    peers, name = list(peers), view.encode()
    body = address("192.0.2.255") + struct.pack(">H", len(name)) + name + struct.pack(">H", len(peers))
    for peer, number in peers:
        kind = (1 if ":" in peer else 0) | (2 if number > 65535 else 0)
        body += bytes([kind]) + address(identifier) + address(peer)
        body += struct.pack(">I" if kind & 2 else ">H", number)
    return record(1, body)


def attribute(kind: int, value: bytes, flags: int = 0x40) -> bytes:
    if len(value) > 255:
        return bytes([flags | 0x10, kind]) + struct.pack(">H", len(value)) + value
    return bytes([flags, kind, len(value)]) + value


def segment(numbers: Sequence[int], kind: int = 2) -> bytes:
    return bytes([kind, len(numbers)]) + b"".join(struct.pack(">I", one) for one in numbers)


def attributes(
    as_path: Sequence[int],
    next_hop: str,
    med: int | None = None,
    local_preference: int | None = None,
    communities: Sequence[str] = (),
    origin: int = 0,
    is_whole_reach: bool = False,
) -> bytes:
    """What a path says; an IPv6 next hop in MP_REACH_NLRI, alone or as in an UPDATE."""
    found = attribute(1, bytes([origin])) + attribute(2, segment(as_path) if as_path else b"")
    hop = address(next_hop)
    if len(hop) == 4:
        found += attribute(3, hop)
    if med is not None:
        found += attribute(4, struct.pack(">I", med), 0x80)
    if local_preference is not None:
        found += attribute(5, struct.pack(">I", local_preference))
    short = [tuple(map(int, one.split(":"))) for one in communities]
    pairs = b"".join(struct.pack(">HH", *one) for one in short if len(one) == 2)
    large = b"".join(struct.pack(">III", *one) for one in short if len(one) == 3)
    found += attribute(8, pairs, 0xC0) if pairs else b""
    if len(hop) == 16:
        reach = bytes([16]) + hop
        found += attribute(14, b"\0\2\1" + reach + b"\0" if is_whole_reach else reach, 0x80)
    return found + (attribute(32, large, 0xC0) if large else b"")


def routes(prefix: str, entries: Iterable[tuple[int, bytes]], has_ids: bool = False) -> bytes:
    """What neighbours said of a prefix: their places in the index, and attributes."""
    network = ipaddress.ip_network(prefix)
    entries = list(entries)
    size = (network.prefixlen + 7) // 8
    body = struct.pack(">IB", 0, network.prefixlen) + network.network_address.packed[:size]
    body += struct.pack(">H", len(entries))
    for number, (peer, said) in enumerate(entries):
        ids = struct.pack(">I", number) if has_ids else b""
        body += struct.pack(">HI", peer, TIME) + ids + struct.pack(">H", len(said)) + said
    of_family = (IPV4, IPV4_PATHS) if network.version == 4 else (IPV6, IPV6_PATHS)
    return record(of_family[has_ids], body)


def nlri(prefixes: Iterable[str], path: int | None = None) -> bytes:
    """Prefixes one after the other, each behind the identifier of its path where there is one (RFC 7911)."""
    found = b""
    for one in prefixes:
        network = ipaddress.ip_network(one)
        size = (network.prefixlen + 7) // 8
        found += b"" if path is None else struct.pack(">I", path)
        found += bytes([network.prefixlen]) + network.network_address.packed[:size]
    return found


def message(body: bytes, kind: int = 2) -> bytes:
    return b"\xff" * 16 + struct.pack(">HB", 19 + len(body), kind) + body


def update(
    announced: Sequence[str] = (), said: bytes = b"", withdrawn: Sequence[str] = (), path: int | None = None
) -> bytes:
    """An UPDATE; prefixes of IPv6 go by MP_REACH_NLRI and MP_UNREACH_NLRI (RFC 4760), with the next hop ``said`` has."""
    four, six = ([one for one in announced if (":" in one) is is_six] for is_six in (False, True))
    gone, gone_six = ([one for one in withdrawn if (":" in one) is is_six] for is_six in (False, True))
    if six:
        at = said.index(bytes([0x80, 14, 17, 16]))
        hop, said = said[at + 4 : at + 20], said[:at] + said[at + 20 :]
        said += attribute(14, b"\0\2\1" + bytes([16]) + hop + b"\0" + nlri(six, path), 0x80)
    if gone_six:
        said += attribute(15, b"\0\2\1" + nlri(gone_six, path), 0x80)
    lost = nlri(gone, path)
    return message(struct.pack(">H", len(lost)) + lost + struct.pack(">H", len(said)) + said + nlri(four, path))


def heard(
    body: bytes,
    peer: str = "192.0.2.1",
    number: int = 64600,
    local: str = "192.0.2.2",
    time: float = TIME,
    subtype: int = 4,
    is_fine: bool = False,
) -> bytes:
    """A record of BGP4MP around a message or a change of state; with microseconds where it is fine."""
    wide = subtype in (4, 5, 9)
    head = struct.pack(">II" if wide else ">HH", number, 64500) + struct.pack(">HH", 0, 2 if ":" in peer else 1)
    whole = head + address(peer) + address(local) + body
    seconds, rest = int(time), round(time % 1 * 1_000_000)
    whole = struct.pack(">I", rest) + whole if is_fine else whole
    return struct.pack(">IHHI", seconds, 17 if is_fine else 16, subtype, len(whole)) + whole


def turned(is_up: bool, **more) -> bytes:
    """A session that reaches the state Established, or leaves it."""
    return heard(struct.pack(">HH", *((5, 6) if is_up else (6, 1))), subtype=5, **more)
