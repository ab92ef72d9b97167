"""The path of a change that announces or withdraws one, read as a path of the network file is."""

import json
from typing import Any

from routrel.formats.errors import ErrorList, InputError, LoadError, quoted
from routrel.formats.grammar import Reading, Record, items_of
from routrel.formats.routing_grammar import RECEIVED_PATH
from routrel.formats.yaml_nodes import parse_document
from routrel.model.addresses import Prefix
from routrel.model.changes import Change
from routrel.model.received import DEFAULT_LOCAL_PREFERENCE, PathAttributes

ALL = "all"
"""In place of a prefix: all that the neighbour announced is withdrawn."""


def read_path(change: Change) -> tuple[Prefix | None, PathAttributes | None]:
    """The prefix, None for all, and the path's attributes, None where it is withdrawn; raises ``LoadError``."""
    wanted, path = change.values["for"], change.values.get("path")
    if change.verb == "withdraw" and wanted == ALL:
        return None, None
    said: dict[str, Any] = {"prefix": wanted}
    if change.verb == "announce":
        if not isinstance(path, dict) or "as_path" not in path:
            raise LoadError(
                [InputError(change.place, "a path has an AS path", quoted(path), "path: {as_path: [64600]}")]
            )
        said |= path
    errors = ErrorList()
    root = parse_document(json.dumps(said).encode(), change.place.file)
    record = RECEIVED_PATH.read(root, Reading(change.place.file, errors))
    errors.raise_if_any()
    assert isinstance(record, Record)
    prefix: Prefix = record["prefix"]
    if change.verb == "withdraw":
        return prefix, None
    attributes = PathAttributes(
        tuple(one for one, _ in items_of(record.get("as_path"))),
        record.get("origin", "igp"),
        record.get("med"),
        record.get("local_preference", DEFAULT_LOCAL_PREFERENCE),
        frozenset(one for one, _ in items_of(record.get("communities"))),
        record.get("next_hop"),
    )
    if attributes.next_hop is not None and attributes.next_hop.family != prefix.family:
        found, allowed = str(attributes.next_hop), f"an IPv{prefix.family} address"
        raise LoadError([InputError(change.place, "the path needs a next hop of its family", found, allowed)])
    return prefix, attributes
