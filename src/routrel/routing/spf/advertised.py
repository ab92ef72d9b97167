"""Prefixes that routers advertise into a flooding scope, one by one and as columns over a prefix index."""

from collections.abc import Iterator, Sequence
from functools import cached_property
from typing import NamedTuple

import numpy as np

from routrel.model.addresses import Prefix
from routrel.routing.arrays import Column
from routrel.routing.prefixes.distinctions import as_rows
from routrel.routing.prefixes.index import PrefixIndex


class Advertised(NamedTuple):
    """A prefix that a router, by its process number, brings in at a cost, from one of its ports."""

    router: int
    prefix: Prefix
    cost: int
    port: int


class AdvertisedPrefixes:
    """All that is brought into one scope."""

    def __init__(self) -> None:
        self._routers: list[int] = []
        self._prefixes: list[Prefix] = []
        self._costs: list[int] = []
        self._ports: list[int] = []
        self._columns: tuple[PrefixIndex, tuple[Column, Column, Column]] | None = None
        self._rows: tuple[PrefixIndex, tuple[Column, Column]] | None = None

    def advertise(self, router: int, prefixes: Sequence[Prefix], costs: Sequence[int], ports: Sequence[int]) -> None:
        """Prefixes of one router, each with its cost and port."""
        self._routers += [router] * len(prefixes)
        self._prefixes += prefixes
        self._costs += costs
        self._ports += ports

    def __eq__(self, other: object) -> bool:
        if not isinstance(other, AdvertisedPrefixes):
            return NotImplemented
        return all(
            getattr(self, name) == getattr(other, name) for name in ("_routers", "_prefixes", "_costs", "_ports")
        )

    __hash__ = None  # type: ignore[assignment]

    def __iter__(self) -> Iterator[Advertised]:
        return map(Advertised, self._routers, self._prefixes, self._costs, self._ports)

    def columns(self, index: PrefixIndex) -> tuple[Column, Column, Column]:
        """(prefix number, router, cost) int64 (n,) each, once all is brought; made once per index."""
        if self._columns is None or self._columns[0] is not index:
            numbers = np.array(list(map(index.number.__getitem__, self._prefixes)), np.int64)
            self._columns = index, (numbers, np.array(self._routers, np.int64), np.array(self._costs, np.int64))
        return self._columns[1]

    def rows(self, index: PrefixIndex) -> tuple[Column, Column]:
        """Prefix numbers, and beside each the router and cost as one number (``as_rows``); made once per index."""
        if self._rows is None or self._rows[0] is not index:
            numbers, routers, costs = self.columns(index)
            self._rows = index, (numbers, as_rows(routers, costs))
        return self._rows[1]

    @cached_property
    def _distinct(self) -> frozenset[Prefix]:
        return frozenset(self._prefixes)

    def has(self, prefix: Prefix) -> bool:
        """Whether some router brings a prefix in, once all is brought."""
        return prefix in self._distinct

    def entries(self, index: PrefixIndex, number: int) -> list[tuple[int, int, int]]:
        """Who brings a prefix, by its number, in: (router, cost, port)."""
        at = np.flatnonzero(self.columns(index)[0] == number).tolist()
        return [(self._routers[one], self._costs[one], self._ports[one]) for one in at]
