"""A station that devices connect to: it only listens."""

import asyncio
from collections.abc import Callable

from routrel.listening.speaking import GarbageError, Speaker
from routrel.listening.spool import Spool

MOST_SPEAKERS = 1000
MOST_WAITING = 1 << 20
"""Bytes of a connection that wait to be read."""
WRITE_EVERY = 0.2
"""Seconds that records wait at most before they are written."""
WAITING_BYTES = 32 << 20
"""So much waits to be written before speakers have to."""

Say = Callable[[str], None]


class Station:
    """Speakers and what they said that is not written yet."""

    def __init__(self, spool: Spool, say: Say, speaker: Callable[[], Speaker]):
        self.spool = spool
        self.speaker = speaker
        self.say = say
        self._waiting: list[bytes] = []
        self._bytes = 0
        self._told = 0
        self._room = asyncio.Condition()
        self._connections: dict[asyncio.Task[None], asyncio.StreamWriter] = {}
        self._is_ending = False

    async def serve(self, address: str, port: int) -> asyncio.Server:
        """Begin to listen."""
        return await asyncio.start_server(self._connected, address, port, limit=MOST_WAITING)

    async def write_on(self) -> None:
        """Write what comes, again and again; speakers are read no faster than that."""
        while True:
            await asyncio.sleep(WRITE_EVERY)
            await self.write()

    async def write(self) -> None:
        """Write what waits."""
        async with self._room:
            records, self._waiting, self._bytes = self._waiting, [], 0
            await asyncio.to_thread(self.spool.write, records)
            self._room.notify_all()

    async def turn(self) -> None:
        """What comes next begins a file of its own."""
        async with self._room:
            before = self.spool.stored
            self.spool.close()
        if before > self._told:
            self.say(f"{before:,} records stored")
            self._told = before

    async def end(self) -> None:
        """Let the connections go, and write what they said."""
        self._is_ending = True
        for writer in self._connections.values():
            writer.transport.abort()
        await asyncio.gather(*self._connections, return_exceptions=True)
        await self.write()

    async def _connected(self, reader: asyncio.StreamReader, writer: asyncio.StreamWriter) -> None:
        task = asyncio.current_task()
        assert task is not None
        host, port = writer.get_extra_info("peername")[:2]
        who = f"{host} port {port}"
        if len(self._connections) >= MOST_SPEAKERS:
            self.say(f"{who}: refused, {MOST_SPEAKERS:,} speakers are connected")
            writer.close()
            return
        self._connections[task] = writer
        speaker = self.speaker()
        self.say(f"{who}: connected")
        try:
            async for records in speaker.records(reader):
                await self._add(records)
            self.say(f"{_named(who, speaker)}: ended{_left(speaker)}")
        except GarbageError as error:
            if not self._is_ending:
                self.say(f"{_named(who, speaker)}: cut off, this cannot be read: {error}")
        except OSError as error:
            if not self._is_ending:
                self.say(f"{_named(who, speaker)}: lost: {error}")
        finally:
            self._connections.pop(task, None)
            writer.close()

    async def _add(self, records: bytes) -> None:
        self._waiting.append(records)
        self._bytes += len(records)
        if self._bytes > WAITING_BYTES:
            async with self._room:
                await self._room.wait_for(lambda: self._bytes <= WAITING_BYTES)


def _named(who: str, speaker: Speaker) -> str:
    return f"{who} ({speaker.name})" if speaker.name else who


def _left(speaker: Speaker) -> str:
    told = ", ".join(f"{count:,} {what}" for what, count in speaker.left.items())
    return f"; not used: {told}" if told else ""
