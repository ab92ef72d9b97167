"""Changes of what is expected of a network: edits of its file of expectations."""

from collections.abc import Sequence
from typing import Any

from routrel.formats.changes.finding import ChangeError, no_such
from routrel.formats.changes.text_edits import EditableText, written
from routrel.model.changes import Change
from routrel.model.expectations import Expectation


def expectations_edited(text: str, expectations: Sequence[Expectation], change: Change) -> tuple[str, str]:
    """The file's text with an expectation added, changed or removed, and the change in words."""
    names = [one.name for one in expectations]
    entry: Any = {"name": change.at, **change.values["entry"]} if "entry" in change.values else None
    if change.verb == "add":
        if change.at in names:
            raise ChangeError("an expectation of this name stands already", change.at, "another name, or change it")
        edited = EditableText.of(text).insert((), len(names), entry).text if names else f"{text}- {written(entry)}\n"
        return edited, f"expect {change.at}: {_words(entry)}"
    if change.at not in names:
        raise no_such("expectation", change.at, names)
    number = names.index(change.at)
    if change.verb == "change":
        return EditableText.of(text).set((number,), entry).text, f"expect {change.at} otherwise: {_words(entry)}"
    removed = EditableText.of(text).remove((number,)).text if len(names) > 1 else ""
    return removed, f"expect {change.at} no longer"


def _words(entry: dict[str, Any]) -> str:
    return written({key: value for key, value in entry.items() if key != "name"})
