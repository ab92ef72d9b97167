"""What a routing policy does, as an answer."""

from msgspec import Struct

from routrel.model.places import Place
from routrel.model.policies import PolicyResult


class Policy(Struct, frozen=True):
    """A policy of a device."""

    device: str
    policy: str
    place: Place | None


class PolicyStatement(Struct, frozen=True):
    """A statement, numbered from 1, and how many routes it matched in all uses."""

    number: int
    name: str
    description: str
    result: PolicyResult
    place: Place | None
    matched: int


class PolicyChange(Struct, frozen=True):
    """What an accepted route carries on that it did not bring."""

    name: str
    before: str | None
    after: str


class PolicyRoute(Struct, frozen=True):
    """A route that meets the policy; ``statement`` None is the closing reject."""

    prefix: str
    protocol: str
    as_path: str | None
    accepted: bool
    statement: int | None
    changes: list[PolicyChange]


class StatementCount(Struct, frozen=True):
    """How many routes of one use a statement matched."""

    number: int
    count: int


class PolicyUse(Struct, frozen=True):
    """One place that asks the policy: counts of all routes that meet it there, and the first of them."""

    what: str
    place: Place | None
    total: int
    accepted: int
    changed: int
    closing: int
    statements: list[StatementCount]
    routes: list[PolicyRoute]


class PolicyReport(Struct, frozen=True):
    """What a policy does to every route that meets it."""

    device: str
    policy: str
    place: Place | None
    statements: list[PolicyStatement]
    uses: list[PolicyUse]
