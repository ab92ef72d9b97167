"""Sources whose packets go alike whatever they are sent to, put together, and those that anything differs for."""

from collections.abc import Callable, Iterable, Sequence
from typing import NamedTuple

from routrel.analysis.held.decisions import End
from routrel.analysis.held.places import Source
from routrel.analysis.held.states import Node
from routrel.analysis.held.ways import Ways


class Senders(NamedTuple):
    """Sources whose packets begin at one node, and whose answers go alike."""

    node: Node
    is_up: tuple[bool, bool]
    """By state, whether they can send at all."""
    moves: bool
    """Whether whoever is there only goes by another port of the place in the other state."""
    instance: int
    is_outside: bool
    back: Ways
    sources: list[Source]

    @property
    def differ(self) -> bool:
        """Whether they can send, and be answered, in one state only."""
        return self.is_up[0] != self.is_up[1]


class Candidates:
    """Of the senders of a family, those whose packets to a class of addresses may go otherwise, or their answers."""

    def __init__(self, senders: Sequence[Senders], answering: Callable[[frozenset[End]], Iterable[Node]], is_all: bool):
        self.senders, self.answering = senders, answering
        self.is_all = is_all
        """Whether something is to be said of all, whatever differs."""
        self._always = [number for number, one in enumerate(senders) if one.differ]
        self._at = dict[Node, list[int]]()
        """By the node at which their packets begin."""
        self._answered_at = dict[Node, list[int]]()
        """By the nodes from which answers to them may go another way."""
        for number, one in enumerate(senders):
            self._at.setdefault(one.node, []).append(number)
            for node in one.back.affected:
                self._answered_at.setdefault(node, []).append(number)

    def asking(self, there: Ways) -> dict[Node, list[Senders]]:
        """Those for a class of addresses, by the node at which their packets begin."""
        found = set(range(len(self.senders)) if self.is_all else self._always)
        for node in there.affected:
            found.update(self._at.get(node, ()))
        for node in self.answering(there.ends):
            found.update(self._answered_at.get(node, ()))
        by_node = dict[Node, list[Senders]]()
        for number in sorted(found):
            by_node.setdefault(self.senders[number].node, []).append(self.senders[number])
        return by_node
