"""Solved networks on disk, by content: any process of this machine opens one instead of solving it again.

The folder is ROUTREL_SOLVED, which the start command sets; without it nothing is kept. Its files are safe to delete at
any time; those that were not asked for longest go when it grows too large.
"""

import hashlib
import os
from contextlib import suppress
from pathlib import Path

from routrel.routing.solve import Solved
from routrel.routing.solved_file import code_key, open_solved, save_solved

WORTH_A_FILE = 0.3
"""Seconds of processor time that reading and solving must have taken."""

MOST_BYTES = int(float(os.environ.get("ROUTREL_SOLVED_GIB", "4")) * 1024**3)


def opened(key: str) -> Solved | None:
    """What was solved of a revision by this code, or None where that is not kept or cannot be opened."""
    path = _path(key)
    if path is None:
        return None
    try:
        solved = open_solved(path)
        os.utime(path)  # kept longer for it
    except Exception:
        return None  # whatever is wrong with what is kept: it is solved anew, and written over
    return solved


def keep(key: str, solved: Solved) -> None:
    """Write it for others to open; where there is no room, nothing is kept."""
    path = _path(key)
    if path is None:
        return
    with suppress(OSError):
        path.parent.mkdir(mode=0o700, parents=True, exist_ok=True)
        save_solved(solved, path)
        _tidy(path.parent)


def _path(key: str) -> Path | None:
    folder = os.environ.get("ROUTREL_SOLVED", "")
    if not folder:
        return None
    return Path(folder) / f"{hashlib.sha256(code_key() + key.encode()).hexdigest()}.solved"


def _tidy(folder: Path) -> None:
    """Remove what was asked for longest ago until the rest has room."""
    known = []
    for path in folder.iterdir():
        with suppress(OSError):
            about = path.stat()
            known.append((about.st_mtime, about.st_size, path))
    held = 0
    for _, size, path in sorted(known, reverse=True):
        held += size
        if held > MOST_BYTES:
            path.unlink(missing_ok=True)
