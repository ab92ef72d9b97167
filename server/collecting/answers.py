"""Rounds as answers of the API."""

from datetime import datetime

from msgspec import Struct


class RoundAbout(Struct, frozen=True, kw_only=True):
    """A round: who answered, why others did not, who is heard and unknown; ``revision`` where something had changed."""

    began_at: datetime
    ended_at: datetime | None
    answered: int
    failed: dict[str, str]
    unknown: dict[str, str]
    problem: str
    revision: int | None


class InventoryAbout(Struct, frozen=True, kw_only=True):
    """An inventory that is collected into a network, every so many minutes or when asked to; its last rounds first."""

    inventory: str
    every: int | None
    rounds: list[RoundAbout]
