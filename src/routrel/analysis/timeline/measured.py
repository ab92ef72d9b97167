"""What was measured of the things of a network, from all files together, and what of it is usual.

The usual is told by the same hour of the day in the weeks before: the median, and the spread between the quartiles.
An hour is unusual whose median is over that by more than three spreads, a quarter, and what is worth a word; of load
also one whose median is less than a quarter of what three quarters of the samples reach.
"""

from collections import Counter, defaultdict
from collections.abc import Iterator, Mapping, Sequence
from datetime import datetime
from functools import cached_property
from typing import NamedTuple

import numpy as np
import numpy.typing as npt

from routrel.analysis.answers.health import MeasuredKind, Usual
from routrel.formats.changes.finding import ChangeError, device_of, interface_of, link_of
from routrel.model.announcements import moment_of
from routrel.model.network import InterfaceName, Network
from routrel.model.samples import MEASURES, Samples, Series

HOUR = 3_600_000_000
"""Microseconds."""
HOURS_BEFORE = 28 * 24
"""Of which the usual is told."""
LEAST_SAMPLES = 8
"""From so many on something is usual."""
MOST_EXPLAINED = 20
"""Series of nothing that is known, of which it is told what may have been meant."""
SPREADS = 3.0
PART_OVER = 0.25
WORTH_TELLING = {"delay": 0.001, "loss": 0.005, "sent": 1e6, "received": 1e6, "cpu": 0.1, "memory": 0.1}
"""So much over the usual at least; of drops and errors one a second."""
TOLD_WHEN_LOW = frozenset({"sent", "received"})
PART_LEFT = 0.25


class Thing(NamedTuple):
    """What is measured: a device, an interface, or a link by the first of its ends."""

    what: MeasuredKind
    at: str


class Hours(NamedTuple):
    """Unusual hours one after the other, the last one not among them; hours are counted from 1970."""

    first: int
    end: int
    median: float
    usual: Usual
    strays: int
    """1 where they are over the usual, -1 where they are under it."""


class Gauge:
    """One measure of one thing: ``times`` in microseconds since 1970, each once and in order, and ``values``."""

    def __init__(self, measure: str, times: npt.NDArray[np.int64], values: npt.NDArray[np.float64]):
        self.measure = measure
        order = np.argsort(times, kind="stable")
        self.times, at = np.unique(times[order], return_index=True)
        self.values = values[order][at]

    def within(self, start: int, end: int) -> npt.NDArray[np.float64]:
        """The values from one moment on, up to another."""
        first, last = np.searchsorted(self.times, (start, end))
        return self.values[first:last]

    @cached_property
    def _by_hour_of_day(self) -> list[tuple[npt.NDArray[np.int64], npt.NDArray[np.float64]]]:
        hour = self.times // HOUR % 24
        return [(self.times[hour == one], self.values[hour == one]) for one in range(24)]

    def usual_at(self, hour: int) -> Usual | None:
        """What is usual in an hour, counted from 1970; None where too little is known of the weeks before."""
        times, values = self._by_hour_of_day[hour % 24]
        first, last = np.searchsorted(times, ((hour - HOURS_BEFORE) * HOUR, hour * HOUR))
        return usual_of(values[first:last])

    def usual_within(self, start: int, end: int) -> Usual | None:
        """What is usual at the hours of a window, by the weeks before it."""
        first, last = start // HOUR, -(-end // HOUR)
        hours = {hour % 24 for hour in range(first, min(last, first + 24))}
        parts = []
        for hour in hours:
            times, values = self._by_hour_of_day[hour]
            begin, until = np.searchsorted(times, (start - HOURS_BEFORE * HOUR, start))
            parts.append(values[begin:until])
        return usual_of(np.concatenate(parts)) if parts else None

    def unusual(self, start: int, end: int) -> Iterator[Hours]:
        """The hours of a window whose median is far over the usual, or far under it."""
        first, last = np.searchsorted(self.times, (start, end))
        hours = self.times[first:last] // HOUR
        running: Hours | None = None
        bounds = np.flatnonzero(np.diff(hours, prepend=-1, append=-1))
        for begin, until in zip(bounds[:-1].tolist(), bounds[1:].tolist(), strict=True):
            hour = int(hours[begin])
            median = float(np.median(self.values[first + begin : first + until]))
            usual = self.usual_at(hour)
            strays = 0 if usual is None else self.strays(median, usual)
            if running is not None and not (strays == running.strays and hour == running.end):
                yield running
                running = None
            if strays and usual is not None:
                this = Hours(hour, hour, median, usual, strays)
                worst = running if running is not None and running.median * strays >= median * strays else this
                running = worst._replace(first=running.first if running else hour, end=hour + 1)
        if running is not None:
            yield running

    def strays(self, value: float, usual: Usual) -> int:
        """1 where a value is far over what is usual, -1 where it is far under that, else 0."""
        worth = WORTH_TELLING.get(self.measure, 1.0)
        if value > usual.median + max(SPREADS * (usual.high - usual.low), PART_OVER * usual.median, worth):
            return 1
        is_low = self.measure in TOLD_WHEN_LOW and value < PART_LEFT * usual.low and usual.low - value > worth
        return -1 if is_low else 0


