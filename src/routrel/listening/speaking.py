"""What a station needs of whoever speaks to it."""

import asyncio
from collections import Counter
from collections.abc import AsyncIterator
from typing import Protocol


class GarbageError(ValueError):
    """What no speaker of a protocol sends: the message says why; nothing after it can be read."""


class Speaker(Protocol):
    """One connection: what comes of it, record by record."""

    name: str
    left: Counter[str]
    """Messages of which nothing comes, by kind."""

    def records(self, reader: asyncio.StreamReader) -> AsyncIterator[bytes]:
        """Records until it ends; raises ``GarbageError``."""
        ...


async def whole(reader: asyncio.StreamReader, count: int) -> bytes:
    """So many bytes, or none where it ended before them; raises ``GarbageError`` where it ended inside."""
    if count == 0:
        return b""
    try:
        return await reader.readexactly(count)
    except asyncio.IncompleteReadError as error:
        if error.partial:
            raise GarbageError("it ends inside a message") from None
        return b""
