"""A station that routers connect to (RFC 7854 section 3.2): it only listens."""

import asyncio
import time
from collections.abc import Callable

from routrel.listening.messages import COMMON, MOST_BYTES, VERSION, GarbageError, Speaker
from routrel.listening.spool import Spool

MOST_SPEAKERS = 1000
WRITE_EVERY = 0.2
"""Seconds that records wait at most before they are written."""
WAITING_BYTES = 32 << 20
"""So much waits to be written before speakers have to."""

Say = Callable[[str], None]


class Station:
    """Speakers and what they said that is not written yet."""

    def __init__(self, spool: Spool, say: Say):
        self.spool = spool
        self.say = say
        self._waiting: list[bytes] = []
        self._bytes = 0
        self._told = 0
        self._room = asyncio.Condition()
        self._connections: dict[asyncio.Task[None], asyncio.StreamWriter] = {}
        self._is_ending = False

    async def serve(self, address: str, port: int) -> asyncio.Server:
        """Begin to listen."""
        return await asyncio.start_server(self._connected, address, port, limit=MOST_BYTES)

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
        speaker = Speaker()
        self.say(f"{who}: connected")
        try:
            await self._read(reader, speaker)
            self.say(f"{_named(who, speaker)}: ended{_left(speaker)}")
        except GarbageError as error:
            if not self._is_ending:
                self.say(f"{_named(who, speaker)}: cut off, this is no BMP: {error}")
        except OSError as error:
            if not self._is_ending:
                self.say(f"{_named(who, speaker)}: lost: {error}")
        finally:
            self._connections.pop(task, None)
            writer.close()

    async def _read(self, reader: asyncio.StreamReader, speaker: Speaker) -> None:
        while True:
            try:
                head = await reader.readexactly(COMMON.size)
            except asyncio.IncompleteReadError as error:
                if error.partial:
                    raise GarbageError("it ends inside a message") from None
                return
            version, length, kind = COMMON.unpack(head)
            if version != VERSION:
                raise GarbageError(f"version {version}, not {VERSION}")
            if not COMMON.size <= length <= MOST_BYTES:
                raise GarbageError(f"a message of {length:,} bytes")
            try:
                body = await reader.readexactly(length - COMMON.size)
            except asyncio.IncompleteReadError:
                raise GarbageError("it ends inside a message") from None
            records = speaker.records(kind, body, time.time())
            if records:
                await self._add(records)

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
