"""The course that propagation took: who told whom what, round by round.

Kept so that a network with little changed can be solved beside it (``replay.py``).
"""

from typing import NamedTuple

import numpy as np
from msgspec import Struct

from routrel.routing.arrays import Column, Flags

MOST_NOTED = 20_000_000
"""Numbers that are kept of one course: past it, none is."""


class Message(NamedTuple):
    """What the receiver of a channel holds otherwise than before: columns and path numbers, (m,) each."""

    channel: int
    columns: Column
    paths: Column


class Turn(NamedTuple):
    """What a speaker announces otherwise than before, (m,) each, and the messages that follow."""

    speaker: int
    columns: Column
    paths: Column
    via: Column
    messages: list[Message]


class Course(Struct):
    """By round the turns of all speakers that had something new to say."""

    rounds: list[list[Turn]] = []
    size: int = 0

    @property
    def is_whole(self) -> bool:
        return self.size <= MOST_NOTED

    def note(self, turn: Turn) -> None:
        """A turn of the last round; once there are too many, none is kept."""
        self.size += 3 * len(turn.columns) + sum(2 * len(message.columns) for message in turn.messages)
        if self.is_whole:
            self.rounds[-1].append(turn)
        else:
            self.rounds.clear()
            self.rounds.append([])


def renumbered(turn: Turn, channels: Column) -> Turn:
    """The same with other channel numbers: ``channels`` (n + 1,) has each one's, of the last place its own.

    What was told by channels that are no more, whose number is below 0, is left out.
    """
    numbers = ((one, channels.item(one.channel)) for one in turn.messages)
    messages = [one._replace(channel=number) for one, number in numbers if number >= 0]
    return turn._replace(via=channels[turn.via], messages=messages)


def without(turn: Turn, is_left_out: Flags) -> Turn:
    """The same but for some columns (c,)."""
    kept = ~is_left_out[turn.columns]
    messages = [_without(message, is_left_out) for message in turn.messages]
    return Turn(
        turn.speaker,
        turn.columns[kept],
        turn.paths[kept],
        turn.via[kept],
        [message for message in messages if len(message.columns)],
    )


def _without(message: Message, is_left_out: Flags) -> Message:
    kept = ~is_left_out[message.columns]
    return message._replace(columns=message.columns[kept], paths=message.paths[kept])


def joined(one: Turn, other: Turn) -> Turn:
    """Turns of one speaker in the same round, of different columns."""
    messages = {message.channel: message for message in one.messages}
    for message in other.messages:
        beside = messages.get(message.channel)
        if beside is not None:
            pairs = (beside.columns, message.columns), (beside.paths, message.paths)
            message = Message(message.channel, *map(np.concatenate, pairs))
        messages[message.channel] = message
    columns, paths, via = (np.concatenate(pair) for pair in zip(one[1:4], other[1:4], strict=True))
    return Turn(one.speaker, columns, paths, via, list(messages.values()))
