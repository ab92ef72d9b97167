"""What went wrong and is nobody's fault: answers 503 where the database is away, 500 with a reference otherwise."""

import logging
import secrets
import sys
import traceback
from typing import Any

from django.db import DatabaseError, InterfaceError, OperationalError
from django.http import HttpRequest, JsonResponse
from psycopg.errors import DiskFull
from psycopg_pool import PoolTimeout

from site_settings.problems import CONTENT_TYPE, problem

log = logging.getLogger("routrel.server")

AWAY = "The database is not to be reached just now; try again in a moment. Nothing was changed."
FULL = "The disk is full: nothing was stored. Free some space and try again."


def answer_to(error: BaseException | None) -> tuple[int, dict[str, Any]]:
    """The status and body for an error that no view foresaw, noted in the log."""
    if is_full(error):
        log.error("the disk is full: %s", _one_line(error))
        return 507, {"detail": FULL}
    if isinstance(error, OperationalError | InterfaceError | PoolTimeout) or _is_closed(error):
        log.error("the database is away: %s", _one_line(error))
        return 503, {"detail": AWAY}
    reference = secrets.token_hex(4)
    trace = " | ".join(traceback.format_exception(error)) if error is not None else "unknown"
    log.error("reference %s: %s", reference, " ".join(trace.split()))
    return 500, {"detail": f"Something went wrong here, not with you. Reference: {reference}"}


def is_full(error: BaseException | None) -> bool:
    """Whether something could not be stored since the disk is full."""
    if isinstance(error, OSError) and error.errno == 28:
        return True
    return isinstance(error, DatabaseError) and isinstance(error.__cause__, DiskFull)


def _is_closed(error: BaseException | None) -> bool:
    """Whether a transaction broke off because its connection went away."""
    return isinstance(error, DatabaseError) and "connection" in str(error).lower()


def _one_line(error: BaseException | None) -> str:
    return " ".join(str(error).split())


def not_found(request: HttpRequest, exception: Exception) -> JsonResponse:
    """Django's answer to an address that nothing has."""
    body = problem(404, {"detail": f"There is nothing at {request.path}."})
    return JsonResponse(body, status=404, content_type=CONTENT_TYPE)


def server_error(request: HttpRequest) -> JsonResponse:
    """Django's answer to what nothing else caught."""
    status, body = answer_to(sys.exc_info()[1])
    answer = JsonResponse(problem(status, body), status=status, content_type=CONTENT_TYPE)
    if status == 503:
        answer["Retry-After"] = "2"
    return answer
