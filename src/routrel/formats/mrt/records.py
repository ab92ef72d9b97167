"""The records of an MRT file (RFC 6396 section 2): where each begins and ends."""

import bz2
import gzip
import io
import lzma
import struct
import zlib
from collections.abc import Iterator
from typing import NamedTuple

from routrel.formats.errors import InputError, LoadError
from routrel.model.places import Place

SUFFIXES = (".mrt", ".mrt.gz", ".mrt.bz2", ".mrt.xz")
MAX_UNPACKED = 1 << 30
HEADER = struct.Struct(">IHHI")
TABLE_DUMP_V2 = 13


class Record(NamedTuple):
    """A record: its type, when it was written (seconds since 1970), and where its body stands in the data."""

    kind: int
    subtype: int
    time: int
    start: int
    end: int


def is_dump(name: str) -> bool:
    """Whether a file's name says that it is MRT."""
    return name.endswith(SUFFIXES)


def device_of(name: str) -> str:
    """The device that a dump belongs to: its folder, or its name without the suffix."""
    folder, slash, file = name.rpartition("/")
    return folder if slash else file.partition(".mrt")[0]


def unpacked(data: bytes, file: str) -> bytes:
    """A dump as it is, of one that is packed what it holds; raises ``LoadError``."""
    if not file.endswith((".gz", ".bz2", ".xz")):
        return data
    try:
        with _opened(file, io.BytesIO(data)) as stream:
            found = stream.read(MAX_UNPACKED + 1)
    except (OSError, EOFError, ValueError, zlib.error, lzma.LZMAError) as error:
        raise LoadError([InputError(Place(file, 1, 1), f"this packed file cannot be read: {error}")]) from None
    if len(found) > MAX_UNPACKED:
        allowed = f"at most {MAX_UNPACKED:,} bytes"
        raise LoadError([InputError(Place(file, 1, 1), "the file unpacks to too much", allowed=allowed)])
    return found


def _opened(file: str, packed: io.BytesIO) -> gzip.GzipFile | bz2.BZ2File | lzma.LZMAFile:
    if file.endswith(".gz"):
        return gzip.GzipFile(fileobj=packed)
    return bz2.BZ2File(packed) if file.endswith(".bz2") else lzma.LZMAFile(packed)


def records_of(data: bytes, file: str) -> Iterator[Record]:
    """The records in order; raises ``LoadError`` where the file ends inside one. Its line is the record's number."""
    at, end, number = 0, len(data), 0
    while at < end:
        number += 1
        if end - at < HEADER.size:
            raise cut(file, number, at, f"{HEADER.size} bytes of a header", end - at)
        time, kind, subtype, length = HEADER.unpack_from(data, at)
        start = at + HEADER.size
        if end - start < length:
            raise cut(file, number, at, f"{length:,} bytes", end - start)
        at = start + length
        yield Record(kind, subtype, time, start, at)


def cut(file: str, number: int, at: int, wanted: str, left: int) -> LoadError:
    """That a file ends inside a record."""
    message = f"the file ends inside record {number}, which begins at byte {at:,}"
    return LoadError([InputError(Place(file, number, 1), message, f"{left:,} bytes", wanted)])
