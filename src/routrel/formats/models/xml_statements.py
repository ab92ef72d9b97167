"""XML instance documents as statements, as a NETCONF ``get`` answers them (RFC 6241).

Declarations of document types are refused, and with them all entities of an author's own. What wraps the data
(``rpc-reply``, ``data``, ``config``) is looked through.
"""

import re
from xml.parsers import expat

from routrel.formats.errors import InputError, LoadError, quoted
from routrel.formats.models.statements import MAX_STATEMENTS, Statement
from routrel.formats.yaml_nodes import MAX_DEPTH, decode
from routrel.model.places import Place

IETF = "urn:ietf:params:xml:ns:yang:"
IEEE = "urn:ieee:std:802.1AB:yang:"
"""That of the one IEEE module that is read; others of theirs end alike."""

OPENCONFIG = re.compile(r"https?://openconfig\.net/yang/([a-z0-9/-]+)")
NETCONF = "urn:ietf:params:xml:ns:netconf:base:1.0"


def module_of(namespace: str) -> str:
    """The module of an XML namespace; the namespace itself where it is none of the known kinds."""
    if namespace.startswith(IETF):
        return namespace.removeprefix(IETF)
    if namespace.startswith("urn:ieee:std:"):
        return namespace.rpartition(":")[2]
    match = OPENCONFIG.fullmatch(namespace)
    return f"openconfig-{match[1].replace('/', '-')}" if match else namespace


def namespace_of(module: str) -> str:
    """The XML namespace of a module of the IETF, IANA, IEEE or OpenConfig."""
    if module.startswith("openconfig-"):
        return f"http://openconfig.net/yang/{module.removeprefix('openconfig-')}"
    return (IEEE if module.startswith("ieee802-") else IETF) + module


def read_xml(data: bytes, file: str) -> Statement:
    """The document's statements below a root of no name; raises ``LoadError`` with the position."""
    decode(data, file)
    return _Reader(file).read(data)


class _RefusedError(Exception):
    """What a handler refuses: message, found, allowed."""


class _Reader:
    def __init__(self, file: str):
        self.file = file
        self.root = Statement(file, "", "", 0, 0)
        self.open: list[Statement] = [self.root]
        self.texts: list[list[str]] = [[]]
        self.count = 0
        self.parser = expat.ParserCreate(namespace_separator=" ")
        self.parser.buffer_text = True
        self.parser.StartElementHandler = self.start
        self.parser.EndElementHandler = self.end
        self.parser.CharacterDataHandler = self.characters
        self.parser.StartDoctypeDeclHandler = self.doctype

    def read(self, data: bytes) -> Statement:
        try:
            self.parser.Parse(data, True)
        except expat.ExpatError as error:
            place = Place(self.file, error.lineno, error.offset + 1)
            raise LoadError([InputError(place, f"this is not XML: {expat.ErrorString(error.code)}")]) from None
        except _RefusedError as refused:
            place = Place(self.file, self.parser.CurrentLineNumber, self.parser.CurrentColumnNumber + 1)
            raise LoadError([InputError(place, *refused.args)]) from None
        return self.root

    def doctype(self, *_: object) -> None:
        raise _RefusedError("a document type is declared", "DOCTYPE", "XML without declarations of types and entities")

    def start(self, name: str, _attributes: dict[str, str]) -> None:
        namespace, _, local = name.rpartition(" ")
        self.count += 1
        if len(self.open) > MAX_DEPTH:
            raise _RefusedError("the text is nested too deeply", "", f"at most {MAX_DEPTH} levels")
        if self.count > MAX_STATEMENTS:
            raise _RefusedError("the text holds too much", "", f"at most {MAX_STATEMENTS:,} statements")
        parent = self.open[-1]
        if namespace == NETCONF and parent is self.root and local in ("rpc-reply", "data", "config"):
            self.open.append(parent)
            self.texts.append([])
            return
        if not namespace:
            raise _RefusedError("an element is in no namespace", quoted(local), "the namespace of its module")
        line, column = self.parser.CurrentLineNumber - 1, self.parser.CurrentColumnNumber
        statement = Statement(self.file, module_of(namespace), local, line, column)
        parent.children.append(statement)
        self.open.append(statement)
        self.texts.append([])

    def characters(self, text: str) -> None:
        self.texts[-1].append(text)

    def end(self, _: str) -> None:
        statement, text = self.open.pop(), "".join(self.texts.pop()).strip()
        if statement is self.root:
            return
        if not statement.children:
            statement.value = text
        elif text:
            raise _RefusedError("text stands between elements", quoted(text), "elements alone, or text alone")
