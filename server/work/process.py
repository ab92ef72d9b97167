"""One work process: takes questions from a pipe, one at a time, and keeps what it solved last.

Started as ``python -m work.process FD BYTES``. Messages are plain tuples: a ``Question`` comes in; where the
text of a revision is not at hand, ``("text", digest)`` goes out and the bytes come in, of a file of events
``("events", digest)``; what it is at goes out as ``("stage", Stage)``; then an ``Outcome`` goes out.
"""

import os
import resource
import sys
import time
import traceback
from collections import OrderedDict
from dataclasses import dataclass
from multiprocessing.connection import Connection
from typing import Any, Literal

from routrel.formats.errors import LoadError
from routrel.formats.happenings import Happenings, read_happenings
from routrel.forwarding.flow_words import FlowError
from routrel.garbage_collection import keep, let_go
from routrel.routing.solve import Solved
from work import solved_cache
from work.answering import answer
from work.past import EventFileKey, Past
from work.refusals import load_error_body
from work.solved_revision import RefusedError, SolvedRevision

KEPT = 4
"""Solved revisions that one process keeps."""

EVENT_FILES_KEPT = 200
"""Files of events that one process keeps read."""

SOLVED_AHEAD = 2.0
"""Seconds of processor time that reading and solving a revision may have taken for its trials to be solved ahead."""

LARGE = 512 * 1024 * 1024
"""A process that holds more after an answer keeps only the revision it was asked about last."""


CONTINUED = frozenset({"held", "expectations", "maintenance", "leaning", "strip", "route-over-time", "between-held"})
"""Questions whose answer takes several calls: a process goes on with what it began."""


Stage = Literal["reading", "solving", "looking", "keeping"]
"""What a process is at with a revision that is new to it: the questions of its first view are looked into last."""


@dataclass(frozen=True)
class Question:
    """``since`` is the digest and file name of an earlier revision that the first is held against; ``changes`` are
    tried on it first, as JSON text. ``past`` has the events that the question is asked with. ``is_kept_first`` asks for
    what was solved to be on disk before the answer, for others to open.
    """

    digest: str
    file_name: str
    name: str
    parameters: dict[str, Any]
    since: tuple[str, str] | None = None
    changes: str = ""
    past: Past | None = None
    is_kept_first: bool = False

    @property
    def key(self) -> tuple[str, str, Past | None]:
        """The revision with its changes, at its moment."""
        return self.digest, self.changes, self.past


@dataclass(frozen=True)
class Outcome:
    """``body`` is JSON text where ``status`` is 200, else data; ``seconds`` of processor time are what solving took,
    0 where it was kept.

    Of ``failed`` the body is a traceback, for the log alone. ``ends`` says that the process ends now.
    """

    kind: Literal["answer", "refused", "failed", "memory"]
    status: int
    body: Any
    seconds: float = 0.0
    ends: bool = False


