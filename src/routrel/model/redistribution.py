"""Redistribution: routes of one protocol that enter another."""

from dataclasses import dataclass

from routrel.model.places import NOWHERE, Place


@dataclass(frozen=True, slots=True)
class Redistribution:
    """Routes of ``source`` that are best in the table enter a protocol. None leaves the protocol's default."""

    source: str
    policy: str | None = None
    metric: int | None = None
    metric_type: int | None = None
    tag: int | None = None
    place: Place = NOWHERE


@dataclass(frozen=True, slots=True)
class OriginateDefault:
    """A default route announced while the table has one of another source, or ``always``."""

    always: bool = False
    metric: int | None = None
    metric_type: int | None = None
    place: Place = NOWHERE
