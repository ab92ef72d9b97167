"""Every error of the API in one form: RFC 9457, beside the keys that it always had."""

from http import HTTPStatus
from typing import Any

CONTENT_TYPE = "application/problem+json"

PROBLEM = {
    "type": "object",
    "description": "An error (RFC 9457). A load that fails has ``errors``; a refused field is there by its name.",
    "properties": {
        "type": {"type": "string"},
        "title": {"type": "string"},
        "status": {"type": "integer"},
        "detail": {"type": "string"},
    },
    "required": ["type", "title", "status", "detail"],
    "additionalProperties": True,
}
"""Its JSON Schema."""


def problem(status: int, body: Any) -> dict[str, Any]:
    """The members that the standard names, and whatever the body has besides."""
    own = body if isinstance(body, dict) else {"detail": _text(body)}
    known = {"type": "about:blank", "title": HTTPStatus(status).phrase, "status": status}
    detail = own.get("detail") or "; ".join(f"{key}: {_text(value)}" for key, value in own.items())
    return {**own, **known, "detail": str(detail)}


def _text(value: Any) -> str:
    if isinstance(value, dict):
        return "; ".join(f"{key}: {_text(one)}" for key, one in value.items())
    return " ".join(map(_text, value)) if isinstance(value, (list, tuple)) else str(value)


def add_problems(result: dict[str, Any], generator: Any, request: Any, public: bool) -> dict[str, Any]:
    """In the schema: what any operation answers where it does not succeed."""
    result["components"]["schemas"]["Problem"] = PROBLEM
    content = {CONTENT_TYPE: {"schema": {"$ref": "#/components/schemas/Problem"}}}
    for operations in result["paths"].values():
        for operation in operations.values():
            operation["responses"].setdefault("default", {"description": "an error", "content": content})
    return result
