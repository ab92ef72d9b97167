"""The work processes as the web process sees them: one question to one process, within limits.

All processes but the first take any question. The first is left to revisions that were solved quickly before:
it is never held up by an upload. A question waits for a process for a while, those of one user in line behind
those of others.
"""

import atexit
import os
import signal
import socket
import subprocess
import sys
import threading
import time
from collections import Counter, OrderedDict
from collections.abc import Callable
from dataclasses import dataclass, field
from multiprocessing.connection import Connection
from pathlib import Path

from work.process import CONTINUED, Outcome, Question, Stage

QUICK = 1.5
"""Seconds of processor time that solving may have taken for a revision to be asked of the process that is left free."""

START_SECONDS = 60.0
"""What a process may take to start, before its first question counts."""

KNOWN = 1000
"""Revisions whose time to solve is remembered."""

HEAVY_NICE = 15
"""How much the processes that read uploads stand back behind everything else."""


Text = Callable[[], bytes]
"""Gives the bytes of a revision."""

EventText = Callable[[str], bytes]
"""Gives the bytes of a file of events by its digest."""

Hear = Callable[[Stage], None]
"""Hears what a process is at with a revision that is new to it."""


@dataclass(frozen=True)
class Limits:
    """``bytes_each`` of address space per process; seconds for one question, and for one that has to solve first;
    and how long a question waits for a process."""

    processes: int = 3
    bytes_each: int = 3 * 1024**3
    question_seconds: float = 30.0
    solve_seconds: float = 120.0
    wait_seconds: float = 60.0

    @classmethod
    def of_environment(cls, processes: int | None = None) -> "Limits":
        """As the environment says (docs/running.md), or for so many processes."""
        told = int(os.environ.get("ROUTREL_WORK_PROCESSES", cls.processes))
        gib = float(os.environ.get("ROUTREL_WORK_GIB", cls.bytes_each / 1024**3))
        return cls(told if processes is None else processes, int(gib * 1024**3))


class WorkError(Exception):
    """Work that was not done: a message for the user."""


class TookTooLongError(WorkError):
    """It was ended at its limit of time."""


class TookTooMuchMemoryError(WorkError):
    """It was ended at its limit of memory."""


class BusyError(WorkError):
    """No process became free in time."""


@dataclass(eq=False)
class _Process:
    """One process and what is known of it."""

    number: int
    running: "subprocess.Popen[bytes]"
    pipe: Connection
    is_busy: bool = False
    has_answered: bool = False
    digests: set[str] = field(default_factory=set)
    trials_of: set[str] = field(default_factory=set)
    """Revisions of which it was the last to be asked with a trial."""
    holding: tuple[object, ...] | None = None
    """What it goes on with where it is asked again."""


