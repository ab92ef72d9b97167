"""The one pool of the web process, and answers of it as responses."""

import logging
import secrets
from typing import Any

from django.conf import settings
from django.db import connection
from django.http import HttpResponse
from rest_framework.exceptions import APIException
from rest_framework.response import Response

from work.pool import BusyError, Limits, Pool, TookTooLongError, WorkError
from work.process import Outcome, Question

log = logging.getLogger("routrel.work")
pool = Pool(Limits(**settings.WORK_LIMITS))


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


def ask(digest: str, file_name: str, name: str, parameters: dict[str, Any], text: Any, user: Any) -> bytes:
    """The JSON text of an answer; anything else is an exception that the API answers with."""
    if not connection.in_atomic_block:
        connection.close()  # others have use for it while this one waits
    question = Question(f"{digest}:{file_name}", file_name, name, parameters)
    try:
        outcome: Outcome = pool.ask(question, text, str(getattr(user, "pk", "")))
    except WorkError as error:
        status = 503 if isinstance(error, BusyError) else 422
        log.warning("%s of %s: %s", name, digest[:12], error)
        kind = "time" if isinstance(error, TookTooLongError) else "memory"
        raise WorkFailed(status, {"detail": str(error), "limit": "busy" if status == 503 else kind}) from None
    if outcome.kind == "refused":
        raise CannotBeAnswered(outcome.status, outcome.body)
    if outcome.kind == "failed":
        raise failed(f"{name} of {digest[:12]}", outcome.body)
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
