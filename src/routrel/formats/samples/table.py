"""Samples as CSV: ``time``, ``at``, and a column for each measure; an empty cell says nothing."""

import csv
import io
from datetime import datetime

from routrel.formats.errors import ErrorList, quoted
from routrel.formats.events_file import parse_time
from routrel.formats.samples.gathering import Gathering
from routrel.formats.yaml_nodes import decode
from routrel.model.announcements import microseconds
from routrel.model.places import Place
from routrel.model.samples import READINGS, Samples

NEEDED = ("time", "at")
EXAMPLE = "2026-11-20T03:12:44Z"


def read_table(data: bytes, file: str) -> Samples:
    """The samples of a file; raises ``LoadError`` with all errors in it."""
    found = Gathering(file)
    reader = csv.reader(io.StringIO(decode(data, file)), strict=True)
    moments: dict[str, int | None] = {}
    try:
        header = [one.strip() for one in next(reader, [])]
        _check_header(header, file, found.errors)
        found.errors.raise_if_any()
        time_at, at_at = (header.index(name) for name in NEEDED)
        columns = [(place, name) for place, name in enumerate(header) if name not in NEEDED]
        for cells in reader:
            line = reader.line_num
            if not any(cells):
                continue
            if found.is_full(line):
                break
            if len(cells) != len(header):
                message = "the line has not the columns of the first"
                found.errors.add(Place(file, line, 1), message, found=f"{len(cells)}", allowed=f"{len(header)}")
                continue
            written = cells[time_at].strip()
            if written not in moments:
                moment: datetime | None = parse_time(written)
                moments[written] = None if moment is None else microseconds(moment)
            time, at = moments[written], cells[at_at].strip()
            if time is None:
                found.errors.add(Place(file, line, 1), "this is no time", found=quoted(written), allowed=EXAMPLE)
            elif not at:
                found.errors.add(Place(file, line, 1), "the line does not say of what it is", allowed="a name in 'at'")
            else:
                _add_cells(found, time, at, [(name, cells[place].strip()) for place, name in columns], line)
    except csv.Error as error:
        found.errors.add(Place(file, max(reader.line_num, 1), 1), f"this is not readable as CSV: {error}")
    return found.samples()


def _add_cells(found: Gathering, time: int, at: str, cells: list[tuple[str, str]], line: int) -> None:
    for name, cell in cells:
        if not cell:
            continue
        try:
            value = float(cell)
        except ValueError:
            found.errors.add(
                Place(found.file, line, 1), f"{name} is a number", found=quoted(cell), allowed="a number, or nothing"
            )
            continue
        found.add(time, at, name, value, line)


def _check_header(header: list[str], file: str, errors: ErrorList) -> None:
    place = Place(file, 1, 1)
    allowed = (*NEEDED, *READINGS)
    for name in dict.fromkeys(header):
        if name not in allowed:
            errors.add(place, "there is no such column", found=quoted(name), allowed=", ".join(allowed), names=allowed)
        if header.count(name) > 1:
            errors.add(place, "the column stands twice", found=quoted(name), allowed="each once")
    for name in NEEDED:
        if name not in header:
            errors.add(place, f"there is no column {name!r}", allowed=", ".join(allowed))
    if not set(header) & READINGS.keys():
        errors.add(place, "nothing is measured: there is no column of a measure", allowed=", ".join(READINGS))
