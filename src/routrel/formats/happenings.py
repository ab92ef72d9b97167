"""What happened, from whatever file says it: JSON Lines, updates as MRT keeps them, samples of what was measured."""

import re
from collections import Counter
from datetime import datetime
from typing import NamedTuple

from routrel.formats.events_file import read_events
from routrel.formats.mrt.records import is_dump
from routrel.formats.mrt.updates import read_updates
from routrel.formats.samples.open_metrics import read_open_metrics
from routrel.formats.samples.table import read_table
from routrel.model.announcements import Announcements, moment_of
from routrel.model.events import Event
from routrel.model.samples import Samples, no_samples

_TABLE = re.compile(rb"(?:\xef\xbb\xbf)?\s*+(?:time|at)\s*+,", re.IGNORECASE)
_OPEN_METRICS = re.compile(rb"(?:\xef\xbb\xbf)?# (?:TYPE|HELP|UNIT|EOF)\b")
_OPEN_METRICS_END = re.compile(rb"\n# EOF\n?\Z")


class Happenings(NamedTuple):
    """Events, announcements and samples of one file, and what of it is not used, with counts."""

    events: list[Event]
    announcements: Announcements
    samples: Samples
    unused: Counter[str]

    @property
    def event_count(self) -> int:
        """Events and announcements."""
        return len(self.events) + len(self.announcements)

    @property
    def span(self) -> tuple[datetime, datetime] | None:
        """The moments of the first and the last that is told of; None where nothing is."""
        counts = [
            moment(times)
            for times in (self.announcements.times, self.samples.times)
            if len(times)
            for moment in (min, max)
        ]
        moments = [*(event.time for event in self.events), *(moment_of(int(count)) for count in counts)]
        return (min(moments), max(moments)) if moments else None


def read_happenings(data: bytes, file: str) -> Happenings:
    """What a file says; raises ``LoadError``."""
    if is_dump(file):
        events, announcements, unused = read_updates(data, file)
        return Happenings(events, announcements, no_samples(file), unused)
    if _TABLE.match(data):
        return Happenings([], Announcements(file), read_table(data, file), Counter())
    if _OPEN_METRICS.match(data) or _OPEN_METRICS_END.search(data, max(0, len(data) - 10)):
        samples, unused = read_open_metrics(data, file)
        return Happenings([], Announcements(file), samples, unused)
    events, announcements = read_events(data, file)
    return Happenings(events, announcements, no_samples(file), Counter())
