"""YAML 1.2 (and so JSON) text to a tree of nodes with positions, within bounds.

The parser is PyYAML's libyaml binding, asked for nodes only: it resolves no scalar, since PyYAML knows
YAML 1.1 (where ``no`` is false and ``012`` is ten). Scalars are resolved in grammar.py by the core schema
of YAML 1.2.2, section 10.3.

Bounds, each an error and never a crash: size of the text, nesting depth, and the number of nodes after
aliases are followed.
"""

import json
import re

import yaml

from routrel.formats.errors import InputError, LoadError
from routrel.model.places import Place

MAX_BYTES = 32 * 1024 * 1024
MAX_DEPTH = 64
MAX_ALIAS_EXPANSION = 100_000
MAX_NODES = 2_000_000
"""Values of all texts of one load: what is made of them takes some hundred bytes each."""

Node = yaml.Node


def place_of(node: Node, file: str) -> Place:
    """Where a node begins."""
    mark = node.start_mark
    return Place(file, mark.line + 1, mark.column + 1)


def parse_document(data: bytes, file: str) -> Node:
    """The root node of the one document in ``data``; raises ``LoadError`` with the position."""
    text = decode(data, file)
    if text.lstrip().startswith(("{", "[")):
        text = checked_json(text, file)
    _check_depth(text, file)
    _check_nodes(text, file)
    try:
        root = yaml.compose(text, Loader=yaml.CBaseLoader)
    except yaml.MarkedYAMLError as error:
        raise LoadError([_syntax_error(error, text, file)]) from None
    except yaml.YAMLError as error:
        raise LoadError([InputError(Place(file, 1, 1), f"this is not readable as YAML: {error}")]) from None
    if root is None:
        raise LoadError([InputError(Place(file, 1, 1), "the file is empty", allowed="a network file")])
    if "*" in text:
        _check_aliases(root, file)
    return root


def decode(data: bytes, file: str) -> str:
    """UTF-8 text of ``data`` without a byte order mark; anything else is a located error."""
    start = Place(file, 1, 1)
    if len(data) > MAX_BYTES:
        raise LoadError(
            [
                InputError(
                    start,
                    "the file is too large",
                    found=f"{len(data):,} bytes",
                    allowed=f"at most {MAX_BYTES:,} bytes",
                )
            ]
        )
    if not data.strip():
        raise LoadError([InputError(start, "the file is empty", allowed="a network file")])
    try:
        text = data.decode("utf-8-sig")
    except UnicodeDecodeError as error:
        before = data[: error.start]
        place = Place(file, before.count(b"\n") + 1, len(before) - before.rfind(b"\n"))
        raise LoadError(
            [InputError(place, "this is not UTF-8 text", found=f"byte 0x{data[error.start]:02x}", allowed="UTF-8")]
        ) from None
    control = re.search(r"[\x00-\x08\x0b\x0c\x0e-\x1f\x7f]", text)
    if control:
        raise LoadError(
            [
                InputError(
                    _place_at(text, control.start(), file),
                    "a control character stands in the text",
                    found=f"U+{ord(control.group()):04X}",
                    allowed="printable text, tab and line breaks",
                )
            ]
        )
    return text


def _place_at(text: str, position: int, file: str) -> Place:
    return Place(file, text.count("\n", 0, position) + 1, position - text.rfind("\n", 0, position))


def checked_json(text: str, file: str) -> str:
    """Text that starts as JSON; where it is JSON, its surrogate escapes are made plain for YAML."""
    if not file.endswith(".json"):
        return text
    try:
        json.loads(text)
    except json.JSONDecodeError as error:
        place = Place(file, error.lineno, error.colno)
        raise LoadError([InputError(place, f"this is not JSON: {error.msg}", allowed="a JSON document")]) from None
    except RecursionError:
        raise LoadError([_too_deep(Place(file, 1, 1))]) from None
    except ValueError as error:  # an integer of thousands of digits
        raise LoadError([InputError(Place(file, 1, 1), f"this is not readable as JSON: {error}")]) from None
    return re.sub(
        r"\\u[dD][89abAB][0-9a-fA-F]{2}\\u[dD][c-fC-F][0-9a-fA-F]{2}",
        lambda match: str(json.loads(f'"{match.group()}"')),
        text,
    )


