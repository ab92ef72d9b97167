"""Expectations held against a network as answers."""

from typing import Any, Literal

from msgspec import Struct

from routrel.analysis.answers.walks import AskedFlow
from routrel.model.expectations import FailureKind
from routrel.model.findings import Severity
from routrel.model.places import Place

HoldState = Literal["holds", "fails", "refused"]


class FlowHeld(Struct, frozen=True):
    """A flow of which something expected does not hold: each reason in words; refused where that cannot be told."""

    flow: AskedFlow
    state: HoldState
    reasons: list[str]


class FailureHurts(Struct, frozen=True):
    """A failure of one thing, and the flows that it hurts: ``change`` makes it in a trial."""

    kind: FailureKind
    name: str
    change: dict[str, Any]
    flows: list[str]
    flow_count: int


class ExpectationHeld(Struct, frozen=True, kw_only=True):
    """An expectation, in ``words``, and whether it holds of all its ``flow_count`` flows.

    ``flows`` are the first of those it does not hold for, ``not_survived`` the failures that it names and does not
    survive. ``doubts`` say why what holds is not sure.
    """

    name: str
    words: str
    severity: Severity
    owner: str
    note: str
    tags: list[str]
    place: Place | None
    state: HoldState
    flow_count: int
    failing_count: int
    flows: list[FlowHeld]
    not_survived: list[FailureHurts]
    not_survived_count: int
    doubts: list[str]


Outcome = Literal["loops", "breaks", "exit", "longer", "moves"]
"""What a failure does to a flow: it newly goes round, does not do what it should, leaves by another port, takes a
longer way, or another."""


Danger = Literal["loops", "breaks", "single", "exit", "longer", "moves"]
"""An outcome; or that between the routers at the ends of a flow a single way is left, of several that share no link or
device."""


class EndangeredExpectation(Struct, frozen=True):
    """An expectation that holds, and the worst that a failure does to it: to the first of ``flow_count`` flows."""

    name: str
    words: str
    severity: Severity
    owner: str
    outcome: Danger
    flows: list[str]
    flow_count: int


class Endangered(Struct, frozen=True):
    """What the failure of one thing does to what is expected, the worst first; ``change`` makes it in a trial."""

    words: str
    kind: FailureKind
    name: str
    change: dict[str, Any]
    expectations: list[EndangeredExpectation]


class FailureOutcome(Struct, frozen=True):
    """How many expected flows a failure ``breaks`` and so on, and the expectations that fail then."""

    kind: FailureKind
    name: str
    change: dict[str, Any]
    loops: int
    breaks: int
    exit: int
    longer: int
    moves: int
    expectations: list[str]
    words: str


class ExpectationsHeld(Struct, frozen=True):
    """All expectations of a network, in the order of the file.

    ``failures`` are those that were asked for and hurt some expected flow, the worst first, out of ``failures_tried``;
    the others hurt none: ``harmless`` of them. ``words`` says it on one line.
    """

    words: str
    holding: int
    failing: int
    refused: int
    expectations: list[ExpectationHeld]
    failures: list[FailureOutcome]
    failures_tried: int
    harmless: int


class ExpectationsSoFar(Struct, frozen=True):
    """How many of the failures to look at were, and the answer once it is there."""

    done: int
    of: int
    held: ExpectationsHeld | None


class NotSurvived(Struct, frozen=True):
    """A failure that an expectation, by its place in the list, names and does not survive."""

    expectation: int
    failure: FailureHurts


class FailuresPart(Struct, frozen=True):
    """What some failures do, of which ``tried`` were asked for: those that hurt something, and what is not survived."""

    tried: int
    failures: list[FailureOutcome]
    not_survived: list[NotSurvived]


class FailuresPlanned(Struct, frozen=True):
    """What holds of a network as it is, and how many failures there are to look at."""

    as_it_is: ExpectationsHeld
    failures: int


class TurnedBy(Struct, frozen=True):
    """A difference that made an expectation fail, with where it stood before and stands now."""

    words: str
    before: Place | None
    after: Place | None


class Turned(Struct, frozen=True):
    """What made an expectation fail between two states, shown by its first flow: each of ``by``, taken back alone,
    mends it. ``tried`` is how many differences were taken back. Without a flow, ``words`` say why nothing turned."""

    words: str
    flow: AskedFlow | None
    reasons: list[str]
    by: list[TurnedBy]
    tried: int
