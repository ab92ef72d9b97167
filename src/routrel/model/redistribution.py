"""Redistribution: routes of one protocol that enter another."""

from msgspec import Struct

from routrel.model.places import NOWHERE, Place


class Redistribution(Struct, frozen=True):
    """Routes of ``source`` that are best in the table enter a protocol. None leaves the protocol's default."""

    source: str
    policy: str | None = None
    metric: int | None = None
    metric_type: int | None = None
    tag: int | None = None
    place: Place = NOWHERE


class OriginateDefault(Struct, frozen=True):
    """A default route announced while the table has one of another source, or ``always``."""

    always: bool = False
    metric: int | None = None
    metric_type: int | None = None
    place: Place = NOWHERE
