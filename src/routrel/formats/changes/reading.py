"""Lists of changes as text: YAML or JSON, one mapping each, or one change on a line without its braces."""

from collections.abc import Mapping, Sequence
from typing import Any

import yaml

from routrel.formats.changes.text_edits import written
from routrel.formats.changes.vocabulary import SHAPES, TARGETS, VERBS, whats
from routrel.formats.errors import ErrorList, quoted
from routrel.formats.grammar import Reading, data_of, keys_of
from routrel.formats.yaml_nodes import parse_document
from routrel.model.changes import Change

MOST_CHANGES = 500
"""Changes of one list."""


def read_changes(data: bytes, file: str) -> tuple[Change, ...]:
    """The changes of a text: a list, or a mapping with it under ``changes``; raises ``LoadError`` with all errors."""
    root = parse_document(data, file)
    errors = ErrorList()
    reading = Reading(file, errors)
    if isinstance(root, yaml.MappingNode):
        listed = [value for key, value in root.value if key.value == "changes"]
        others = [key for key, _ in root.value if key.value not in ("changes", "name", "note")]
        for key in others:
            reading.refuse(key, "unknown key beside the changes", "changes, name, note", ("changes",), key.value)
        if listed:
            root = listed[0]
    if not isinstance(root, yaml.SequenceNode):
        reading.refuse(root, "a list of changes is expected here", "- {set: cost, at: device:interface, to: 40}")
        errors.raise_if_any()
    if len(root.value) > MOST_CHANGES:
        reading.refuse(root, f"too many changes: {len(root.value):,}", f"at most {MOST_CHANGES}")
        errors.raise_if_any()
    changes = [_change(node, reading) for node in root.value]
    errors.raise_if_any()
    return tuple(change for change in changes if change is not None)


def read_change(text: str, file: str) -> Change:
    """The one change of a line, like ``set: cost, at: device:interface, to: 40``; raises ``LoadError``."""
    stripped = text.strip()
    (change,) = read_changes(f"- {stripped if stripped.startswith('{') else '{' + stripped + '}'}".encode(), file)
    return change


def changes_of(items: Sequence[Mapping[str, Any]], file: str = "changes") -> tuple[Change, ...]:
    """Changes of plain data, each at the line of its number; raises ``LoadError``."""
    if not items:
        return ()
    return read_changes("\n".join(f"- {written(dict(item), as_json=True)}" for item in items).encode(), file)


def _change(node: yaml.Node, reading: Reading) -> Change | None:
    if not isinstance(node, yaml.MappingNode):
        reading.refuse(node, "a change must be a mapping", "{set: cost, at: device:interface, to: 40}")
        return None
    nodes = {key: (key_node, value) for key, key_node, value in keys_of(node, reading)}
    verbs = [key for key in nodes if key in VERBS]
    if len(verbs) != 1:
        message = "a change says one thing that is done"
        reading.errors.add(
            reading.place_of(node), message, found=quoted(", ".join(nodes)), allowed=f"one of {', '.join(VERBS)}"
        )
        return None
    (verb,) = verbs
    values = {key: data_of(value) for key, (_, value) in nodes.items()}
    what = values[verb]
    shape = SHAPES.get((verb, what)) if isinstance(what, str) else None
    if shape is None:
        names = whats(verb)
        reading.refuse(nodes[verb][1], f"this cannot be {_DONE[verb]}", ", ".join(names), names, str(what))
        return None
    allowed = (verb, "at", "off", *shape.required, *shape.optional)
    count = len(reading.errors.errors)
    for key, (key_node, _) in nodes.items():
        if key not in allowed:
            reading.refuse(key_node, f"unknown key of {verb} {what}", ", ".join(allowed), allowed, key)
    for key in ("at", *shape.required):
        if key not in nodes:
            wanted = TARGETS[shape.at] if key == "at" else ""
            reading.errors.add(reading.place_of(node), f"{verb} {what} lacks the key {key!r}", allowed=wanted)
    for key in ("at", "text", "vrf", "instance", "acl", "policy", "protocol", "into", "of", "from", "on"):
        if key in values and not isinstance(values[key], str):
            if isinstance(values[key], int) and not isinstance(values[key], bool):
                values[key] = str(values[key])
            else:
                reading.refuse(nodes[key][1], "text is expected here", TARGETS[shape.at] if key == "at" else "")
    if not isinstance(values.get("off", False), bool):
        reading.refuse(nodes["off"][1], "a switch is expected here", "true or false")
    if len(reading.errors.errors) > count:
        return None
    rest = {key: value for key, value in values.items() if key not in (verb, "at", "off")}
    return Change(verb, what, values["at"], rest, not values.get("off", False), reading.place_of(node))


_DONE = {
    "set": "set",
    "enable": "enabled",
    "disable": "disabled",
    "restart": "restarted",
    "add": "added",
    "change": "changed",
    "move": "moved",
    "remove": "removed",
    "edit": "edited",
    "announce": "announced",
    "withdraw": "withdrawn",
}


def list_text(changes: Sequence[Change], name: str = "") -> str:
    """Changes as a YAML file that ``read_changes`` reads."""
    head = f"name: {written(name)}\nchanges:\n" if name else ""
    return head + "".join(f"- {written(change.data())}\n" for change in changes)
