"""Files of updates (RFC 6396 section 4.4 BGP4MP, 4.4.3 with additional paths RFC 8050): who said what, when.

Read record by record into columns: memory grows with rows, and little for each. A file that ends inside a record is
read up to there, and so it is said.
"""

import struct
from collections import Counter
from typing import NamedTuple

from routrel.formats.errors import InputError, LoadError
from routrel.formats.mrt.attributes import MalformedAttributesError, read_attributes
from routrel.formats.mrt.messages import BrokenMessageError, Known, Update, read_update
from routrel.formats.mrt.records import HEADER, unpacked
from routrel.garbage_collection import collection_paused
from routrel.model.addresses import Address
from routrel.model.announcements import UNNUMBERED, WITHDRAWN, Announcements, moment_of
from routrel.model.changes import Change
from routrel.model.events import Event
from routrel.model.places import Place
from routrel.model.received import PathAttributes

BGP4MP, BGP4MP_ET = 16, 17
STATES = {0: 2, 5: 4}
"""Subtypes of changes of state, with the bytes of their AS numbers."""
MESSAGES = {1: (2, False), 4: (4, False), 8: (2, True), 9: (4, True)}
"""Subtypes of messages received: bytes of AS numbers, and whether paths have identifiers."""
ESTABLISHED = 6
MAX_ROWS = 20_000_000
MOST_KINDS = 20
MOST_SPEAKERS = 10_000
PEERS = {(2, 1): struct.Struct(">HHHH4s4s"), (4, 1): struct.Struct(">IIHH4s4s")} | {
    (2, 2): struct.Struct(">HHHH16s16s"),
    (4, 2): struct.Struct(">IIHH16s16s"),
}
"""By the bytes of AS numbers and the address family: both AS numbers, interface, family, both addresses."""


class Updates(NamedTuple):
    """What a file holds: sessions that came up and went down, paths, and what of it is not used, with counts."""

    events: list[Event]
    announcements: Announcements
    unused: Counter[str]


@collection_paused()
def read_updates(data: bytes, file: str) -> Updates:
    """The updates of a file, packed or not; raises ``LoadError`` where it holds none at all."""
    data = unpacked(data, file)
    reading = _Reading(file)
    found, unused, known = reading.found, reading.unused, Known()
    at, end, line = 0, len(data), 0
    while at < end:
        line += 1
        if end - at < HEADER.size or end - at - HEADER.size < HEADER.unpack_from(data, at)[3]:
            unused[f"the file ends inside record {line}, which begins at byte {at:,}: read up to there"] += 1
            break
        time, kind, subtype, length = HEADER.unpack_from(data, at)
        start = at + HEADER.size
        at = start + length
        moment = time * 1_000_000
        if kind == BGP4MP_ET and length >= 4:
            moment += int.from_bytes(data[start : start + 4], "big")
            start += 4
        size, has_paths = MESSAGES.get(subtype, (STATES.get(subtype, 0), False))
        if kind not in (BGP4MP, BGP4MP_ET) or (kind == BGP4MP_ET and length < 4) or not size:
            _count(unused, f"records of type {kind}, subtype {subtype}")
            continue
        family_at = start + 2 * size + 2
        wide = 1 if data[family_at : family_at + 2] == b"\0\1" else 2
        form = PEERS[size, wide]
        body = start + form.size
        if body > at:
            _count(unused, "records too short for their neighbors")
            continue
        speaker = reading.speaker(data[start:body], form, wide, line)
        if subtype in STATES:
            if at - body >= 4:
                old, new = struct.unpack_from(">HH", data, body)
                reading.turn(old, new, moment, speaker, line)
            continue
        try:
            update = read_update(data, body, at, has_paths, known)
        except BrokenMessageError as error:
            _count(unused, f"messages that end a session (RFC 7606): {error}")
            continue
        if update is not None:
            reading.add(update, size, moment, speaker, line)
    if not len(found):
        allowed = "BGP4MP (RFC 6396 section 4.4)"
        kinds = "; ".join(unused) or "nothing"
        raise LoadError([InputError(Place(file, 1, 1), "this is no file of updates", kinds, allowed)])
    return Updates(reading.events, found, unused)


