"""Propagation beside that of a network with little else: speakers do again what they did, of columns nothing reaches.

The rounds are the same as from nothing, and no column hangs on another but by aggregates. A speaker that is told the
same of a column by the same neighbours, and makes the same of it, says the same; only the others, *reached* by what is
different, decide and send, of the columns that differ. Who is told something else by one of them is reached from the
next round on, in the state it had then.
"""

from collections import defaultdict
from collections.abc import Hashable, Iterator, Mapping

import numpy as np

from routrel.model.bgp import BgpNeighbor
from routrel.routing.arrays import Column, Flags
from routrel.routing.bgp.course import Course, Message, Turn, joined, renumbered, without
from routrel.routing.bgp.messages import LOCALLY
from routrel.routing.bgp.paths import ABSENT
from routrel.routing.bgp.propagation import QUIET, Propagation
from routrel.routing.bgp.speakers import Channel, Speaker

GONE = -2
"""The number of a channel that is no more."""

UNSAID = -3
"""Stands for what is not said of a column, which is not the same as that there is no path."""


class Replay:
    """``now``, before it runs, settled by the course of ``before``; both number paths alike."""

    def __init__(self, now: Propagation, before: Propagation):
        assert before.course is not None
        self.now = now
        self.before = before
        self._everything = np.arange(now.count)
        here = {_ends_of(channel): channel.index for channel in now.channels}
        numbers = [here.get(_ends_of(channel), GONE) for channel in before.channels]
        self._channels = np.array([*numbers, LOCALLY], np.int64)
        """The numbers here of the channels that ``before`` has; the last place is that of LOCALLY."""
        self._turns = [
            {turn.speaker: renumbered(turn, self._channels) for turn in turns} for turns in before.course.rounds
        ]
        """By round and speaker."""
        self._messages: dict[int, dict[int, Message]] = defaultdict(dict)
        """By channel and round."""
        self._said: dict[int, list[Column]] = defaultdict(list)
        """Columns of which a speaker ever said anything."""
        self._told: dict[int, list[Column]] = defaultdict(list)
        """Columns that were told by a channel, by its number in ``before``."""
        for at, turns in enumerate(self._turns):
            for turn in turns.values():
                self._said[turn.speaker].append(turn.columns)
                for message in turn.messages:
                    self._messages[message.channel][at] = message
        for turn in (turn for turns in before.course.rounds for turn in turns):
            for message in turn.messages:
                self._told[message.channel].append(message.columns)
        self.reached: dict[int, Flags] = {}
        """By speaker the columns (c,) of which it does otherwise than before, so far."""
        self._own: set[int] = set()
        """Channels of which what is received is no longer shared with ``before``."""

    def _differing(self) -> dict[int, Column]:
        """By speaker the columns of which it may do otherwise though it is told the same."""
        found = {number: self._differing_at(number) for number in range(len(self.now.speakers))}
        return {number: columns for number, columns in found.items() if len(columns)}

    def _differing_at(self, number: int) -> Column:
        now, before = self.now, self.before
        one, other = now.speakers[number], before.speakers[number]
        is_alike = (
            not one.bgp.aggregates  # what it holds of them hangs on what it held before
            and _is_told_alike(one, other)
            and now.messages.policies_of(number) == before.messages.policies_of(number)
            and now.resolvers[number].lineage is before.resolvers[number].lineage
        )
        if not is_alike:
            return self._everything
        silent, silent_before = (np.broadcast_to(of.blocked.get(number, False), now.count) for of in (now, before))
        is_other = (now.given[number] != before.given[number]) | (silent != silent_before)
        return now._joined([np.flatnonzero(is_other), *self._heard_by_others(number), *self._told_by_others(number)])

    def _heard_by_others(self, number: int) -> Iterator[Column]:
        """What a speaker heard by channels that are gone or set otherwise; what comes by others is told then."""
        here = {one.index: one for one in self.now.inward[number]}
        originating = []
        for other in self.before.inward[number]:
            one = here.pop(self._channels.item(other.index), None)
            if one is None or not _is_same_channel(one, other):
                yield from self._told[other.index]
                originating += [other] if one is None else [one, other]
        if any(one.sending.neighbor.originate_default for one in (*originating, *here.values())):
            yield np.array([column for column in self.now._default.values() if column != ABSENT], np.int64)

    def _told_by_others(self, number: int) -> Iterator[Column]:
        """What a speaker says at all, where it has a channel to tell it by that it had not, or where other things come
        of it."""
        there = {self._channels.item(other.index): other for other in self.before.outward[number]}
        for one in self.now.outward[number]:
            known = there.get(one.index)
            if known is None or not _is_same_channel(one, known) or not self._is_let_in_alike(one):
                yield from self._said[number]
                return

    def _is_let_in_alike(self, channel: Channel) -> bool:
        """Whether the receiver of a channel makes the same of what is sent."""
        name, number = channel.receiving.neighbor.import_policy, channel.receiver
        here, there = self.now.messages.policies_of(number), self.before.messages.policies_of(number)
        one, other = self.now.speakers[number], self.before.speakers[number]
        return (
            (one.bgp.number, one.bgp.require_policies) == (other.bgp.number, other.bgp.require_policies)
            and (one.identifier, one.cluster, one.is_reflector) == (other.identifier, other.cluster, other.is_reflector)
            and (name is None or here is there or here[name] == there.get(name))
        )

    def run(self) -> bool:
        """Whether it settled as soon as what is remembered of a course does; else ``now`` is of no use."""
        now, before = self.now, self.before
        now.course = None
        course = Course()
        received = {new: before.received[old] for old, new in enumerate(self._channels[:-1].tolist())}
        for number in range(len(now.channels)):
            held = received.get(number)
            now.received.append(np.full(now.count, ABSENT, np.int64) if held is None else held)
        now.best, now._announced = before.best.copy(), before._announced.copy()
        now.via, now._announced_via = self._channels[before.via], self._channels[before._announced_via]
        dirty = self._differing()
        self._reach(dirty, -1)
        at = 0
        while dirty or at < len(self._turns):
            if at >= QUIET:
                return False
            turns = self._round(dirty)
            course.rounds.append([])
            for turn in self._beside_known(at, turns):
                course.note(turn)
            sent = {message.channel: message for turn in turns for message in turn.messages}
            fresh = self._told_otherwise(at, sent)
            dirty = self._heard(at, sent)
            self._reach(fresh, at)
            for speaker, columns in fresh.items():
                dirty[speaker] = now._joined([columns, *([dirty[speaker]] if speaker in dirty else [])])
            at += 1
        now.rounds = at
        now.course = course if course.is_whole else None
        return True

    def _round(self, dirty: Mapping[int, Column]) -> list[Turn]:
        """What speakers do, of columns that are reached."""
        now, noted = self.now, Course([[]])
        now.course = noted
        sending = [(speaker, now._decide(speaker, columns)) for speaker, columns in sorted(dirty.items())]
        for speaker, altered in sending:
            now._send(speaker, altered)
        now.course = None
        return noted.rounds[-1]

    def _beside_known(self, at: int, turns: list[Turn]) -> Iterator[Turn]:
        """The turns of a round, with what speakers do in it of columns that are not reached."""
        known = dict(self._turns[at]) if at < len(self._turns) else {}
        for turn in turns:
            other = known.pop(turn.speaker, None)
            yield turn if other is None else joined(turn, without(other, self.reached[turn.speaker]))
        for speaker, turn in known.items():
            yield turn if speaker not in self.reached else without(turn, self.reached[speaker])

    def _told_otherwise(self, at: int, sent: Mapping[int, Message]) -> dict[int, Column]:
        """Of what speakers are told by those that are reached that they were not told before."""
        found: dict[int, list[Column]] = defaultdict(list)
        for speaker, is_reached in self.reached.items():
            for channel in self.now.outward[speaker]:
                told, known = sent.get(channel.index), self._messages[channel.index].get(at)
                if told is None and known is None:
                    continue
                here, there = (np.full(self.now.count, UNSAID, np.int64) for _ in range(2))
                if told is not None:
                    here[told.columns] = told.paths
                if known is not None:
                    there[known.columns] = known.paths
                is_other = (here != there) & is_reached
                if channel.receiver in self.reached:
                    is_other &= ~self.reached[channel.receiver]
                if is_other.any():
                    found[channel.receiver].append(np.flatnonzero(is_other))
        return {speaker: self.now._joined(parts) for speaker, parts in found.items()}

    def _heard(self, at: int, sent: Mapping[int, Message]) -> dict[int, Column]:
        """What those that are reached hold otherwise after a round, by speaker."""
        changed: dict[int, list[Column]] = defaultdict(list)
        for speaker, is_reached in self.reached.items():
            for channel in self.now.inward[speaker]:
                told, known = sent.get(channel.index), self._messages[channel.index].get(at)
                if told is not None:
                    changed[speaker].append(told.columns[is_reached[told.columns]])
                if known is not None:
                    as_before = is_reached[known.columns]
                    if channel.sender in self.reached:
                        as_before &= ~self.reached[channel.sender][known.columns]
                    columns = known.columns[as_before]
                    self._received(channel)[columns] = known.paths[as_before]
                    changed[speaker].append(columns)
        joined_parts = ((speaker, self.now._joined(parts)) for speaker, parts in changed.items())
        return {speaker: columns for speaker, columns in joined_parts if len(columns)}

    def _reach(self, fresh: Mapping[int, Column], at: int) -> None:
        """Bring columns of speakers, and what goes between them and others, to the state after a round of before."""
        now = self.now
        for speaker, columns in fresh.items():
            is_fresh = np.zeros(now.count, np.bool_)
            is_fresh[columns] = True
            for channel in (*now.inward[speaker], *now.outward[speaker]):
                other = self.reached.get(channel.sender if channel.receiver == speaker else channel.receiver)
                self._set_back(channel, is_fresh if other is None else is_fresh & ~other, at)
            # What it chose is found again; what it said is what is told.
            now.best[speaker, columns] = now._announced[speaker, columns] = ABSENT
            now.via[speaker, columns] = now._announced_via[speaker, columns] = LOCALLY
            for turns in self._turns[: at + 1]:
                turn = turns.get(speaker)
                if turn is not None:
                    is_here = is_fresh[turn.columns]
                    now._announced[speaker, turn.columns[is_here]] = turn.paths[is_here]
                    now._announced_via[speaker, turn.columns[is_here]] = turn.via[is_here]
            self.reached[speaker] = is_fresh | self.reached.get(speaker, False)

    def _set_back(self, channel: Channel, is_fresh: Flags, at: int) -> None:
        """Bring what goes by a channel of some columns to the state after a round."""
        held = self._received(channel)
        held[is_fresh] = ABSENT
        self.now._send_default(channel)
        for round_, message in self._messages[channel.index].items():
            if round_ <= at:
                is_here = is_fresh[message.columns]
                held[message.columns[is_here]] = message.paths[is_here]

    def _received(self, channel: Channel) -> Column:
        """What is received by a channel, to be written to."""
        received = self.now.received
        if channel.index not in self._own:
            self._own.add(channel.index)
            received[channel.index] = received[channel.index].copy()
        return received[channel.index]


