"""The file of expectations: a list, read beside a network (docs/expectations.md).

The words of their flows are not looked up here: a network may name them otherwise tomorrow.
"""

from collections.abc import Mapping
from typing import Any

from routrel.formats.errors import ErrorList, InputError, LoadError, quoted
from routrel.formats.grammar import (
    Boolean,
    Choice,
    Either,
    Group,
    Integer,
    Items,
    ListOf,
    Reading,
    Record,
    Text,
    items_of,
)
from routrel.formats.routing_grammar import NAMED
from routrel.formats.yaml_nodes import parse_document
from routrel.model.expectations import Expectation
from routrel.model.places import Place

EXPECTATIONS_FILE = "expectations.yaml"

MOST_EXPECTATIONS = 2_000
MOST_FLOWS = 20_000
"""Flows of all expectations of a file."""

WORDS = Either(listing=ListOf(Text(), least=1), scalar=Text())
FAILURE_KINDS = Choice(("links", "interfaces", "devices", "sites", "risk_groups", "sessions"))

EXPECTATION = Group(
    "an expectation",
    {
        "name": Text(),
        "from": WORDS,
        "to": WORDS,
        "on": WORDS,
        "enter": Text(),
        "expect": Choice(("works", "arrives", "never arrives")),
        "passes": WORDS,
        "avoids": WORDS,
        "same_way_back": Boolean(),
        "hops": Integer(1, 255),
        "mtu": Integer(68, 65535),
        "ways": Integer(2, 64),
        "apart": Choice(("links", "devices", "sites", "risk_groups")),
        "survives": Either(listing=ListOf(FAILURE_KINDS, least=1), scalar=FAILURE_KINDS),
        "severity": Choice(("error", "warning", "note")),
        "owner": Text(),
        "note": Text(),
        "tags": ListOf(NAMED),
    },
    required=("name", "from", "to"),
)

ONLY_WHERE_IT_ARRIVES = ("passes", "avoids", "same_way_back", "hops", "mtu", "ways", "apart", "survives")


def read_expectations(data: bytes, file: str = EXPECTATIONS_FILE) -> tuple[Expectation, ...]:
    """The expectations of a text; raises ``LoadError`` with all errors in it."""
    errors = ErrorList()
    if all(not line.strip() or line.lstrip().startswith(b"#") for line in data.splitlines()):
        return ()
    items = ListOf(EXPECTATION).read(parse_document(data, file), Reading(file, errors))
    found: list[Expectation] = []
    if isinstance(items, Items):
        if len(items.values) > MOST_EXPECTATIONS:
            errors.add(
                items.place,
                "there are too many expectations",
                found=f"{len(items.values):,}",
                allowed=f"{MOST_EXPECTATIONS:,}",
            )
        found = [_expectation(record, place, errors) for record, place in items_of(items)[:MOST_EXPECTATIONS]]
        _check_names(found, errors)
        flows = sum(len(one.sources) * len(one.destinations) * len(one.services) for one in found)
        if flows > MOST_FLOWS:
            errors.add(
                items.place, "the expectations name too many flows", found=f"{flows:,}", allowed=f"{MOST_FLOWS:,}"
            )
    errors.raise_if_any()
    return tuple(found)


def expectation_data(one: Expectation) -> dict[str, Any]:
    """An expectation as an entry of the file, but for its name: what is left out there is left out here."""
    words = {
        "from": one.sources,
        "to": one.destinations,
        "on": () if one.services == ("icmp",) else one.services,
        "passes": one.passes,
        "avoids": one.avoids,
        "survives": one.survives,
    }
    data: dict[str, Any] = {key: some[0] if len(some) == 1 else list(some) for key, some in words.items() if some}
    plain = {
        "enter": one.enter,
        "expect": "" if one.expect == "works" else one.expect,
        "same_way_back": one.same_way_back,
        "hops": one.hops,
        "mtu": one.mtu,
        "ways": one.ways,
        "apart": "" if one.apart == "links" else one.apart,
        "severity": "" if one.severity == "error" else one.severity,
        "owner": one.owner,
        "note": one.note,
        "tags": list(one.tags),
    }
    return data | {key: value for key, value in plain.items() if value}


def split_expectations(files: Mapping[str, bytes]) -> tuple[dict[str, bytes], bytes | None]:
    """The files of a network without that of expectations, and that one's text."""
    rest = dict(files)
    return rest, rest.pop(EXPECTATIONS_FILE, None) if len(files) > 1 else None


def _expectation(record: Record, place: Place, errors: ErrorList) -> Expectation:
    expect = record.get("expect", "works")
    if expect == "never arrives":
        for key in ONLY_WHERE_IT_ARRIVES:
            if key in record:
                errors.add(record.place_of(key), "what never arrives goes no way", found=key, allowed="no such key")
    if "apart" in record and "ways" not in record:
        errors.add(record.place_of("apart"), "'apart' says what 'ways' do not share", allowed="beside ways: 2 or more")
    if record.get("same_way_back") and expect == "arrives":
        errors.add(
            record.place_of("same_way_back"), "a way back is asked where it works", found=expect, allowed="works"
        )
    sources, destinations = _words(record.get("from")), _words(record.get("to"))
    if sources and set(sources) == set(destinations) and len(set(sources)) == 1:
        # It would hold of nothing, and so always.
        errors.add(record.place_of("to"), "there is no flow from a place to itself", found=quoted(sources[0]))
    return record.into(
        Expectation,
        sources=sources,
        destinations=destinations,
        services=_words(record.get("on")) or ("icmp",),
        passes=_words(record.get("passes")),
        avoids=_words(record.get("avoids")),
        survives=tuple(dict.fromkeys(_words(record.get("survives")))),
        tags=_words(record.get("tags")),
        place=place,
    )


def _words(value: Items | str | None) -> tuple[str, ...]:
    if value is None:
        return ()
    return (value,) if isinstance(value, str) else tuple(value.values)


def _check_names(found: list[Expectation], errors: ErrorList) -> None:
    known: dict[str, Place] = {}
    for one in found:
        if one.name in known:
            message = f"an expectation of this name stands already, in line {known[one.name].line}"
            errors.add(one.place, message, found=quoted(one.name), allowed="each name once")
        known.setdefault(one.name, one.place)


def no_expectations(file: str) -> LoadError:
    """That a network has none where some are asked for."""
    message = "this network has no expectations"
    return LoadError([InputError(Place(file, 1, 1), message, allowed=f"{EXPECTATIONS_FILE} in its folder, or a file")])
