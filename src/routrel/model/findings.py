"""Findings: problems of the model itself, each with its evidence and its place in the source."""

from collections.abc import Sequence
from typing import Literal

from msgspec import Struct

from routrel.model.places import NOWHERE, Place

Severity = Literal["error", "warning", "note"]

SEVERITIES: tuple[Severity, ...] = ("error", "warning", "note")


class Finding(Struct, frozen=True):
    """``code`` names the kind; ``places`` are all source positions that together make the problem."""

    code: str
    severity: Severity
    message: str
    device: str = ""
    interface: str = ""
    places: tuple[Place, ...] = (NOWHERE,)


class Doubt(Struct, frozen=True):
    """Why what is shown of a protocol's routes in some routing instances is not sure."""

    protocol: str
    instances: frozenset[int]
    message: str


def some_of(items: Sequence[object], most: int = 5, between: str = ", ") -> str:
    """A list in words: the first few, and how many more."""
    more = f" and {len(items) - most} more" if len(items) > most else ""
    return between.join(str(item) for item in items[:most]) + more