def usual_of(values: npt.NDArray[np.float64]) -> Usual | None:
    """The quartiles, where there are enough values."""
    if len(values) < LEAST_SAMPLES:
        return None
    low, median, high = np.quantile(values, (0.25, 0.5, 0.75)).tolist()
    return Usual(low, median, high, len(values))


class Measurements:
    """What was measured of the things of a network; what names none of them is in ``unknown``, with why."""

    def __init__(self, network: Network, samples: Sequence[Samples] = ()):
        self._network = network
        self._samples = samples
        self._gauges: dict[tuple[Thing, str], Gauge] = {}

    @cached_property
    def _found(self) -> tuple[dict[tuple[Thing, str], list[tuple[Samples, int]]], dict[str, str]]:
        """The series of each thing's measures, and what names nothing."""
        series = defaultdict[tuple[Thing, str], list[tuple[Samples, int]]](list)
        unknown = dict[str, str]()
        names = Counter(link.name for link in self._network.links)
        links = {link.name: str(link.ends[0]) for link in self._network.links if link.name and names[link.name] == 1}
        for samples in self._samples:
            for number, one in enumerate(samples.series):
                thing = _thing(self._network, links, one)
                if thing is not None:
                    series[thing, one.measure].append((samples, number))
                elif len(unknown) < MOST_EXPLAINED:
                    unknown[f"{one.measure} of {one.at}"] = _why_unknown(self._network, one)
                else:
                    unknown[f"{one.measure} of {one.at}"] = "there is no such thing"
        return dict(series), unknown

    @property
    def span(self) -> tuple[datetime, ...]:
        """The moments of the first sample and of the last; nothing where there is none."""
        bounds = [bound(one.times) for one in self._samples if len(one) for bound in (np.min, np.max)]
        return (moment_of(int(min(bounds))), moment_of(int(max(bounds)))) if bounds else ()

    @property
    def unknown(self) -> dict[str, str]:
        return self._found[1]

    @property
    def known(self) -> list[tuple[Thing, str]]:
        """All things' measures."""
        return list(self._found[0])

    def gauge(self, thing: Thing, measure: str) -> Gauge | None:
        """One measure of one thing; None where it was not measured."""
        key = thing, measure
        if key not in self._found[0]:
            return None
        if key not in self._gauges:
            parts = [_rates(samples, number) for samples, number in self._found[0][key]]
            times, values = (np.concatenate(columns) for columns in zip(*parts, strict=True))
            self._gauges[key] = Gauge(measure, times, values)
        return self._gauges[key]

    def most(self, thing: Thing, measure: str) -> float | None:
        """The highest value there can be; None where it is not known."""
        if measure in ("loss", "cpu", "memory"):
            return 1.0
        if measure not in ("sent", "received"):
            return None
        end = InterfaceName(*thing.at.split(":", 1))
        bandwidth = self._network.devices[end.device].interfaces[end.interface].bandwidth
        return None if bandwidth is None else float(bandwidth)


def thing_named(network: Network, what: MeasuredKind, at: str) -> Thing:
    """A thing as it is named by people: a link by its name, or any of its ends. Raises ``ChangeError``."""
    if what == "link":
        return Thing(what, str(network.links[link_of(network, at)].ends[0]))
    return Thing(what, device_of(network, at).name if what == "device" else str(interface_of(network, at)))


def _thing(network: Network, links: Mapping[str, str], series: Series) -> Thing | None:
    """What a series is of, by links' first ends; None where there is no such thing of which that is measured."""
    kinds = MEASURES[series.measure]
    if "link" in kinds and series.at in links:
        return Thing("link", links[series.at])
    name, _, interface = series.at.partition(":")
    device = network.devices.get(name)
    if device is None:
        return None
    if "interface" in kinds:
        return Thing("interface", series.at) if interface in device.interfaces else None
    return None if interface else Thing("device", name)


def _why_unknown(network: Network, series: Series) -> str:
    kinds = MEASURES[series.measure]
    try:
        if "link" in kinds and ":" not in series.at:
            link_of(network, series.at)
        elif kinds == ("device",):
            device_of(network, series.at)
        else:
            interface_of(network, series.at)
    except ChangeError as error:
        return _with_meant(error)
    return "there is no such thing"


def _with_meant(error: ChangeError) -> str:
    return f"{error}{f'; did you mean {error.closest}?' if error.closest else ''}"


def _rates(samples: Samples, number: int) -> tuple[npt.NDArray[np.int64], npt.NDArray[np.float64]]:
    """The values of a series; of a counter how fast it grew up to each time, left out where it began anew."""
    first, last = samples.bounds[number : number + 2]
    times, values = samples.times[first:last], samples.values[first:last]
    if not samples.series[number].is_counter:
        return times, values
    took, grown = np.diff(times), np.diff(values)
    grew = (took > 0) & (grown >= 0)
    return times[1:][grew], grown[grew] / took[grew] * 1e6
