"""Dumps of BGP tables: read and solved, against the standard parser on the same routes as JSON lines."""

import json
import random
import struct
import time
from collections.abc import Callable
from functools import partial
from typing import Any

from routrel.formats.mrt.table_dumps import read_table_dump
from routrel.formats.sources import read_files
from routrel.solving import solve

NETWORK = b"""routrel: 1
name: border
devices:
  edge:
    interfaces: {up: {addresses: [192.0.2.2/24]}}
    routing: {bgp: {as: 64500, neighbors: {192.0.2.1: {as: 64510}}}}
"""
SHARED = 8
"""Routes of one set of attributes, about as in tables of the internet."""


def bench_table_dumps(quick: bool) -> None:
    """A full table of one neighbour, whose routes share attributes, and one in which each has its own."""
    count = 50_000 if quick else 1_000_000
    for shared in (SHARED, 1):
        data, lines = _tables(count, shared)
        parsed = _seconds(partial(_parse, lines))
        lines.clear()
        read = _seconds(partial(read_table_dump, data, "edge.mrt"))
        network = read_files({"network.yaml": NETWORK, "edge.mrt": data})
        solved = _seconds(partial(solve, network))
        print(
            f"a table of {count:,} routes, {shared} with the same attributes: read in {read / parsed:.1f} times the"
            f" standard parser's time for them as JSON lines, solved in {solved / parsed:.1f} times"
        )


def _parse(lines: list[str]) -> None:
    """What the yardstick does: one line after the other, none kept."""
    for line in lines:
        json.loads(line)


def _seconds(action: Callable[[], Any]) -> float:
    start = time.process_time()
    action()
    return time.process_time() - start


def _tables(count: int, shared: int) -> tuple[bytes, list[str]]:
    """The same routes as a dump and as JSON lines."""
    chance = random.Random(1)
    hop = bytes([192, 0, 2, 1])
    index = struct.pack(">IHH", 1, 0, 1) + bytes([2]) + hop + hop + struct.pack(">I", 64510)
    records, lines = [_record(1, index)], []
    sets = []
    for number in range(max(1, count // shared)):
        path = [64510, *(chance.randrange(64512, 65500) for _ in range(chance.randrange(1, 6)))]
        med = number if shared == 1 else chance.randrange(3) * 10
        community = (64510, number % 7000)
        attributes = (
            b"\x40\1\1\0\x40\2"
            + bytes([2 + 4 * len(path), 2, len(path)])
            + b"".join(struct.pack(">I", one) for one in path)
            + b"\x40\3\4"
            + hop
            + struct.pack(">BBBI", 0x80, 4, 4, med)
            + struct.pack(">BBBHH", 0xC0, 8, 4, *community)
        )
        sets.append((path, med, community, attributes))
    for number in range(count):
        path, med, community, attributes = sets[number % len(sets)]
        network = bytes([20 + number // 65536, number >> 8 & 255, number & 255])
        body = struct.pack(">IB", number, 24) + network + struct.pack(">HHIH", 1, 0, 0, len(attributes)) + attributes
        records.append(_record(2, body))
        line = {
            "peer": "192.0.2.1",
            "peer_as": 64510,
            "prefix": f"{'.'.join(map(str, network))}.0/24",
            "as_path": path,
            "origin": "igp",
            "next_hop": "192.0.2.1",
            "med": med,
            "communities": ["{}:{}".format(*community)],
        }
        lines.append(json.dumps(line))
    return b"".join(records), lines


def _record(subtype: int, body: bytes) -> bytes:
    return struct.pack(">IHHI", 0, 13, subtype, len(body)) + body
