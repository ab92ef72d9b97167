"""Paths that BGP neighbours announced and withdrew over time, in columns: a day has millions, of few kinds."""

from array import array
from datetime import UTC, datetime, timedelta
from typing import NamedTuple

from routrel.model.addresses import Prefix
from routrel.model.places import Place
from routrel.model.received import PathAttributes

WITHDRAWN = -1
"""In place of attributes."""

UNNUMBERED = -1
"""In place of the identifier of a path that has none."""

_BEGINNING = datetime(1970, 1, 1, tzinfo=UTC)


def microseconds(moment: datetime) -> int:
    """A moment in microseconds since 1970."""
    return (moment - _BEGINNING) // timedelta(microseconds=1)


def moment_of(count: int) -> datetime:
    """The moment so many microseconds after 1970."""
    return _BEGINNING + timedelta(microseconds=count)


class Announcement(NamedTuple):
    """One row: ``prefix`` None is all that the speaker ever announced, ``attributes`` None a withdrawal.

    ``path`` is the path's identifier where a speaker has several for a prefix (RFC 7911), else ``UNNUMBERED``.
    """

    moment: datetime
    speaker: str
    prefix: Prefix | None
    attributes: PathAttributes | None
    path: int
    place: Place


class Announcements:
    """Rows in the order of a file, column by column.

    ``times`` are microseconds since 1970; ``speaking`` and ``numbers`` are places in ``speakers`` and ``attributes``,
    ``numbers`` ``WITHDRAWN`` for a withdrawal; ``lines`` are lines of ``file``, of MRT numbers of records. A speaker is
    named as a change names a session, or as who listens to it does: ``AS64600 192.0.2.1 to 192.0.2.2``.
    """

    __slots__ = ("attributes", "file", "lines", "numbers", "paths", "prefixes", "speakers", "speaking", "times")

    def __init__(self, file: str):
        self.file = file
        self.times = array("q")
        self.speaking = array("i")
        self.prefixes: list[Prefix | None] = []
        self.numbers = array("i")
        self.paths = array("q")
        self.lines = array("i")
        self.speakers: list[str] = []
        self.attributes: list[PathAttributes] = []

    def __len__(self) -> int:
        return len(self.prefixes)

    def add(self, time: int, speaker: int, prefix: Prefix | None, number: int, path: int, line: int) -> None:
        """A row at the end."""
        self.times.append(time)
        self.speaking.append(speaker)
        self.prefixes.append(prefix)
        self.numbers.append(number)
        self.paths.append(path)
        self.lines.append(line)

    def row(self, at: int) -> Announcement:
        """A row by its place."""
        number = self.numbers[at]
        return Announcement(
            moment_of(self.times[at]),
            self.speakers[self.speaking[at]],
            self.prefixes[at],
            None if number == WITHDRAWN else self.attributes[number],
            self.paths[at],
            Place(self.file, self.lines[at], 1),
        )
