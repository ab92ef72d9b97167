"""Objects of the model by their fields, whether msgspec or the standard library makes their class."""

import dataclasses
from typing import Any, TypeVar

import msgspec

Model = TypeVar("Model")


_NAMES: dict[type, tuple[str, ...]] = {}


def field_names(kind: type) -> tuple[str, ...]:
    """The names of a class's fields, in their order; none of a class that has no fields."""
    names = _NAMES.get(kind)
    if names is None:
        names = _NAMES[kind] = (
            kind.__struct_fields__
            if issubclass(kind, msgspec.Struct)
            else tuple(one.name for one in dataclasses.fields(kind))
            if dataclasses.is_dataclass(kind)
            else ()
        )
    return names


def compared_names(kind: type) -> list[str]:
    """Those by which objects of the class are compared."""
    if dataclasses.is_dataclass(kind):
        return [one.name for one in dataclasses.fields(kind) if one.compare]
    return list(field_names(kind))


def has_fields(value: Any) -> bool:
    """Whether a value is an object of such a class."""
    return bool(field_names(type(value)))


def replace(value: Model, /, **changes: Any) -> Model:
    """The same with other values of some fields."""
    if isinstance(value, msgspec.Struct):
        return msgspec.structs.replace(value, **changes)
    known: Any = value
    replaced: Model = dataclasses.replace(known, **changes)
    return replaced
