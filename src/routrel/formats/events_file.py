"""Events as JSON Lines: one object on a line, a change with the time at which it happened (docs/events.md)."""

import re
from collections.abc import Mapping
from datetime import UTC, datetime
from typing import Any

import msgspec

from routrel.formats.changes.reading import changes_of
from routrel.formats.changes.vocabulary import SHAPES
from routrel.formats.errors import ErrorList, LoadError, quoted
from routrel.formats.received_path import read_path
from routrel.model.announcements import UNNUMBERED, WITHDRAWN, Announcements, microseconds
from routrel.model.changes import Change
from routrel.model.events import Event
from routrel.model.places import Place
from routrel.model.received import PathAttributes

MAX_EVENTS = 1_000_000
"""Of one file."""
MAX_LINE = 65_536
"""Characters of one event."""
YEARS = range(1970, 2200)
"""In which something can have happened."""
SYNONYMS = {"down": "disable", "up": "enable"}
"""How what happens is written, and the change that it is."""
SWITCHED = frozenset(SYNONYMS.values())
NOT_EVENTS = frozenset({("add", "expectation"), ("change", "expectation"), ("remove", "expectation")})
"""Changes that say nothing of how the network is."""
EXAMPLE = '{"time": "2026-11-20T03:12:44Z", "down": "link", "at": "r1:e2"}'

_TIME = re.compile(r"\d{4}-\d\d-\d\d[Tt ]\d\d:\d\d:\d\d(\.\d{1,9})?([Zz]|[+-]\d\d:\d\d)")
_decode = msgspec.json.Decoder(dict[str, Any]).decode


def read_events(data: bytes, file: str) -> tuple[list[Event], Announcements]:
    """The events of a file in the order of their times, and the paths that neighbours said in it.

    An empty line, and one that begins with ``#``, says nothing. Raises ``LoadError`` with all errors in it.
    """
    errors = ErrorList()
    events, announcements = list[Event](), Announcements(file)
    known: tuple[dict[str, int], dict[PathAttributes, int]] = ({}, {})
    lines = data.removeprefix(b"\xef\xbb\xbf").split(b"\n")
    for number, line in enumerate(lines, 1):
        text = line.strip()
        if not text or text.startswith(b"#"):
            continue
        if len(events) + len(announcements) >= MAX_EVENTS:
            errors.add(Place(file, number, 1), "the file holds too many events", allowed=f"{MAX_EVENTS:,}")
            break
        event = _event(text, Place(file, number, 1), errors)
        if event is None:
            continue
        if event.change.what == "path":
            _announce(event, announcements, *known, errors)
        else:
            events.append(event)
    errors.raise_if_any()
    return sorted(events, key=lambda one: one.time), announcements


def _announce(
    event: Event,
    announcements: Announcements,
    speakers: dict[str, int],
    attributes: dict[PathAttributes, int],
    errors: ErrorList,
) -> None:
    """A path that is announced or withdrawn as a row; of a withdrawal of ``all`` without a prefix."""
    change = event.change
    try:
        prefix, path = read_path(change)
    except LoadError as error:
        for one in error.errors:
            errors.add(event.place, one.message, found=one.found, allowed=one.allowed)
        return
    speaker = speakers.setdefault(change.at, len(speakers))
    if speaker == len(announcements.speakers):
        announcements.speakers.append(change.at)
    number = WITHDRAWN
    if path is not None:
        number = attributes.setdefault(path, len(attributes))
        if number == len(announcements.attributes):
            announcements.attributes.append(path)
    announcements.add(microseconds(event.time), speaker, prefix, number, UNNUMBERED, event.place.line)


def events_text(events: list[Event]) -> str:
    """Events as a file that ``read_events`` reads."""
    return "".join(f"{msgspec.json.encode(one.data()).decode()}\n" for one in events)


def parse_time(text: object) -> datetime | None:
    """A moment as RFC 3339 writes it (section 5.6), in UTC; None where it is none, or in no year of ``YEARS``."""
    if not isinstance(text, str) or not _TIME.fullmatch(text):
        return None
    try:
        found = datetime.fromisoformat(text.upper()).astimezone(UTC)
    except (ValueError, OverflowError):
        return None
    return found if found.year in YEARS else None


def _event(text: bytes, place: Place, errors: ErrorList) -> Event | None:
    if len(text) > MAX_LINE:
        errors.add(place, "the line is too long", found=f"{len(text):,} bytes", allowed=f"{MAX_LINE:,} bytes")
        return None
    try:
        said = _decode(text)
    except RecursionError:
        errors.add(place, "values are nested too deep", found=quoted(text.decode("utf-8", "replace")))
        return None
    except (msgspec.DecodeError, UnicodeDecodeError) as error:
        errors.add(
            place, f"this is no JSON object: {error}", found=quoted(text.decode("utf-8", "replace")), allowed=EXAMPLE
        )
        return None
    time = parse_time(said.pop("time", None))
    if time is None:
        errors.add(place, "an event has a time", found=quoted(text.decode("utf-8", "replace")), allowed=EXAMPLE)
        return None
    note = said.pop("note", "")
    if not isinstance(note, str):
        errors.add(place, "a note is text", found=quoted(note))
        return None
    for word, verb in SYNONYMS.items():
        if word in said:
            said = {verb: said.pop(word), **said}
    change = _change(said, place, errors)
    return None if change is None else Event(time, change, note, place)


def _change(said: Mapping[str, Any], place: Place, errors: ErrorList) -> Change | None:
    """What happened: most events are known at a look, all others are read as changes of a trial are."""
    if len(said) == 2 and isinstance(said.get("at"), str):
        (verb,) = said.keys() - {"at"}
        what = said[verb]
        if verb in SWITCHED and isinstance(what, str) and (verb, what) in SHAPES:
            return Change(verb, what, said["at"], {}, True, place)
    try:
        (change,) = changes_of([said])
    except LoadError as error:
        for one in error.errors:
            errors.add(place, one.message, found=one.found, allowed=one.allowed)
        return None
    if (change.verb, change.what) in NOT_EVENTS or not change.is_on:
        what = f"{change.verb} {change.what}" if change.is_on else "a change that is off"
        errors.add(place, f"{what} is nothing that happens to a network")
        return None
    return Change(change.verb, change.what, change.at, change.values, True, place)
