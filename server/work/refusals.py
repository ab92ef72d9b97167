"""What is said of an input that cannot be loaded."""

from typing import Any

from routrel.formats.errors import LoadError


def load_error_body(error: LoadError) -> dict[str, Any]:
    """Every error with its place, as the API answers it."""
    count = len(error.errors)
    return {
        "detail": f"the network cannot be loaded: {count} error{'' if count == 1 else 's'}",
        "errors": [
            {
                "file": one.place.file,
                "line": one.place.line,
                "column": one.place.column,
                "message": one.message,
                "found": one.found,
                "allowed": one.allowed,
                "nearest": one.nearest,
            }
            for one in error.errors
        ],
    }
