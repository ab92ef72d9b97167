"""Texts that stand for something: printable text, rates, times."""

import re
from datetime import datetime

_CONTROL = re.compile(r"[\x00-\x08\x0b-\x1f\x7f\ud800-\udfff]")


def printable(text: str) -> str:
    """Text without control characters, which escapes could bring in."""
    if _CONTROL.search(text):
        raise ValueError(f"{text!r} holds a control character")
    return text


def rate(text: str) -> int:
    """Bits per second: an integer, or one with k, M, G or T (powers of 1000)."""
    match = re.fullmatch(r"([0-9]{1,15}(?:\.[0-9]{1,6})?)([kMGT]?)", text)
    if not match:
        raise ValueError(f"{text!r} is no rate")
    value = float(match[1]) * {"": 1, "k": 1e3, "M": 1e6, "G": 1e9, "T": 1e12}[match[2]]
    if value < 1:
        raise ValueError(f"{text!r} is less than one bit per second")
    return round(value)


def timestamp(text: str) -> datetime:
    """An RFC 3339 time, with its offset as it was written."""
    if not re.fullmatch(r"\d{4}-\d\d-\d\d[Tt ]\d\d:\d\d:\d\d(\.\d{1,9})?([Zz]|[+-]\d\d:\d\d)", text):
        raise ValueError(f"{text!r} is no RFC 3339 time")
    return datetime.fromisoformat(text.upper().replace(" ", "T"))