def is_comparable(now: Propagation, before: Propagation) -> bool:
    """Whether two have the same speakers, whatever these are told, and a course is known of the second."""
    instances = [speaker.instance for speaker in now.speakers]
    same = instances == [speaker.instance for speaker in before.speakers]
    return same and before.course is not None and now.count == before.count


def _ends_of(channel: Channel) -> Hashable:
    addresses = channel.sending.neighbor.address, channel.receiving.neighbor.address, channel.source
    return channel.sender, channel.receiver, *addresses


def _is_told_alike(one: Speaker, other: Speaker) -> bool:
    if one.outside is None or other.outside is None:
        return one == other
    is_same = one.outside.received is other.outside.received and one.outside.external == other.outside.external
    return is_same and (one.bgp.number, one.identifier) == (other.bgp.number, other.identifier)


def _is_same_channel(one: Channel, other: Channel) -> bool:
    return (
        (one.external, one.port, one.families, one.next_hops)
        == (other.external, other.port, other.families, other.next_hops)
        and _is_same_neighbor(one.sending.neighbor, other.sending.neighbor)
        and _is_same_neighbor(one.receiving.neighbor, other.receiving.neighbor)
    )


def _is_same_neighbor(one: BgpNeighbor, other: BgpNeighbor) -> bool:
    return one is other or one == other  # a dataclass compares field by field whatever it is
