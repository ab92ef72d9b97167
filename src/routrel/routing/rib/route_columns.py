"""Connected, static and observed routes of one table as columns."""

from dataclasses import dataclass
from functools import cached_property

import numpy as np
import numpy.typing as npt

from routrel.model.routing import PROTOCOL_ORDER
from routrel.routing.arrays import UNSET, Column
from routrel.routing.routes import Route


@dataclass(frozen=True)
class RouteColumns:
    """Routes by the column of their prefix: ``numbers`` int64 (n,), ascending, and ``routes`` in the same order."""

    numbers: Column
    routes: tuple[Route, ...]

    @classmethod
    def of(cls, standing: dict[int, Route], protocol: str | None = None) -> "RouteColumns":
        """The routes of one protocol that others may take on; all of them where none is named."""
        found = sorted(
            (number, route)
            for number, route in standing.items()
            if protocol is None or (route.protocol == protocol and not route.prefix.is_link_local)
        )
        return cls(np.array([number for number, _ in found], np.int64), tuple(route for _, route in found))

    @cached_property
    def ranks(self) -> npt.NDArray[np.int32]:
        """Preference and protocol order as one number, as ``Source.ranks`` has them."""
        order = len(PROTOCOL_ORDER)
        ranks = [(route.preference or 0) * order + PROTOCOL_ORDER.index(route.protocol) for route in self.routes]
        return np.array(ranks, np.int32)

    @cached_property
    def metric(self) -> Column:
        return np.array([route.metric or 0 for route in self.routes], np.int64)

    @cached_property
    def tag(self) -> Column:
        return np.array([UNSET if route.tag is None else route.tag for route in self.routes], np.int64)

    @cached_property
    def has_gateways(self) -> bool:
        """Whether any of them sends packets to another's address."""
        return any(hop.address is not None for route in self.routes for hop in route.next_hops)
