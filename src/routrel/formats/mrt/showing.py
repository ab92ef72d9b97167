"""Records of a dump as lines that people read, one each: what the source view and evidence show of it."""

from itertools import islice

from routrel.formats.errors import LoadError
from routrel.formats.mrt.attributes import MalformedAttributesError, read_attributes
from routrel.formats.mrt.records import TABLE_DUMP_V2, Record, records_of, unpacked
from routrel.formats.mrt.table_dumps import PEER_INDEX_TABLE, RIBS, Peer, entries_of, peer_index
from routrel.model.addresses import Address

SHOWN = 1000
"""Records shown at once."""


def lines_around(data: bytes, file: str, line: int) -> tuple[int, list[str], int]:
    """The number of the first line shown, the lines, and how many the dump has; the one asked for among them."""
    data = unpacked(data, file)
    records = list(records_of(data, file))
    first = max(0, min(line - 1 - SHOWN // 2, len(records) - SHOWN))
    peers: tuple[Peer, ...] = ()
    if records and (records[0].kind, records[0].subtype) == (TABLE_DUMP_V2, PEER_INDEX_TABLE):
        _, peers = peer_index(data, records[0], file, 1)
    shown = islice(enumerate(records[first:], first + 1), SHOWN)
    return first + 1, [_line(data, record, peers, file, number) for number, record in shown], len(records)


def _line(data: bytes, record: Record, peers: tuple[Peer, ...], file: str, line: int) -> str:
    if record.kind == TABLE_DUMP_V2 and record.subtype == PEER_INDEX_TABLE:
        known = "; ".join(f"{one.address} (AS {one.number}, id {Address(4, one.identifier)})" for one in peers)
        return f"neighbors: {known}"
    if record.kind != TABLE_DUMP_V2 or record.subtype not in RIBS:
        return f"a record of type {record.kind}, subtype {record.subtype}"
    try:
        prefix, entries = entries_of(data, record, file, line)
    except LoadError as error:
        return str(error)
    found = [f"from {peers[peer].address}: {_path(raw)}" for peer, _, raw in entries if peer < len(peers)]
    return f"{prefix} " + "; ".join(found)


def _path(raw: bytes) -> str:
    try:
        one = read_attributes(raw)
    except MalformedAttributesError as error:
        return f"malformed, {error}"
    said = {
        "AS path": " ".join(map(str, one.as_path)) or "empty",
        "origin": one.origin,
        "next hop": one.next_hop,
        "MED": one.med,
        "communities": " ".join(sorted(one.communities)) or None,
    }
    return ", ".join(f"{name} {value}" for name, value in said.items() if value is not None)
