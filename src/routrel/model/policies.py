"""Routing policies: ordered statements that accept, change or reject routes (RFC 9067).

Statements are asked in order. One whose match holds applies its sets; ``accept`` and ``reject`` then end
the policy, ``continue`` goes on, and later statements see what earlier ones set. A route that no
statement decides is rejected.
"""

from typing import Literal

from msgspec import Struct, field

from routrel.model.addresses import Address, Prefix
from routrel.model.expressions import is_found
from routrel.model.places import NOWHERE, Place

PolicyResult = Literal["accept", "reject", "continue"]
Origin = Literal["igp", "egp", "incomplete"]
ORIGINS: tuple[Origin, ...] = ("igp", "egp", "incomplete")
"""In the order in which RFC 4271 section 9.1.2.2 (b) prefers them, by their numbers (section 4.3)."""

NO_EXPORT, NO_ADVERTISE, NO_EXPORT_SUBCONFED = "no-export", "no-advertise", "no-export-subconfed"
"""The well-known communities (RFC 1997): 65535:65281, 65535:65282 and 65535:65283."""


class PrefixMatch(Struct, frozen=True):
    """Prefixes inside ``prefix`` whose length is from ``low`` to ``high``."""

    prefix: Prefix
    low: int
    high: int

    def matches(self, prefix: Prefix) -> bool:
        return self.prefix.covers(prefix) and self.low <= prefix.length <= self.high

    def __str__(self) -> str:
        if self.low == self.high == self.prefix.length:
            return str(self.prefix)
        return f"{{prefix: {self.prefix}, min_length: {self.low}, max_length: {self.high}}}"


class PolicyMatch(Struct, frozen=True):
    """What must hold of a route, all of it; None matches all."""

    prefixes: tuple[PrefixMatch, ...] | None = None
    protocols: tuple[str, ...] | None = None
    tag: int | None = None
    metric: int | None = None
    next_hops: tuple[Address, ...] | None = None
    med: int | None = None
    neighbors: tuple[Address, ...] | None = None
    as_path: "AsPathMatch | None" = None
    communities: "CommunityMatch | None" = None

    @property
    def asks_path(self) -> bool:
        """Whether only a BGP path can fulfil it."""
        return any(one is not None for one in (self.med, self.neighbors, self.as_path, self.communities))


class AsPathMatch(Struct, frozen=True):
    """What must hold of an AS path: all that is given; ``pattern`` is searched in its numbers with spaces."""

    contains: int | None = None
    starts: int | None = None
    ends: int | None = None
    min_length: int | None = None
    max_length: int | None = None
    pattern: str | None = None

    def matches(self, path: tuple[int, ...]) -> bool:
        """``path`` has the nearest AS first."""
        return (
            (self.contains is None or self.contains in path)
            and (self.starts is None or path[:1] == (self.starts,))
            and (self.ends is None or path[-1:] == (self.ends,))
            and (self.min_length is None or len(path) >= self.min_length)
            and (self.max_length is None or len(path) <= self.max_length)
            and (self.pattern is None or is_found(self.pattern, path))
        )

    def __str__(self) -> str:
        if self.pattern is not None:
            return repr(self.pattern)
        given = ((key, getattr(self, key)) for key in ("contains", "starts", "ends", "min_length", "max_length"))
        return "{" + ", ".join(f"{key}: {value}" for key, value in given if value is not None) + "}"


class CommunityMatch(Struct, frozen=True):
    """Any of the communities present, or ``every`` one of them."""

    communities: tuple[str, ...]
    every: bool = False

    def matches(self, present: frozenset[str]) -> bool:
        wanted = set(self.communities)
        return wanted <= present if self.every else bool(wanted & present)

    def __str__(self) -> str:
        listed = "[" + ", ".join(self.communities) + "]"
        return f"{{all: {listed}}}" if self.every else listed


class Prepend(Struct, frozen=True):
    number: int
    times: int = 1

    def applied(self, path: tuple[int, ...]) -> tuple[int, ...]:
        return (self.number,) * self.times + path

    def __str__(self) -> str:
        return f"{self.number} {self.times} times" if self.times > 1 else str(self.number)


class CommunityChange(Struct, frozen=True):
    """``replaced`` stands in place of all that were there; then some are removed, then some added."""

    added: tuple[str, ...] = ()
    removed: tuple[str, ...] = ()
    replaced: tuple[str, ...] | None = None

    def applied(self, present: frozenset[str]) -> frozenset[str]:
        base = present if self.replaced is None else frozenset(self.replaced)
        return (base - frozenset(self.removed)) | frozenset(self.added)

    def __str__(self) -> str:
        parts = [f"replaced by {', '.join(self.replaced) or 'none'}"] if self.replaced is not None else []
        parts += [f"without {', '.join(self.removed)}"] if self.removed else []
        parts += [f"with {', '.join(self.added)}"] if self.added else []
        return ", ".join(parts)


class PolicySet(Struct, frozen=True):
    """What a statement changes; None leaves it."""

    metric: int | None = None
    metric_type: int | None = None
    tag: int | None = None
    preference: int | None = None
    med: int | None = None
    local_preference: int | None = None
    weight: int | None = None
    origin: Origin | None = None
    as_path_prepend: Prepend | None = None
    communities: CommunityChange | None = None
    next_hop: Address | None = None
    next_hop_self: bool | None = None
    """Of what is sent: the sender's own address, also where the path is reflected."""


class PolicyStatement(Struct, frozen=True):
    result: PolicyResult
    match: PolicyMatch = field(default_factory=PolicyMatch)
    set: PolicySet = field(default_factory=PolicySet)
    name: str = ""
    description: str = ""
    place: Place = NOWHERE


class Policy(Struct, frozen=True):
    name: str
    statements: tuple[PolicyStatement, ...]
    place: Place = NOWHERE