def _syntax_error(error: yaml.MarkedYAMLError, text: str, file: str) -> InputError:
    mark = error.problem_mark or error.context_mark
    place = Place(file, mark.line + 1, mark.column + 1) if mark else Place(file, 1, 1)
    message = f"this is not readable as YAML: {error.problem or error.context}"
    lines = text.splitlines()
    line = lines[place.line - 1] if place.line <= len(lines) else ""
    if line[: len(line) - len(line.lstrip())].count("\t"):
        return InputError(place, message, found="a tab in the indentation", allowed="spaces only")
    if error.problem and "found another document" in error.problem:
        message = "the file holds more than one YAML document"
    return InputError(place, message)


def _too_deep(place: Place) -> InputError:
    return InputError(place, "the text is nested too deeply", allowed=f"at most {MAX_DEPTH} levels")


def _check_depth(text: str, file: str) -> None:
    """Refuse deep nesting before the composer, which recurses; libyaml's event parser does not.

    Most texts are cleared by their brackets and indentation alone; only a suspect one is parsed for it.
    """
    depth = deepest = 0
    for bracket in re.findall(r"[\[\]{}]", text):
        depth = depth + 1 if bracket in "[{" else max(0, depth - 1)
        deepest = max(deepest, depth)
    # A block level takes one column at least, be it a space or the dash of a list in a list.
    left = MAX_DEPTH - deepest
    if left >= 0 and not re.search(rf"(?m)^[ \-?]{{{left + 1}}}", text):
        return
    depth = 0
    try:
        for event in yaml.parse(text, Loader=yaml.CBaseLoader):
            if isinstance(event, yaml.CollectionStartEvent):
                depth += 1
                if depth > MAX_DEPTH:
                    mark = event.start_mark
                    place = Place(file, mark.line + 1, mark.column + 1) if mark else Place(file, 1, 1)
                    raise LoadError([_too_deep(place)])
            elif isinstance(event, yaml.CollectionEndEvent):
                depth -= 1
    except yaml.MarkedYAMLError as error:
        raise LoadError([_syntax_error(error, text, file)]) from None


def _check_nodes(text: str, file: str) -> None:
    """Refuse a text of too many values before they are made.

    What stands between values is counted first, of which there is at least as much; only a suspect text is
    parsed for it.
    """
    if sum(map(text.count, (",", ":", "\n", "- ", "[", "{"))) < MAX_NODES:
        return
    nodes = 0
    try:
        for event in yaml.parse(text, Loader=yaml.CBaseLoader):
            nodes += isinstance(event, yaml.NodeEvent)
            if nodes > MAX_NODES:
                mark = event.start_mark
                place = Place(file, mark.line + 1, mark.column + 1) if mark else Place(file, 1, 1)
                raise LoadError([InputError(place, "the text holds too much", allowed=f"at most {MAX_NODES:,} values")])
    except yaml.MarkedYAMLError as error:
        raise LoadError([_syntax_error(error, text, file)]) from None


def _children(node: Node) -> list[Node]:
    if isinstance(node, yaml.SequenceNode):
        return list(node.value)
    if isinstance(node, yaml.MappingNode):
        return [child for pair in node.value for child in pair]
    return []


def _check_aliases(root: Node, file: str) -> None:
    """Refuse aliases that stand for too much, or for themselves."""
    weights: dict[int, int] = {}
    entered: set[int] = set()
    aliased = 0
    stack: list[tuple[Node, bool]] = [(root, False)]
    while stack:
        node, leaving = stack.pop()
        if leaving:
            weights[id(node)] = 1 + sum(weights[id(child)] for child in _children(node))
            entered.discard(id(node))
            continue
        if id(node) in weights:
            aliased += weights[id(node)]
            if aliased > MAX_ALIAS_EXPANSION:
                raise LoadError(
                    [
                        InputError(
                            place_of(node, file),
                            "aliases expand to too much text",
                            allowed=f"at most {MAX_ALIAS_EXPANSION:,} values by aliases",
                        )
                    ]
                )
            continue
        if id(node) in entered:
            raise LoadError([InputError(place_of(node, file), "an alias stands for a value that contains it")])
        entered.add(id(node))
        stack.append((node, True))
        stack.extend((child, False) for child in reversed(_children(node)))
