"""Flows over time, and what happened, as answers. Moments are text of RFC 3339, in UTC."""

from typing import Any, Literal

from msgspec import Struct

from routrel.analysis.answers.comparisons import Moved
from routrel.analysis.answers.health import PathHealth, Unusual
from routrel.analysis.answers.routes import TableRow
from routrel.analysis.answers.walks import AskedFlow
from routrel.forwarding.trace import Verdict
from routrel.model.places import Place


class EventShown(Struct, frozen=True):
    """An event by its number in the order of time, in words, with why it does not fit to what is known."""

    number: int
    time: str
    words: str
    goes: Literal["down", "up", "changed"]
    what: str
    at: str
    note: str
    remark: str
    place: Place


class WayOverTime(Struct, frozen=True):
    """A way that a flow took: its paths as devices, some of ``path_count``, and where it leaves the model."""

    paths: list[list[str]]
    path_count: int
    exits: list[str]


class FlowState(Struct, frozen=True):
    """What becomes of a flow: verdicts there and back, and ways by number, None where it cannot be asked.

    ``words`` say it on one line, with the first cause.
    """

    forward: Verdict | None
    reply: Verdict | None
    good: bool
    way: int | None
    way_back: int | None
    words: str


class Segment(Struct, frozen=True):
    """From ``start`` to ``end`` a flow is in one state, by number; None where nobody knows, and ``unknown`` says why.

    ``because`` are the events that it begins with. ``fell_back`` says which route was gone where it goes by a shorter
    prefix than before, and by which other exit it leaves.
    """

    start: str
    end: str
    state: int | None
    unknown: str
    because: list[int]
    fell_back: list[str]


class Strip(Struct, frozen=True):
    """One flow over a window: ``usual`` is the way, there and back, that it has for the longest time."""

    flow: AskedFlow
    states: list[FlowState]
    ways: list[WayOverTime]
    segments: list[Segment]
    usual: int | None
    usual_back: int | None
    story: list[str]
    """What happened to it, in sentences for a ticket."""


class Outage(Struct, frozen=True):
    """Something was down; ``end`` None where it still is, ``start`` None where it was before all that is known."""

    what: str
    words: str
    at: str
    start: str | None
    end: str | None
    seconds: float


class Availability(Struct, frozen=True):
    """How something did over a window: the part of it that it was up, and its outages, trend in words."""

    what: str
    words: str
    at: str
    up: float
    outages: int
    longest_seconds: float
    down_seconds: float
    is_down: bool
    trend: str
    by_hour: list[int]
    """Outages by the hour of the day (UTC) in which they began."""


class StripsHeld(Struct, frozen=True):
    """Flows over one window, the events that concern them, and how all that they went over did: ``things`` that were
    down, and ``health`` of everything."""

    start: str
    end: str
    strips: list[Strip]
    events: list[EventShown]
    things: list[Availability]
    health: PathHealth


class StripsSoFar(Struct, frozen=True):
    """Flows over a window: ``held`` once all ``of`` states are done, before that ``begun``, as far as it goes."""

    done: int
    of: int
    begun: list[Strip]
    held: StripsHeld | None


class RouteSegment(Struct, frozen=True):
    """From ``start`` to ``end`` a table has one route for a prefix, None: none; ``unknown`` says why nobody knows.

    ``because`` are the events that it begins with. ``fell_back`` says that there was a longer prefix in the window.
    """

    start: str
    end: str
    route: TableRow | None
    unknown: str
    because: list[int]
    fell_back: bool


class RouteOverTime(Struct, frozen=True):
    """The route of a table for a prefix over a window, and the events that concern it: those it changed by, and of what
    it rests on while nothing is down. ``usual`` is a segment of the route that it had longest, None where it never had
    any; ``otherwise`` tells of the times in which it had another one or none. ``words`` say all of it."""

    start: str
    end: str
    device: str
    vrf: str
    prefix: str
    segments: list[RouteSegment]
    events: list[EventShown]
    usual: int | None
    otherwise: Availability
    words: list[str]


class RouteOverTimeSoFar(Struct, frozen=True):
    """How many of the states of a window are looked at; ``held`` once all are."""

    done: int
    of: int
    held: RouteOverTime | None


class Otherwise(Struct, frozen=True):
    """One thing that is otherwise than the revision says, and the event since which it is; None: it was so before."""

    words: str
    since: EventShown | None


class StateThen(Struct, frozen=True):
    """The state at a moment: ``unknown`` says why nobody knows it; ``changes`` make the revision so, as a trial's do.

    ``events`` happened at the moment itself; ``before`` and ``after`` are when something happened last and next.
    """

    moment: str
    unknown: str
    otherwise: list[Otherwise]
    changes: list[dict[str, Any]]
    events: list[EventShown]
    before: str | None
    after: str | None


class Between(Struct, frozen=True):
    """Two moments held against each other: what happened after the first, up to the second, and what that moved."""

    start: str
    end: str
    events: list[EventShown]
    event_count: int
    moved: Moved


class PrefixChanges(Struct, frozen=True):
    """How often a neighbour announced and withdrew a prefix, and when last; ``is_gone`` says that it is withdrawn."""

    prefix: str
    speaker: str
    announced: int
    withdrawn: int
    last: str
    is_gone: bool


class Happened(Struct, frozen=True):
    """What happened in a window: what is down at its end, since when; what goes down most; the longest outages;
    events, the newest first, ``event_count`` in all, and those of the last hour."""

    start: str
    end: str
    down: list[Outage]
    flapping: list[Availability]
    longest: list[Outage]
    events: list[EventShown]
    event_count: int
    last_hour: int
    unfitting: int
    """Events that do not fit to what is known."""
    announcements: int
    """How often neighbours announced or withdrew a prefix."""
    busiest: list[PrefixChanges]
    """Those that did most often."""
    unusual: list[Unusual]
    """What was unusual in the last day."""
