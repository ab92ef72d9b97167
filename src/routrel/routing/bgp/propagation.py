"""Paths sent from speaker to speaker until nothing changes.

All speakers act at once, round by round. Columns for which that comes back to an earlier state are done
again from nothing, one speaker after the other, as routers that never act in the same instant do: what
settles then depends on who acts first; what comes round then too has no stable state.
"""

import hashlib
from collections.abc import Sequence
from copy import copy
from typing import Protocol

import numpy as np
import numpy.typing as npt
from msgspec import Struct

from routrel.model.addresses import Prefix
from routrel.model.policies import ORIGINS
from routrel.routing.arrays import Column, Flags, distinct
from routrel.routing.bgp.course import Course, Message, Turn
from routrel.routing.bgp.decision import NEVER, Candidates, decide
from routrel.routing.bgp.messages import LOCALLY, Messages
from routrel.routing.bgp.paths import ABSENT, NEXT_HOP, ORIGIN, OWN
from routrel.routing.bgp.speakers import Channel, Speaker
from routrel.routing.protocol import Lineage

Numbers = npt.NDArray[np.int64]

QUIET = 12
"""Rounds after which states are remembered: most networks are done by then."""

MOST_ROUNDS = 1000

MOST_TURNS = 24
"""Rounds that another order of speakers is followed for."""


class Resolver(Protocol):
    """What next hops cost one speaker by its table; of one ``lineage`` are those that say the same."""

    lineage: Lineage

    def metrics(self, next_hops: Column) -> Column:
        """The metric to each next hop, by its number, UNREACHABLE where it does not resolve."""
        ...


class Unstable(Struct):
    """Columns without a stable state, and the speakers that keep changing their minds about them."""

    columns: set[int] = set()
    speakers: set[int] = set()


