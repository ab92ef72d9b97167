"""JSON instance documents (RFC 7951) as statements: the standard parser checks, one scan finds the places."""

import json
import re
from functools import lru_cache

from routrel.formats.errors import InputError, LoadError, quoted
from routrel.formats.models.statements import MAX_STATEMENTS, Statement
from routrel.formats.yaml_nodes import MAX_DEPTH, checked_json, decode
from routrel.model.places import Place

_TOKEN = re.compile(r'"(?:[^"\\]|\\.)*"|[{}\[\]]|[^\s{}\[\],:"]+|\n')
_MEMBER = re.compile(r"(?:([A-Za-z_][A-Za-z0-9_.-]*):)?([A-Za-z_][A-Za-z0-9_.-]*)")


def read_json(data: bytes, file: str) -> Statement:
    """The document's statements below a root of no name; raises ``LoadError`` with the position."""
    text = checked_json(decode(data, file), file)
    reader = _Reader(file)
    reader.read(text)
    return reader.root


class _Reader:
    """Builds the tree from the tokens of a text that is known to be JSON."""

    def __init__(self, file: str):
        self.file = file
        self.root = Statement(file, "", "", 0, 0)
        self.count = 0

    def refuse(self, line: int, column: int, message: str, found: str = "", allowed: str = "") -> LoadError:
        return LoadError([InputError(Place(self.file, line + 1, column + 1), message, found, allowed)])

    def read(self, text: str) -> None:
        line, start = 0, 0
        here = self.root
        parents: list[Statement] = []
        keys: list[dict[str, int]] = []
        lists: list[Statement | None] = []  # for every open bracket: the member an array stands under, None for objects
        member: Statement | None = None
        for match in _TOKEN.finditer(text):
            token = match.group()
            if token == "\n":
                line, start = line + 1, match.end()
                continue
            column = match.start() - start
            if token == "}":
                lists.pop()
                keys.pop()
                here = parents.pop()
                member = None
            elif token == "]":
                lists.pop()
                member = None
            elif member is None and token[0] == '"' and lists and lists[-1] is None:
                member = self._member(token, here, line, column, keys[-1])
            elif token == "[":
                if member is None:
                    what = "a list in a list" if lists else "a list at the top"
                    raise self.refuse(line, column, f"{what} is no data of a YANG model", allowed="an object")
                lists.append(member)
                member = None
            else:
                named = member or (lists[-1] if lists else None)
                if token == "{":
                    if len(lists) >= MAX_DEPTH:
                        raise self.refuse(line, column, "the text is nested too deeply", "", f"{MAX_DEPTH} levels")
                    parents.append(here)
                    here = self._begin(here, named, member, line, column)
                    lists.append(None)
                    keys.append({})
                elif named is None:
                    raise self.refuse(line, column, "the document is no object", quoted(token), "an object")
                else:
                    self._begin(here, named, member, line, column).value = _plain(token)
                member = None

    def _begin(
        self, here: Statement, named: Statement | None, member: Statement | None, line: int, column: int
    ) -> Statement:
        """The statement that begins here: the root, a member's value, or an item of the list under one."""
        if named is None:
            return self.root
        self.count += 1
        if self.count > MAX_STATEMENTS:
            raise self.refuse(line, column, "the text holds too much", "", f"at most {MAX_STATEMENTS:,} statements")
        if member is None:
            named = Statement(self.file, named.module, named.name, line, column)
        here.children.append(named)
        return named

    def _member(self, token: str, here: Statement, line: int, column: int, seen: dict[str, int]) -> Statement:
        name = str(json.loads(token)) if "\\" in token else token[1:-1]
        if name in seen:
            raise self.refuse(
                line, column, f"the member stands twice; first in line {seen[name]}", quoted(name), "each once"
            )
        seen[name] = line + 1
        parts = _name_parts(name)
        if parts is None:
            raise self.refuse(line, column, "this is no name of a YANG node", quoted(name), "NAME or MODULE:NAME")
        module = parts[0] or here.module
        if not module:
            raise self.refuse(
                line, column, "a member at the top names its module (RFC 7951 section 4)", quoted(name), "MODULE:NAME"
            )
        return Statement(self.file, "@" + module if name.startswith("@") else module, parts[1], line, column)


@lru_cache(10_000)
def _name_parts(name: str) -> tuple[str | None, str] | None:
    """The module, where it is named, and the name of a member; None where it cannot be one."""
    match = _MEMBER.fullmatch(name.lstrip("@"))
    return (match[1], match[2]) if match else None


def _plain(token: str) -> str:
    """A value as text: strings without their quotes, the empty leaf's null as nothing."""
    if token[0] == '"':
        return str(json.loads(token)) if "\\" in token else token[1:-1]
    return "" if token == "null" else token
