"""Filter programs of a Linux router: tables of chains of rules, as the kernel runs them.

A base chain is bound to a hook and asked in the order of priorities; a regular chain is jumped to. A rule is a
row of statements: conditions, things done to the packet, at last a verdict. Values are canonical: addresses,
protocols, ports and marks are whole numbers, interface names are text, several values of one key a tuple.
Source of all meanings: nft(8), and the kernel's net/netfilter.
"""

from collections.abc import Mapping
from dataclasses import dataclass, field
from typing import Literal, NamedTuple

from routrel.model.places import NOWHERE, Place

Hook = Literal["ingress", "prerouting", "input", "forward", "output", "postrouting"]
HOOKS: tuple[Hook, ...] = ("ingress", "prerouting", "input", "forward", "output", "postrouting")

Value = int | str | tuple[int | str, ...]


class Range(NamedTuple):
    """From one number to another, both included."""

    low: int
    high: int


@dataclass(frozen=True, slots=True)
class Field:
    """Something of the packet or its connection: ``("ip", "saddr")``, ``("meta", "mark")``, ``("ct", "state")``.

    What belongs to one direction of a connection has it in its room: ``("ct original", "ip saddr")``.
    """

    room: str
    name: str


@dataclass(frozen=True, slots=True)
class Fib:
    """A question to the routing table: ``result`` is type, oif or oifname; ``flags`` what is asked with."""

    result: str
    flags: frozenset[str]


@dataclass(frozen=True, slots=True)
class Constant:
    value: Value


@dataclass(frozen=True, slots=True)
class Operation:
    """A bitwise operation (&, |, ^, <<, >>) on numbers."""

    operator: str
    left: "Expression"
    right: "Expression"


@dataclass(frozen=True, slots=True)
class Concatenation:
    parts: tuple["Expression", ...]


@dataclass(frozen=True, slots=True)
class MapLookup:
    key: "Expression"
    data: "ValueMap"


@dataclass(frozen=True, slots=True)
class Unsaid:
    """What no capture tells; ``what`` names it in words."""

    what: str


Expression = Field | Fib | Constant | Operation | Concatenation | MapLookup | Unsaid


@dataclass(frozen=True, slots=True, eq=False)
class ValueSet:
    """Values that a set holds: single ones, ranges, names that end in a wildcard, ranges of several keys at once.

    ``unsaid`` says why its content is not known, or is ''.
    """

    single: frozenset[Value] = frozenset()
    ranges: tuple[Range, ...] = ()
    wildcards: tuple[str, ...] = ()
    boxes: tuple[tuple[Range | str, ...], ...] = ()
    unsaid: str = ""


@dataclass(frozen=True, slots=True, eq=False)
class ValueMap:
    """What a map gives for a key: by single values, and else by the first range or box that holds it.

    What it gives is a value, a range of values (a translation's), or a ``Verdict``.
    """

    single: Mapping[Value, object] = field(default_factory=dict)
    ranges: tuple[tuple[Range, object], ...] = ()
    boxes: tuple[tuple[tuple[Range | str, ...], object], ...] = ()
    wildcards: tuple[tuple[str, object], ...] = ()
    unsaid: str = ""


Operator = Literal["==", "!=", "<", ">", "<=", ">=", "in", "not in", "bits", "no bits"]
"""``bits``: some of the bits are set."""


@dataclass(frozen=True, slots=True)
class Condition:
    left: Expression
    operator: Operator
    right: Value | ValueSet


@dataclass(frozen=True, slots=True)
class UnsaidCondition:
    """A condition that hangs on what no capture tells: a rate, a quota, the time."""

    what: str


VerdictKind = Literal["accept", "drop", "reject", "jump", "goto", "return", "continue", "unsaid"]


@dataclass(frozen=True, slots=True)
class Verdict:
    """``target`` is the chain of a jump or goto."""

    kind: VerdictKind
    target: str = ""


@dataclass(frozen=True, slots=True)
class VerdictMap:
    key: Expression
    data: ValueMap


@dataclass(frozen=True, slots=True)
class SetMark:
    """``of`` is the packet's or the connection's."""

    of: Literal["packet", "connection"]
    value: Expression


@dataclass(frozen=True, slots=True)
class SetField:
    """A header field written by a rule, apart from translation."""

    target: Field
    value: Expression


@dataclass(frozen=True, slots=True)
class Translation:
    """``addresses`` and ``ports`` are ranges, or expressions that give a value or a range; None leaves them.

    ``offset`` maps a prefix onto another, address by address (netmap).
    """

    kind: Literal["snat", "dnat", "masquerade", "redirect"]
    family: int | None = None
    addresses: Range | Expression | None = None
    ports: Range | Expression | None = None
    offset: bool = False


@dataclass(frozen=True, slots=True)
class Untrack:
    """The packet is kept out of connection tracking."""


Statement = Condition | UnsaidCondition | Verdict | VerdictMap | SetMark | SetField | Translation | Untrack


@dataclass(frozen=True, slots=True)
class Rule:
    """``number`` counts from 1 within its chain; ``text`` is the rule as nft writes it."""

    number: int
    text: str
    statements: tuple[Statement, ...]
    comment: str = ""
    place: Place = NOWHERE


@dataclass(frozen=True, slots=True)
class Chain:
    """``hook`` is '' of a regular chain. ``devices`` are the interfaces of an ingress chain, None where not told."""

    family: str
    table: str
    name: str
    rules: tuple[Rule, ...] = ()
    hook: Hook | Literal[""] = ""
    kind: str = "filter"
    priority: int = 0
    policy: Literal["accept", "drop"] = "accept"
    devices: tuple[str, ...] | None = None
    place: Place = NOWHERE

    def __str__(self) -> str:
        return f"{self.name} ({self.family} {self.table})"


ChainKey = tuple[str, str, str]
"""Family, table, name."""


@dataclass(frozen=True, slots=True)
class FilterProgram:
    """All tables of one device, in the order they were listed."""

    chains: dict[ChainKey, Chain] = field(default_factory=dict)

    def base_chains(self, hook: Hook) -> list[Chain]:
        """Those of a hook in the order they are asked: by priority, the later registered of equal ones first."""
        latest_first = [chain for chain in reversed(self.chains.values()) if chain.hook == hook]
        return sorted(latest_first, key=lambda chain: chain.priority)

    def chain(self, asking: Chain, name: str) -> Chain | None:
        """A chain of the same table."""
        return self.chains.get((asking.family, asking.table, name))
