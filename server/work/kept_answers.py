"""Answers that were given, kept for who asks the same."""

from collections import OrderedDict
from collections.abc import Callable

MOST_BYTES = 16 * 1024 * 1024
LARGEST = 1024 * 1024
"""A larger answer is made anew."""


class KeptAnswers:
    """The last answers of a revision, within a bound of memory."""

    def __init__(self) -> None:
        self._known: OrderedDict[str, bytes] = OrderedDict()
        self._held = 0

    def get(self, key: str, make: Callable[[], bytes]) -> bytes:
        """The answer that is kept, or one made now."""
        found = self._known.get(key)
        if found is not None:
            self._known.move_to_end(key)
            return found
        made = make()
        if len(made) <= LARGEST:
            self._known[key] = made
            self._held += len(made)
            while self._held > MOST_BYTES:
                self._held -= len(self._known.popitem(last=False)[1])
        return made
