"""Where in the source text a thing stands."""

from msgspec import Struct

LONGEST_WRITTEN_BY_HAND = 250
"""Characters in a line."""


class Place(Struct, frozen=True, order=True):
    """A position in a source file: ``file`` relative to the network's root, line and column from 1.

    False where no text states the thing.
    """

    file: str
    line: int
    column: int

    def __str__(self) -> str:
        return f"{self.file}:{self.line}:{self.column}"

    @property
    def in_brief(self) -> str:
        """File and line, with the column where the line is as long as those that programs write."""
        return str(self) if self.column > LONGEST_WRITTEN_BY_HAND else f"{self.file}:{self.line}"

    def __bool__(self) -> bool:
        return self.line > 0


NOWHERE = Place("", 0, 0)
"""The place of what no text states, such as a default."""
