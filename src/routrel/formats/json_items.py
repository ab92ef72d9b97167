"""JSON arrays as items with positions, for large machine-written files."""

import json
import re
from typing import Any

from routrel.formats.errors import InputError, LoadError, quoted
from routrel.formats.yaml_nodes import decode
from routrel.model.places import Place

_SPACE = re.compile(r"[\s,]*")


def json_items(data: bytes, file: str, key: str | None = None) -> list[tuple[dict[str, Any], Place]]:
    """The objects of the array that is the document, or stands under ``key`` of the top object.

    Raises ``LoadError`` with the position where the text is cut short or is no such array.
    """
    text = decode(data, file)
    try:
        document = json.loads(text)
    except json.JSONDecodeError as error:
        cut = error.pos >= len(text.rstrip()) or error.msg.startswith("Unterminated")
        raise LoadError(
            [
                InputError(
                    Place(file, error.lineno, error.colno),
                    f"this is not JSON: {error.msg}" + (" (the file seems cut short)" if cut else ""),
                )
            ]
        ) from None
    except RecursionError:
        raise LoadError([InputError(Place(file, 1, 1), "the text is nested too deeply")]) from None
    except ValueError as error:  # an integer of thousands of digits
        raise LoadError([InputError(Place(file, 1, 1), f"this is not readable as JSON: {error}")]) from None
    items = document.get(key) if key is not None and isinstance(document, dict) else None if key else document
    if not isinstance(items, list):
        wanted = f"an object with an array under {key!r}" if key else "an array"
        raise LoadError([InputError(Place(file, 1, 1), "this is not what the command prints", allowed=wanted)])
    found: list[tuple[dict[str, Any], Place]] = []
    decoder = json.JSONDecoder()
    opening = re.search(rf'"{key}"\s*:\s*\[', text) if key else re.search(r"\[", text)
    assert opening is not None
    position = opening.end()
    lines = _LineCounter(text)
    while True:
        space = _SPACE.match(text, position)
        position = space.end() if space else position
        if position >= len(text) or text[position] == "]":
            return found
        place = lines.place(position, file)
        item, position = decoder.raw_decode(text, position)
        if not isinstance(item, dict):
            raise LoadError([InputError(place, "an object is expected here", found=quoted(item))])
        if item:
            found.append((item, place))


class _LineCounter:
    """Positions in ascending order to lines and columns, each character looked at once."""

    def __init__(self, text: str):
        self.text = text
        self.at = 0
        self.line = 1
        self.start = 0

    def place(self, position: int, file: str) -> Place:
        breaks = self.text.count("\n", self.at, position)
        if breaks:
            self.line += breaks
            self.start = self.text.rfind("\n", self.at, position) + 1
        self.at = position
        return Place(file, self.line, position - self.start + 1)
