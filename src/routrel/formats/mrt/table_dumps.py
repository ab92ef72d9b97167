"""TABLE_DUMP_V2 (RFC 6396 section 4.3, with additional paths RFC 8050): a speaker's paths, by neighbour and prefix.

A full table is a million entries: each costs one turn of a loop, and its attributes are read once however many share
them.
"""

import struct
from array import array
from collections import Counter
from typing import NamedTuple

from routrel.formats.errors import InputError, LoadError
from routrel.formats.mrt.attributes import MalformedAttributesError, read_attributes
from routrel.formats.mrt.records import TABLE_DUMP_V2, Record, cut, records_of
from routrel.garbage_collection import collection_paused
from routrel.model.addresses import BITS, Address, Prefix
from routrel.model.announcements import UNNUMBERED
from routrel.model.places import Place
from routrel.model.received import PathAttributes

PEER_INDEX_TABLE = 1
RIBS = {2: (4, False), 4: (6, False), 8: (4, True), 10: (6, True)}
"""By subtype: the family, and whether entries have path identifiers."""
MAX_PATHS = 64
"""Paths of one neighbour for one prefix."""
MAX_ENTRIES = 20_000_000
MOST_KINDS = 20
"""Of what is malformed or passed over."""
ENTRY, ENTRY_WITH_ID, COUNT = struct.Struct(">HIH"), struct.Struct(">HIIH"), struct.Struct(">H")


class Peer(NamedTuple):
    """A neighbour as a dump's index names it."""

    address: Address
    number: int
    identifier: int


class Entries(NamedTuple):
    """What a dump holds of one neighbour, in the order of the file; the nth of several paths for a prefix.

    ``attributes`` (n,) are places in the dump's, ``lines`` (n,) the numbers of the records, ``paths`` (n,) the
    identifiers of the paths, of none where records have none.
    """

    prefixes: list[Prefix]
    attributes: "array[int]"
    lines: "array[int]"
    paths: "array[int]"

    @classmethod
    def none(cls) -> "Entries":
        """Those to come."""
        return cls([], array("i"), array("i"), array("q"))


class TableDump(NamedTuple):
    """A dump: ``entries`` by the place of the neighbour in ``peers`` and, of several paths for a prefix, which."""

    view: str
    time: int
    peers: tuple[Peer, ...]
    attributes: tuple[PathAttributes, ...]
    entries: dict[tuple[int, int], Entries]
    malformed: Counter[str]
    """Entries whose attributes are malformed, by what is: they are no paths (RFC 7606 section 2)."""
    passed_over: Counter[str]
    """Records of other kinds."""


@collection_paused()
def read_table_dump(data: bytes, file: str) -> TableDump:
    """A whole dump; raises ``LoadError`` with the number of the record where it is cut or broken."""
    view, time, peers = "", 0, tuple[Peer, ...]()
    numbers: dict[bytes, int] = {}
    attributes: list[PathAttributes] = []
    wrong: dict[int, str] = {}
    malformed, passed_over = Counter[str](), Counter[str]()
    entries: dict[tuple[int, int], Entries] = {}
    first_paths: list[Entries] = []
    total = 0
    for line, record in enumerate(records_of(data, file), 1):
        if record.kind != TABLE_DUMP_V2 or record.subtype not in RIBS:
            if record.kind != TABLE_DUMP_V2 or record.subtype != PEER_INDEX_TABLE:
                _count(passed_over, f"type {record.kind}, subtype {record.subtype}")
                continue
            if peers:
                # Dumps are written one behind the other: what is true now is the last.
                passed_over["an earlier dump of the table"] += 1
            view, peers = peer_index(data, record, file, line)
            time, malformed = record.time, Counter[str]()
            first_paths = [Entries.none() for _ in peers]
            entries = {(index, 0): one for index, one in enumerate(first_paths)}
            continue
        prefix, found = entries_of(data, record, file, line)
        total += len(found)
        if total > MAX_ENTRIES:
            place = Place(file, line, 1)
            raise LoadError([InputError(place, "the dump holds too much", allowed=f"{MAX_ENTRIES:,} entries")])
        seen: dict[int, int] = {}
        for peer, path, raw in found:
            number = numbers.get(raw)
            if number is None:
                number = numbers[raw] = len(attributes)
                try:
                    attributes.append(read_attributes(raw))
                except MalformedAttributesError as error:
                    attributes.append(PathAttributes())
                    wrong[number] = str(error)
            if peer >= len(first_paths):
                raise _broken(file, line, f"it names neighbor {peer} of an index of {len(peers)} before it")
            if number in wrong:
                _count(malformed, wrong[number])
                continue
            before = seen.get(peer, 0)
            seen[peer] = before + 1
            own = _further(entries, peer, before, file, line) if before else first_paths[peer]
            own.prefixes.append(prefix)
            own.attributes.append(number)
            own.lines.append(line)
            if path != UNNUMBERED:
                own.paths.append(path)
    if not peers:
        allowed = "TABLE_DUMP_V2 (RFC 6396 section 4.3), which begins with an index of neighbors"
        kinds = ", ".join(passed_over) or "nothing"
        raise LoadError([InputError(Place(file, 1, 1), "this is no dump of a table", kinds, allowed)])
    kept = {key: one for key, one in entries.items() if one.prefixes}
    return TableDump(view, time, peers, tuple(attributes), kept, malformed, passed_over)


