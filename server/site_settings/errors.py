"""Errors of the core as answers of the API."""

from typing import Any

from rest_framework import status
from rest_framework.response import Response
from rest_framework.views import exception_handler

from routrel.formats.errors import InputError, LoadError
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
    return exception_handler(error, context)
