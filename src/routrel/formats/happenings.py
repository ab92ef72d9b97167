"""What happened, from whatever file says it: JSON Lines, or updates as MRT keeps them."""

from collections import Counter
from typing import NamedTuple

from routrel.formats.events_file import read_events
from routrel.formats.mrt.records import is_dump
from routrel.formats.mrt.updates import read_updates
from routrel.model.announcements import Announcements
from routrel.model.events import Event


class Happenings(NamedTuple):
    """Events and announcements of one file, and what of it is not used, with counts."""

    events: list[Event]
    announcements: Announcements
    unused: Counter[str]


def read_happenings(data: bytes, file: str) -> Happenings:
    """What a file says; raises ``LoadError``."""
    if is_dump(file):
        return Happenings(*read_updates(data, file))
    events, announcements = read_events(data, file)
    return Happenings(events, announcements, Counter())