def _count(found: Counter[str], what: str) -> None:
    """One more of a kind; a broken file has as many kinds as it likes, and the first are named."""
    found[what if what in found or len(found) < MOST_KINDS else "others"] += 1


def entries_of(data: bytes, record: Record, file: str, line: int) -> tuple[Prefix, list[tuple[int, int, bytes]]]:
    """The prefix of a record, and of each entry the place of its neighbour, the identifier of the path, and the
    attributes as they are."""
    family, has_ids = RIBS[record.subtype]
    end, found, path = record.end, list[tuple[int, int, bytes]](), UNNUMBERED
    try:
        length = data[record.start + 4]
        at = record.start + 5 + ((length + 7) >> 3)
        (count,) = COUNT.unpack_from(data, at)
        prefix = _prefix(family, length, data[record.start + 5 : at])
        at += 2
        for _ in range(count):
            if has_ids:
                peer, _, path, length = ENTRY_WITH_ID.unpack_from(data, at)
                at += 12
            else:
                peer, _, length = ENTRY.unpack_from(data, at)
                at += 8
            found.append((peer, path, data[at : at + length]))
            at += length
            if at > end:
                break
    except (struct.error, IndexError):
        raise _broken(file, line, "it is too short") from None
    except ValueError as error:
        raise _broken(file, line, str(error)) from None
    if at != end:
        what = "its entries are longer than itself" if at > end else "it is longer than its entries"
        raise _broken(file, line, what)
    return prefix, found


def _prefix(family: int, length: int, network: bytes) -> Prefix:
    """A prefix as BGP writes it; bits beyond its length are of no meaning (RFC 4271 section 4.3)."""
    bits = BITS[family]
    if length > bits:
        raise ValueError(f"a prefix of {length} bits")
    shift = bits - length
    value = int.from_bytes(network, "big") << (bits - 8 * len(network))
    return Prefix(family, value >> shift << shift, length)


def _further(entries: dict[tuple[int, int], Entries], peer: int, place: int, file: str, line: int) -> Entries:
    if place >= MAX_PATHS:
        raise _broken(file, line, f"more than {MAX_PATHS} paths of one neighbor for a prefix")
    return entries.setdefault((peer, place), Entries.none())


def _broken(file: str, line: int, what: str) -> LoadError:
    return LoadError([InputError(Place(file, line, 1), f"record {line} of the dump cannot be: {what}")])


def peer_index(data: bytes, record: Record, file: str, line: int) -> tuple[str, tuple[Peer, ...]]:
    """View and neighbours (RFC 6396 section 4.3.1)."""
    start, end = record.start, record.end
    try:
        (length,) = COUNT.unpack_from(data, start + 4)
        at = start + 6 + length
        view = data[start + 6 : at].decode("utf-8", "replace")
        (count,) = COUNT.unpack_from(data, at)
        at += 2
        peers = []
        for _ in range(count):
            kind = data[at]
            size, number_size = (16 if kind & 1 else 4), (4 if kind & 2 else 2)
            identifier = int.from_bytes(data[at + 1 : at + 5], "big")
            at += 5
            address = Address(6 if kind & 1 else 4, int.from_bytes(data[at : at + size], "big"))
            at += size
            peers.append(Peer(address, int.from_bytes(data[at : at + number_size], "big"), identifier))
            at += number_size
            if at > end:
                break
    except (struct.error, IndexError):
        raise _broken(file, line, "the index of neighbors is too short") from None
    if at != end:
        raise cut(file, line, start, f"{at - start:,} bytes for {count} neighbors", end - start)
    return view, tuple(peers)