class Pool:
    """Work processes, started when first needed and replaced when they end."""

    def __init__(self, limits: Limits | None = None):
        self.limits = limits or Limits()
        self._condition = threading.Condition()
        self._processes: list[_Process | None] = [None] * self.limits.processes
        self._seconds: OrderedDict[str, float] = OrderedDict()
        self._busy_for: Counter[str] = Counter()
        atexit.register(self.close)

    def ask(
        self,
        question: Question,
        text: Text,
        user: str = "",
        since_text: Text | None = None,
        event_text: EventText | None = None,
        hear: Hear | None = None,
    ) -> Outcome:
        """An answer, or a ``WorkError``; ``text`` gives the revision's bytes where the process lacks them,
        ``since_text`` those of the one it is held against, ``event_text`` those of files of events."""
        process = self._taken(question, user)
        try:
            outcome = self._asked(process, question, text, since_text, event_text, hear)
        except BaseException:
            self._end(process)
            raise
        finally:
            self._give_back(process, user)
        if outcome.kind == "memory":
            raise TookTooMuchMemoryError(
                f"This takes more memory than the {self.limits.bytes_each // 1024**3} GiB that one network may use."
            )
        return outcome

    def start(self) -> None:
        """Start all processes, so that no first question waits for one."""
        with self._condition:
            for number in range(self.limits.processes):
                self._alive(number)

    def is_answering(self) -> bool:
        """Whether a work process is up, or comes up now."""
        try:
            with self._condition:
                return self._alive(0).running.poll() is None
        except OSError:
            return False

    def close(self) -> None:
        """End all processes."""
        with self._condition:
            for number, process in enumerate(self._processes):
                if process is not None:
                    self._kill(process)
                    self._processes[number] = None

    def _taken(self, question: Question, user: str) -> _Process:
        """A free process, the one that has the revision at hand before others."""
        deadline = time.monotonic() + self.limits.wait_seconds
        with self._condition:
            while True:
                process = self._free(question, user)
                if process is not None:
                    process.is_busy = True
                    if question.name in CONTINUED:
                        process.holding = question.key
                    elif question.changes:
                        for other in filter(None, self._processes):
                            other.trials_of.discard(question.digest)
                        process.trials_of.add(question.digest)
                    self._busy_for[user] += 1
                    return process
                left = deadline - time.monotonic()
                if left <= 0:
                    raise BusyError("The server is busy with other work; try again in a moment.")
                self._condition.wait(left)

    def _free(self, question: Question, user: str) -> _Process | None:
        digest = question.digest
        is_quick = self._seconds.get(digest, QUICK + 1) <= QUICK
        numbers = (
            range(self.limits.processes)
            if is_quick
            else range(min(1, self.limits.processes - 1), self.limits.processes)
        )
        others = len(self._processes) - 1
        if not is_quick and self._busy_for[user] >= max(1, others - 1):
            return None  # one user's heavy work does not take every process
        if question.name in CONTINUED:
            holding = next((one for one in self._processes if one is not None and one.holding == question.key), None)
            if holding is not None and holding.running.poll() is None:
                return None if holding.is_busy else holding
        free = [process for number in numbers if not (process := self._alive(number)).is_busy]
        at_hand = [process for process in free if digest in process.digests]
        if question.changes:
            # The one that was asked of a trial last has it solved, most likely.
            at_hand.sort(key=lambda process: digest not in process.trials_of)
        if at_hand:
            return at_hand[0]
        return min(free, key=lambda process: len(process.digests), default=None)

    def _alive(self, number: int) -> _Process:
        process = self._processes[number]
        if process is None or (process.running.poll() is not None and not process.is_busy):
            process = self._processes[number] = self._started(number)
        return process

    def _started(self, number: int) -> _Process:
        ours, theirs = socket.socketpair()
        environment = {
            **os.environ,
            "PYTHONPATH": os.pathsep.join(str(one) for one in _code_folders()),
            # One thread each: the processes are the parallelism, and threads reserve memory.
            "OPENBLAS_NUM_THREADS": "1",
            "OMP_NUM_THREADS": "1",
        }
        nice = 0 if number == 0 else HEAVY_NICE
        command = [sys.executable, "-m", "work.process", str(theirs.fileno()), str(self.limits.bytes_each), str(nice)]
        running = subprocess.Popen(
            command, pass_fds=[theirs.fileno()], env=environment, stdin=subprocess.DEVNULL, start_new_session=True
        )
        theirs.close()
        return _Process(number, running, Connection(ours.detach()))

    def _asked(
        self,
        process: _Process,
        question: Question,
        text: Text,
        since_text: Text | None,
        event_text: EventText | None,
        hear: Hear | None,
    ) -> Outcome:
        start = 0.0 if process.has_answered else START_SECONDS
        deadline = time.monotonic() + self.limits.question_seconds + start
        try:
            process.pipe.send(question)
            while True:
                if not process.pipe.poll(max(0.0, deadline - time.monotonic())):
                    raise TookTooLongError(
                        f"This took longer than the {self.limits.solve_seconds:g} seconds allowed for reading and"
                        f" solving, or the {self.limits.question_seconds:g} for an answer, and was ended."
                    )
                said = process.pipe.recv()
                if isinstance(said, Outcome):
                    break
                if said[0] == "stage":
                    if hear is not None:
                        hear(said[1])
                    continue
                if said[0] == "events" and event_text is not None:
                    process.pipe.send(event_text(said[1]))
                else:
                    wanted = text if said[1] == question.digest or since_text is None else since_text
                    process.pipe.send(wanted())
                deadline = time.monotonic() + self.limits.solve_seconds
        except (EOFError, OSError) as error:
            raise TookTooMuchMemoryError(
                "The process that worked on this ended, most likely for lack of memory. Nothing was changed."
            ) from error
        process.has_answered = True
        if said.kind in ("answer", "refused") and said.seconds:
            process.digests.add(question.digest)
            with self._condition:
                self._seconds[question.digest] = min(said.seconds, self._seconds.get(question.digest, said.seconds))
                while len(self._seconds) > KNOWN:
                    self._seconds.popitem(last=False)
        if said.ends:
            self._end(process)
        return said

    def _give_back(self, process: _Process, user: str) -> None:
        with self._condition:
            process.is_busy = False
            self._busy_for[user] -= 1
            if not self._busy_for[user]:
                del self._busy_for[user]
            self._condition.notify_all()

    def _end(self, process: _Process) -> None:
        """End a process; the next question finds another in its place."""
        with self._condition:
            self._kill(process)
            if self._processes[process.number] is process:
                self._processes[process.number] = None

    @staticmethod
    def _kill(process: _Process) -> None:
        process.pipe.close()
        if process.running.poll() is None:
            process.running.send_signal(signal.SIGKILL)
        process.running.wait()


def _code_folders() -> tuple[Path, Path]:
    server = Path(__file__).resolve().parent.parent
    return server.parent / "src", server
