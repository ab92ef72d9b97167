"""Questions of a worker to its own work process, given up as soon as nobody wants the answer any more."""

import logging
from collections.abc import Callable
from concurrent.futures import ThreadPoolExecutor
from concurrent.futures import TimeoutError as NotYet
from typing import Any

from django.conf import settings
from django.db import connection

from jobs.models import Job
from networks.models import Revision
from work.pool import Limits, Pool, WorkError
from work.process import Outcome, Question
from work.service import Subject

log = logging.getLogger("routrel.jobs")

LOOKS = 0.4
"""Seconds between two looks whether an answer is still wanted."""

_pool = Pool(Limits(**{**settings.WORK_LIMITS, "processes": 1}))
_asking = ThreadPoolExecutor(1)


class NotWantedError(Exception):
    """The job was cancelled, or is gone."""


class JobFailedError(Exception):
    """What cannot be done, in words for who asked for it."""


def asked(job: Job, name: str, parameters: dict[str, Any], is_wanted: Callable[[], bool]) -> bytes:
    """The JSON text of an answer; raises ``NotWantedError`` or ``JobFailedError``."""
    revision = job.revision
    subject = Subject(revision.digest, revision.file_name, lambda: _original(revision.pk))
    question = Question(*subject.key, name, parameters, None, job.changes)
    answer = _asking.submit(_pool.ask, question, subject.text, "")
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
        raise JobFailedError(_words_of(outcome.body))
    log.error("%s of job %s: %s", name, job.pk, " | ".join(str(outcome.body).strip().splitlines()))
    raise JobFailedError(f"Something went wrong here, not with you. Reference: {job.pk}")


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
