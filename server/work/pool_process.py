"""The pool in a process of its own, for any number of web processes: questions come over a socket of this machine.

Started as ``python -m work.pool_process PATH``; with ``--until-input-ends`` it ends with the process that holds its
standard input open. Messages are plain tuples, each connection has one question at a time. ``("ask", Asking)`` comes
in; what is wanted of whoever asks goes out as ``("text",)``, ``("since",)`` or ``("events", digest)``, its bytes come
in; ``("stage", Stage)`` goes out; then ``("outcome", Outcome)``, or ``("failed", kind, message)`` of a ``WorkError``.
``("well",)`` is answered by whether work processes are up.
"""

import os
import signal
import sys
import threading
from collections.abc import Callable
from dataclasses import dataclass
from multiprocessing.connection import Connection, Listener
from typing import Any

from work.pool import Limits, Pool, WorkError
from work.process import Question

UNTIL_INPUT_ENDS = "--until-input-ends"

WAITING = 128
"""Connections that may wait to be accepted."""


class AskerGoneError(Exception):
    """Whoever asked ended before the answer."""


@dataclass(frozen=True)
class Asking:
    """A question, for whom, and what beside the text of its revision can be asked for."""

    question: Question
    user: str
    has_since: bool
    has_events: bool
    hears: bool


class _Asked:
    """One connection: what is asked over it, until it is closed."""

    def __init__(self, pool: Pool, pipe: Connection):
        self.pool, self.pipe = pool, pipe

    def run(self) -> None:
        with self.pipe:
            while True:
                try:
                    kind, *asked = self.pipe.recv()
                    self._answer(*asked) if kind == "ask" else self.pipe.send(self.pool.is_answering())
                except (EOFError, OSError, AskerGoneError):
                    return

    def _answer(self, asking: Asking) -> None:
        try:
            outcome = self.pool.ask(
                asking.question,
                self._wanted("text"),
                asking.user,
                self._wanted("since") if asking.has_since else None,
                (lambda digest: self._wanted("events", digest)()) if asking.has_events else None,
                (lambda stage: self.pipe.send(("stage", stage))) if asking.hears else None,
            )
        except WorkError as error:
            self.pipe.send(("failed", type(error).__name__, str(error)))
        else:
            self.pipe.send(("outcome", outcome))

    def _wanted(self, *what: str) -> Callable[[], bytes]:
        def bytes_of() -> bytes:
            try:
                self.pipe.send(what)
                found: bytes = self.pipe.recv()
            except (EOFError, OSError) as error:
                raise AskerGoneError from error
            return found

        return bytes_of


def _end_with_input() -> None:
    while sys.stdin.buffer.read(1):
        pass
    os.kill(os.getpid(), signal.SIGTERM)


def _end(*_: Any) -> None:
    raise SystemExit(0)


def main() -> None:
    signal.signal(signal.SIGTERM, _end)
    pool = Pool(Limits.of_environment())
    pool.start()
    if UNTIL_INPUT_ENDS in sys.argv:
        threading.Thread(target=_end_with_input, daemon=True).start()
    with Listener(sys.argv[1], "AF_UNIX", WAITING) as listener:
        while True:
            threading.Thread(target=_Asked(pool, listener.accept()).run, daemon=True).start()


if __name__ == "__main__":
    from work import pool_process

    pool_process.main()
