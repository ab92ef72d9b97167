"""Redistribution that comes round, found column by column.

What is put in for one prefix does not hang on other prefixes, so that each goes its own way from round to
round: it stands, or it comes back to an earlier state and goes round for ever. Prefixes that go round at
different speeds come back together only after the product of their rounds; each by itself is found at once.
"""

import zlib
from collections.abc import Sequence

import numpy as np
import numpy.typing as npt

from routrel.routing.rows import UNSET, Injected

Digests = npt.NDArray[np.uint64]
MULTIPLIER = np.uint64(0x9E3779B97F4A7C15)


class ColumnCycles:
    """The states of ``count`` columns after each round."""

    def __init__(self, count: int):
        self.count = count
        self._history: list[Digests] = []
        self._period = np.zeros(count, np.int64)

    def note(self, injected: Sequence[dict[int, Injected]], blocked: Sequence[dict[int, npt.NDArray[np.bool_]]]) -> int:
        """Take the state after a round: the longest period, once every column that still changes goes round, else 0."""
        now = self._state(injected, blocked)
        if self._history:
            changed = now != self._history[-1]
            for back, before in enumerate(reversed(self._history), 1):
                again = changed & (self._period == 0) & (now == before)
                self._period[again] = back
        self._history.append(now)
        if len(self._history) < 2:
            return 0
        return int(self._period.max()) if (self._period[changed] > 0).all() else 0

    def _state(
        self, injected: Sequence[dict[int, Injected]], blocked: Sequence[dict[int, npt.NDArray[np.bool_]]]
    ) -> Digests:
        state = np.zeros(self.count, np.uint64)
        for number, (of_solution, silent) in enumerate(zip(injected, blocked, strict=True)):
            for process, found in sorted(of_solution.items()):
                said = np.full(len(found.numbers), number * 2**32 + process + 1, np.uint64)
                for row in found.rows[1:4]:
                    said = _mixed(said + row.astype(np.uint64))
                hops = np.array([zlib.crc32(repr(hop).encode()) for hop in found.hops] + [0], np.uint64)
                said = _mixed(said + hops[np.where(found.forward == UNSET, len(found.hops), found.forward)])
                state[found.numbers] += said
            for process, off in sorted(silent.items()):
                state[off] += _mixed(np.array([number * 2**32 + 2**31 + process], np.uint64))[0]
        return state


def _mixed(values: Digests) -> Digests:
    """Bits spread (the finaliser of SplitMix64, without its last step); overflow is meant."""
    values = (values ^ (values >> np.uint64(30))) * np.uint64(0xBF58476D1CE4E5B9) + MULTIPLIER
    return values ^ (values >> np.uint64(27))
