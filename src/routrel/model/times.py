"""Moments as text."""

from datetime import datetime


def rfc3339(moment: datetime) -> str:
    """A moment with its offset, in the form of RFC 3339; UTC is ``Z``."""
    return moment.isoformat().replace("+00:00", "Z")
