"""Samples as the text of OpenMetrics 1.0: each with its time, and with the label ``at``, or ``device`` and
``interface``. Metrics of other names are counted and not used."""

import io
import math
from array import array
from collections import Counter
from collections.abc import Iterator
from datetime import UTC, datetime

from prometheus_client.openmetrics.parser import text_fd_to_metric_families
from prometheus_client.samples import Sample, Timestamp

from routrel.formats.errors import quoted
from routrel.formats.events_file import YEARS
from routrel.formats.samples.gathering import Gathering
from routrel.formats.yaml_nodes import decode
from routrel.model.announcements import microseconds
from routrel.model.places import Place
from routrel.model.samples import READINGS, Samples

MOST_NAMES = 20
"""Of metrics that are not used, told by name."""
MILLION = 1_000_000
EARLIEST = microseconds(datetime(YEARS.start, 1, 1, tzinfo=UTC))
LATEST = microseconds(datetime(YEARS.stop, 1, 1, tzinfo=UTC))
EXAMPLE = 'delay_seconds{at="r1:e2"} 0.0042 1795000000'


def read_open_metrics(data: bytes, file: str) -> tuple[Samples, Counter[str]]:
    """The samples of a file, and how many of which other metrics there are; raises ``LoadError`` with all errors."""
    found = Gathering(file)
    unused = Counter[str]()
    lines = _Lines(decode(data, file))
    taken = 0
    try:
        for family in text_fd_to_metric_families(iter(lines)):  # type: ignore[no-untyped-call]
            for sample in family.samples:
                line = lines.of_samples[taken]
                taken += 1
                if sample.name in READINGS:
                    _add(found, sample, line)
                elif len(unused) < MOST_NAMES or f"metric {sample.name}" in unused:
                    unused[f"metric {sample.name}"] += 1
                else:
                    unused["metrics of more names"] += 1
            if found.is_full(lines.number):
                break
    except Exception as error:  # whatever its text leads the parser to
        found.errors.add(Place(file, max(lines.number, 1), 1), f"this is no OpenMetrics text: {error}", allowed=EXAMPLE)
    return found.samples(), unused


class _Lines:
    """The lines of a text as they are asked for: ``number`` of the last one, ``of_samples`` those that are no comment,
    each of which the parser makes one sample of."""

    def __init__(self, text: str):
        self._text = text
        self.number = 0
        self.of_samples = array("q")

    def __iter__(self) -> Iterator[str]:
        for line in io.StringIO(self._text):
            self.number += 1
            if not line.startswith("#"):
                self.of_samples.append(self.number)
            yield line


def _add(found: Gathering, sample: Sample, line: int) -> None:
    place = Place(found.file, line, 1)
    labels, moment = sample.labels, sample.timestamp
    at = labels.get("at") or ":".join(labels[name] for name in ("device", "interface") if labels.get(name))
    if not at:
        found.errors.add(place, "the sample does not say of what it is", found=quoted(sample.name), allowed=EXAMPLE)
        return
    if isinstance(moment, Timestamp):
        time = moment.sec * MILLION + moment.nsec // 1000
    else:
        time = EARLIEST - 1 if moment is None or not math.isfinite(moment) else round(moment * MILLION)
    if not EARLIEST <= time < LATEST:
        found.errors.add(place, "a sample has a time, in seconds since 1970", found=quoted(moment), allowed=EXAMPLE)
        return
    found.add(time, at, sample.name, sample.value, line)
