"""Redistribution that comes round, found column by column.

What is put in for one prefix does not hang on other prefixes, so that each goes its own way from round to
round: it stands, or it comes back to an earlier state and goes round for ever. Prefixes that go round at
different speeds come back together only after the product of their rounds; each by itself is found at once.
"""

import numpy as np

from routrel.routing.arrays import Digests


class ColumnCycles:
    """The states of ``count`` columns after each round."""

    def __init__(self, count: int):
        self._history: list[Digests] = []
        self._period = np.zeros(count, np.int64)

    def note(self, now: Digests) -> int:
        """Take the state after a round: the longest period, once every column that still changes goes round, else 0."""
        if self._history:
            changed = now != self._history[-1]
            for back, before in enumerate(reversed(self._history), 1):
                again = changed & (self._period == 0) & (now == before)
                self._period[again] = back
        self._history.append(now)
        if len(self._history) < 2:
            return 0
        return int(self._period.max()) if (self._period[changed] > 0).all() else 0
