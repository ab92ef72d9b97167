"""What changes make of the files of a network, as a unified difference and its reverse."""

import difflib
from collections.abc import Mapping

CONTEXT = 3
"""Lines shown around each change."""


def difference(files: Mapping[str, bytes], changed: Mapping[str, str], reverse: bool = False) -> str:
    """The unified difference from ``files`` to those that were changed or are new; or what takes that back."""
    parts = []
    for name in sorted(changed):
        old, new = files.get(name, b"").decode("utf-8-sig"), changed[name]
        if reverse:
            old, new = new, old
        for line in difflib.unified_diff(_lines(old), _lines(new), f"a/{name}", f"b/{name}", n=CONTEXT):
            parts.append(line if line.endswith("\n") else f"{line}\n\\ No newline at end of file\n")
    return "".join(parts)


def _lines(text: str) -> list[str]:
    """Lines with their ends, as other programs count them: only a line feed ends one."""
    return [line for line in text.replace("\n", "\n\0").split("\0") if line]
