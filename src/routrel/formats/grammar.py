"""Kinds of value a network file may hold: each reads a node and describes itself as JSON Schema.

A kind's ``read`` gives the value, or notes an error and gives ``INVALID``; a group with an invalid part
still reads its other parts, so that all errors of a file are found in one pass. Plain scalars follow the
core schema of YAML 1.2.2, section 10.3.
"""

import re
from collections.abc import Callable, Iterable
from dataclasses import dataclass
from typing import Any, Protocol, TypeVar

import yaml
from msgspec import Struct

from routrel.formats.errors import ErrorList, quoted
from routrel.formats.scalars import printable, rate, timestamp
from routrel.formats.yaml_nodes import Node, place_of
from routrel.model.addresses import Address, InterfaceAddress, Prefix
from routrel.model.fields import field_names
from routrel.model.places import Place

JsonSchema = dict[str, Any]

NAME = r"[A-Za-z0-9][A-Za-z0-9._-]{0,62}"
INTERFACE_NAME = r"[A-Za-z0-9][A-Za-z0-9._/:-]{0,62}"


class _Invalid:
    """The result of reading a value that was refused."""

    def __bool__(self) -> bool:
        return False


INVALID = _Invalid()


@dataclass(slots=True)
class Reading:
    """One pass over one file."""

    file: str
    errors: ErrorList

    def place_of(self, node: Node) -> Place:
        """Where a node begins."""
        return place_of(node, self.file)

    def refuse(self, node: Node, message: str, allowed: str = "", names: Iterable[str] = (), name: str = "") -> Any:
        self.errors.add(self.place_of(node), message, found=found_in(node), allowed=allowed, names=names, name=name)
        return INVALID


Model = TypeVar("Model")


class Record(Struct):
    """A mapping that was read: values by key, the place of each, and the mapping's own."""

    place: Place
    values: dict[str, Any] = {}
    places: dict[str, Place] = {}

    def __getitem__(self, key: str) -> Any:
        return self.values[key]

    def __contains__(self, key: str) -> bool:
        return key in self.values

    def get(self, key: str, default: Any = None) -> Any:
        return self.values.get(key, default)

    def place_of(self, key: str) -> Place:
        return self.places.get(key, self.place)

    def into(self, model: type[Model], /, **more: Any) -> Model:
        """An object of a class, by the keys that are named as its fields; ``more`` is what is not, or differs."""
        names = field_names(model)
        return model(**{key: value for key, value in self.values.items() if key in names} | more)


class Items(Struct):
    """A list that was read, with the place of each item."""

    place: Place
    values: list[Any] = []
    places: list[Place] = []

    def pairs(self) -> list[tuple[Any, Place]]:
        return list(zip(self.values, self.places, strict=True))


def items_of(value: Items | None) -> list[tuple[Any, Place]]:
    """Each item with its place; none where the key is absent."""
    return value.pairs() if value else []


def entries_of(record: Record | None) -> list[tuple[Any, Any, Place]]:
    """Each key with its value and place; none where the mapping is absent."""
    return [(key, value, record.places[key]) for key, value in record.values.items()] if record else []


class Kind(Protocol):
    """What every kind can do; ``label`` says in a message what is allowed."""

    @property
    def label(self) -> str: ...

    def read(self, node: Node, reading: Reading) -> Any: ...

    def schema(self) -> JsonSchema: ...


def found_in(node: Node) -> str:
    """What a node holds, for a message."""
    if isinstance(node, yaml.ScalarNode):
        return quoted(node.value) if node.value or not is_plain(node) else "nothing"
    return "a list" if isinstance(node, yaml.SequenceNode) else "a mapping"


def is_plain(node: Node) -> bool:
    """Whether a node is a scalar without quotes."""
    return isinstance(node, yaml.ScalarNode) and not node.style


def is_null(node: Node) -> bool:
    """Whether a node is YAML's null."""
    return is_plain(node) and node.value in ("", "~", "null", "Null", "NULL")


def data_of(node: yaml.Node) -> Any:
    """The plain data of a node, by the core schema of YAML 1.2.2."""
    if isinstance(node, yaml.MappingNode):
        return {key.value: data_of(value) for key, value in node.value}
    if isinstance(node, yaml.SequenceNode):
        return [data_of(item) for item in node.value]
    if is_null(node):
        return None
    if is_plain(node) and node.value.lower() in ("true", "false"):
        return node.value.lower() == "true"
    integer = plain_integer(node)
    return node.value if integer is None else integer


@dataclass(frozen=True, slots=True)
class Boolean:
    label: str = "true or false"

    def read(self, node: Node, reading: Reading) -> Any:
        if is_plain(node) and node.value in ("true", "True", "TRUE"):
            return True
        if is_plain(node) and node.value in ("false", "False", "FALSE"):
            return False
        return reading.refuse(node, "a switch is expected here", self.label)

    def schema(self) -> JsonSchema:
        return {"type": "boolean"}