class _Reading:
    """What is found in a file so far."""

    def __init__(self, file: str):
        self.file = file
        self.found = Announcements(file)
        self.events: list[Event] = []
        self.unused: Counter[str] = Counter()
        self._speakers: dict[bytes, int] = {}
        self._numbers: dict[tuple[bytes, int], int] = {}
        """Of attributes, by their bytes and those of AS numbers."""
        self._wrong: dict[int, str] = {}

    def speaker(self, raw: bytes, form: struct.Struct, wide: int, line: int) -> int:
        """The number of a neighbour, by how a record names it."""
        number = self._speakers.get(raw)
        if number is None:
            if len(self._speakers) >= MOST_SPEAKERS:
                place = Place(self.file, line, 1)
                raise LoadError([InputError(place, "the file holds too many neighbors", allowed=f"{MOST_SPEAKERS:,}")])
            number = self._speakers[raw] = len(self.found.speakers)
            self.found.speakers.append(_speaker(form, raw, 4 if wide == 1 else 6))
        return number

    def turn(self, old: int, new: int, moment: int, speaker: int, line: int) -> None:
        """A session that went from one state to another."""
        if (old == ESTABLISHED) != (new == ESTABLISHED):
            name, place = self.found.speakers[speaker], Place(self.file, line, 1)
            self.events.append(_turned(moment, name, new == ESTABLISHED, place))
            self.found.add(moment, speaker, None, WITHDRAWN, UNNUMBERED, line)

    def add(self, update: Update, size: int, moment: int, speaker: int, line: int) -> None:
        """What a message says; ``size`` is the bytes of its AS numbers."""
        found = self.found
        for what in update.passed_over:
            _count(self.unused, f"updates of {what}")
        for prefix, path in update.withdrawn:
            found.add(moment, speaker, prefix, WITHDRAWN, path, line)
        if update.announced:
            number = self._number_of(update, size)
            for prefix, path in update.announced:
                found.add(moment, speaker, prefix, number, path, line)
        if len(found) > MAX_ROWS:
            place = Place(self.file, line, 1)
            raise LoadError([InputError(place, "the file holds too much", allowed=f"{MAX_ROWS:,} prefixes")])

    def _number_of(self, update: Update, size: int) -> int:
        """The number of a message's attributes; WITHDRAWN where these are malformed."""
        key = update.attributes, size
        number = self._numbers.get(key)
        if number is None:
            number = self._numbers[key] = len(self.found.attributes)
            try:
                self.found.attributes.append(read_attributes(*key))
            except MalformedAttributesError as error:
                self.found.attributes.append(PathAttributes())
                self._wrong[number] = str(error)
        malformed = update.malformed or self._wrong.get(number, "")
        if malformed:
            _count(self.unused, f"updates taken as withdrawals (RFC 7606): {malformed}")
            return WITHDRAWN
        return number


def _count(found: Counter[str], what: str) -> None:
    """One more of a kind; a broken file has as many kinds as it likes, and the first are named."""
    found[what if what in found or len(found) < MOST_KINDS else "others"] += 1


def _speaker(form: struct.Struct, raw: bytes, family: int) -> str:
    """A neighbour as who listens to it names it."""
    number, _, _, _, peer, local = form.unpack(raw)
    addresses = [Address(family, int.from_bytes(one, "big")) for one in (peer, local)]
    return f"AS{number} {addresses[0]}{f' to {addresses[1]}' if addresses[1].value else ''}"


def _turned(moment: int, speaker: str, is_up: bool, place: Place) -> Event:
    """A session that came up or went down."""
    change = Change("enable" if is_up else "disable", "session", speaker, {}, True, place)
    return Event(moment_of(moment), change, "", place)
