"""BGP solved over the whole network, between the tables it takes from and those it feeds."""

import hashlib
from collections.abc import Sequence

import numpy as np
import numpy.typing as npt

from routrel.model.addresses import Address
from routrel.model.places import NOWHERE, Place
from routrel.model.redistribution import Redistribution
from routrel.routing.bgp.decision import decide
from routrel.routing.bgp.messages import LOCALLY, Messages
from routrel.routing.bgp.paths import (
    MED,
    NEXT_HOP,
    NONE,
    OWN,
    PREFERENCE,
    TAG,
    Column,
    Flags,
    PathRows,
    Paths,
)
from routrel.routing.bgp.propagation import Propagation
from routrel.routing.bgp.resolution import TableResolver
from routrel.routing.bgp.sessions import BgpDatabase, State, Tables
from routrel.routing.graph import WORD
from routrel.routing.representatives import Representatives
from routrel.routing.routes import NextHop
from routrel.routing.rows import DISCARD, UNSET, Injected, Process, ProtocolRoutes
from routrel.routing.table import Table
from routrel.topology.segments import Topology

EXTERNAL, INTERNAL, LOCAL = 1, 2, 3
DISCARD_EXTERNAL, DISCARD_INTERNAL = DISCARD + 1, DISCARD + 2
"""Received paths whose next hop resolves by a discarding route."""


