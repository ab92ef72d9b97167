"""Values of samples as they are read, until they are columns."""

import math
from array import array

from routrel.formats.errors import ErrorList, quoted
from routrel.model.places import Place
from routrel.model.samples import READINGS, Reading, Samples, Series, samples_of

MAX_SAMPLES = 5_000_000
"""Of one file."""


class Gathering:
    """Takes values and checks them; errors are told at their lines."""

    def __init__(self, file: str):
        self.file = file
        self.errors = ErrorList()
        self._numbers = array("q")
        self._times = array("q")
        self._values = array("d")
        self._series: dict[tuple[str, str], int] = {}
        self._known: list[Series] = []

    def is_full(self, line: int) -> bool:
        """Whether no more values are taken, which is an error then."""
        if len(self._times) < MAX_SAMPLES:
            return False
        self.errors.add(Place(self.file, line, 1), "the file holds too many samples", allowed=f"{MAX_SAMPLES:,}")
        return True

    def add(self, time: int, at: str, name: str, value: float, line: int) -> None:
        """A value by the name of its column, at a moment in microseconds since 1970."""
        reading = READINGS[name]
        if not (math.isfinite(value) and 0 <= value <= reading.most):
            self.errors.add(
                Place(self.file, line, 1),
                "this cannot be measured",
                found=quoted(f"{name} {value}"),
                allowed=_range(reading),
            )
            return
        number = self._series.setdefault((name, at), len(self._series))
        if number == len(self._known):
            self._known.append(Series(reading.measure, at, reading.is_counter))
        self._numbers.append(number)
        self._times.append(time)
        self._values.append(value * reading.factor)

    def samples(self) -> Samples:
        """What was taken; raises ``LoadError`` with all that was wrong."""
        self.errors.raise_if_any()
        return samples_of(self.file, self._known, self._numbers, self._times, self._values)


def _range(reading: Reading) -> str:
    return "0 and more" if math.isinf(reading.most) else f"0 to {reading.most:g}"
