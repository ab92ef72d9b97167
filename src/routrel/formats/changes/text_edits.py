"""Edits of a YAML or JSON text at a path of its data, with its comments and layout kept.

A text is edited, never written anew: a value takes another's place, a pair or an item comes in or goes out. Every
edit is checked by reading the text again: its data must be exactly what the edit of the data gives, else
``TextEditError``.
"""

import json
import re
from collections.abc import Sequence
from dataclasses import dataclass
from functools import cached_property
from typing import Any

import yaml

from routrel.formats.grammar import data_of, is_null, is_plain

Path = tuple[str | int, ...]
"""Keys of mappings and indices of lists, from the root of a text."""

PLAIN = re.compile(r"[A-Za-z0-9][A-Za-z0-9._/-]*( [A-Za-z0-9(][A-Za-z0-9._/()-]*)*")
UNPLAIN = re.compile(r"(?i)true|false|null|0[ox].*|[-+]?(\.[0-9]+|[0-9]+(\.[0-9]*)?)(e[-+]?[0-9]+)?")
JSON_START = re.compile(r'\s*[\[{]\s*"')


class TextEditError(Exception):
    """A text that cannot be edited at a path: what stands in the way."""


def written(value: Any, as_json: bool = False) -> str:
    """Plain data as a YAML 1.2 flow value, on one line."""
    if as_json or not isinstance(value, dict | list | tuple | str):
        return json.dumps(value, ensure_ascii=False)
    if isinstance(value, dict):
        return "{" + ", ".join(f"{_key(str(key))}: {written(one)}" for key, one in value.items()) + "}"
    if isinstance(value, list | tuple):
        return "[" + ", ".join(map(written, value)) + "]"
    is_bare = PLAIN.fullmatch(value) and not UNPLAIN.fullmatch(value)
    return value if is_bare else json.dumps(value, ensure_ascii=False)


def _key(key: str) -> str:
    """A key as YAML writes it; all keys are text."""
    return key if PLAIN.fullmatch(key) else json.dumps(key, ensure_ascii=False)


def at_path(data: Any, path: Sequence[str | int]) -> Any:
    """The data at a path; None where there is none."""
    for key in path:
        try:
            data = data[key]
        except (KeyError, IndexError, TypeError):
            return None
    return data


