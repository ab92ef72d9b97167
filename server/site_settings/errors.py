"""Errors of the core as answers of the API."""

from typing import Any

from django.http import Http404
from rest_framework import status
from rest_framework.response import Response
from rest_framework.views import exception_handler, set_rollback

from routrel.formats.errors import LoadError
from site_settings.failures import answer_to
from site_settings.problems import CONTENT_TYPE, problem
from work.refusals import load_error_body
from work.service import CannotBeAnswered, refusal


def handle(error: Exception, context: dict[str, Any]) -> Response | None:
    """The answer to an error, in the one form of all errors."""
    answer = _answer(error, context)
    if answer is not None:
        answer.data = problem(answer.status_code, answer.data)
        answer.content_type = CONTENT_TYPE
    return answer


def _answer(error: Exception, context: dict[str, Any]) -> Response | None:
    """A load that failed answers 400 with all its errors; what a work process refused is answered as it said."""
    if isinstance(error, LoadError):
        return Response(load_error_body(error), status=status.HTTP_400_BAD_REQUEST)
    if isinstance(error, CannotBeAnswered):
        return refusal(error)
    answer = exception_handler(error, context)
    if answer is None and not isinstance(error, Http404):
        set_rollback()
        code, body = answer_to(error)
        headers = {"Retry-After": "2"} if code == status.HTTP_503_SERVICE_UNAVAILABLE else None
        answer = Response(body, status=code, headers=headers)
    return answer
