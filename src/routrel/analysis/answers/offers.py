"""A change that can be tried where something is shown, as an answer."""

from typing import Any

from msgspec import Struct


class Offer(Struct, frozen=True):
    """A change that can be tried of what is shown beside it (docs/changes.md), and what it is called."""

    label: str
    change: dict[str, Any]
