"""Paths that a BGP neighbour outside the network said, as they were received (RFC 4271 section 3.2, Adj-RIB-In).

A full table has a million of them and few different attributes: these stand once, and each path names its own.
"""

import hashlib
from array import array
from collections.abc import Callable, Iterable
from typing import NamedTuple

from routrel.model.addresses import Address, Prefix
from routrel.model.places import NOWHERE, Place

DEFAULT_LOCAL_PREFERENCE = 100


class PathAttributes(NamedTuple):
    """The attributes of a path (RFC 4271 section 5, 1997, 4456, 8092); ``next_hop`` None is the neighbour itself."""

    as_path: tuple[int, ...] = ()
    origin: str = "igp"
    med: int | None = None
    local_preference: int = DEFAULT_LOCAL_PREFERENCE
    communities: frozenset[str] = frozenset()
    next_hop: Address | None = None
    originator: int | None = None
    clusters: tuple[int, ...] = ()


class HeardSession(NamedTuple):
    """A session as the device at one end of it has it, with the paths that it hears there."""

    device: str
    vrf: str
    local: Address
    number: int
    identifier: int
    neighbor: Address
    neighbor_number: int
    neighbor_identifier: int
    is_internal: bool
    paths: list[tuple[Prefix, PathAttributes]]


class ReceivedPaths:
    """One path for each of some prefixes, from one neighbour; two are equal where all they say is.

    ``numbers`` (n,) is the place of each prefix's attributes in ``attributes``; ``lines`` (n,) the line of each in
    ``file``: of a dump the number of its record. ``identifier`` is the neighbour's BGP identifier, None where nobody
    knows it; ``path_identifiers`` (n,) are those of the paths (RFC 7911), None where they have none.
    """

    __slots__ = (
        *("_digest", "_known", "_next_hops", "attributes", "file", "identifier", "lines", "numbers"),
        *("path_identifiers", "prefixes"),
    )

    def __init__(
        self,
        prefixes: list[Prefix],
        attributes: tuple[PathAttributes, ...],
        numbers: "array[int]",
        lines: "array[int]",
        file: str,
        identifier: int | None = None,
        path_identifiers: "array[int] | None" = None,
    ):
        self.prefixes = prefixes
        self.attributes = attributes
        self.numbers = numbers
        self.lines = lines
        self.file = file
        self.identifier = identifier
        self.path_identifiers = path_identifiers
        self._digest = b""
        self._known: dict[Prefix, int] | None = None
        self._next_hops: frozenset[Address] | None = None

    @classmethod
    def of(cls, paths: Iterable[tuple[Prefix, PathAttributes, Place]], file: str) -> "ReceivedPaths":
        """Of single paths."""
        known: dict[PathAttributes, int] = {}
        prefixes, numbers, lines = list[Prefix](), array("i"), array("i")
        for prefix, attributes, place in paths:
            prefixes.append(prefix)
            numbers.append(known.setdefault(attributes, len(known)))
            lines.append(place.line)
        return cls(prefixes, tuple(known), numbers, lines, file)

    def __len__(self) -> int:
        return len(self.prefixes)

    @property
    def known(self) -> dict[Prefix, int]:
        """The place of each prefix among them."""
        if self._known is None:
            self._known = dict(zip(self.prefixes, range(len(self.prefixes)), strict=True))
        return self._known

    def only(self, is_kept: Callable[[Prefix], bool]) -> "ReceivedPaths":
        """The paths of some prefixes alone; itself where that is all."""
        return self._at([at for at, prefix in enumerate(self.prefixes) if is_kept(prefix)])

    def only_paths(self, is_kept: Callable[[Prefix, int], bool]) -> "ReceivedPaths":
        """Some of the paths alone, by their identifiers, of those that have some."""
        assert self.path_identifiers is not None
        paths = enumerate(zip(self.prefixes, self.path_identifiers, strict=True))
        return self._at([at for at, (prefix, path) in paths if is_kept(prefix, path)])

    def _at(self, kept: list[int]) -> "ReceivedPaths":
        if len(kept) == len(self.prefixes):
            return self
        paths = self.path_identifiers
        return ReceivedPaths(
            [self.prefixes[at] for at in kept],
            self.attributes,
            array("i", [self.numbers[at] for at in kept]),
            array("i", [self.lines[at] for at in kept]),
            self.file,
            self.identifier,
            None if paths is None else array("q", [paths[at] for at in kept]),
        )

    def without(self, prefixes: Iterable[Prefix]) -> "ReceivedPaths":
        """The paths of all other prefixes."""
        gone = frozenset(prefixes)
        return self.only(lambda prefix: prefix not in gone)

    def place_of(self, prefix: Prefix) -> Place:
        """Where the path of a prefix stands."""
        at = self.known.get(prefix)
        return NOWHERE if at is None else Place(self.file, self.lines[at], 1)

    @property
    def next_hops(self) -> frozenset[Address]:
        """All next hops that the paths name."""
        if self._next_hops is None:
            self._next_hops = frozenset(one.next_hop for one in self.attributes if one.next_hop is not None)
        return self._next_hops

    @property
    def digest(self) -> bytes:
        """What tells this from other paths, places left out."""
        if not self._digest:
            digest = hashlib.blake2b(repr((self.identifier, self.attributes)).encode(), digest_size=16)
            digest.update(self.numbers.tobytes())
            digest.update(repr(self.prefixes).encode())
            if self.path_identifiers is not None:
                digest.update(self.path_identifiers.tobytes())
            self._digest = digest.digest()
        return self._digest

    def __eq__(self, other: object) -> bool:
        if not isinstance(other, ReceivedPaths) or hash(self) != hash(other):
            return False
        parts = [(self.prefixes, other.prefixes), (self.numbers, other.numbers), (self.attributes, other.attributes)]
        parts.append((self.path_identifiers, other.path_identifiers))
        return all(mine is its for mine, its in parts) or self.digest == other.digest

    def __hash__(self) -> int:
        return hash((len(self.prefixes), self.identifier))
