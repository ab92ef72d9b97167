"""How BGP hangs on tables: sessions come up by them, next hops resolve through them, and what they do not use stays.

And what BGP makes of routes of others: paths that a speaker says itself.
"""

import hashlib
from collections.abc import Sequence
from typing import TYPE_CHECKING, NamedTuple

import numpy as np

from routrel.model.addresses import Address
from routrel.model.redistribution import Redistribution
from routrel.routing.arrays import Column, Flags, distinct
from routrel.routing.bgp.paths import ABSENT, MED, NEXT_HOP, OWN, PREFERENCE, TAG, PathRows, Paths
from routrel.routing.bgp.resolution import TableResolver
from routrel.routing.bgp.speakers import State
from routrel.routing.protocol import Lineage, Participant, PathExports, Process, Tables
from routrel.routing.routes import NextHop

if TYPE_CHECKING:
    from routrel.routing.bgp.solution import BgpSolution


class SessionSurvey(Participant[State]):
    """Which sessions are up by the tables of the moment."""

    instance = None
    is_columnwise = False

    def __init__(self, solution: "BgpSolution"):
        self.solution = solution

    def look(self, tables: Tables) -> tuple[State, bytes]:
        state = self.solution.database.survey(self.solution.prefixes.whole, tables)
        return state, repr(state.key()).encode()

    def take(self, value: State) -> None:
        self.solution.state = value


class Use(NamedTuple):
    """What a speaker sees in its table.

    ``silent`` bool (c,): columns that another protocol has; those are not announced (RFC 4271 section 9.1.3).
    ``key`` tells resolutions apart: it stays while what the speaker holds resolves as by the resolver it had, of the
    lineage ``since``; ``stays`` says whether it did.
    """

    silent: Flags
    resolver: TableResolver
    key: bytes
    since: Lineage | None
    stays: bool


class TableUse(Participant[Use]):
    """What a speaker's next hops resolve to, and which of its paths the table does not use."""

    is_columnwise = False

    def __init__(self, solution: "BgpSolution", process: Process):
        self.solution = solution
        self.process = process
        self.instance = process.instance
        self._key = b""

    def look(self, tables: Tables) -> tuple[Use, bytes]:
        table = tables(self.process.instance)
        silent = table.outranked(table.index_of(self.process))  # its rows are made now, not when BGP has moved on
        if self.solution.database.speakers[self.process.number].bgp.announce_unused:
            silent = np.zeros_like(silent)
        resolver = TableResolver(self.solution.paths, table, self.solution.propagation, self.process.number)
        return self._seen(silent, resolver)

    def taken_over(self, value: Use, key: bytes, tables: Tables) -> tuple[Use, bytes]:
        table = tables(self.process.instance)
        resolver = value.resolver.over(self.solution.paths, table, self.solution.propagation)
        before = self.solution.resolvers.get(self.process.number)
        if (None if before is None else before.lineage) is not value.since:
            return self._seen(value.silent, resolver)
        value = value._replace(resolver=resolver, key=self._key if value.stays else value.key)
        return value, _key_of(value)

    def _seen(self, silent: Flags, resolver: TableResolver) -> tuple[Use, bytes]:
        """What is seen, beside what was seen last."""
        before = self.solution.resolvers.get(self.process.number)
        found = [(hop, resolver.resolve(hop)) for hop in self._next_hops_held()]
        stays = before is not None and all(before.resolve(hop) == resolution for hop, resolution in found)
        key = self._key if stays else hashlib.blake2b(repr(found).encode(), digest_size=16).digest()
        value = Use(silent, resolver, key, None if before is None else before.lineage, stays)
        return value, _key_of(value)

    def take(self, value: Use) -> None:
        number = self.process.number
        self.solution.silent[number], self.solution.resolvers[number] = value.silent, value.resolver
        self._key = value.key

    def _next_hops_held(self) -> list[int]:
        held, paths = self.solution.propagation, self.solution.paths
        if held is None:
            return []
        received = [held.received[channel.index] for channel in held.inward[self.process.number]]
        of_paths = paths.attribute(NEXT_HOP)[distinct(received, len(paths))]
        hops = distinct([of_paths], len(paths.next_hops.values))
        return sorted(hops.tolist(), key=lambda number: paths.next_hops.values[number] or Address(0, 0))


def _key_of(value: Use) -> bytes:
    return np.packbits(value.silent).tobytes() + value.key


class SaidPaths(PathExports):
    """Paths that speakers say themselves."""

    def __init__(self, paths: Paths):
        self.paths = paths

    def said(self, count: int, rule: Redistribution | None) -> PathRows:
        rows = self.paths.blank(count, "igp" if rule is None else "incomplete")
        if rule is not None and rule.metric is not None:
            rows[:, MED] = rule.metric
        return PathRows(self.paths, rows)

    def numbers(self, said: PathRows, gateways: Column, hops: Sequence[NextHop]) -> Column:
        addresses = np.array([self.paths.next_hops.number(hop.address) for hop in hops] + [OWN], np.int64)
        rows = said.rows
        rows[:, NEXT_HOP] = np.where(said.set_next_hop, rows[:, NEXT_HOP], addresses[gateways])
        rows[:, [TAG, PREFERENCE]] = ABSENT
        return self.paths.numbers_of(rows)
