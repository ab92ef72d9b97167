"""What was measured over time, as answers. Moments are text of RFC 3339, in UTC.

Delays are in seconds, loss, processors and memory in parts of one, what is sent and received in bits a second, drops
and errors in packets a second.
"""

from typing import Literal

from msgspec import Struct

MeasuredKind = Literal["device", "link", "interface"]


class Usual(Struct, frozen=True):
    """What a measure was at the same hours in the four weeks before: the median, and a quarter is under ``low``,
    a quarter over ``high``; of ``count`` samples."""

    low: float
    median: float
    high: float
    count: int


class Unusual(Struct, frozen=True):
    """Hours, one after the other, in which a measure was far over what is usual at these hours, or under it."""

    what: MeasuredKind
    at: str
    measure: str
    start: str
    end: str
    median: float
    usual: Usual
    words: str


class Measured(Struct, frozen=True):
    """A measure over a window, named by ``what``, ``at`` and ``measure``; of an interface ``toward`` whom it sends.

    ``most`` is what there can be: an interface's bandwidth; None where it is not known.
    """

    what: MeasuredKind
    at: str
    measure: str
    toward: str
    count: int
    median: float
    highest: float
    most: float | None
    usual: Usual | None
    is_unusual: bool


class OnTheWay(Struct, frozen=True):
    """A device, link or interface that a flow went over: on the usual way there, back, or another one.

    ``up`` is the part of the window that it was up.
    """

    what: MeasuredKind
    at: str
    words: str
    there: bool
    back: bool
    up: float
    outages: int
    measured: list[Measured]


class WayDelay(Struct, frozen=True):
    """The delays of the links of the usual way, added: of ``known`` links of ``links``."""

    direction: Literal["there", "back"]
    median: float
    usual: float | None
    known: int
    links: int


class PathHealth(Struct, frozen=True):
    """How all that flows went over did in a window; ``unusual`` what was out of the ordinary, the worst first."""

    on_the_way: list[OnTheWay]
    delays: list[WayDelay]
    unusual: list[Unusual]
    is_measured: bool


class Point(Struct, frozen=True):
    """Samples of some time from ``start`` on: the lowest, the median, the highest; None where there are none."""

    start: str
    low: float | None
    median: float | None
    high: float | None
    usual: Usual | None


class GaugeOverTime(Struct, frozen=True):
    """One measure over a window, ``seconds`` in each point."""

    what: MeasuredKind
    at: str
    measure: str
    words: str
    most: float | None
    seconds: float
    points: list[Point]
