"""One measure over a window, in as many points as a chart has, with what was usual."""

from collections.abc import Iterator
from datetime import datetime

import numpy as np

from routrel.analysis.answers.health import GaugeOverTime, Point, Usual
from routrel.analysis.timeline.measured import HOUR, Gauge, Thing
from routrel.analysis.timeline.states import Timeline
from routrel.analysis.timeline.unusual import measure_words
from routrel.model.announcements import microseconds, moment_of
from routrel.model.times import rfc3339

MOST_POINTS = 400


def gauge_over(timeline: Timeline, thing: Thing, measure: str, start: datetime, end: datetime) -> GaugeOverTime | None:
    """One measure over a window; None where it was not measured."""
    measurements = timeline.measurements
    gauge = measurements.gauge(thing, measure)
    if gauge is None:
        return None
    first, last = microseconds(start), microseconds(end)
    length = max(1, -(-(last - first) // MOST_POINTS))
    words = measure_words(timeline.solved.network, thing, measure)
    most = measurements.most(thing, measure)
    return GaugeOverTime(*thing, measure, words, most, length / 1e6, list(_points(gauge, first, last, length)))


def _points(gauge: Gauge, start: int, end: int, length: int) -> Iterator[Point]:
    usual = dict[int, Usual | None]()
    for begin in range(start, end, length):
        values = gauge.within(begin, min(begin + length, end))
        hour = begin // HOUR
        if hour not in usual:
            usual[hour] = gauge.usual_at(hour)
        low, median, high = (float(one(values)) if len(values) else None for one in (np.min, np.median, np.max))
        yield Point(rfc3339(moment_of(begin)), low, median, high, usual[hour])