class Worker:
    """The revisions a process keeps, and its answers."""

    def __init__(self, pipe: Connection):
        self.pipe = pipe
        self.kept: OrderedDict[str, SolvedRevision] = OrderedDict()
        self.to_keep: list[tuple[str, Solved]] = []
        """What was solved and is not on disk yet."""
        self.events: OrderedDict[EventFileKey, Happenings] = OrderedDict()
        """Files of events that were read last."""

    def run(self) -> None:
        """Answer until the pipe is closed."""
        while True:
            try:
                question: Question = self.pipe.recv()
            except EOFError:
                return
            outcome = self._outcome(question)
            if question.is_kept_first and self.to_keep:
                self._say("keeping")
                self._keep()
            self.pipe.send(outcome)
            if outcome.ends:
                return
            self._keep()
            if question.name == "tried" and outcome.kind == "answer":
                self._solve_ahead(question)
            self._tidy(question.digest)

    def _keep(self) -> None:
        """Write what was solved for others to open."""
        while self.to_keep:
            solved_cache.keep(*self.to_keep.pop())

    def _say(self, stage: Stage) -> None:
        """What it is at now."""
        self.pipe.send(("stage", stage))

    def _outcome(self, question: Question) -> Outcome:
        seconds = 0.0
        try:
            revision, seconds = self._revision(question.digest, question.file_name)
            beside: dict[str, Any] = {}
            if question.since is not None:
                beside["since"] = self._revision(*question.since)[0]
            if question.past is not None:
                happened = self._events(question.past)
                beside["past"], beside["happened"] = question.past, happened
                beside["timeline"] = timeline = revision.timeline(question.past, happened)
                if question.past.moment:
                    revision = revision.at(question.past, timeline)
            if question.changes:
                revision = revision.tried(question.changes)
            return Outcome("answer", 200, answer(revision, question.name, question.parameters, beside), seconds)
        except LoadError as error:
            return Outcome("refused", 400, load_error_body(error))
        except FlowError as error:
            return Outcome("refused", 400, {"detail": str(error)}, seconds)
        except RefusedError as error:
            return Outcome("refused", error.status, error.body, seconds)
        except (MemoryError, RecursionError):
            self.kept.clear()
            return Outcome("memory", 503, None, ends=True)
        except Exception:
            self.kept.pop(question.digest, None)
            return Outcome("failed", 500, traceback.format_exc(), seconds)

    def _solve_ahead(self, question: Question) -> None:
        """Solve a trial that was just made, while who made it is told: what is asked next is asked of it."""
        revision = self.kept.get(question.digest)
        if revision is None or revision.seconds > SOLVED_AHEAD:
            return
        try:
            revision.tried(question.changes).solved  # noqa: B018
        except Exception:
            return  # it is said to who asks of it

    def _revision(self, digest: str, file_name: str) -> tuple[SolvedRevision, float]:
        """A revision solved, and the seconds that took, 0 where it was kept."""
        revision, seconds = self.kept.get(digest), 0.0
        if revision is None:
            self.pipe.send(("text", digest))
            data = self.pipe.recv()
            start = time.process_time()
            known = solved_cache.opened(digest)
            revision = SolvedRevision.of(file_name, data, known, self._say)
            revision.seconds = seconds = time.process_time() - start
            self.kept[digest] = revision
            if known is None and seconds > solved_cache.WORTH_A_FILE:
                self.to_keep.append((digest, revision.as_it_is))
            self._say("looking")
        self.kept.move_to_end(digest)
        return revision, seconds

    def _events(self, past: Past) -> list[Happenings]:
        """What happened to a network; files of them that are not known here are asked for."""
        for key in past.files:
            if key not in self.events:
                self.pipe.send(("events", key.digest))
                self.events[key] = read_happenings(self.pipe.recv(), key.file_name)
            self.events.move_to_end(key)
        found = [self.events[key] for key in past.files]
        while len(self.events) > max(EVENT_FILES_KEPT, len(past.files)):
            self.events.popitem(last=False)
        return found

    def _tidy(self, digest: str) -> None:
        """Forget what was asked about longest ago, and all else where much memory is held."""
        is_large = _resident() > LARGE
        most = 1 if is_large else KEPT
        if is_large:
            for revision in self.kept.values():
                revision.keep_one_trial()
        if len(self.kept) > most:
            while len(self.kept) > most:
                self.kept.popitem(last=False)
            let_go()
        else:
            keep()


def _resident() -> int:
    """Bytes of memory in use."""
    with open("/proc/self/statm") as file:
        return int(file.read().split()[1]) * resource.getpagesize()


def main() -> None:
    pipe, most = Connection(int(sys.argv[1])), int(sys.argv[2])
    if most:
        resource.setrlimit(resource.RLIMIT_AS, (most, most))
    os.nice(int(sys.argv[3]))
    Worker(pipe).run()


if __name__ == "__main__":
    from work import process

    process.main()