@dataclass(frozen=True, slots=True)
class Integer:
    low: int = 0
    high: int = 2**32 - 1

    @property
    def label(self) -> str:
        return f"an integer from {self.low} to {self.high}"

    def read(self, node: Node, reading: Reading) -> Any:
        value = plain_integer(node)
        if value is None:
            return reading.refuse(node, "an integer is expected here", self.label)
        if not self.low <= value <= self.high:
            return reading.refuse(node, "the number is out of range", self.label)
        return value

    def schema(self) -> JsonSchema:
        return {"type": "integer", "minimum": self.low, "maximum": self.high}


def plain_integer(node: Node) -> int | None:
    """The integer of a plain scalar by YAML 1.2's core schema (decimal, 0o octal, 0x hexadecimal)."""
    if not is_plain(node) or len(node.value) > 30:
        return None
    if re.fullmatch(r"[-+]?[0-9]+", node.value):
        return int(node.value)
    if re.fullmatch(r"0o[0-7]+|0x[0-9a-fA-F]+", node.value):
        return int(node.value, 0)
    return None


@dataclass(frozen=True, slots=True)
class Fraction:
    """A number from 0 to 1."""

    label: str = "a number from 0 to 1"

    def read(self, node: Node, reading: Reading) -> Any:
        if not (is_plain(node) and re.fullmatch(r"[-+]?(\.[0-9]+|[0-9]+(\.[0-9]*)?)([eE][-+]?[0-9]+)?", node.value)):
            return reading.refuse(node, "a number is expected here", self.label)
        value = float(node.value)
        return value if 0 <= value <= 1 else reading.refuse(node, "the number is out of range", self.label)

    def schema(self) -> JsonSchema:
        return {"type": "number", "minimum": 0, "maximum": 1}


@dataclass(frozen=True, slots=True)
class Text:
    """Any text, or text of one shape."""

    label: str = "text"
    pattern: str | None = None

    def read(self, node: Node, reading: Reading) -> Any:
        if not isinstance(node, yaml.ScalarNode) or is_null(node):
            return reading.refuse(node, f"{self.label} is expected here")
        try:
            printable(node.value)
        except ValueError:
            return reading.refuse(node, "a control character stands in the text", "printable text")
        if self.pattern and not re.fullmatch(self.pattern, node.value):
            return reading.refuse(node, f"this is not {self.label}", f"text like {self.pattern}")
        return node.value

    def schema(self) -> JsonSchema:
        return {"type": "string", "pattern": f"^({self.pattern})$"} if self.pattern else {"type": "string"}


@dataclass(frozen=True, slots=True)
class Choice:
    """One of some words; ``later`` are words of the contract whose capability is not built yet."""

    words: tuple[str, ...]
    later: tuple[str, ...] = ()

    @property
    def label(self) -> str:
        return "one of " + ", ".join(self.words)

    def read(self, node: Node, reading: Reading) -> Any:
        if isinstance(node, yaml.ScalarNode) and node.value in self.words:
            return node.value
        name = node.value if isinstance(node, yaml.ScalarNode) else ""
        if name in self.later:
            return reading.refuse(node, "not supported yet", self.label)
        return reading.refuse(node, "this word is not known here", self.label, self.words, name)

    def schema(self) -> JsonSchema:
        return {"enum": [*self.words, *(int(word) for word in self.words if word.isdigit())]}


@dataclass(frozen=True, slots=True)
class Parsed:
    """Text that a function turns into a value; its ``ValueError`` becomes the refusal."""

    label: str
    parse: Callable[[str], Any]
    schema_type: tuple[str, ...] = ("string",)

    def read(self, node: Node, reading: Reading) -> Any:
        if not isinstance(node, yaml.ScalarNode) or is_null(node):
            return reading.refuse(node, f"{self.label} is expected here")
        try:
            return self.parse(node.value)
        except ValueError as error:
            reason = str(error) if str(error).startswith(repr(node.value)) else ""
            return reading.refuse(node, f"this is not {self.label}" + (f" ({reason})" if reason else ""), self.label)

    def schema(self) -> JsonSchema:
        kinds = list(self.schema_type)
        return {"type": kinds[0] if len(kinds) == 1 else kinds, "description": self.label}


@dataclass(frozen=True, slots=True)
class ListOf:
    item: Kind
    least: int = 0

    @property
    def label(self) -> str:
        return f"a list, each {self.item.label}"

    def read(self, node: Node, reading: Reading) -> Any:
        if not isinstance(node, yaml.SequenceNode):
            return reading.refuse(node, "a list is expected here", self.label)
        if len(node.value) < self.least:
            return reading.refuse(node, f"the list is too short: {len(node.value)}", f"{self.least} or more")
        items = Items(reading.place_of(node))
        for child in node.value:
            value = self.item.read(child, reading)
            if value is not INVALID:
                items.values.append(value)
                items.places.append(reading.place_of(child))
        return items

    def schema(self) -> JsonSchema:
        return {"type": "array", "items": self.item.schema(), **({"minItems": self.least} if self.least else {})}


