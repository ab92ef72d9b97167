"""Regular expressions over AS paths, matched in time that grows with the path alone (RE2's engine)."""

from functools import lru_cache
from typing import Any

import re2

LONGEST_EXPRESSION = 200
LONGEST_PATH = 20_000
"""Characters of an AS path that is searched; BGP's messages hold less (RFC 4271 section 4.1)."""


@lru_cache(1024)
def _compiled(expression: str) -> Any:
    options = re2.Options()
    options.log_errors = False
    options.never_capture = True
    return re2.compile(expression, options)


def check_expression(expression: str) -> None:
    """Raises ``ValueError`` with the reason where a text is no regular expression."""
    if len(expression) > LONGEST_EXPRESSION:
        raise ValueError(f"it has {len(expression)} characters; allowed: {LONGEST_EXPRESSION}")
    try:
        _compiled(expression)
    except re2.error as error:
        reason = error.args[0]
        raise ValueError(reason.decode() if isinstance(reason, bytes) else str(reason)) from None


def is_found(expression: str, path: tuple[int, ...]) -> bool:
    """Whether an expression is found in an AS path, its numbers written with spaces between."""
    return _compiled(expression).search(" ".join(map(str, path))[:LONGEST_PATH]) is not None
