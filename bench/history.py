"""A network over time: updates read, and a day of events on a network, against solving each moment cold."""

import json
import random
import struct
import time
from collections.abc import Callable
from datetime import UTC, datetime, timedelta
from functools import partial
from typing import Any

from bench.generator import Shape, document
from routrel.analysis.expectations.failures import failures_of
from routrel.analysis.timeline.states import State, Timeline
from routrel.analysis.timeline.strip import strips
from routrel.analysis.walk_verdicts import Answerer
from routrel.formats.changes.applying import apply_changes
from routrel.formats.events_file import read_events
from routrel.formats.mrt.updates import read_updates
from routrel.formats.sources import read_files
from routrel.forwarding.flow import Flow
from routrel.garbage_collection import keep
from routrel.routing.solve import Solved
from routrel.solving import solve

BEGIN = datetime(2026, 11, 20, tzinfo=UTC)
DAY = timedelta(days=1)


def bench_updates(quick: bool) -> None:
    """Update messages of two neighbours, one prefix each, with some 5,000 sets of attributes among them."""
    count = 50_000 if quick else 1_000_000
    data, lines = _updates(count)
    parsed = _seconds(lambda: [json.loads(line) and None for line in lines])
    lines.clear()
    read = _seconds(partial(read_updates, data, "updates.mrt"))
    print(
        f"{count:,} update messages: read in {read / parsed:.1f} times the standard parser's time for them as"
        f" JSON lines (limit 3), {read / count * 1e6:.1f} µs each"
    )


def bench_history(quick: bool) -> None:
    """A day with 2,000 events on 300 routers: any moment, the next one, a flow over the whole day."""
    routers, outages = (60, 50) if quick else (300, 1000)
    files = {"network.json": json.dumps(document(Shape(routers, areas=5, prefixes=routers, sites=10))).encode()}
    network = read_files(files)
    solved = solve(network)
    keep()
    cold = min(_seconds(lambda: solve(network)) for _ in range(3))
    timeline = Timeline(files, solved, BEGIN, read_events(_day(solved, outages), "events.jsonl")[0])
    chance = random.Random(5)
    names = list(network.devices)
    flow = Flow(names[0], names[-1])

    def asked(moment: datetime) -> bool:
        state: State = timeline.state_at(moment)
        applied = apply_changes(files, network, timeline.changes_of(state))
        return Answerer(solve(applied.network, solved)).answer(flow).walk is None

    moments = [BEGIN + DAY * chance.random() for _ in range(20)]
    each = _seconds(lambda: [None for moment in moments if asked(moment)]) / len(moments)
    strip = _seconds(lambda: [None for _ in strips(timeline, [flow], BEGIN, BEGIN + DAY)])
    states = len({step.state for step in timeline.steps(BEGIN, BEGIN + DAY)})
    again = _seconds(lambda: [None for _ in strips(timeline, [flow], BEGIN, BEGIN + DAY)])
    print(f"{routers} routers, {2 * outages:,} events in a day; yardstick: solving cold {cold:.3f} s")
    print(f"  a flow at any moment, first answer {each:.3f} s, {each / cold:.2f} x (wanted 0.5 s)")
    print(
        f"  a flow over the day, {states:,} states {strip:.1f} s, {strip / states / cold:.2f} x each, (wanted 5 s);"
        f" once more {again:.2f} s"
    )


def _seconds(action: Callable[[], Any]) -> float:
    start = time.process_time()
    action()
    return time.process_time() - start


def _day(solved: Solved, outages: int) -> bytes:
    """So many outages of links, devices and interfaces, of some minutes each."""
    chance = random.Random(3)
    failures = list(failures_of(solved, ("links", "devices", "interfaces")))
    lines = []
    for _ in range(outages):
        failure = chance.choice(failures)
        begin, lasts = chance.uniform(0, 86_000), chance.expovariate(1 / 300)
        for word, at in (("down", begin), ("up", min(86_399.0, begin + lasts))):
            moment = (BEGIN + timedelta(seconds=at)).isoformat()
            lines.append(json.dumps({"time": moment, word: failure.kind.removesuffix("s"), "at": failure.at}))
    return "\n".join(lines).encode()


def _updates(count: int) -> tuple[bytes, list[str]]:
    """The same updates as MRT and as JSON lines: nine announcements to one withdrawal."""
    chance = random.Random(1)
    peers = [bytes([192, 0, 2, last]) for last in (1, 9)]
    sets = []
    for number in range(5_000):
        path = [64510, *(chance.randrange(64512, 65500) for _ in range(chance.randrange(1, 6)))]
        attributes = (
            b"\x40\1\1\0\x40\2"
            + bytes([2 + 4 * len(path), 2, len(path)])
            + b"".join(struct.pack(">I", one) for one in path)
            + b"\x40\3\4"
            + peers[0]
            + struct.pack(">BBBHH", 0xC0, 8, 4, 64510, number)
        )
        sets.append((path, f"64510:{number}", attributes))
    records, lines = [], []
    for number in range(count):
        peer = number % 2
        low = chance.randrange(1 << 16)
        network = bytes([24, 20 + low % 100, low >> 8, low & 255])
        path, community, attributes = sets[chance.randrange(len(sets))]
        gone = network if number % 10 == 0 else b""
        said = b"" if gone else attributes
        body = struct.pack(">H", len(gone)) + gone + struct.pack(">H", len(said)) + said + (b"" if gone else network)
        message = b"\xff" * 16 + struct.pack(">HB", 19 + len(body), 2) + body
        whole = struct.pack(">IIHH", 64510, 64500, 0, 1) + peers[peer] + bytes([192, 0, 2, 2]) + message
        records.append(struct.pack(">IHHI", 1_795_000_000 + number // 20, 16, 4, len(whole)) + whole)
        line: dict[str, Any] = {
            "time": 1_795_000_000 + number // 20,
            "peer": ".".join(map(str, peers[peer])),
            "peer_as": 64510,
            "local": "192.0.2.2",
            "prefix": f"{'.'.join(map(str, network[1:]))}/24",
        }
        if not gone:
            line |= {"as_path": path, "origin": "igp", "next_hop": "192.0.2.1", "communities": [community]}
        lines.append(json.dumps(line))
    return b"".join(records), lines
