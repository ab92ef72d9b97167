"""Questions of a worker to its own work process, given up as soon as nobody wants the answer any more."""

import logging
import time
from collections.abc import Callable
from concurrent.futures import ThreadPoolExecutor
from concurrent.futures import TimeoutError as NotYet
from typing import Any, TypeVar

from django.db import InterfaceError, OperationalError, connection

from jobs.models import Job
from jobs.tasks import ToStopError
from networks.models import Revision
from work.pool import Hear, Limits, Pool, Text, WorkError
from work.process import Outcome, Question
from work.service import Subject

log = logging.getLogger("routrel.jobs")
T = TypeVar("T")

LOOKS = 0.4
"""Seconds between two looks whether an answer is still wanted."""

PATIENCE = 60.0
"""Seconds for which what was found is kept while the database is away."""

_pool = Pool(Limits.of_environment(processes=1))
_asking = ThreadPoolExecutor(1)


class NotWantedError(Exception):
    """The job was cancelled, or is gone."""


class JobFailedError(Exception):
    """What cannot be done, in words for who asked for it; of an upload each error with its place."""

    def __init__(self, words: str, errors: list[Any] | None = None):
        super().__init__(words)
        self.errors = errors or []


def asked(job: Job, name: str, parameters: dict[str, Any], is_wanted: Callable[[], bool]) -> bytes:
    """The JSON text of an answer about a job's revision; raises ``NotWantedError`` or ``JobFailedError``."""
    revision = job.revision
    subject = Subject(revision.digest, revision.file_name, lambda: _original(revision.pk))
    question = Question(*subject.key, name, parameters, None, job.changes)
    return ask(question, subject.text, is_wanted, str(job.pk))


def ask(question: Question, text: Text, is_wanted: Callable[[], bool], of: str, hear: Hear | None = None) -> bytes:
    """The JSON text of an answer to something ``of`` a number; raises ``NotWantedError`` or ``JobFailedError``."""
    answer = _asking.submit(_pool.ask, question, text, "", hear=hear)
    while True:
        try:
            outcome: Outcome = answer.result(LOOKS)
            break
        except NotYet:
            if not is_wanted():
                _pool.close()
                raise NotWantedError from None
        except WorkError as error:
            raise JobFailedError(str(error)) from error
    if outcome.kind == "answer":
        found: bytes = outcome.body
        return found
    if outcome.kind == "refused":
        errors = outcome.body.get("errors") if isinstance(outcome.body, dict) else None
        if errors is not None:
            raise JobFailedError(outcome.body["detail"], errors)
        raise JobFailedError(_words_of(outcome.body))
    log.error("%s of %s: %s", question.name, of, " | ".join(str(outcome.body).strip().splitlines()))
    raise JobFailedError(f"Something went wrong here, not with you. Reference: {of}")


def stopping(is_to_stop: Callable[[], bool], is_wanted: Callable[[], bool]) -> Callable[[], bool]:
    """Whether an answer is still wanted; raises ``ToStopError`` where the worker is to stop."""

    def still() -> bool:
        if is_to_stop():
            raise ToStopError
        return is_wanted()

    return still


def patiently(keep: Callable[[], T]) -> T:
    """Keep what was found, also where the database is away for a while."""
    end = time.monotonic() + PATIENCE
    while True:
        try:
            return keep()
        except (OperationalError, InterfaceError):
            connection.close()
            if time.monotonic() > end:
                raise
            time.sleep(0.5)


def _words_of(body: Any) -> str:
    """What a work process refused, on one line."""
    if isinstance(body, dict):
        return "; ".join(_words_of(one) for one in body.values())
    return "; ".join(map(_words_of, body)) if isinstance(body, list) else str(body)


def _original(revision: int) -> bytes:
    """Asked for in a thread of its own, which keeps no connection."""
    try:
        return bytes(Revision.objects.get(pk=revision).original())
    finally:
        connection.close()


def close() -> None:
    """End the work process."""
    _pool.close()
