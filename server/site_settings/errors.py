"""Errors of the core as answers of the API."""

from typing import Any

from django.http import Http404
from rest_framework import status
from rest_framework.response import Response
from rest_framework.views import exception_handler, set_rollback

from routrel.formats.errors import InputError, LoadError
from site_settings.failures import answer_to
from work.service import CannotBeAnswered, refusal


def error_json(error: InputError) -> dict[str, Any]:
    return {
        "file": error.place.file,
        "line": error.place.line,
        "column": error.place.column,
        "message": error.message,
        "found": error.found,
        "allowed": error.allowed,
        "nearest": error.nearest,
    }


def handle(error: Exception, context: dict[str, Any]) -> Response | None:
    """A load that failed answers 400 with all its errors; what a work process refused is answered as it said."""
    if isinstance(error, LoadError):
        count = len(error.errors)
        return Response(
            {
                "detail": f"the network cannot be loaded: {count} error{'' if count == 1 else 's'}",
                "errors": [error_json(one) for one in error.errors],
            },
            status=status.HTTP_400_BAD_REQUEST,
        )
    if isinstance(error, CannotBeAnswered):
        return refusal(error)
    answer = exception_handler(error, context)
    if answer is None and not isinstance(error, Http404):
        set_rollback()
        code, body = answer_to(error)
        headers = {"Retry-After": "2"} if code == status.HTTP_503_SERVICE_UNAVAILABLE else None
        answer = Response(body, status=code, headers=headers)
    return answer
