"""Routing of a Linux router as it was read off: rules that choose a table, and the tables (ip-rule(8), ip-route(8))."""

from dataclasses import dataclass, field
from typing import Literal

from routrel.model.addresses import Address, Prefix
from routrel.model.filters import PortRange
from routrel.model.observed import ObservedRoute
from routrel.model.places import NOWHERE, Place

MAIN, LOCAL, DEFAULT = "main", "local", "default"

RuleAction = Literal["table", "goto", "nop", "blackhole", "prohibit", "unreachable"]
TableAction = Literal["forward", "discard", "reject", "throw"]


@dataclass(frozen=True, slots=True)
class RoutingRule:
    """A rule of one family; None in a selector means any.

    ``iif`` "lo" selects the packets of the device itself. Of ``users``, from one number to another, no capture tells
    which made a packet; what is forwarded counts as user 0's. A route not longer than ``suppressed_length`` counts
    for none.
    """

    priority: int
    family: int
    action: RuleAction = "table"
    table: str = MAIN
    target: int | None = None
    is_inverted: bool = False
    source: Prefix | None = None
    destination: Prefix | None = None
    iif: str | None = None
    oif: str | None = None
    mark: tuple[int, int] | None = None
    """Value and mask."""
    tos: int | None = None
    protocol: int | None = None
    source_ports: PortRange | None = None
    destination_ports: PortRange | None = None
    users: tuple[int, int] | None = None
    suppressed_length: int | None = None
    text: str = ""
    place: Place = NOWHERE


@dataclass(frozen=True, slots=True)
class KernelRoute:
    """A route with what a table of another kind does not tell: ``tos``, the preferred source, a throw."""

    route: ObservedRoute
    action: TableAction
    tos: int = 0
    source: Address | None = None


@dataclass(frozen=True, slots=True)
class KernelRouting:
    """The rules in their order, and the tables but for ``local``, by family and name."""

    rules: tuple[RoutingRule, ...] = ()
    tables: dict[tuple[int, str], tuple[KernelRoute, ...]] = field(default_factory=dict)
    closed: frozenset[tuple[int, str]] = frozenset()
    """(family, interface) by which packets for others are not taken."""
