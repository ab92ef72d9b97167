"""Two weeks of made-up history of Saltmarsh Ferries, ending at its revision: writes ``events.jsonl`` beside itself.

A cable at Ninefold grows worse from day to day. The carrier Bellbuoy flaps for two evenings. For most of a day both
ways to Bellbuoy are gone, and a default hides it. A radio, a switch and a lamp post are what happens anyway.
"""

import json
import random
from collections.abc import Iterator
from datetime import UTC, datetime, timedelta
from pathlib import Path

END = datetime(2026, 11, 20, 6, tzinfo=UTC)
START = END - timedelta(days=14)
EVENTS = Path(__file__).with_name("events.jsonl")

Outage = tuple[datetime, float, str, str, str]
"""When something went down, for how many seconds, what it is, where, and why."""


def _cable(chooser: random.Random) -> Iterator[Outage]:
    """Salt in a connector: more and longer outages each day, most of them by day when the mast sways."""
    for day in range(14):
        for _ in range(round(0.2 * day + 0.035 * day * day)):
            begin = START + timedelta(days=day, hours=chooser.triangular(2, 22, 10))
            lasts = chooser.uniform(20, 50) * (1 + day / 2)
            yield begin, lasts, "link", "Ninefold mast cable", "loss of light at nf-core"


def _carrier(chooser: random.Random) -> Iterator[Outage]:
    """The session with Bellbuoy comes and goes on two evenings."""
    for day in (4, 11):
        begin = START + timedelta(days=day, hours=11.5)
        for _ in range(14):
            lasts = chooser.uniform(25, 110)
            yield begin, lasts, "session", "bw-border 198.51.100.2", "hold timer expired"
            begin += timedelta(seconds=lasts + chooser.expovariate(1 / 420) + 60)


def _hidden(_: random.Random) -> Iterator[Outage]:
    """Both ways to Bellbuoy gone: what is beyond it is reached by the default, and nobody notices."""
    begin = START + timedelta(days=6, hours=2, minutes=10)
    yield begin, 9.4 * 3600, "session", "bw-border 198.51.100.2", "administrative shutdown by the neighbor"
    yield begin + timedelta(seconds=40), 9.3 * 3600, "link", "Bellbuoy south access", "works at the carrier"


def _anything(chooser: random.Random) -> Iterator[Outage]:
    """Ordinary days."""
    yield START + timedelta(days=2, hours=19), 1900, "link", "radio across the bay", "fog"
    yield START + timedelta(days=8, hours=21), 4100, "link", "radio across the bay", "fog"
    yield START + timedelta(days=9, hours=20.2), 640, "device", "tq-sw", "power of the quay"
    yield START + timedelta(days=5, hours=22), 5400, "link", "Otterholm-Tarnquay", "planned works"
    # While the cable is bad: the other way to Gullpoint goes too, for some minutes.
    yield START + timedelta(days=12, hours=3.5), 900, "link", "Gullpoint-Ninefold", "an anchor, most likely"
    yield START + timedelta(days=12, hours=3.55), 500, "link", "Ninefold mast cable", "loss of light at nf-core"
    for _ in range(12):
        begin = START + timedelta(hours=chooser.uniform(0, 330))
        yield begin, chooser.uniform(5, 40), "interface", "gp-kiosk:e1", "the kiosk was switched off"


def outages(seed: int = 11) -> list[Outage]:
    """All that goes down and comes up again, none twice at a time."""
    chooser = random.Random(seed)
    found = [outage for story in (_cable, _carrier, _hidden, _anything) for outage in story(chooser)]
    up_at: dict[str, datetime] = {}
    kept = []
    for begin, lasts, what, at, note in sorted(found):
        end = begin + timedelta(seconds=lasts)
        if begin > up_at.get(at, START) and end < END - timedelta(minutes=5):
            up_at[at] = end + timedelta(seconds=30)
            kept.append((begin, lasts, what, at, note))
    return kept


def text() -> str:
    """The events, one on a line, in the order of their times."""
    lines = []
    for begin, lasts, what, at, note in outages():
        lines.append((begin, {"down": what, "at": at, "note": note}))
        lines.append((begin + timedelta(seconds=lasts), {"up": what, "at": at}))
    return "".join(
        json.dumps({"time": time.strftime("%Y-%m-%dT%H:%M:%SZ"), **said}) + "\n"
        for time, said in sorted(lines, key=lambda one: one[0])
    )


if __name__ == "__main__":
    EVENTS.write_text(text())
