"""What was far over the usual, or of load far under it, in words."""

from collections.abc import Iterable, Iterator
from datetime import datetime, timedelta

from routrel.analysis.answers.health import Unusual
from routrel.analysis.timeline.measured import HOUR, Gauge, Hours, Thing
from routrel.analysis.timeline.states import Timeline
from routrel.analysis.timeline.switches import Switch, words_of
from routrel.model.announcements import microseconds, moment_of
from routrel.model.network import Network
from routrel.model.times import rfc3339

MOST_UNUSUAL = 20
DAY = timedelta(days=1)
WORDS = {
    "sent": "load sent by {}",
    "received": "load received by {}",
    "sent_drops": "packets that {} drops instead of sending",
    "received_drops": "packets that {} drops on receipt",
    "sent_errors": "errors of {} in sending",
    "received_errors": "errors of {} in receiving",
    "delay": "delay of {}",
    "loss": "loss of {}",
    "cpu": "processor load of {}",
    "memory": "memory in use of {}",
}


def most_unusual(timeline: Timeline, end: datetime) -> list[Unusual]:
    """Of all that is measured what was unusual in the day up to a moment, the worst first."""
    found = list[Unusual]()
    for thing, measure in timeline.measurements.known:
        gauge = timeline.measurements.gauge(thing, measure)
        if gauge is not None:
            found += unusual_of(timeline.solved.network, thing, gauge, end - DAY, end)
    return worst(found)


def unusual_of(network: Network, thing: Thing, gauge: Gauge, start: datetime, end: datetime) -> Iterator[Unusual]:
    """Where a measure was unusual in a window."""
    for hours in gauge.unusual(microseconds(start), microseconds(end)):
        begin, until = (moment_of(hour * HOUR) for hour in (hours.first, hours.end))
        yield Unusual(
            thing.what,
            thing.at,
            gauge.measure,
            rfc3339(begin),
            rfc3339(until),
            hours.median,
            hours.usual,
            _unusual_words(network, thing, gauge.measure, hours, begin, until),
        )


def _unusual_words(network: Network, thing: Thing, measure: str, hours: Hours, begin: datetime, until: datetime) -> str:
    what, usual = measure_words(network, thing, measure), value_words(measure, hours.usual.median)
    until_words = f"{until:%H:%M}" if until.date() == begin.date() else f"{until:%Y-%m-%d %H:%M}"
    were = "were" if measure.endswith(("drops", "errors")) else "was"
    return (
        f"{what} {were} {value_words(measure, hours.median)}, usually {usual},"
        f" from {begin:%Y-%m-%d %H:%M} to {until_words} UTC"
    )


def worst(found: Iterable[Unusual]) -> list[Unusual]:
    """What is out of the ordinary, the furthest over the usual first, then the furthest under it."""
    return sorted(found, key=_by_distance)[:MOST_UNUSUAL]


def _by_distance(one: Unusual) -> tuple[bool, float]:
    is_under, part = one.median < one.usual.median, one.median / max(one.usual.median, 1e-9)
    return is_under, part if is_under else -part


def measure_words(network: Network, thing: Thing, measure: str) -> str:
    """What is measured of what."""
    return WORDS[measure].format(thing_words(network, thing))


def thing_words(network: Network, thing: Thing) -> str:
    """What it is."""
    return words_of(network, Switch(thing.what, thing.at))


def value_words(measure: str, value: float) -> str:
    """A value with its unit."""
    if measure == "delay":
        return f"{value * 1000:.3g} ms" if value < 1 else f"{value:.3g} s"
    if measure in ("loss", "cpu", "memory"):
        return f"{value:.2%}" if value < 0.01 else f"{value:.0%}"
    if measure in ("sent", "received"):
        for unit, size in (("Gbit/s", 1e9), ("Mbit/s", 1e6), ("kbit/s", 1e3)):
            if value >= size:
                return f"{value / size:.3g} {unit}"
        return f"{value:.0f} bit/s"
    return f"{value:.3g} a second"
