"""Statements of an instance document: one tree for both encodings, with the place of each.

A list of YANG is several statements of one name, in either encoding. OpenConfig's ``config`` and ``state``
containers are looked through. What was looked at is marked, so that what nobody asked for can be told afterwards.
"""

from collections.abc import Iterator

from msgspec import Struct

MAX_STATEMENTS = 2_000_000
"""Statements of one document, as many as a network file may have values."""

STANDARD = ("ietf-", "iana-", "openconfig-", "ieee802-", "routrel-")
WRAPPERS = ("config", "state")


class Statement(Struct, eq=False):
    """A node of a document: ``value`` is a leaf's text ('' where it is empty), None for what has children.

    ``line`` and ``column`` count from 0, as the marks of parsed YAML do: a statement is the mark of what is made of it.
    """

    file: str
    module: str
    name: str
    line: int
    column: int
    value: str | None = None
    children: list["Statement"] = []
    is_read: bool = False
    is_left_out: bool = False
    """Whether a reader understood it, and that the model cannot hold it."""
    _named: dict[str, list["Statement"]] | None = None
    _wrappers: list["Statement"] = []

    @property
    def is_standard(self) -> bool:
        """Whether it is of a published module, or of ours: what others add is never taken for theirs."""
        return self.module.startswith(STANDARD)

    def each(self, name: str) -> list["Statement"]:
        """The children of a name, marked as read: the entries of a list, or a container."""
        found = self._by_name().get(name, [])
        for child in found:
            child.is_read = True
        return found

    def _by_name(self) -> dict[str, list["Statement"]]:
        named = self._named
        if named is None:
            named = self._named = {}
            for child in self.children:
                if child.module.startswith(STANDARD):
                    named.setdefault(child.name, []).append(child)
            self._wrappers = [inner for name in WRAPPERS for inner in named.get(name, ())]
        return named

    def at(self, *path: str) -> "Statement | None":
        """What stands at a path of containers, or a leaf at its end; in ``config`` or ``state`` where not beside."""
        here = self
        for name in path:
            found = here._children(name)
            if not found:
                return None
            here = found[0]
        return here

    def entries(self, *path: str) -> list["Statement"]:
        """The entries of the list, or the values of the leaf-list, at the end of a path."""
        parent = self.at(*path[:-1])
        return parent._children(path[-1]) if parent is not None else []

    def text(self, *path: str) -> str | None:
        """The text of the leaf at a path; None where it is not said."""
        leaf = self.at(*path)
        return leaf.value if leaf is not None else None

    def identity(self, *path: str) -> str | None:
        """The identity that the leaf at a path names, without its module or prefix."""
        text = self.text(*path)
        return text.rpartition(":")[2] if text is not None else None

    def is_true(self, *path: str) -> bool:
        return self.text(*path) == "true"

    def is_false(self, *path: str) -> bool:
        return self.text(*path) == "false"

    def _children(self, name: str) -> list["Statement"]:
        found = self.each(name)
        for inner in self._wrappers if name not in WRAPPERS else ():
            inner.is_read = True
            beside = inner.each(name)  # what state repeats of config counts as read, too
            found = found or beside
        return found

    def leaves(self) -> Iterator["Statement"]:
        """All statements with a value, itself included."""
        stack = [self]
        while stack:
            here = stack.pop()
            if here.value is not None:
                yield here
            stack += reversed(here.children)

    def read_all(self, is_left_out: bool = False) -> None:
        """Mark it and all below as read, or as read and left out."""
        stack = [self]
        while stack:
            here = stack.pop()
            here.is_read = True
            here.is_left_out = is_left_out
            stack += here.children
