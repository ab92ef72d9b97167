"""Jobs as answers of the API."""

from datetime import datetime
from typing import Literal

from msgspec import Struct

from routrel.analysis.answers.expectations import ExpectationsHeld, PlacesUnderFailures
from routrel.analysis.answers.held import Held

State = Literal["waiting", "running", "done", "cancelled", "failed"]


class JobAbout(Struct, frozen=True, kw_only=True):
    """A job: ``done`` of ``of`` failures, or steps of all traffic, were looked at.

    ``seconds_left`` is there where it can be said. ``workers`` is how many workers there are at the moment: where there
    are none, it waits.
    """

    id: str
    revision: int
    trial: int | None
    question: Literal["failures", "traffic"]
    failures: str
    state: State
    done: int
    of: int | None
    seconds_left: float | None
    workers: int
    problem: str
    created_by: str | None
    created_at: datetime
    finished_at: datetime | None


class JobAnswer(JobAbout, frozen=True, kw_only=True):
    """A job with what it found so far: of what is expected of the network as it is and under the failures looked at,
    or of all traffic between places under them; or, once it is done, of all ``traffic`` with a trial against that
    without it."""

    held: ExpectationsHeld | None
    places: PlacesUnderFailures | None
    traffic: Held | None


class RevisionHeld(Struct, frozen=True):
    """What was found of an expectation in a revision: why, where it does not hold."""

    revision: int
    created_at: datetime
    state: Literal["holds", "fails", "refused"]
    words: str


class ExpectationHistory(Struct, frozen=True):
    """An expectation over the revisions in which it was held, the oldest first.

    ``fails_since`` is the first revision of the last stretch in which it does not hold, and ``held_until`` the one
    before it where it did.
    """

    name: str
    revisions: list[RevisionHeld]
    fails_since: int | None
    held_until: int | None
