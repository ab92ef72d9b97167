"""What can be wrong with an input, and the one exception that carries all of it."""

import difflib
import heapq
from collections.abc import Iterable
from dataclasses import dataclass, field
from itertools import islice

from routrel.model.places import Place

MOST_COMPARED = 500
"""Names that one name is held against for a suggestion."""


@dataclass(frozen=True, slots=True)
class InputError:
    """One error: where, what was found, what is allowed, and the nearest valid name if one is close."""

    place: Place
    message: str
    found: str = ""
    allowed: str = ""
    nearest: str = ""

    def __str__(self) -> str:
        text = f"{self.place}: {self.message}"
        if self.found:
            text += f"; found {self.found}"
        if self.allowed:
            text += f"; allowed: {self.allowed}"
        if self.nearest:
            text += f"; did you mean {self.nearest}?"
        return text


class LoadError(Exception):
    """An input that cannot be loaded, with every error found in it, in the order of the text."""

    def __init__(self, errors: Iterable[InputError]):
        self.errors = sorted(errors, key=lambda error: error.place)
        super().__init__("\n".join(str(error) for error in self.errors))


@dataclass(slots=True)
class ErrorList:
    """Collects errors while reading goes on, so that all of a load are reported at once."""

    errors: list[InputError] = field(default_factory=list)
    limit: int = 1000
    suggestions: int = 20
    """So many more errors come with the name that may have been meant."""

    def add(
        self,
        place: Place,
        message: str,
        *,
        found: str = "",
        allowed: str = "",
        names: Iterable[str] = (),
        name: str = "",
    ) -> None:
        """Note an error; with ``names`` given, the one nearest to ``name`` is suggested."""
        close: list[str] = []
        if name and self.suggestions > 0:
            self.suggestions -= 1
            close = nearest(name, names)
        self.errors.append(InputError(place, message, found, allowed, close[0] if close else ""))
        if len(self.errors) >= self.limit:
            self.errors.append(InputError(place, f"reading stopped after {self.limit} errors"))
            self.raise_if_any()

    def dangling(self, place: Place, what: str, name: str, names: Iterable[str]) -> None:
        """Note a name that names nothing."""
        names = list(names)
        allowed = ", ".join(heapq.nsmallest(12, names)) + (", …" if len(names) > 12 else "")
        self.add(place, f"there is no {what} of this name", found=quoted(name), allowed=allowed, names=names, name=name)

    def raise_if_any(self) -> None:
        if self.errors:
            raise LoadError(self.errors)


def nearest(name: str, names: Iterable[str]) -> list[str]:
    """The one name of many that is most like another, or none; of very many, those of a like length and start."""
    known = list(names)
    if len(known) > MOST_COMPARED:
        alike = (one for one in known if one[:1] == name[:1] and abs(len(one) - len(name)) <= 2)
        known = list(islice(alike, MOST_COMPARED))
    return difflib.get_close_matches(name, known, 1)


def quoted(text: object, limit: int = 60) -> str:
    """``text`` in quotes for a message, cut where it is long, control characters escaped."""
    shown = str(text)
    if len(shown) > limit:
        shown = shown[: limit - 1] + "…"
    return repr(shown)
