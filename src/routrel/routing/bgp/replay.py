"""Propagation beside that of a network with little else: speakers that nothing reaches do again what they did.

The rounds are the same as from nothing. A speaker that is told the same by the same neighbours, and makes the same
of it, says the same; only the others, *reached* by what is different, decide and send. Who is told something else by
one of them is reached from the next round on, in the state it had then.
"""

from collections import defaultdict
from collections.abc import Hashable

import numpy as np

from routrel.model.bgp import BgpNeighbor
from routrel.routing.arrays import Column
from routrel.routing.bgp.course import Course, Message, Turn, renumbered
from routrel.routing.bgp.messages import LOCALLY
from routrel.routing.bgp.paths import ABSENT
from routrel.routing.bgp.propagation import QUIET, Propagation
from routrel.routing.bgp.speakers import Channel, Speaker

GONE = -2
"""The number of a channel that is no more."""


class Replay:
    """``now``, before it runs, settled by the course of ``before``; both number paths alike."""

    def __init__(self, now: Propagation, before: Propagation):
        assert before.course is not None
        self.now = now
        self.before = before
        here = {_ends_of(channel): channel.index for channel in now.channels}
        numbers = [here.get(_ends_of(channel), GONE) for channel in before.channels]
        self._channels = np.array([*numbers, LOCALLY], np.int64)
        """The numbers here of the channels that ``before`` has; the last place is that of LOCALLY."""
        self._spoken = {
            message.channel for turns in before.course.rounds for turn in turns for message in turn.messages
        }
        """The channels of ``before`` by which anything was told."""
        self.reached: set[int] = set()
        """The speakers that do otherwise than before so far."""
        self._began = {speaker for speaker in range(len(now.speakers)) if not self._is_same_speaker(speaker)}
        self._turns = [
            {turn.speaker: renumbered(turn, self._channels) for turn in turns} for turns in before.course.rounds
        ]
        """By round and speaker."""
        self._messages: dict[int, dict[int, Message]] = defaultdict(dict)
        """By channel and round."""
        for at, turns in enumerate(self._turns):
            for turn in turns.values():
                for message in turn.messages:
                    self._messages[message.channel][at] = message

    def _is_same_speaker(self, number: int) -> bool:
        """Whether a speaker, told the same, would do the same."""
        now, before = self.now, self.before
        one, other = now.speakers[number], before.speakers[number]
        return (
            not one.bgp.aggregates  # what it holds of them hangs on what it held before
            and _is_told_alike(one, other)
            and now.messages.policies_of(number) == before.messages.policies_of(number)
            and np.array_equal(now.given[number], before.given[number])
            and np.array_equal(now.blocked.get(number, False), before.blocked.get(number, False))
            and now.resolvers[number].lineage is before.resolvers[number].lineage
            and self._hears_the_same(number)
            and self._tells_the_same(number)
        )

    def _hears_the_same(self, number: int) -> bool:
        """Whether channels by which a speaker hears anything are set as before; what comes by others is told then."""
        here = {one.index: one for one in self.now.inward[number]}
        for other in self.before.inward[number]:
            one = here.pop(self._channels.item(other.index), None)
            if one is None and (other.index in self._spoken or other.sending.neighbor.originate_default):
                return False
            if one is not None and not _is_same_channel(one, other):
                return False
        return not any(one.sending.neighbor.originate_default for one in here.values())

    def _tells_the_same(self, number: int) -> bool:
        """Whether a speaker has no channel to tell anything by that it had not, or where other things come of it."""
        there = {self._channels.item(other.index): other for other in self.before.outward[number]}
        return all(
            one.index in there and _is_same_channel(one, there[one.index]) and self._is_let_in_alike(one)
            for one in self.now.outward[number]
        )

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
        now = self.now
        now.course = None
        course = Course()
        before = self.before
        received = {new: before.received[old] for old, new in enumerate(self._channels[:-1].tolist())}
        for number in range(len(now.channels)):
            held = received.get(number)
            now.received.append(np.full(now.count, ABSENT, np.int64) if held is None else held)
        now.best, now._announced = before.best.copy(), before._announced.copy()
        now.via, now._announced_via = self._channels[before.via], self._channels[before._announced_via]
        dirty = {speaker: np.arange(now.count) for speaker in self._began}
        self._reach(self._began, -1)
        at = 0
        while dirty or at < len(self._turns):
            if at >= QUIET:
                return False
            turns = self._round(at, dirty)
            course.rounds.append([])
            known = self._turns[at].values() if at < len(self._turns) else ()
            for turn in (*turns, *(turn for turn in known if turn.speaker not in self.reached)):
                course.note(turn)
            sent = {message.channel: message for turn in turns for message in turn.messages}
            fresh = self._told_otherwise(at, sent)
            dirty = self._heard(at, sent)
            self._reach(fresh, at)
            dirty |= {speaker: np.arange(now.count) for speaker in fresh}
            at += 1
        now.rounds = at
        now.course = course if course.is_whole else None
        return True

    def _round(self, at: int, dirty: dict[int, Column]) -> list[Turn]:
        """What the speakers that are reached do."""
        now, noted = self.now, Course([[]])
        now.course = noted
        sending = [(speaker, now._decide(speaker, columns)) for speaker, columns in sorted(dirty.items())]
        for speaker, altered in sending:
            now._send(speaker, altered)
        now.course = None
        return noted.rounds[-1]

    def _told_otherwise(self, at: int, sent: dict[int, Message]) -> set[int]:
        """Who is told by those that are reached what it was not told before."""
        found = set()
        for speaker in self.reached:
            for channel in self.now.outward[speaker]:
                if channel.receiver not in self.reached and channel.receiver not in found:
                    told, before = sent.get(channel.index), self._messages[channel.index].get(at)
                    if not _is_same(told, before):
                        found.add(channel.receiver)
        return found

    def _heard(self, at: int, sent: dict[int, Message]) -> dict[int, Column]:
        """What those that are reached hold otherwise after a round, by speaker."""
        changed: dict[int, list[Column]] = defaultdict(list)
        for speaker in self.reached:
            for channel in self.now.inward[speaker]:
                if channel.sender in self.reached:
                    message = sent.get(channel.index)
                else:
                    message = self._messages[channel.index].get(at)
                    if message is not None:
                        self.now.received[channel.index][message.columns] = message.paths
                if message is not None:
                    changed[speaker].append(message.columns)
        return {speaker: self.now._joined(parts) for speaker, parts in changed.items()}

    def _reach(self, speakers: set[int], at: int) -> None:
        """Bring speakers, and what goes between them and others, to the state after a round of ``before``."""
        now = self.now
        channels = {
            channel.index: channel
            for speaker in speakers
            for channel in (*now.inward[speaker], *now.outward[speaker])
            if channel.sender not in self.reached and channel.receiver not in self.reached
        }
        for index, channel in channels.items():
            now.received[index] = np.full(now.count, ABSENT, np.int64)
            now._send_default(channel)
            for round_, message in self._messages[index].items():
                if round_ <= at:
                    now.received[index][message.columns] = message.paths
        for speaker in speakers:
            # What it chose is found again, of all columns; what it said is what is told.
            now.best[speaker] = now._announced[speaker] = ABSENT
            now.via[speaker] = now._announced_via[speaker] = LOCALLY
            for turns in self._turns[: at + 1]:
                turn = turns.get(speaker)
                if turn is not None:
                    now._announced[speaker, turn.columns] = turn.paths
                    now._announced_via[speaker, turn.columns] = turn.via
        self.reached |= speakers


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


def _is_same(one: Message | None, other: Message | None) -> bool:
    if one is None or other is None:
        return one is other
    return np.array_equal(one.columns, other.columns) and np.array_equal(one.paths, other.paths)
