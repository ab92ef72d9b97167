"""BGP solved over the whole network, between the tables it takes from and those it feeds."""

from collections.abc import Hashable, Iterable, Mapping, Sequence
from typing import Any

import numpy as np
import numpy.typing as npt
from msgspec import Struct

from routrel.model.addresses import Prefix
from routrel.model.findings import Doubt, Finding
from routrel.model.places import NOWHERE, Place
from routrel.routing.arrays import UNSET, WORD, Column, Flags, distinct
from routrel.routing.bgp.decision import decide
from routrel.routing.bgp.findings import findings, timing_findings
from routrel.routing.bgp.messages import LOCALLY, Messages
from routrel.routing.bgp.participants import SaidPaths, SessionSurvey, TableUse
from routrel.routing.bgp.paths import ABSENT, MED, NEXT_HOP, PREFERENCE, TAG, PathRows, Paths
from routrel.routing.bgp.propagation import Propagation, Resolver
from routrel.routing.bgp.replay import Replay, is_comparable
from routrel.routing.bgp.resolution import OutsideResolver, TableResolver
from routrel.routing.bgp.sessions import BgpDatabase
from routrel.routing.bgp.speakers import Channel, State
from routrel.routing.prefixes.classes import PrefixClasses
from routrel.routing.protocol import (
    Lineage,
    Participant,
    PathExports,
    ProtocolSolution,
    Session,
)
from routrel.routing.protocol_routes import DISCARD, ProtocolRoutes
from routrel.routing.redistributed import Redistributed
from routrel.routing.routes import NextHop, Route

EXTERNAL, INTERNAL, LOCAL = 1, 2, 3
DISCARD_EXTERNAL, DISCARD_INTERNAL = DISCARD + 1, DISCARD + 2
"""Received paths whose next hop resolves by a discarding route."""

MOST_KEPT = 3
"""Times that BGP was solved which are kept for a network solved from this one."""


class BestPaths(Struct, frozen=True):
    """The attributes of a router's best paths: ``best`` and ``via`` int64 (c,), as ``Propagation`` has them."""

    paths: Paths
    channels: Sequence[Channel]
    best: Column
    via: Column

    def __call__(self, numbers: Column) -> PathRows:
        neighbors = [
            None if at == LOCALLY else self.channels[at].receiving.neighbor.address for at in self.via[numbers].tolist()
        ]
        return PathRows(self.paths, self.paths.rows.take(np.maximum(self.best[numbers], 0), axis=0), neighbors)


