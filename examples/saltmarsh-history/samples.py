"""What was measured in the same two weeks, every half hour: delay, loss and load of links, processors and memory.

Writes CSV to standard output, as ``routrel history --events`` reads it. Ordinary days, but for one thing: from the 16th
on the link from Brackwater to Gullpoint is slow in the evenings, and nothing else changes. Who looks at routes alone
finds the network whole.
"""

import csv
import io
import math
import random
import sys
from datetime import datetime, timedelta
from pathlib import Path
from runpy import run_path

from routrel.formats.sources import files_of, read_files
from routrel.model.network import Network

HERE = Path(__file__).parent
EVENTS = run_path(str(HERE / "generate.py"))
COLUMNS = (
    "time",
    "at",
    "delay_ms",
    "loss_percent",
    "sent_bits_per_second",
    "received_bits_per_second",
    "cpu_percent",
    "memory_percent",
)
EVERY = timedelta(minutes=30)
SLOW = "Brackwater-Gullpoint"
SLOW_DAYS = 4
"""Before the end."""
SLOW_HOURS = range(16, 22)
DELAYS = {"radio across the bay": 3.4, "Brackwater-Gullpoint": 2.1, "Lantern access": 4.8, "Bellbuoy access": 5.2}
"""Milliseconds; of other links by chance."""


def text(seed: int = 7) -> str:
    """The samples as CSV, in the order of their times."""
    chooser = random.Random(seed)
    network = read_files(files_of(HERE.parent / "saltmarsh"))
    links = [(link.name, [str(end) for end in link.ends]) for link in network.links if link.name]
    delays = {name: DELAYS.get(name, chooser.uniform(0.2, 1.4)) for name, _ in links}
    loads = {name: chooser.uniform(4e6, 60e6) for name, _ in links}
    routers = _routers(network)
    busy = {name: chooser.uniform(0.06, 0.22) for name in routers}
    down = _down()
    out = io.StringIO()
    rows = csv.writer(out, lineterminator="\n")
    rows.writerow(COLUMNS)
    moment = EVENTS["START"]
    while moment < EVENTS["END"]:
        time = moment.strftime("%Y-%m-%dT%H:%M:%SZ")
        day = _part_of_day(moment)
        for name, ends in links:
            if any(begin <= moment < end for begin, end in down.get(name, ())):
                continue
            is_slow = name == SLOW and moment > EVENTS["END"] - timedelta(days=SLOW_DAYS) and moment.hour in SLOW_HOURS
            delay = delays[name] * chooser.gauss(1, 0.03) + (chooser.gauss(34, 4) if is_slow else 0)
            loss = max(0.0, chooser.gauss(0.9, 0.3)) if is_slow else max(0.0, chooser.gauss(-0.05, 0.03))
            sent, received = (loads[name] * day * chooser.gauss(1, 0.06) for _ in ends[:2])
            if is_slow:
                sent = 3.1 * max(sent, loads[name])
            rows.writerow((time, name, f"{delay:.2f}", f"{loss:.2f}", "", "", "", ""))
            rows.writerow((time, ends[0], "", "", f"{sent:.0f}", f"{received:.0f}", "", ""))
        for name in routers:
            load = 100 * busy[name] * day * chooser.gauss(1, 0.08)
            rows.writerow((time, name, "", "", "", "", f"{max(1.0, load):.1f}", f"{100 * busy[name] + 22:.1f}"))
        moment += EVERY
    return out.getvalue()


def _routers(network: Network) -> list[str]:
    return [device.name for device in network.devices.values() if device.routing is not None]


def _part_of_day(moment: datetime) -> float:
    """How much there is to do: little at night, most in the afternoon, less at the weekend."""
    hour = moment.hour + moment.minute / 60
    return (0.35 + 0.65 * max(0.0, math.sin((hour - 5) / 16 * math.pi))) * (0.8 if moment.weekday() > 4 else 1.0)


def _down() -> dict[str, list[tuple[datetime, datetime]]]:
    """When links were down, by the events."""
    found: dict[str, list[tuple[datetime, datetime]]] = {}
    for begin, lasts, what, at, _ in EVENTS["outages"]():
        if what == "link":
            found.setdefault(at, []).append((begin, begin + timedelta(seconds=lasts)))
    return found


if __name__ == "__main__":
    sys.stdout.write(text())
