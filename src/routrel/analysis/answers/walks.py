"""Walks as answers: strands, their stops with every check, causes and remedies."""

from typing import Any, Literal

from msgspec import Struct, field

from routrel.analysis.answers.contests import Step
from routrel.analysis.answers.routes import Route
from routrel.forwarding.trace import Stage, Verdict
from routrel.model.places import Place

CheckKind = Literal["acl_in", "filter", "translation", "delivery", "steering", "route", "back", "acl_out", "next_hop"]
CheckState = Literal["pass", "fail", "note"]


class Remedy(Struct, frozen=True):
    """``text`` is what to write and ``message`` says at which device and list; ``place`` is near it.

    ``changes`` are the same as changes that can be tried; none where no change can say it.
    """

    message: str
    text: str
    place: Place | None
    changes: list[dict[str, Any]] = []


class NearMiss(Struct, frozen=True):
    """An accepting entry that one field alone keeps from matching, or that stands behind the one that drops.

    ``change`` makes it match; null where no change can say it.
    """

    entry: int
    field: str
    has: str
    needs: str
    place: Place | None
    change: dict[str, Any] | None = None


class Cause(Struct, frozen=True, kw_only=True):
    """What stops a flow. ``entry`` counts from 1; None is the closing drop (or no ACL at all)."""

    device: str
    interface: str | None
    stage: Stage
    verdict: Verdict
    message: str
    stop: int
    """Its stop, and the branch there or -1: indexes into the strand."""
    branch: int
    acl: str | None = None
    entry: int | None = None
    place: Place | None = None
    near_misses: tuple[NearMiss, ...] = ()
    remedy: Remedy | None = None
    notes: tuple[str, ...] = ()
    trail: tuple[Step, ...] = ()
    """Of a missing route: what would lead there and is idle, and where routes that others have stopped."""
    chain: str | None = None
    """Of a filter program: the chain, with its table."""
    rule: int | None = None
    """The rule's number in it, from 1; None for its policy."""
    unsure: bool = False
    """Whether it hangs on what no capture tells."""


class Check(Struct, frozen=True):
    """One thing that was looked at, with its line; ``written`` is the entry or rule as it stands there."""

    kind: CheckKind
    state: CheckState
    message: str
    place: Place | None = None
    acl: str | None = None
    entry: int | None = None
    written: str = ""
    route: Route | None = None


class Branch(Struct, frozen=True):
    """One way on from a stop; ``target`` is the stop it leads to, ``links`` are numbers of the map."""

    interface: str
    address: str
    via_next_hop: bool
    target: int | None
    target_interface: str | None
    verdict: Verdict | None
    stage: Stage
    mtu: int | None
    links: list[int]
    checks: list[Check]


class Stop(Struct, frozen=True):
    """One routing instance on the way, with the checks in the order the packet meets them.

    ``decided`` says in one line what decided; ``narrower`` has fewer ways on than another next hop of the same stop.
    """

    device: str
    vrf: str
    kind: str
    site: str | None
    ingress: str | None
    header: str
    translated: str | None
    source: str
    verdict: Verdict | None
    stage: Stage
    checks: list[Check]
    branches: list[Branch]
    by_default: bool
    narrower: bool
    decided: str
    notes: list[str]


class NotRepresented(Struct, frozen=True):
    """What the model leaves out of a device that is passed."""

    device: str
    message: str
    place: Place | None


class Shrink(Struct, frozen=True):
    """Where the largest packet gets smaller."""

    stop: int
    branch: int
    device: str
    interface: str


class PacketSize(Struct, frozen=True):
    """The largest packet that survives every way, and where it first shrinks to that."""

    largest_packet: int
    shrinks_at: list[Shrink]


class StrandVerdict(Struct, frozen=True, kw_only=True):
    """What became of one direction; ``path_count`` is exact, ``paths`` lists some as devices."""

    verdict: Verdict
    path_count: int
    paths: list[list[str]]
    causes: list[Cause]
    doubts: list[str]
    not_represented: list[NotRepresented]


class Strand(StrandVerdict, frozen=True, kw_only=True):
    """One direction with all evidence; ``starts`` are indexes of stops."""

    starts: list[int]
    stops: list[Stop]
    mtu: PacketSize | None


class Decider(Struct, frozen=True):
    """An entry or rule that decided on the way; ``entry`` None is the closing drop or the chain's policy."""

    device: str
    acl: str
    entry: int | None
    accepted: bool
    place: Place | None
    is_rule: bool


class PortsPart(Struct, frozen=True):
    """Ports of a range that are treated alike."""

    ports: list[str]
    verdict: Verdict
    return_verdict: Verdict | None
    good: bool
    causes: list[Cause]
    decided_by: list[Decider]


class WalkOutcome(Struct, frozen=True, kw_only=True):
    """What both directions have in common to say, whatever is said of each."""

    good: bool
    return_note: str
    forward_note: str
    parts: list[PortsPart]
    unexamined_ports: str | None


class WalkVerdict(WalkOutcome, frozen=True, kw_only=True):
    """A walk without the stops, as the command line prints it."""

    forward: StrandVerdict
    reply: StrandVerdict | None = field(name="return")


class AskedFlow(Struct, frozen=True, kw_only=True):
    """A flow of a list, as it was asked."""

    source: str = field(name="from")
    to: str
    service: str
    source_port: int | None
    enter: str | None
    vrf: str | None


class ListedWalk(WalkVerdict, frozen=True, kw_only=True):
    """A walk of a list, with its flow."""

    flow: AskedFlow


class RefusedFlow(Struct, frozen=True):
    """A flow of a list that cannot be asked, and why."""

    flow: AskedFlow
    error: str


class FlowAnswer(Struct, frozen=True):
    """One of many flows: what became of it, or, with no walk, why it cannot be asked."""

    flow: AskedFlow
    walk: WalkVerdict | None
    error: str


class End(Struct, frozen=True):
    """One end of a flow, as it was asked and as it was understood."""

    word: str
    device: str | None
    address: str | None


class Walk(WalkOutcome, frozen=True, kw_only=True):
    """A walk with all its evidence."""

    source: End = field(name="from")
    to: End
    service: str
    forward: Strand
    reply: Strand | None = field(name="return")
