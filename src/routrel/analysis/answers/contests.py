"""Contests as answers: why a route stands in a table, or why none does."""

from typing import Any, Literal

from msgspec import Struct

from routrel.analysis.answers.offers import Offer
from routrel.analysis.answers.routes import NextHop
from routrel.model.places import Place


class Leg(Struct, frozen=True):
    """One term of a sum: an interface's cost, or what ``what`` says."""

    device: str | None
    interface: str | None
    cost: int
    what: str


class Way(Struct, frozen=True):
    """One way with its sum, the legs in the order of the packet."""

    total: int
    legs: list[Leg]


class Attribute(Struct, frozen=True):
    """A name and a value of a candidate, as they are shown."""

    name: str
    value: str


class Candidate(Struct, frozen=True, kw_only=True):
    """One way to reach the prefix; ``out`` says why it took no part, ``lost_in`` is an index of a round.

    ``offers`` take it out, or bring in what is off; what makes it win is said by the tipping points.
    """

    protocol: str
    process: str | None
    kind: str
    preference: int | None
    metric: int | None
    tag: int | None
    action: str
    origin: str
    origin_device: str | None
    place: Place | None
    attributes: list[Attribute]
    next_hops: list[NextHop]
    ways: list[Way]
    detour: bool
    state: Literal["winner", "lost", "out"]
    out: str | None
    lost_in: int | None
    margin: str | None
    offers: list[Offer]


class RoundValue(Struct, frozen=True):
    """What a candidate, an index, has to show in a round."""

    candidate: int
    value: str


class Round(Struct, frozen=True):
    """One comparison; ``scope`` is the protocol it stays within, '' the table's own."""

    name: str
    scope: str
    rule: str
    chosen: bool
    values: list[RoundValue]
    lost: list[int]


class Outcome(Struct, frozen=True):
    """What the table would do with the prefix; ``protocol`` is None without a route."""

    protocol: str | None
    kind: str
    action: str | None
    next_hops: list[NextHop]


class TippingPoint(Struct, frozen=True):
    """At ``value`` and beyond, in its direction, the outcome is ``becomes``; one further it may be ``beyond``.

    ``change`` sets exactly this value; null where no change can say it.
    """

    what: str
    device: str
    now: int
    value: int
    direction: Literal["above", "below"]
    becomes: Outcome
    beyond: Outcome | None
    place: Place | None
    message: str
    change: dict[str, Any] | None


class Step(Struct, frozen=True):
    """One thing that happened to a prefix on its way; where it ``stopped`` the trail ends, or tells why a next hop or
    neighbour lacks a route."""

    device: str
    message: str
    stopped: bool
    place: Place | None
    other_places: list[Place]


class Winner(Struct, frozen=True):
    """The route in the table, and the candidates it is made of."""

    candidates: list[int]
    protocol: str
    kind: str
    preference: int | None
    metric: int | None
    action: str
    next_hops: list[NextHop]


class Unsent(Struct, frozen=True):
    """A BGP path that a neighbour holds and never sent here."""

    neighbor: str
    device: str
    as_path: str
    reason: str
    place: Place | None


class Contest(Struct, frozen=True):
    """The contest for one prefix in one routing instance; ``prefix`` None says that nobody has what was asked."""

    device: str
    vrf: str
    asked: str
    prefix: str | None
    note: str
    winner: Winner | None = None
    candidates: list[Candidate] = []
    rounds: list[Round] = []
    notes: list[str] = []
    tipping: list[TippingPoint] = []
    trails: list[list[Step]] = []
    unsent: list[Unsent] = []
    covered_by: str | None = None