class BgpSolution:
    """BGP solved; sent anew from nothing whenever what it takes from the tables changes."""

    protocol = "bgp"
    kind_names = {
        EXTERNAL: "external",
        INTERNAL: "internal",
        LOCAL: "local",
        DISCARD: "aggregate",
        DISCARD_EXTERNAL: "external",
        DISCARD_INTERNAL: "internal",
    }

    def __init__(self, topology: Topology, database: BgpDatabase, prefixes: Representatives):
        self.topology = topology
        self.database = database
        self.prefixes = prefixes
        self.processes: Sequence[Process] = database.processes
        self.paths = Paths()
        self.messages = Messages(topology, database, self.paths, prefixes)
        self.state = State()
        self.resolvers: dict[int, TableResolver] = {}
        self.propagation: Propagation | None = None
        self._resolutions: dict[int, bytes] = {}
        """Per process a digest of what its next hops resolved to when that last changed."""

    def preference(self, process: int, kind: int) -> int:
        routing = self.topology.instances[self.processes[process].instance].routing
        assert routing is not None
        return routing.preference("ebgp" if kind in (EXTERNAL, DISCARD_EXTERNAL) else "ibgp")

    def multipath(self, process: int) -> int:
        return 256  # what multipath allows is already chosen

    def place_of(self, process: int, number: int, kind: int) -> Place:
        for aggregate in self.database.speakers[process].bgp.aggregates:
            if kind == DISCARD and self.prefixes.number[aggregate.prefix] == number:
                return aggregate.place
        return NOWHERE

    def survey(self, tables: Tables) -> bytes:
        """Look which sessions are up by the tables of the moment; a digest of it."""
        self.state = self.database.survey(tables)
        return repr(self.state.key()).encode()

    def examine(self, process: int, table: Table) -> bytes:
        """Resolve the next hops a process holds by its table of the moment; a digest of it."""
        table.winners()  # its rows are made now, not when BGP has moved on
        held = self.propagation
        before = self.resolvers.get(process)
        resolver = self.resolvers[process] = TableResolver(
            self.topology,
            self.paths,
            table,
            lambda column: self._next_hop_of(held, process, column),
            lambda column, next_hop: _has(held, process, column, next_hop),
        )
        found = [(number, resolver.resolve(number)) for number in self._next_hops_held(process)]
        if before is None or any(before.resolve(number) != resolution for number, resolution in found):
            self._resolutions[process] = hashlib.blake2b(repr(found).encode(), digest_size=16).digest()
        return self._resolutions[process]

    def _next_hop_of(self, held: Propagation | None, process: int, column: int) -> int:
        if held is None or held.best[process, column] == NONE:
            return OWN
        return int(self.paths.rows[held.best[process, column], NEXT_HOP])

    def _next_hops_held(self, process: int) -> list[int]:
        if self.propagation is None:
            return []
        held = [self.propagation.received[channel.index] for channel in self.propagation.inward[process]]
        distinct = np.unique(np.concatenate(held)) if held else np.zeros(0, np.int64)
        hops = np.unique(self.paths.rows[distinct[distinct >= 0], NEXT_HOP])
        return sorted(hops.tolist(), key=lambda number: self.paths.next_hops.values[number] or Address(0, 0))

    def inject(self, injected: dict[int, Injected], blocked: dict[int, Flags]) -> None:
        """Send everything anew, with what processes say themselves and what tables do not use."""
        if len(self.resolvers) < len(self.processes):
            return
        local = np.full((len(self.processes), len(self.prefixes)), NONE, np.int64)
        for process, found in injected.items():
            local[process, found.numbers] = found.paths
        self.messages.use(self.state.channels)
        resolvers = [self.resolvers[process] for process in range(len(self.processes))]
        propagation = Propagation(self.messages, self.database.speakers, self.state.channels, local, blocked, resolvers)
        propagation.run()
        self.propagation = propagation

    def said(self, count: int, rule: Redistribution | None) -> PathRows:
        """Paths that a process says itself: its networks, or what a rule brings in."""
        rows = self.paths.blank(count, "igp" if rule is None else "incomplete")
        if rule is not None and rule.metric is not None:
            rows[:, MED] = rule.metric
        return PathRows(self.paths, rows)

    def numbers(self, said: PathRows, gateways: Column, hops: Sequence[NextHop]) -> Column:
        """Path numbers of what is said; ``gateways`` point into ``hops``, the table's next hops, or are UNSET."""
        addresses = np.array([self.paths.next_hops.number(hop.address) for hop in hops] + [OWN], np.int64)
        rows = said.rows
        rows[:, NEXT_HOP] = np.where(said.set_next_hop, rows[:, NEXT_HOP], addresses[gateways])
        rows[:, [TAG, PREFERENCE]] = NONE
        return self.paths.numbers_of(rows)

    def routes_of(self, process: int) -> ProtocolRoutes:
        """All BGP routes of a process over all columns; what it says itself has no next hops."""
        c = len(self.prefixes)
        held = self.propagation
        kind, metric = np.zeros(c, np.int8), np.zeros(c, np.int64)
        if held is None:
            return ProtocolRoutes(kind, metric, np.zeros((1, c), np.uint64), {4: [], 6: []})
        best, via = held.best[process], held.via[process]
        known = np.flatnonzero(best >= 0)
        external = np.array([channel.external for channel in held.channels] + [False])
        rows = self.paths.rows[best[known]]
        kind[known] = np.where(via[known] == LOCALLY, LOCAL, np.where(external[via[known]], EXTERNAL, INTERNAL))
        metric[known] = np.maximum(rows[:, MED], 0)
        tag, preference = np.full(c, UNSET, np.int64), np.full(c, UNSET, np.int64)
        tag[known], preference[known] = rows[:, TAG], rows[:, PREFERENCE]
        discards = known[(via[known] != LOCALLY) & self._discards(process, rows[:, NEXT_HOP])]
        kind[discards] += DISCARD
        masks, hops = self._masks(held, process, known)
        masks[:, discards] = 0
        aggregated = [column for column in sorted(held.aggregated[process]) if kind[column] == LOCAL]
        kind[aggregated] = DISCARD

        def attributes(numbers: npt.NDArray[np.int64]) -> PathRows:
            neighbors = [
                None if at == LOCALLY else held.channels[at].receiving.neighbor.address for at in via[numbers].tolist()
            ]
            rows = self.paths.rows[np.maximum(best[numbers], 0)].copy()
            return PathRows(self.paths, rows, neighbors)

        return ProtocolRoutes(kind, metric, masks, {4: hops, 6: hops}, tag, preference, attributes)

    def _discards(self, process: int, next_hops: Column) -> Flags:
        """Which next hops resolve by a route that discards: bool (m,)."""
        distinct, inverse = np.unique(next_hops, return_inverse=True)
        resolve = self.resolvers[process].resolve
        found = np.array([resolve(number).action == "discard" for number in distinct.tolist()], np.bool_)
        discards: Flags = found[inverse.reshape(-1)]
        return discards

    def _masks(
        self, held: Propagation, process: int, known: Column
    ) -> tuple[npt.NDArray[np.uint64], list[NextHop | None]]:
        """Real next hops of the chosen paths, those of multipath included."""
        bgp = self.database.speakers[process].bgp
        several = bgp.external_paths > 1 or bgp.internal_paths > 1
        chosen = [self.paths.rows[held.best[process, known]]]
        selected = [held.via[process, known] != LOCALLY]
        if several and len(known):
            candidates = held.candidates(process, known)
            decided = decide(self.paths, candidates, bgp.decision)
            external = candidates.external[np.maximum(decided.best, 0)]
            room = np.where(external, bgp.external_paths, bgp.internal_paths) - 1
            others = decided.equal & (candidates.external[:, None] == external)
            others[decided.best, np.arange(len(known))] = False
            others[0] = False
            others &= np.cumsum(others, axis=0) <= room
            chosen += [self.paths.rows[candidates.ids[row]] for row in range(1, len(others))]
            selected += [others[row] & selected[0] for row in range(1, len(others))]
        hops: list[NextHop | None] = []
        bits: dict[NextHop, int] = {}
        of_next_hop: dict[int, list[int]] = {}
        for rows, mask in zip(chosen, selected, strict=True):
            for number in np.unique(rows[mask, NEXT_HOP]).tolist():
                if number not in of_next_hop:
                    resolved = self.resolvers[process].resolve(number).next_hops
                    of_next_hop[number] = [bits.setdefault(hop, len(bits)) for hop in resolved]
        hops = list(bits)
        width = max(1, -(-len(hops) // WORD))
        hops += [None] * (width * WORD - len(hops))
        words = np.zeros((width, len(self.paths.next_hops.values)), np.uint64)
        for number, places in of_next_hop.items():
            for place in places:
                words[place // WORD, number] |= np.uint64(1) << np.uint64(place % WORD)
        masks = np.zeros((width, len(self.prefixes)), np.uint64)
        for rows, mask in zip(chosen, selected, strict=True):
            masks[:, known[mask]] |= words[:, rows[mask, NEXT_HOP]]
        return masks, hops


def _has(held: Propagation | None, process: int, column: int, next_hop: int) -> bool:
    """Whether a process holds a path for a column that has a next hop."""
    if held is None:
        return False
    rows = held.paths.rows
    for channel in held.inward[process]:
        number = held.received[channel.index][column]
        if number != NONE and rows[number, NEXT_HOP] == next_hop:
            return True
    return False
