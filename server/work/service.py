"""The one pool, of this web process or of all, and answers of it as responses."""

import logging
import secrets
from dataclasses import dataclass
from typing import Any

from django.conf import settings
from django.db import connection
from django.http import HttpResponse
from rest_framework.exceptions import APIException
from rest_framework.response import Response

from work.past import Past
from work.pool import BusyError, EventText, Limits, Pool, Text, TookTooLongError, WorkError
from work.process import Outcome, Question
from work.remote_pool import RemotePool

log = logging.getLogger("routrel.work")
pool = RemotePool(settings.WORK_POOL) if settings.WORK_POOL else Pool(Limits.of_environment())


class WorkFailed(APIException):
    """Work that was not done, as an answer of the API."""

    def __init__(self, status: int, detail: Any):
        super().__init__(detail)
        self.status_code = status


class CannotBeAnswered(APIException):
    """What a work process refused: its body as it is."""

    def __init__(self, status: int, body: Any):
        super().__init__("refused")
        self.status_code = status
        self.body = body


@dataclass(frozen=True)
class PastAsked:
    """The past of a revision, and how to get the bytes of a file of events by its digest."""

    past: Past
    text: EventText


@dataclass(frozen=True)
class Subject:
    """A revision that a work process is asked about: by what it is known there, and how to get its bytes."""

    digest: str
    file_name: str
    text: Text

    @property
    def key(self) -> tuple[str, str]:
        return f"{self.digest}:{self.file_name}", self.file_name


def ask(
    of: Subject,
    name: str,
    parameters: dict[str, Any],
    user: Any,
    since: Subject | None = None,
    changes: str = "",
    past: PastAsked | None = None,
) -> bytes:
    """The JSON text of an answer; anything else is an exception that the API answers with.

    ``since`` is an earlier revision that the first is held against; ``changes``, as JSON text, are tried on the first,
    as it was in its ``past`` where that has a moment.
    """
    if not connection.in_atomic_block:
        connection.close()  # others have use for it while this one waits
    before = None if since is None else since.key
    question = Question(*of.key, name, parameters, before, changes, None if past is None else past.past)
    try:
        outcome: Outcome = pool.ask(
            question,
            of.text,
            str(getattr(user, "pk", "")),
            None if since is None else since.text,
            None if past is None else past.text,
        )
    except WorkError as error:
        status = 503 if isinstance(error, BusyError) else 422
        log.warning("%s of %s: %s", name, of.digest[:12], error)
        kind = "time" if isinstance(error, TookTooLongError) else "memory"
        raise WorkFailed(status, {"detail": str(error), "limit": "busy" if status == 503 else kind}) from None
    if outcome.kind == "refused":
        raise CannotBeAnswered(outcome.status, outcome.body)
    if outcome.kind == "failed":
        raise failed(f"{name} of {of.digest[:12]}", outcome.body)
    answered: bytes = outcome.body
    return answered


def failed(what: str, trace: str) -> WorkFailed:
    """One line in the log, with a reference that the user sees too."""
    reference = secrets.token_hex(4)
    log.error("reference %s: %s: %s", reference, what, " | ".join(trace.strip().splitlines()))
    return WorkFailed(500, {"detail": f"Something went wrong here, not with you. Reference: {reference}"})


def json_response(text: bytes) -> HttpResponse:
    return HttpResponse(text, content_type="application/json")


def refusal(error: CannotBeAnswered) -> Response:
    return Response(error.body, status=error.status_code)
