"""Sets of routing instances as integers, a bit for each: what ways pass is kept for millions of them."""

from collections.abc import Iterable, Iterator


def bits_of(instances: Iterable[int]) -> int:
    """The set of some routing instances, by their numbers."""
    found = 0
    for instance in instances:
        found |= 1 << instance
    return found


def instances_of(bits: int) -> Iterator[int]:
    """The numbers in a set, ascending."""
    while bits:
        lowest = bits & -bits
        yield lowest.bit_length() - 1
        bits ^= lowest
