"""Statements of the source text and what each does, as answers."""

from typing import Literal

from msgspec import Struct

from routrel.analysis.answers.offers import Offer

StatementKind = Literal[
    "device",
    "interface",
    "route",
    "protocol",
    "session",
    "acl",
    "entry",
    "policy",
    "link",
    "endpoint",
    "steering",
    "expectation",
    "virtual router",
]


class Statement(Struct, frozen=True):
    """A statement at ``line`` and ``column`` and what it does, in words.

    ``device``, ``vrf``, ``prefix`` and ``policy`` say where more of it stands; None or '' where they say nothing.
    """

    line: int
    column: int
    kind: StatementKind
    name: str
    does: str
    device: str | None
    vrf: str
    prefix: str | None
    policy: str | None
    problems: list[str]
    offers: list[Offer]


class Heading(Struct, frozen=True):
    """A device and where it begins in a file."""

    device: str
    kind: str
    line: int
    column: int
