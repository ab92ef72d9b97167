"""What was measured of interfaces, links and devices over time, in columns."""

from collections.abc import Iterable
from dataclasses import dataclass
from typing import NamedTuple

import numpy as np
import numpy.typing as npt


class Reading(NamedTuple):
    """What a column of a file of samples holds: a measure, by which its values are multiplied, of what kind of thing.

    A counter only grows until it begins anew; what is measured is how fast. ``most`` is the highest value there is.
    """

    measure: str
    factor: float
    is_counter: bool = False
    most: float = float("inf")


READINGS = {
    "delay_seconds": Reading("delay", 1.0),
    "delay_ms": Reading("delay", 0.001),
    "loss_ratio": Reading("loss", 1.0, most=1.0),
    "loss_percent": Reading("loss", 0.01, most=100.0),
    "sent_bits_per_second": Reading("sent", 1.0),
    "sent_bytes_total": Reading("sent", 8.0, is_counter=True),
    "received_bits_per_second": Reading("received", 1.0),
    "received_bytes_total": Reading("received", 8.0, is_counter=True),
    "sent_drops_total": Reading("sent_drops", 1.0, is_counter=True),
    "received_drops_total": Reading("received_drops", 1.0, is_counter=True),
    "sent_errors_total": Reading("sent_errors", 1.0, is_counter=True),
    "received_errors_total": Reading("received_errors", 1.0, is_counter=True),
    "cpu_ratio": Reading("cpu", 1.0, most=1.0),
    "cpu_percent": Reading("cpu", 0.01, most=100.0),
    "memory_ratio": Reading("memory", 1.0, most=1.0),
    "memory_percent": Reading("memory", 0.01, most=100.0),
}
"""By the name of the column."""

MEASURES = {
    "delay": ("link", "interface"),
    "loss": ("link", "interface"),
    "sent": ("interface",),
    "received": ("interface",),
    "sent_drops": ("interface",),
    "received_drops": ("interface",),
    "sent_errors": ("interface",),
    "received_errors": ("interface",),
    "cpu": ("device",),
    "memory": ("device",),
}
"""What is measured, and of what: seconds, parts of one, bits a second, packets a second, parts of one."""


class Series(NamedTuple):
    """One thing's values of one measure: ``at`` names it as a change does. Of a counter they are what it stood at."""

    measure: str
    at: str
    is_counter: bool


@dataclass(frozen=True, slots=True)
class Samples:
    """The values of a file: those of series ``s`` stand from ``bounds[s]`` to ``bounds[s + 1]``, by their times.

    ``times`` are microseconds since 1970.
    """

    file: str
    series: tuple[Series, ...]
    bounds: npt.NDArray[np.int64]
    times: npt.NDArray[np.int64]
    values: npt.NDArray[np.float64]

    def __len__(self) -> int:
        return len(self.times)


def samples_of(
    file: str, series: Iterable[Series], numbers: Iterable[int], times: Iterable[int], values: Iterable[float]
) -> Samples:
    """Values in any order, each of the series with its number."""
    known = tuple(series)
    of = np.fromiter(numbers, np.int64)
    moments = np.fromiter(times, np.int64)
    order = np.lexsort((moments, of))
    bounds = np.searchsorted(of[order], np.arange(len(known) + 1))
    return Samples(file, known, bounds, moments[order], np.fromiter(values, np.float64)[order])


def no_samples(file: str) -> Samples:
    """Of a file that has none."""
    return samples_of(file, (), (), (), ())
