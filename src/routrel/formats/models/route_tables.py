"""Routing tables, beside documents or alone: as CSV, a route or one next hop of it in a line, or as they are copied.

The first line of CSV names the columns. A device known by such a table alone has the interfaces that its routes leave
by; its addresses are those of ``local`` routes, in the subnets of ``connected`` ones.
"""

import csv
import io
from collections.abc import Iterator

from routrel.formats.errors import InputError, LoadError, nearest, quoted
from routrel.formats.models.draft import DeviceDraft, Draft, Said, place_of, prefix_of
from routrel.formats.models.plain_tables import PLAIN_SUFFIX, plain_rows
from routrel.formats.models.statements import MAX_STATEMENTS, Statement
from routrel.formats.yaml_nodes import decode
from routrel.model.addresses import BITS, Prefix
from routrel.model.places import Place
from routrel.model.routing import DEFAULT_INSTANCE, PROTOCOL_ORDER

COLUMNS = ("prefix", "next_hop", "interface", "protocol", "metric", "preference", "action", "vrf")
CSV_SUFFIX = ".csv"
TABLE_SUFFIXES = (CSV_SUFFIX, PLAIN_SUFFIX)


def read_table(data: bytes, file: str, draft: DeviceDraft, is_alone: bool) -> None:
    """Add the routes of a table to a device's; raises ``LoadError`` with the position.

    ``is_alone`` says that nothing else tells the device's interfaces.
    """
    addresses: list[tuple[Statement, str, Prefix]] = []
    subnets: list[tuple[str, Prefix]] = []
    rows = plain_rows(data, file, draft) if file.endswith(PLAIN_SUFFIX) else _rows(decode(data, file), file)
    for row, cells in rows:
        route = Draft(row, prefix=prefix_of(row, cells.get("prefix") or ""))
        protocol = cells.get("protocol", "observed")
        route["protocol"] = Said(protocol if protocol in PROTOCOL_ORDER else "observed", row)
        for key in ("metric", "preference", "action"):
            if key in cells:
                route[key] = Said(cells[key], row)
        hop = Draft(row)
        if "next_hop" in cells:
            hop["address"] = Said(cells["next_hop"], row)
        if "interface" in cells:
            hop["interface"] = Said(cells["interface"], row)
        if hop:
            route["next_hops"] = [hop]
        instance = cells.get("vrf", DEFAULT_INSTANCE)
        if instance != DEFAULT_INSTANCE:
            route["vrf"] = Said(instance, row)
            draft.begin(row).inner("vrfs", row).inner(instance, row)
        draft.listed("observed", route)
        if is_alone and "interface" in cells:
            interface = draft.interface(cells["interface"], row)
            if instance != DEFAULT_INSTANCE:
                interface["vrf"] = Said(instance, row)
            _note_subnet(row, cells["interface"], route, addresses, subnets)
    for row, name, address in addresses:
        lengths = [one.length for interface, one in subnets if interface == name and one.covers(address)]
        length = max(lengths, default=BITS[address.family])
        said = Said(f"{str(address).partition('/')[0]}/{length}", row)
        draft.interface(name, row).setdefault("addresses", []).append(said)


def _note_subnet(
    row: Statement,
    interface: str,
    route: Draft,
    addresses: list[tuple[Statement, str, Prefix]],
    subnets: list[tuple[str, Prefix]],
) -> None:
    try:
        prefix = Prefix.parse(route["prefix"].text)
    except ValueError:
        return  # refused when the route itself is read
    protocol = route["protocol"].text
    if protocol == "connected" and not prefix.is_host:
        subnets.append((interface, prefix))
    elif prefix.is_host and protocol in ("local", "connected"):
        addresses.append((row, interface, prefix))


def _rows(text: str, file: str) -> Iterator[tuple[Statement, dict[str, str]]]:
    """Each line with its cells by column; empty cells are left out."""
    reader = csv.reader(io.StringIO(text), strict=True)
    try:
        header = [one.strip().lower() for one in next(reader, [])]
        _check_header(header, file)
        for number, cells in enumerate(reader, 1):
            if not any(cells):
                continue
            line = reader.line_num - 1
            row = Statement(file, "", "route", line, 0, "")
            if number > MAX_STATEMENTS:
                raise LoadError(
                    [InputError(place_of(row), "the table is too long", allowed=f"{MAX_STATEMENTS:,} lines")]
                )
            if len(cells) != len(header):
                raise LoadError(
                    [
                        InputError(
                            place_of(row),
                            "the line has not the columns of the first",
                            f"{len(cells)}",
                            f"{len(header)}",
                        )
                    ]
                )
            yield row, {name: cell.strip() for name, cell in zip(header, cells, strict=True) if cell.strip()}
    except csv.Error as error:
        place = Place(file, max(reader.line_num, 1), 1)
        raise LoadError([InputError(place, f"this is not readable as CSV: {error}")]) from None


def _check_header(header: list[str], file: str) -> None:
    place = Place(file, 1, 1)
    allowed = ", ".join(COLUMNS)
    for name in header:
        if name not in COLUMNS:
            close = nearest(name, COLUMNS)
            error = InputError(place, "there is no such column", quoted(name), allowed, close[0] if close else "")
            raise LoadError([error])
        if header.count(name) > 1:
            raise LoadError([InputError(place, "the column stands twice", quoted(name), "each once")])
    if "prefix" not in header:
        raise LoadError([InputError(place, "the table has no column 'prefix'", allowed=allowed)])
