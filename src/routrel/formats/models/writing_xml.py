"""Data of open models as XML (RFC 7950): members of JSON documents to elements in their modules' namespaces."""

from collections.abc import Iterator, Mapping
from typing import Any
from xml.sax.saxutils import escape

from routrel.formats.models.xml_statements import NETCONF, namespace_of

EMPTY = [None]
"""The value of an empty leaf (RFC 7951 section 6.9)."""


def xml_document(document: Mapping[str, Any]) -> str:
    """A JSON document as the ``data`` of a NETCONF reply."""
    lines = [line for name, value in document.items() for line in member_lines(name, value, "", 1)]
    return "\n".join([f'<data xmlns="{NETCONF}">', *lines, "</data>"]) + "\n"


def split_name(name: str, module: str) -> tuple[str, str]:
    """The module of a member and its own name: that of what holds it, where it names none."""
    own, colon, plain = name.rpartition(":")
    return (own if colon else module), plain


def member_lines(member: str, value: Any, module: str, indent: int, attributes: str = "") -> Iterator[str]:
    """A member with all below it, each element on lines of its own."""
    own, name = split_name(member, module)
    space = " " * indent
    if own != module and not attributes:
        attributes = f' xmlns="{namespace_of(own)}"'
    if isinstance(value, dict):
        yield f"{space}<{name}{attributes}>"
        for inner, one in value.items():
            yield from member_lines(inner, one, own, indent + 1)
        yield f"{space}</{name}>"
    elif isinstance(value, list) and value != EMPTY:
        for one in value:
            yield from member_lines(member, one, module, indent, attributes)
    else:
        yield f"{space}{leaf_line(name, value, attributes)}"


def leaf_line(name: str, value: Any, attributes: str = "") -> str:
    """A leaf; an identity of a module brings the module's namespace with its prefix."""
    if value == EMPTY:
        return f"<{name}{attributes}/>"
    text = str(value).lower() if isinstance(value, bool) else str(value)
    module, colon, _ = text.partition(":")
    if colon and module.startswith(("ietf-", "iana-")):
        attributes += f' xmlns:{module}="{namespace_of(module)}"'
    return f"<{name}{attributes}>{escape(text)}</{name}>"
