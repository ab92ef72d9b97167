"""The pool of another process of this machine, asked as one's own (``pool_process``)."""

import threading
import time
from multiprocessing.connection import Client, Connection
from typing import Any

from work.pool import BusyError, EventText, Hear, Text, TookTooLongError, TookTooMuchMemoryError, WorkError
from work.pool_process import Asking
from work.process import Outcome, Question

START_SECONDS = 10.0
"""How long a process that has the pool is waited for: it may just be started, or started again."""

IDLE = 32
"""Connections that are kept for the next questions."""

FAILURES: dict[str, type[WorkError]] = {
    one.__name__: one for one in (BusyError, TookTooLongError, TookTooMuchMemoryError)
}


class RemotePool:
    """Asks over connections, each with one question at a time."""

    def __init__(self, path: str):
        self.path = path
        self._idle: list[Connection] = []
        self._lock = threading.Lock()

    def ask(
        self,
        question: Question,
        text: Text,
        user: str = "",
        since_text: Text | None = None,
        event_text: EventText | None = None,
        hear: Hear | None = None,
    ) -> Outcome:
        """As ``Pool.ask``; ``BusyError`` too where the process that has the pool ended meanwhile."""
        asking = Asking(question, user, since_text is not None, event_text is not None, hear is not None)
        pipe = self._asked(("ask", asking))
        try:
            while True:
                kind, *said = self._heard(pipe)
                if kind in ("outcome", "failed"):
                    break
                if kind == "stage":
                    if hear is not None:
                        hear(said[0])
                elif kind == "events" and event_text is not None:
                    self._say(pipe, event_text(said[0]))
                else:
                    self._say(pipe, text() if kind == "text" or since_text is None else since_text())
        except BaseException:
            pipe.close()
            raise
        self._keep(pipe)
        if kind == "failed":
            raise FAILURES.get(said[0], WorkError)(said[1])
        outcome: Outcome = said[0]
        return outcome

    def is_answering(self) -> bool:
        """Whether a work process is up, or comes up now."""
        try:
            pipe = self._asked(("well",), 0)
        except BusyError:
            return False
        try:
            is_well: bool = self._heard(pipe)
        except BusyError:
            pipe.close()
            return False
        self._keep(pipe)
        return is_well

    def close(self) -> None:
        """Close what is idle."""
        with self._lock:
            while self._idle:
                self._idle.pop().close()

    def _asked(self, asked: tuple[object, ...], patience: float | None = None) -> Connection:
        """A connection over which something was asked; those of a process that ended are no longer any good."""
        end = time.monotonic() + (START_SECONDS if patience is None else patience)
        while True:
            with self._lock:
                idle = self._idle.pop() if self._idle else None
            try:
                pipe = idle or Client(self.path, "AF_UNIX")
                if not pipe.poll():
                    pipe.send(asked)
                    return pipe
                pipe.close()  # nothing was asked: it has ended
            except OSError:
                if idle is not None:
                    idle.close()
                elif time.monotonic() > end:
                    raise _ended() from None
                else:
                    time.sleep(0.1)

    @staticmethod
    def _heard(pipe: Connection) -> Any:
        try:
            return pipe.recv()
        except (EOFError, OSError):
            raise _ended() from None

    @staticmethod
    def _say(pipe: Connection, said: bytes) -> None:
        try:
            pipe.send(said)
        except OSError:
            raise _ended() from None

    def _keep(self, pipe: Connection) -> None:
        with self._lock:
            if len(self._idle) < IDLE:
                self._idle.append(pipe)
                return
        pipe.close()


def _ended() -> BusyError:
    return BusyError("The work on this ended and is being started again; try again in a moment.")
