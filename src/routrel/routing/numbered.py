"""Prefixes that routers bring into a protocol, as columns over a prefix index."""

from collections.abc import Sequence

import numpy as np
import numpy.typing as npt

from routrel.model.addresses import Prefix
from routrel.routing.prefixes import PrefixIndex

Column = npt.NDArray[np.int64]


class Numbered:
    """Columns of what is brought in, made once per index."""

    def __init__(self) -> None:
        self._made: tuple[PrefixIndex, int, tuple[Column, Column, Column]] | None = None

    def columns(
        self, brought: Sequence[tuple[int, Prefix, int, int]], index: PrefixIndex
    ) -> tuple[Column, Column, Column]:
        """(prefix number, router, cost) int64 (n,) each of rows of router, prefix, cost and port."""
        if self._made is None or self._made[0] is not index or self._made[1] != len(brought):
            routers, prefixes, costs, _ = zip(*brought, strict=True) if brought else ((), (), (), ())
            numbers = np.array(list(map(index.number.__getitem__, prefixes)), np.int64)
            columns = numbers, np.array(routers, np.int64), np.array(costs, np.int64)
            self._made = index, len(brought), columns
        return self._made[2]