@dataclass(frozen=True)
class EditableText:
    """A text with one YAML document, or a part of one that is such a document by itself."""

    text: str

    @classmethod
    def of(cls, text: str) -> "EditableText":
        if ("&" in text or "*" in text) and _shares(text):
            raise TextEditError("an anchor or alias stands in it, which others may share: change the text itself")
        return cls(text)

    @cached_property
    def root(self) -> Any:
        try:
            root = yaml.compose(self.text, Loader=yaml.CBaseLoader)
        except yaml.YAMLError as error:
            raise TextEditError(f"this is not readable as YAML: {error}") from None
        # A text that is empty but for comments is an empty mapping.
        mark = yaml.Mark("", len(self.text), 0, 0, "", 0)
        return root if root is not None else yaml.ScalarNode("", "", mark, mark, style=None)

    @cached_property
    def data(self) -> Any:
        return data_of(self.root)

    @property
    def is_json(self) -> bool:
        return JSON_START.match(self.text) is not None

    def set(self, path: Path, value: Any) -> "EditableText":
        """``value`` at ``path``, whether something stood there or not; mappings on the way are made."""
        nodes = self._nodes(path[:-1])
        if len(nodes) <= len(path) - 1:
            # The rest of the way is not there: it comes as one value.
            for key in reversed(path[len(nodes) :]):
                value = {key: value}
            path = path[: len(nodes)]
        expected = _with(self.data, path, value)
        parent = nodes[-1]
        if is_null(parent) or (isinstance(parent, yaml.MappingNode) and not parent.value and not parent.flow_style):
            return self._replaced(path[:-1], {path[-1]: value}, expected)
        if isinstance(parent, yaml.MappingNode):
            if any(key.value == path[-1] for key, _ in parent.value):
                return self._replaced(path, value, expected)
            return self._checked(self._with_pair(parent, str(path[-1]), value), expected)
        if isinstance(parent, yaml.SequenceNode):
            return self._replaced(path, value, expected)
        raise TextEditError(f"{path[-1]!r} cannot stand in {parent.value!r}")

    def insert(self, path: Path, index: int, value: Any) -> "EditableText":
        """``value`` as an item of the list at ``path``, which is made where there is none."""
        return self._inserted(path, index, value, written(value, self.is_json))

    def _inserted(self, path: Path, index: int, value: Any, text: str) -> "EditableText":
        items = at_path(self.data, path)
        if not items:
            return self.set(path, [value])
        if not isinstance(items, list):
            raise TextEditError(f"{path[-1]!r} is no list")
        expected = _with(self.data, path, [*items[:index], value, *items[index:]])
        node = self._nodes(path)[-1]
        if node.flow_style:
            at = node.value[index].start_mark.index if index < len(items) else self._end(node.value[-1])
            new = f"{text}, " if index < len(items) else f", {text}"
            if self._is_alone(node.value[min(index, len(items) - 1)]):
                indent = "\n" + " " * node.value[0].start_mark.column
                new = f"{text},{indent}" if index < len(items) else f",{indent}{text}"
            return self._checked(self.text[:at] + new + self.text[at:], expected)
        line = f"{' ' * node.start_mark.column}- {text}\n"
        if index:
            return self._checked(self._after_line(self._end(node.value[index - 1]), line), expected)
        at = self.text.rfind("\n", 0, node.value[0].start_mark.index) + 1
        if self.text[at : node.start_mark.index].strip():
            raise TextEditError("the list begins on a line with something else")
        return self._checked(self.text[:at] + line + self.text[at:], expected)

    def remove(self, path: Path) -> "EditableText":
        """Without the pair or item at ``path``."""
        nodes = self._nodes(path)
        if len(nodes) <= len(path):
            return self
        parent, key = nodes[-2], path[-1]
        old = at_path(self.data, path[:-1])
        left: Any = (
            [*old[:key], *old[int(key) + 1 :]]
            if isinstance(key, int)
            else {name: one for name, one in old.items() if name != key}
        )
        expected = _with(self.data, path[:-1], left)
        if not left:
            return self._replaced(path[:-1], left, expected)
        parts = [
            (one[0].start_mark.index, self._end(*one))
            if isinstance(one, tuple)
            else (one.start_mark.index, self._end(one))
            for one in parent.value
        ]
        index = key if isinstance(key, int) else [name.value for name, _ in parent.value].index(key)
        start, end = parts[index]
        last = index == len(parts) - 1
        if not parent.flow_style:
            line = self.text.rfind("\n", 0, start) + 1
            before = self.text[line:start].strip()
            if before in ("", "-" if isinstance(key, int) else ""):
                after = self.text.find("\n", end)
                return self._checked(
                    self.text[:line] + self.text[after + 1 if after >= 0 else len(self.text) :], expected
                )
            if last:
                raise TextEditError("what stands there begins on a line with something else")
            return self._checked(self.text[:start] + self.text[parts[index + 1][0] :], expected)
        cut = (parts[index - 1][1], end) if last else (start, parts[index + 1][0])
        return self._checked(self.text[: cut[0]] + self.text[cut[1] :], expected)

    def move(self, path: Path, index: int) -> "EditableText":
        """The item at ``path`` before the item ``index`` of its list, as both are counted before."""
        *where, item = path
        assert isinstance(item, int)
        value, node = at_path(self.data, path), self._nodes(path)[-1]
        is_block = isinstance(node, yaml.CollectionNode) and not node.flow_style
        text = written(value) if is_block else self.text[node.start_mark.index : self._end(node)]
        moved = self._inserted(tuple(where), index, value, text)
        return moved.remove(path if index > item else (*where, item + 1))

    def _nodes(self, path: Path) -> list[Any]:
        """The nodes on a path, the root first, as far as there are some."""
        nodes: list[Any] = [self.root]
        for key in path:
            node = nodes[-1]
            found = None
            if isinstance(node, yaml.MappingNode):
                found = next((value for name, value in node.value if name.value == key), None)
            elif isinstance(node, yaml.SequenceNode) and isinstance(key, int) and key < len(node.value):
                found = node.value[key]
            if found is None:
                break
            nodes.append(found)
        return nodes

    def _replaced(self, path: Path, value: Any, expected: Any) -> "EditableText":
        """The node at a path written anew in its place."""
        nodes = self._nodes(path)
        node, text = nodes[-1], written(value, self.is_json)
        if len(nodes) == 1 and isinstance(node, yaml.ScalarNode):
            comments = self.text.rstrip("\n") + "\n" if self.text.strip() else ""
            return self._checked(f"{comments}{text}\n", expected)
        start, end = node.start_mark.index, self._end(node)
        if isinstance(node, yaml.ScalarNode) and is_plain(node) and not node.value and path:
            start = end = self._after_key(nodes[-2], path[-1])
        if isinstance(node, yaml.CollectionNode) and not node.flow_style:
            # A block value stands under its key: the flow value in its place stands beside it.
            start = self._after_key(nodes[-2], path[-1]) if path else start
        spaced = "" if self.text[start - 1 : start] in (" ", "", "[", "\n", "{") else " "
        return self._checked(self.text[:start] + spaced + text + self.text[end:], expected)

    def _after_key(self, parent: yaml.Node, key: str | int) -> int:
        """Where the value of a key may begin: behind its colon, or an item's behind its dash."""
        if isinstance(key, int):
            at: int = parent.value[key].start_mark.index
            return at
        name = next(name for name, _ in parent.value if name.value == key)
        return self.text.index(":", name.end_mark.index) + 1

    def _with_pair(self, parent: yaml.MappingNode, key: str, value: Any) -> str:
        pair = f"{json.dumps(key) if self.is_json else _key(key)}: {written(value, self.is_json)}"
        if not parent.value:
            at = parent.start_mark.index + 1
            return self.text[:at] + pair + self.text[at:]
        end = self._end(*parent.value[-1])
        first = parent.value[0][0].start_mark
        if parent.flow_style:
            alone = len(parent.value) > 1 and self._is_alone(parent.value[-1][0])
            return self.text[:end] + (",\n" + " " * first.column if alone else ", ") + pair + self.text[end:]
        return self._after_line(end, " " * first.column + pair + "\n")

    def _after_line(self, end: int, line: str) -> str:
        """The text with a line more behind the one that ``end`` is in."""
        at = self.text.find("\n", end)
        if at < 0:
            return f"{self.text}\n{line}"
        return self.text[: at + 1] + line + self.text[at + 1 :]

    def _is_alone(self, node: yaml.Node) -> bool:
        """Whether nothing stands before a node on its line."""
        at = node.start_mark.index
        return not self.text[self.text.rfind("\n", 0, at) + 1 : at].strip() and at > 0

    def _end(self, node: yaml.Node, value: yaml.Node | None = None) -> int:
        """Where a node's text ends, comments and blank lines behind it left out; of a pair, where its value's does."""
        if value is not None:
            if isinstance(value, yaml.ScalarNode) and is_plain(value) and not value.value:
                return self.text.index(":", node.end_mark.index) + 1
            return self._end(value)
        if isinstance(node, yaml.CollectionNode) and not node.flow_style and node.value:
            last = node.value[-1]
            return self._end(*last) if isinstance(last, tuple) else self._end(last)
        end: int = node.end_mark.index
        return len(self.text[:end].rstrip()) if isinstance(node, yaml.ScalarNode) else end

    def _checked(self, text: str, expected: Any) -> "EditableText":
        again = EditableText(text)
        if again.data != expected:
            raise TextEditError("the way it is written does not let it be edited: change the text itself")
        return again


def _shares(text: str) -> bool:
    """Whether an anchor or alias stands in a text."""
    try:
        events = yaml.parse(text, Loader=yaml.CBaseLoader)
        return any(getattr(event, "anchor", None) is not None for event in events)
    except yaml.YAMLError as error:
        raise TextEditError(f"this is not readable as YAML: {error}") from None


def _with(data: Any, path: Sequence[str | int], value: Any) -> Any:
    """Data with another value at a path."""
    if not path:
        return value
    if isinstance(data, list):
        index = path[0]
        if not isinstance(index, int):
            raise TextEditError(f"{index!r} cannot stand in a list")
        return [*data[:index], _with(data[index], path[1:], value), *data[index + 1 :]]
    old = data if isinstance(data, dict) else {}
    return old | {path[0]: _with(old.get(path[0]), path[1:], value)}