class Propagation:
    """The state of all speakers over all columns.

    ``local`` int64 (s, c): what each speaker says itself; ``received`` one int64 (c,) per channel, after
    import; ``best`` and ``via`` int64 (s, c): each speaker's best path and the channel it came by.
    """

    def __init__(
        self,
        messages: Messages,
        speakers: Sequence[Speaker],
        channels: Sequence[Channel],
        local: Numbers,
        blocked: dict[int, Flags],
        resolvers: Sequence[Resolver],
    ):
        self.messages = messages
        self.paths = messages.paths
        self.speakers = speakers
        self.channels = channels
        self.given = local
        self.local = local.copy()
        self.blocked = blocked
        self.resolvers = resolvers
        self.count = local.shape[1]
        self.received: list[Column] = []
        self.best: Numbers
        self.via: Numbers
        self._announced: Numbers
        self._announced_via: Numbers
        self.rounds = 0
        self.course: Course | None = Course()
        """How it came about, where all acted together and that settled soon."""
        self.down: set[int] = set()
        """Channels that are not used just now."""
        self.unstable = Unstable()
        self.ordered: set[int] = set()
        """Columns that settled only because speakers acted one after the other."""
        self.inward: list[list[Channel]] = [[] for _ in speakers]
        self.outward: list[list[Channel]] = [[] for _ in speakers]
        for channel in channels:
            if speakers[channel.receiver].outside is None:
                self.inward[channel.receiver].append(channel)
                self.outward[channel.sender].append(channel)
        for incoming in self.inward:
            incoming.sort(key=lambda channel: channel.receiving.neighbor.address)
        self._fixed = [self._fixed_of(speaker) for speaker in range(len(speakers))]
        columns = messages.columns
        self._aggregates = [
            [
                (columns.number[one.prefix], columns.covered(one.prefix), one.summary_only)
                for one in speaker.bgp.aggregates
            ]
            for speaker in speakers
        ]
        self.aggregated: list[set[int]] = [set() for _ in speakers]
        """Per speaker, the columns of its aggregates that stand."""
        self._aggregate_paths = [int(self.paths.numbers_of(self.paths.blank(1, origin))[0]) for origin in ORIGINS]
        """By origin."""
        self._default = {family: columns.number.get(Prefix(family, 0, 0), ABSENT) for family in (4, 6)}

    def _fixed_of(self, speaker: int) -> tuple[Column, Flags, Column, Column, Column]:
        """What does not change about a speaker's candidates; the first row is its own."""
        incoming = self.inward[speaker]
        channel = [channel.index for channel in incoming]
        external = [channel.external for channel in incoming]
        identifier = [self.speakers[channel.sender].identifier for channel in incoming]
        ages = [_age(channel) for channel in incoming]
        return (
            np.array([LOCALLY, *channel], np.int64),
            np.array([False, *external]),
            np.array([self.speakers[speaker].identifier, *identifier], np.int64),
            np.arange(len(incoming) + 1),
            np.array([NEVER, *ages], np.int64),
        )

    def run(self) -> None:
        """Settle everything."""
        self.received = [np.full(self.count, ABSENT, np.int64) for _ in self.channels]
        self.best, self._announced = (np.full_like(self.local, ABSENT) for _ in range(2))
        self.via, self._announced_via = (np.full_like(self.local, LOCALLY) for _ in range(2))
        everything = np.arange(self.count)
        circling = self._together(everything)
        if len(circling) or (self.course is not None and not self.course.is_whole):
            self.course = None
        if len(circling):
            for received in self.received:
                received[circling] = ABSENT
            for state in (self.best, self._announced):
                state[:, circling] = ABSENT
            again = self._one_by_one(circling, range(len(self.speakers)))
            self.unstable.columns = set(again.tolist())
            self.ordered = set(circling.tolist()) - self.unstable.columns

    def _apart(self) -> "Propagation":
        """Another one in the same state, to try something with."""
        other = copy(self)
        other.course = None
        other.received = [received.copy() for received in self.received]
        other.local, other.best, other.via = self.local.copy(), self.best.copy(), self.via.copy()
        other._announced, other._announced_via = self._announced.copy(), self._announced_via.copy()
        other.aggregated = [set(found) for found in self.aggregated]
        other.unstable = Unstable()
        other.rounds = 0
        return other

    def apart_from(self, columns: set[int]) -> set[int]:
        """All columns that hang on none of some: what aggregates join hangs together."""
        joined = [{column, *covered.tolist()} for of in self._aggregates for column, covered, _ in of]
        away = set(columns)
        while any(not one <= away and not one.isdisjoint(away) for one in joined):
            away.update(*(one for one in joined if not one.isdisjoint(away)))
        return set(range(self.count)) - away

    def in_turn(self, order: Sequence[int], columns: Column) -> "Propagation":
        """The state of some columns where speakers act one after the other from nothing, in some order; what comes
        round then without end is unstable, and all where that does not settle soon."""
        other = self._apart()
        for state in (*other.received, other.best, other._announced):
            state[:] = ABSENT
        other.local[:] = self.given
        other.via[:] = other._announced_via[:] = LOCALLY
        other.aggregated = [set() for _ in self.speakers]
        circling = other._one_by_one(columns, order, MOST_TURNS)
        other.unstable.columns = set((columns if other.rounds >= MOST_TURNS else circling).tolist())
        return other

    def after_restart(self, one: Channel) -> "Propagation | None":
        """The state after a session failed and came back, all else as it is; None where that does not settle."""
        other = self._apart()
        ends = (one, self.channels[one.reverse])
        dirty = [np.zeros(0, np.int64) for _ in self.speakers]
        for channel in ends:
            dirty[channel.receiver] = np.flatnonzero(other.received[channel.index] >= 0)
            other.received[channel.index][:] = ABSENT
        other.down = {channel.index for channel in ends}
        if len(other._rounds(dirty)):
            return None
        other.down = set()
        for channel in ends:
            other._send_default(channel)
            dirty[channel.receiver] = np.arange(self.count)
            everything, (ids, via) = np.arange(self.count), other.announced(channel.sender)
            for _, held in other.messages.send([channel], everything, ids, via):
                standing = other.received[channel.index]
                is_default = other._is_default(everything) & channel.sending.neighbor.originate_default
                standing[:] = np.where(is_default, standing, held)
        return None if len(other._rounds(dirty)) else other

    def _together(self, columns: Column) -> Column:
        """Rounds in which all act at once, from nothing; the columns that come round, or none."""
        for channel in self.channels:
            self._send_default(channel)
        return self._rounds([columns for _ in self.speakers])

    def _rounds(self, dirty: list[Column]) -> Column:
        """Rounds in which all act at once on what changed for them; the columns that come round, or none."""
        columns = np.arange(self.count)
        seen: dict[bytes, int] = {}
        changes: list[Column] = []
        for _ in range(MOST_ROUNDS):
            self.rounds += 1
            if self.course is not None:
                self.course.rounds.append([])
            sending = [(speaker, self._decide(speaker, dirty[speaker])) for speaker in range(len(self.speakers))]
            changed: list[list[Column]] = [[] for _ in self.speakers]
            for speaker, altered in sending:
                for message in self._send(speaker, altered):
                    changed[self.channels[message.channel].receiver].append(message.columns)
            dirty = [self._joined(parts) for parts in changed]
            if not any(len(part) for part in dirty):
                return np.zeros(0, np.int64)
            changes.append(self._joined(dirty))
            if self.rounds > QUIET:
                self.course = None
                state = self._state(columns)
                if state in seen:
                    return self._joined(changes[seen[state] + 1 :])
                seen[state] = len(changes) - 1
        return self._joined(changes[-2:])

    def _one_by_one(self, columns: Column, order: Sequence[int], most: int = MOST_ROUNDS) -> Column:
        """Speakers act in turn, each hearing at once what the one before sent; the columns that come round."""
        dirty: list[list[Column]] = [[columns] for _ in self.speakers]
        for channel in self.channels:
            self._send_default(channel)
        seen: dict[bytes, int] = {}
        changes: list[Column] = []
        acting: list[set[int]] = []
        for _ in range(most):
            self.rounds += 1
            turned: list[Column] = []
            acted: set[int] = set()
            for speaker in order:
                altered = self._decide(speaker, self._joined(dirty[speaker]))
                dirty[speaker] = []
                if len(altered):
                    acted.add(speaker)
                    turned.append(altered)
                for message in self._send(speaker, altered):
                    dirty[self.channels[message.channel].receiver].append(message.columns)
            if not turned:
                return np.zeros(0, np.int64)
            changes.append(self._joined(turned))
            acting.append(acted)
            state = self._state(columns)
            if state in seen:
                since = seen[state] + 1
                self.unstable.speakers = set().union(*acting[since:])
                return self._joined(changes[since:])
            seen[state] = len(changes) - 1
        return self._joined(changes[-2:])

    def _state(self, columns: Column) -> bytes:
        digest = hashlib.blake2b(digest_size=16)
        for received in self.received:
            digest.update(np.ascontiguousarray(received[columns]).data)
        return digest.digest()

    def _decide(self, speaker: int, columns: Column) -> Column:
        """A speaker's choice for some columns anew; the columns of which it now announces something else."""
        if not len(columns):
            return columns
        self._choose(speaker, columns)
        changed_aggregates = self._aggregate(speaker)
        if len(changed_aggregates):
            self._choose(speaker, changed_aggregates)
            columns = self._joined([columns, self._touched_by(speaker, changed_aggregates)])
        announced, via = self.best[speaker, columns], self.via[speaker, columns]
        blocked = self.blocked.get(speaker)
        if blocked is not None:
            # What the table does not use is not announced (RFC 4271 section 9.1.3); its own networks are.
            off = blocked[columns] & (via != LOCALLY)
            announced = np.where(off, self.local[speaker, columns], announced)
            via = np.where(off, LOCALLY, via)
        for column, covered, summary_only in self._aggregates[speaker]:
            if summary_only and column in self.aggregated[speaker]:
                inside = np.isin(columns, covered) & (columns != column)
                announced = np.where(inside, ABSENT, announced)
        altered = (announced != self._announced[speaker, columns]) | (via != self._announced_via[speaker, columns])
        self._announced[speaker, columns] = announced
        self._announced_via[speaker, columns] = via
        changed: Column = columns[altered]
        return changed

    def candidates(self, speaker: int, columns: Column) -> Candidates:
        """All that a speaker has for some columns: its own paths, then what each neighbour sent that sent any."""
        received = (self.received[channel.index][columns] for channel in self.inward[speaker])
        said = {at: ids for at, ids in enumerate(received, 1) if ids.max(initial=ABSENT) != ABSENT}
        ids = np.stack([self.local[speaker, columns], *said.values()])
        next_hops = np.where(ids >= 0, self.paths.attribute(NEXT_HOP)[ids], OWN)
        metrics = self.resolvers[speaker].metrics(next_hops.reshape(-1)).reshape(ids.shape)
        metrics[0] = 0
        channel, external, identifier, order, age = self._fixed[speaker]
        rows = [0, *said]
        return Candidates(ids, metrics, channel[rows], external[rows], identifier[rows], order[rows], age[rows])

    def _choose(self, speaker: int, columns: Column) -> None:
        candidates = self.candidates(speaker, columns)
        decided = decide(self.paths, candidates, self.speakers[speaker].bgp.decision)
        row = np.maximum(decided.best, 0)
        known = decided.best >= 0
        self.best[speaker, columns] = np.where(known, candidates.ids[row, np.arange(len(columns))], ABSENT)
        self.via[speaker, columns] = np.where(known, candidates.channel[row], LOCALLY)

    def _aggregate(self, speaker: int) -> Column:
        """RFC 4271 section 9.2.2.2: an aggregate stands while something inside it does; those that changed.

        Its origin is the worst of those inside.
        """
        changed = []
        for column, covered, _ in self._aggregates[speaker]:
            inside = self.best[speaker, covered].copy()
            inside[covered == column] = ABSENT
            inside = inside[inside >= 0]
            local = self.given[speaker, column]
            if len(inside) and local == ABSENT:
                local = self._aggregate_paths[self.paths.rows[inside, ORIGIN].max()]
            if bool(len(inside)) != (column in self.aggregated[speaker]):
                self.aggregated[speaker] ^= {column}
            elif local == self.local[speaker, column]:
                continue
            changed.append(column)
            self.local[speaker, column] = local
        return np.array(changed, np.int64)

    def announced(self, speaker: int) -> tuple[Column, Column]:
        """What a speaker has to say of every column, and the channels it came by: int64 (c,) each."""
        return self._announced[speaker], self._announced_via[speaker]

    def _touched_by(self, speaker: int, changed: Column) -> Column:
        """Changed aggregates and, where only the summary is sent, what they cover."""
        touched = [changed]
        for column, covered, summary_only in self._aggregates[speaker]:
            if summary_only and column in changed:
                touched.append(covered)
        return self._joined(touched)

    def _send(self, speaker: int, columns: Column) -> list[Message]:
        """Send what changed to all neighbours; what they hold differently now."""
        told: list[Message] = []
        if not len(columns):
            return told
        ids, via = self._announced[speaker, columns], self._announced_via[speaker, columns]
        up = [channel for channel in self.outward[speaker] if channel.index not in self.down]
        for channel, held in self.messages.send(up, columns, ids, via):
            if channel.sending.neighbor.originate_default:
                held = np.where(self._is_default(columns), self.received[channel.index][columns], held)
            standing = self.received[channel.index]
            altered = held != standing[columns]
            if altered.any():
                changed, now = columns[altered], held[altered]
                standing[changed] = now
                told.append(Message(channel.index, changed, now))
        if self.course is not None:
            self.course.note(Turn(speaker, columns, ids, via, told))
        return told

    def _joined(self, parts: Sequence[Column]) -> Column:
        """Columns of several parts, each once."""
        parts = [part for part in parts if len(part)]
        return parts[0] if len(parts) == 1 else distinct(parts, self.count)

    def _is_default(self, columns: Column) -> Flags:
        return np.isin(columns, list(self._default.values()))

    def _send_default(self, channel: Channel) -> None:
        """``originate_default``: said to one neighbour from the start, whatever else is there."""
        if not channel.sending.neighbor.originate_default:
            return
        for family in channel.families:
            column = self._default[family]
            if family not in dict(channel.next_hops):
                continue
            rows = self.messages.default_sent(channel, column)
            held, rows = self.messages.let_in(channel, np.array([column]), rows)
            if held[0]:
                self.received[channel.index][column] = self.paths.numbers_of(rows)[0]


def _age(channel: Channel) -> int:
    """When a session came up, in seconds; NEVER where neither end says."""
    said = channel.receiving.neighbor.established_at or channel.sending.neighbor.established_at
    return int(NEVER) if said is None else int(said.timestamp())
