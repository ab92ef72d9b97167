"""Routing policies: ordered statements that accept, change or reject routes (RFC 9067).

Statements are asked in order. One whose match holds applies its sets; ``accept`` and ``reject`` then end
the policy, ``continue`` goes on, and later statements see what earlier ones set. A route that no
statement decides is rejected.
"""

from dataclasses import dataclass, field
from typing import Literal

from routrel.model.addresses import Address, Prefix
from routrel.model.places import NOWHERE, Place

PolicyResult = Literal["accept", "reject", "continue"]


@dataclass(frozen=True, slots=True)
class PrefixMatch:
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


@dataclass(frozen=True, slots=True)
class PolicyMatch:
    """What must hold of a route, all of it; None matches all."""

    prefixes: tuple[PrefixMatch, ...] | None = None
    protocols: tuple[str, ...] | None = None
    tag: int | None = None
    metric: int | None = None
    next_hops: tuple[Address, ...] | None = None


@dataclass(frozen=True, slots=True)
class PolicySet:
    """What a statement changes; None leaves it."""

    metric: int | None = None
    metric_type: int | None = None
    tag: int | None = None
    preference: int | None = None


@dataclass(frozen=True, slots=True)
class PolicyStatement:
    result: PolicyResult
    match: PolicyMatch = field(default_factory=PolicyMatch)
    set: PolicySet = field(default_factory=PolicySet)
    name: str = ""
    description: str = ""
    place: Place = NOWHERE


@dataclass(frozen=True, slots=True)
class Policy:
    name: str
    statements: tuple[PolicyStatement, ...]
    place: Place = NOWHERE
