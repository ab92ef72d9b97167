"""The network file's JSON Schema (draft 2020-12), generated from the grammar."""

from typing import Any

from routrel.formats.network_grammar import NETWORK


def network_schema() -> dict[str, Any]:
    """The schema of a network file; what a schema cannot say (names that must exist) the reader checks."""
    return {
        "$schema": "https://json-schema.org/draft/2020-12/schema",
        "title": "Routrel network file, version 1",
        **NETWORK.schema(),
    }
