"""Where in the source text a thing stands."""

from typing import NamedTuple


class Place(NamedTuple):
    """A position in a source file: ``file`` relative to the network's root, line and column from 1."""

    file: str
    line: int
    column: int

    def __str__(self) -> str:
        return f"{self.file}:{self.line}:{self.column}"


NOWHERE = Place("", 0, 0)
"""The place of what no text states, such as a default."""
