"""Files that records go to, in a folder: what is in one is on disk; one that is closed may be sent on."""

import os
import time
from collections.abc import Iterator
from pathlib import Path

SENT = "sent"
"""The folder inside, for files that were sent on."""


class Spool:
    """The file that is written now. A file that a listener left behind when it ended is closed."""

    def __init__(self, folder: Path, kind: str = "bmp", suffix: str = ".mrt"):
        self.folder = folder
        self.kind, self.suffix = kind, suffix
        folder.mkdir(parents=True, exist_ok=True)
        self._file: int | None = None
        self._path = folder
        self.stored = 0
        """Records that are on disk."""

    def write(self, records: list[bytes]) -> None:
        """Records at the end of the file, on disk when this returns."""
        if not records:
            return
        if self._file is None:
            stamp = time.strftime("%Y%m%dT%H%M%SZ", time.gmtime())
            self._path = self.folder / f"{self.kind}-{stamp}-{time.time_ns() % 1_000_000_000:09}{self.suffix}"
            self._file = os.open(self._path, os.O_WRONLY | os.O_CREAT | os.O_EXCL, 0o640)
        data = memoryview(b"".join(records))
        while data:
            data = data[os.write(self._file, data) :]
        os.fdatasync(self._file)
        self.stored += len(records)

    def close(self) -> None:
        """The next record begins a file of its own."""
        if self._file is not None:
            os.close(self._file)
            self._file = None

    def closed(self) -> Iterator[Path]:
        """Files that nothing is added to, the oldest first."""
        for path in sorted(self.folder.glob(f"{self.kind}-*{self.suffix}")):
            if self._file is None or path != self._path:
                yield path

    def sent(self, path: Path) -> None:
        """A file is somebody else's too now."""
        target = self.folder / SENT
        target.mkdir(exist_ok=True)
        path.rename(target / path.name)
