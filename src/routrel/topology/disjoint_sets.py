"""Disjoint sets of things that are found to belong together, pair by pair."""

from collections.abc import Hashable
from typing import Generic, TypeVar

T = TypeVar("T", bound=Hashable)


class DisjointSets(Generic[T]):
    """Each thing is known by a number of its own, given when it is first met."""

    def __init__(self) -> None:
        self.number: dict[T, int] = {}
        self._parents: list[int] = []

    def find(self, thing: T) -> int:
        """The number that stands for a thing's set."""
        number = self.number.setdefault(thing, len(self._parents))
        parents = self._parents
        if number == len(parents):
            parents.append(number)
            return number
        while parents[number] != number:
            parents[number] = parents[parents[number]]
            number = parents[number]
        return number

    def join(self, one: T, other: T) -> None:
        first, second = self.find(one), self.find(other)
        self._parents[second] = first
