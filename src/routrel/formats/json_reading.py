"""JSON that is valid, read by a grammar at the speed of the standard library's parser.

What is refused, or might be, is for the strict way, which says what and where (``grammar``, over ``yaml_nodes``): here
``SuspectError`` is all that is said. Values come from ``json``; where they stand is found for all of them at once: keys
and values begin in the text in the order in which the grammar meets them.
"""

import json
import re
from collections.abc import Callable, Iterator
from functools import partial
from typing import Any

import numpy as np

from routrel.formats.grammar import (
    Boolean,
    Choice,
    Either,
    Fraction,
    Group,
    Integer,
    Items,
    Kind,
    ListOf,
    MapOf,
    Parsed,
    Record,
    Text,
)
from routrel.formats.scalars import printable
from routrel.formats.yaml_nodes import MAX_NODES
from routrel.model.places import Place

_BETWEEN = np.isin(np.arange(128), [*map(ord, "{}[],: \t\r\n")])
"""By their codes, the characters that are of no value."""


class SuspectError(Exception):
    """A text that is not valid, or not surely."""


Places = Iterator[Place]
Reader = Callable[[Any, Place, Places], Any]
"""A value with its place, and the places of all that follows it in the text."""


def json_reader(kind: Kind) -> Callable[[str, str], Any]:
    """Of a text and its file's name: what the grammar reads; raises ``SuspectError``."""
    reader = _reader(kind)

    def read(text: str, file: str) -> Any:
        if sum(map(text.count, ",:[{")) >= MAX_NODES:
            raise SuspectError  # of perhaps too many values, before they are made
        try:
            value = json.loads(text, object_pairs_hook=_once)
        except (ValueError, RecursionError) as error:
            raise SuspectError from error
        places = _places(text, file)
        return reader(value, next(places), places)

    return read


def _once(pairs: list[tuple[str, Any]]) -> dict[str, Any]:
    found = dict(pairs)
    if len(found) != len(pairs):
        raise SuspectError
    return found


def _places(text: str, file: str) -> Places:
    """Where the keys and values of valid JSON begin, in the order of the text."""
    plain = re.sub(r"\\.", "..", text, flags=re.DOTALL)  # a quote that is left begins or ends a text
    codes = np.frombuffer(plain.encode("utf-32-le"), np.uint32)
    is_quote = codes == ord('"')
    quotes = np.cumsum(is_quote, dtype=np.int32)
    is_outside = (quotes & 1 == 0) & ~is_quote
    is_opening = is_outside & ((codes == ord("{")) | (codes == ord("[")))
    is_word = is_outside & ~_BETWEEN[np.minimum(codes, 127)]
    begins = is_opening | (is_quote & (quotes & 1 == 1))
    begins |= is_word & ~np.concatenate([[False], is_word[:-1]])
    at = np.flatnonzero(begins)
    breaks = np.flatnonzero(codes == ord("\n"))
    lines = np.searchsorted(breaks, at)
    starts = np.concatenate([[0], breaks + 1])[lines]
    return map(partial(Place, file), (lines + 1).tolist(), (at - starts + 1).tolist())


def _reader(kind: Kind) -> Reader:
    make = _MAKERS.get(type(kind))
    return _refuse if make is None else make(kind)


def _refuse(value: Any, place: Place, places: Places) -> Any:
    raise SuspectError


def _boolean(kind: Boolean) -> Reader:
    def read(value: Any, place: Place, places: Places) -> Any:
        if value is True or value is False:
            return value
        raise SuspectError

    return read


def _integer(kind: Integer) -> Reader:
    low, high = kind.low, kind.high

    def read(value: Any, place: Place, places: Places) -> Any:
        if type(value) is int and low <= value <= high:
            return value
        raise SuspectError

    return read


def _fraction(kind: Fraction) -> Reader:
    def read(value: Any, place: Place, places: Places) -> Any:
        if type(value) in (int, float) and 0 <= value <= 1:
            return float(value)
        raise SuspectError

    return read


def _text(kind: Text) -> Reader:
    fits = re.compile(kind.pattern).fullmatch if kind.pattern else None

    def read(value: Any, place: Place, places: Places) -> Any:
        if type(value) is not str or (fits is not None and not fits(value)):
            raise SuspectError
        try:
            return printable(value)
        except ValueError as error:
            raise SuspectError from error

    return read


def _choice(kind: Choice) -> Reader:
    words: dict[Any, str] = {word: word for word in kind.words}
    words |= {int(word): word for word in kind.words if word.isdecimal() and str(int(word)) == word}

    def read(value: Any, place: Place, places: Places) -> Any:
        if type(value) in (str, int) and value in words:
            return words[value]
        raise SuspectError

    return read


def _parsed(kind: Parsed) -> Reader:
    parse = kind.parse

    def read(value: Any, place: Place, places: Places) -> Any:
        if type(value) is int:
            value = str(value)
        elif type(value) is not str:
            raise SuspectError
        try:
            return parse(value)
        except ValueError as error:
            raise SuspectError from error

    return read


def _list_of(kind: ListOf) -> Reader:
    read_item, least = _reader(kind.item), kind.least

    def read(value: Any, place: Place, places: Places) -> Any:
        if type(value) is not list or len(value) < least:
            raise SuspectError
        items = Items(place)
        for child in value:
            own = next(places)
            items.values.append(read_item(child, own, places))
            items.places.append(own)
        return items

    return read


def _map_of(kind: MapOf) -> Reader:
    read_key, read_value = _reader(kind.key), _reader(kind.value)

    def read(value: Any, place: Place, places: Places) -> Any:
        record = Record(place)
        if value is None:
            return record
        if type(value) is not dict:
            raise SuspectError
        for name, child in value.items():
            own = next(places)
            key = read_key(name, own, places)
            if key in record.values:
                raise SuspectError
            record.values[key] = read_value(child, next(places), places)
            record.places[key] = own
        return record

    return read


def _group(kind: Group) -> Reader:
    readers = {key: _reader(one) for key, one in kind.fields.items()}
    required = kind.required

    def read(value: Any, place: Place, places: Places) -> Any:
        record = Record(place)
        if value is None and not required:
            return record
        if type(value) is not dict:
            raise SuspectError
        values, own_places = record.values, record.places
        for key, child in value.items():
            if key not in readers:
                raise SuspectError
            next(places)  # the key's own
            own_places[key] = own = next(places)
            values[key] = readers[key](child, own, places)
        for key in required:
            if key not in values:
                raise SuspectError
        return record

    return read


def _either(kind: Either) -> Reader:
    listing, mapping, scalar = (
        _refuse if one is None else _reader(one) for one in (kind.listing, kind.mapping, kind.scalar)
    )

    def read(value: Any, place: Place, places: Places) -> Any:
        form = type(value)
        return (listing if form is list else mapping if form is dict else scalar)(value, place, places)

    return read


_MAKERS: dict[type, Callable[[Any], Reader]] = {
    Boolean: _boolean,
    Integer: _integer,
    Fraction: _fraction,
    Text: _text,
    Choice: _choice,
    Parsed: _parsed,
    ListOf: _list_of,
    MapOf: _map_of,
    Group: _group,
    Either: _either,
}
"""By the kind; one that is not here is read the strict way."""
