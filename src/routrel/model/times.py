"""Moments and lengths of time as text."""

from datetime import datetime


def rfc3339(moment: datetime) -> str:
    """A moment with its offset, in the form of RFC 3339; UTC is ``Z``."""
    return moment.isoformat().replace("+00:00", "Z")


def length_words(seconds: float) -> str:
    """A length of time in its two largest units: ``2 h 5 min``."""
    left, parts = round(seconds), list[str]()
    for unit, size in (("d", 86_400), ("h", 3_600), ("min", 60), ("s", 1)):
        count, left = divmod(left, size)
        if count:
            parts.append(f"{count} {unit}")
        if len(parts) == 2:
            break
    return " ".join(parts) or "0 s"