def keys_of(node: yaml.MappingNode, reading: Reading) -> list[tuple[str, Node, Node]]:
    """(key, key node, value node) of a mapping; a duplicate or a key that is no text is an error."""
    seen: dict[str, Node] = {}
    result: list[tuple[str, Node, Node]] = []
    for key, value in node.value:
        if not isinstance(key, yaml.ScalarNode):
            reading.refuse(key, "a key must be plain text")
        elif key.value in seen:
            line = reading.place_of(seen[key.value]).line
            reading.refuse(key, f"the key stands twice; first in line {line}", "each key once")
        else:
            seen[key.value] = key
            result.append((key.value, key, value))
    return result


@dataclass(frozen=True, slots=True)
class MapOf:
    """A mapping of names to values of one kind."""

    key: Kind
    value: Kind

    @property
    def label(self) -> str:
        return f"a mapping of {self.key.label} to {self.value.label}"

    def read(self, node: Node, reading: Reading) -> Any:
        if not isinstance(node, yaml.MappingNode):
            if is_null(node):
                return Record(reading.place_of(node))
            return reading.refuse(node, "a mapping is expected here", self.label)
        record = Record(reading.place_of(node))
        for _, key_node, value_node in keys_of(node, reading):
            key = self.key.read(key_node, reading)
            value = self.value.read(value_node, reading)
            if key is not INVALID and value is not INVALID:
                if key in record.values:
                    reading.refuse(key_node, "this is the same as an earlier key", "each once")
                record.values[key] = value
                record.places[key] = reading.place_of(key_node)
        return record

    def schema(self) -> JsonSchema:
        return {"type": "object", "propertyNames": self.key.schema(), "additionalProperties": self.value.schema()}


@dataclass(frozen=True, slots=True)
class Later:
    """A key of the contract whose capability is not built: refused by name, never ignored."""

    capability: str

    @property
    def label(self) -> str:
        return "not supported yet"

    def read(self, node: Node, reading: Reading) -> Any:
        return reading.refuse(node, f"not supported yet: {self.capability}", "leave this key out")

    def schema(self) -> JsonSchema:
        return {"not": {}, "description": f"Not supported yet: {self.capability}."}


@dataclass(frozen=True, slots=True)
class Group:
    """A mapping with a fixed set of keys."""

    name: str
    fields: dict[str, Kind]
    required: tuple[str, ...] = ()

    @property
    def label(self) -> str:
        return self.name

    def read(self, node: Node, reading: Reading) -> Any:
        if not isinstance(node, yaml.MappingNode):
            if is_null(node) and not self.required:
                return Record(reading.place_of(node))
            return reading.refuse(node, f"{self.name} must be a mapping", "keys " + ", ".join(self.fields))
        record = Record(reading.place_of(node))
        complete = True
        for key, key_node, value_node in keys_of(node, reading):
            kind = self.fields.get(key)
            if kind is None:
                supported = [name for name, known in self.fields.items() if not isinstance(known, Later)]
                reading.refuse(key_node, f"unknown key in {self.name}", ", ".join(supported), self.fields, key)
                continue
            value = kind.read(key_node if isinstance(kind, Later) else value_node, reading)
            record.places[key] = reading.place_of(value_node)
            if value is not INVALID:
                record.values[key] = value
            elif key in self.required:
                complete = False
        for key in self.required:
            if key not in record.places:
                reading.errors.add(record.place, f"{self.name} lacks the key {key!r}", allowed=self.fields[key].label)
                complete = False
        return record if complete else INVALID

    def schema(self) -> JsonSchema:
        return {
            "type": "object",
            "properties": {key: kind.schema() for key, kind in self.fields.items()},
            "additionalProperties": False,
            **({"required": list(self.required)} if self.required else {}),
        }


@dataclass(frozen=True, slots=True)
class Either:
    """A value whose form tells its kind: a list, a mapping or a scalar."""

    listing: Kind | None = None
    mapping: Kind | None = None
    scalar: Kind | None = None

    @property
    def label(self) -> str:
        return " or ".join(kind.label for kind in (self.scalar, self.listing, self.mapping) if kind)

    def read(self, node: Node, reading: Reading) -> Any:
        if isinstance(node, yaml.SequenceNode):
            kind = self.listing
        elif isinstance(node, yaml.MappingNode):
            kind = self.mapping
        else:
            kind = self.scalar
        return kind.read(node, reading) if kind else reading.refuse(node, "this form is not known here", self.label)

    def schema(self) -> JsonSchema:
        return {"anyOf": [kind.schema() for kind in (self.scalar, self.listing, self.mapping) if kind]}


ADDRESS = Parsed("an IPv4 or IPv6 address", Address.parse)
PREFIX = Parsed("a prefix with no host bits set, like 10.4.0.0/16", Prefix.parse)
INTERFACE_ADDRESS = Parsed("an address with its length, like 10.4.0.1/24", InterfaceAddress.parse)
RATE = Parsed("a rate: bit/s, or with k, M, G, T", rate, ("integer", "string"))
TIME = Parsed("an RFC 3339 time, like 2026-11-20T06:00:00Z", timestamp)