class BgpSolution(ProtocolSolution[BgpDatabase]):
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
    preference_names = {kind: "ebgp" if kind in (EXTERNAL, DISCARD_EXTERNAL) else "ibgp" for kind in kind_names}
    carries_paths = True

    def __init__(self, database: BgpDatabase, prefixes: PrefixClasses, base: "BgpSolution | None" = None):
        super().__init__(database, prefixes, base)
        self.paths = Paths()
        self.messages = Messages(self.topology, database, self.paths, prefixes)
        self.state = State()
        """The sessions that are up."""
        self.resolvers: dict[int, TableResolver] = {}
        """Next hops by the tables of the moment, by process."""
        self.propagation: Propagation | None = None
        self._lineages: list[Lineage] = []
        """What stands for each speaker's routes."""
        self._announced: list[tuple[Propagation, list[Lineage]]] = []
        """What was come to the first times, and these of it."""
        self._announced_before: list[tuple[Propagation, list[Lineage]]] = []
        """The same in the network this one is solved from."""

    def inherit(self, base: ProtocolSolution[BgpDatabase]) -> None:
        if isinstance(base, BgpSolution) and self.prefixes is base.prefixes:
            self._announced_before = base._announced
            self.paths = self.messages.paths = base.paths.copied()

    def forget_base(self) -> None:
        self._announced_before = []

    def token(self, process: int) -> Hashable:
        return self._lineages[process] if self._lineages else "nothing is said yet"

    def lowest_preference(self, process: int) -> int | None:
        instance = self.topology.instances[self.processes[process].instance]
        policies = self.topology.devices[instance.device].policies.values()
        if any(statement.set.preference is not None for policy in policies for statement in policy.statements):
            return None
        bgp = self.database.speakers[process].bgp
        if all(neighbor.number == bgp.number for neighbor in bgp.neighbors):
            return self.preference(process, INTERNAL)
        return super().lowest_preference(process)

    def multipath(self, process: int) -> int:
        return 256  # what multipath allows is already chosen

    def place_of(self, process: int, number: int, kind: int) -> Place:
        for aggregate in self.database.speakers[process].bgp.aggregates:
            if kind == DISCARD and self.prefixes.number[aggregate.prefix] == number:
                return aggregate.place
        return NOWHERE

    def participants(self) -> Sequence[Participant[Any]]:
        return [SessionSurvey(self), *(TableUse(self, process) for process in self.processes)]

    announces_networks = True

    def networks_of(self, process: int) -> Iterable[Prefix]:
        return (prefix for prefix, _ in self.database.speakers[process].bgp.networks)

    @property
    def path_exports(self) -> PathExports:
        return SaidPaths(self.paths)

    def forwarding_ports(self, process: int) -> None:
        return None

    def handed_on(self, process: int, route: Route) -> NextHop | None:
        """RFC 4271 section 5.1.3: the next hop of a route that has a single one, at an address of its family."""
        if len(route.next_hops) != 1:
            return None
        (hop,) = route.next_hops
        is_said = hop.address is not None and not hop.address.is_link_local
        return hop if is_said and hop.address is not None and hop.address.family == route.prefix.family else None

    def announce(self, redistributed: Mapping[int, Redistributed]) -> None:
        """Send everything anew, with what processes say themselves and what tables do not use."""
        if len(self.resolvers) < len(self.processes):
            return
        speakers, channels = self.database.speakers, self.state.channels
        local = np.full((len(speakers), len(self.prefixes)), ABSENT, np.int64)
        for process, found in redistributed.items():
            local[process, found.numbers] = found.paths
        self.messages.use(channels)
        for process, outside in self.database.outside:
            columns, paths = self.messages.received(process, outside)
            local[process, columns] = paths
        resolvers: list[Resolver] = [self.resolvers[process] for process in range(len(self.processes))]
        resolvers += [OutsideResolver()] * len(self.database.outside)
        given = self.messages, speakers, channels, local, dict(self.silent), resolvers
        self._lineages = [Lineage() for _ in speakers]
        self.propagation = self._beside_base(Propagation(*given))
        if self.propagation is None:
            self.propagation = Propagation(*given)
            self.propagation.run()
        if len(self._announced) < MOST_KEPT and self.propagation.course is not None:
            self._announced.append((self.propagation, self._lineages))

    def _beside_base(self, propagation: Propagation) -> Propagation | None:
        """Settled by the course that was taken before; speakers that come to the same have the lineage they had."""
        if not self._announced_before:
            return None
        before, known = self._announced_before[min(len(self._announced), len(self._announced_before) - 1)]
        if not is_comparable(propagation, before):
            return None
        replay = Replay(propagation, before)
        if not replay.run():
            return None
        for speaker, lineage in enumerate(known):
            if speaker not in replay.reached:
                self._lineages[speaker] = lineage
                self.taken_over += 1
        return propagation

    def sessions(self) -> Iterable[Session]:
        speakers = self.database.speakers
        for channel in self.state.channels:
            speaker = speakers[channel.sending.process]
            if speaker.outside is None:
                yield Session(speaker.instance, channel.sending.neighbor.address, True, own=channel.source)
        for end, why, _ in self.state.failures:
            yield Session(speakers[end.process].instance, end.neighbor.address, False, why.text)

    def problems(self) -> tuple[list[Finding], list[Doubt]]:
        return findings(self), []

    def costly_findings(self) -> list[Finding]:
        return timing_findings(self)

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
        rows = self.paths.rows.take(best[known], axis=0)
        kind[known] = np.where(via[known] == LOCALLY, LOCAL, np.where(external[via[known]], EXTERNAL, INTERNAL))
        metric[known] = np.maximum(rows[:, MED], 0)
        tag, preference = np.full(c, UNSET, np.int64), np.full(c, UNSET, np.int64)
        tag[known], preference[known] = rows[:, TAG], rows[:, PREFERENCE]
        discards = known[(via[known] != LOCALLY) & self._discards(process, rows[:, NEXT_HOP])]
        kind[discards] += DISCARD
        masks, hops = self._masks(held, process, known, rows[:, NEXT_HOP])
        masks[:, discards] = 0
        aggregated = [column for column in sorted(held.aggregated[process]) if kind[column] == LOCAL]
        kind[aggregated] = DISCARD

        return ProtocolRoutes(
            kind, metric, masks, {4: hops, 6: hops}, tag, preference, BestPaths(self.paths, held.channels, best, via)
        )

    def _discards(self, process: int, next_hops: Column) -> Flags:
        """Which next hops resolve by a route that discards: bool (m,)."""
        resolve = self.resolvers[process].resolve
        count = len(self.paths.next_hops.values)
        discards = np.zeros(count, np.bool_)
        for number in distinct([next_hops], count).tolist():
            discards[number] = resolve(number).action == "discard"
        return discards[next_hops]

    def _masks(
        self, held: Propagation, process: int, known: Column, next_hops: Column
    ) -> tuple[npt.NDArray[np.uint64], list[NextHop | None]]:
        """Real next hops of the best paths, which have some ``next_hops``, those of multipath included."""
        bgp = self.database.speakers[process].bgp
        several = bgp.external_paths > 1 or bgp.internal_paths > 1
        chosen = [next_hops]
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
            chosen += list(self.paths.attribute(NEXT_HOP)[candidates.ids[1:]])
            selected += [others[row] & selected[0] for row in range(1, len(others))]
        hops: list[NextHop | None] = []
        bits: dict[NextHop, int] = {}
        of_next_hop: dict[int, list[int]] = {}
        for said, mask in zip(chosen, selected, strict=True):
            for number in distinct([said[mask]], len(self.paths.next_hops.values)).tolist():
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
        for said, mask in zip(chosen, selected, strict=True):
            masks[:, known[mask]] |= words[:, said[mask]]
        return masks, hops
