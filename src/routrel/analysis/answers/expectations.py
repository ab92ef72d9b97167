"""Expectations held against a network as answers."""

from typing import Any, Literal

from msgspec import Struct

from routrel.analysis.answers.held import EffectCount
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
    """An expectation, in ``words`` and as the ``entry`` of its file but for the name, and whether it holds of all its
    ``flow_count`` flows.

    ``flows`` are the first of those it does not hold for, ``not_survived`` the failures that it names and does not
    survive. ``doubts`` say why what holds is not sure.
    """

    name: str
    words: str
    entry: dict[str, Any]
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


Outcome = Literal["loops", "breaks", "single", "exit", "longer", "moves"]
"""What a failure does to a flow, the worst first: it newly goes round, does not do what it should, is left a single way
between its first and last router of several that share no link or device, leaves by another port, takes a longer way,
or another."""


class EndangeredExpectation(Struct, frozen=True):
    """An expectation that holds, and the worst that a failure does to it: to the first of ``flow_count`` flows."""

    name: str
    words: str
    severity: Severity
    owner: str
    outcome: Outcome
    flows: list[str]
    flow_count: int


class Endangered(Struct, frozen=True):
    """What the failure of one thing does to what is expected, the worst first; ``change`` makes it in a trial."""

    words: str
    kind: FailureKind
    name: str
    change: dict[str, Any]
    expectations: list[EndangeredExpectation]


class FailedToo(Struct, frozen=True):
    """The other of two things that fail at once."""

    kind: FailureKind
    name: str
    change: dict[str, Any]


class FailureOutcome(Struct, frozen=True):
    """How many expected flows a failure ``breaks`` and so on, and the expectations that fail then.

    Where two things fail at once, only what neither does alone is counted.
    """

    kind: FailureKind
    name: str
    change: dict[str, Any]
    second: FailedToo | None
    loops: int
    breaks: int
    single: int
    exit: int
    longer: int
    moves: int
    expectations: list[str]
    words: str


class ExpectationsHeld(Struct, frozen=True):
    """All expectations of a network, in the order of the file.

    ``failures`` are those that were asked for and hurt some expected flow, the worst first, out of ``failures_tried``;
    the others hurt none: ``harmless`` of them. ``ruled_out`` touch no port that an expected flow rests on, and were
    not solved. ``words`` says it on one line.
    """

    words: str
    holding: int
    failing: int
    refused: int
    expectations: list[ExpectationHeld]
    failures: list[FailureOutcome]
    failures_tried: int
    harmless: int
    ruled_out: int = 0


class ExpectationsSoFar(Struct, frozen=True):
    """How many of the failures to look at were, and the answer once it is there."""

    done: int
    of: int
    held: ExpectationsHeld | None


class NotSurvived(Struct, frozen=True):
    """A failure that an expectation, by its place in the list, names and does not survive."""

    expectation: int
    failure: FailureHurts


class FailurePlaces(Struct, frozen=True):
    """What a failure does to all traffic between ``pairs`` of places, of which ``left_out`` were not compared."""

    kind: FailureKind
    name: str
    change: dict[str, Any]
    pairs: int
    changed: int
    effects: list[EffectCount]
    left_out: int

    @property
    def is_worse(self) -> bool:
        """Whether something that worked does not any more."""
        return any(one.effect in ("blocked", "loops") for one in self.effects)


class PlacesUnderFailures(Struct, frozen=True):
    """What failures do to all traffic, the worst first, out of ``failures_tried``; ``harmless`` change nothing."""

    words: str
    pairs: int
    failures: list[FailurePlaces]
    failures_tried: int
    harmless: int


class FailuresPart(Struct, frozen=True):
    """What some failures do, of which ``tried`` were asked for: those that hurt something expected, and what is not
    survived; or what they do to all places. ``ruled_out`` of them touch nothing that is expected."""

    tried: int
    failures: list[FailureOutcome]
    not_survived: list[NotSurvived]
    places: list[FailurePlaces] = []
    ruled_out: int = 0


class FailuresPlanned(Struct, frozen=True):
    """What holds of a network as it is, where that is asked, and how many failures there are to look at."""

    as_it_is: ExpectationsHeld | None
    failures: int


Role = Literal["carries", "decides", "stands by"]
"""Flows pass it; or do not, and go otherwise without it; or are left a single way without it."""


class LeanedOn(Struct, frozen=True):
    """Something whose failure was tried, and the worst that becomes of a flow; nothing of those that end in it.

    ``instead_of`` is what it takes over from: its own failure changes nothing, and without both flows fail.
    """

    kind: FailureKind
    name: str
    change: dict[str, Any]
    role: Role
    outcome: Outcome | None
    flows: list[str]
    flow_count: int
    instead_of: FailedToo | None = None


class LedBy(Struct, frozen=True):
    """A route, an entry of a list or a statement of a policy that decides about flows, in ``words``.

    Where it is one that can be taken out by itself, ``change`` does, and ``outcome`` is the worst that becomes of a
    flow without it.
    """

    kind: Literal["route", "entry", "policy"]
    device: str
    words: str
    place: Place | None
    change: dict[str, Any] | None
    outcome: Outcome | None


class Leaning(Struct, frozen=True):
    """All that an expectation leans on, as far as it was looked at; of ``led_by_count`` that lead it the first."""

    name: str
    words: str
    elements: list[LeanedOn]
    led_by: list[LedBy]
    led_by_count: int


class LeaningSoFar(Struct, frozen=True):
    """How many of the things to be let fail or taken out were, what was found by then, and the whole at the end."""

    done: int
    of: int
    so_far: Leaning
    held: Leaning | None


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
