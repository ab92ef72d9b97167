"""What is asked about failures, as a text that is the same where the question is."""

from typing import NamedTuple

from routrel.analysis.expectations.failures import KINDS
from routrel.model.expectations import FailureKind

SURVIVED, NO_FAILURES = "survived", "none"
"""Failures that expectations name themselves; and the network as it is."""

TWO_AT_ONCE, PLACES = "two-at-once", "places"


class FailuresAskedError(ValueError):
    """That nothing of the kind can be asked; the message says what can."""


class FailuresAsked(NamedTuple):
    """What is expected, or all traffic between ``places``, under each failure of some kinds, or each two of them.

    Without kinds: under the failures that expectations name to survive, unless not even these are looked at.
    """

    kinds: tuple[FailureKind, ...] = ()
    with_survival: bool = True
    two_at_once: bool = False
    places: bool = False

    @classmethod
    def of(cls, failures: str, two_at_once: bool = False, places: bool = False) -> "FailuresAsked":
        """From kinds with commas between, or ``SURVIVED`` or ``NO_FAILURES``; raises ``FailuresAskedError``."""
        if failures in (SURVIVED, NO_FAILURES):
            if two_at_once or places:
                raise FailuresAskedError(f"This is asked of kinds of failures: name some of {', '.join(KINDS)}.")
            return cls(with_survival=failures == SURVIVED)
        named = failures.split(",")
        if not set(named) <= set(KINDS):
            allowed = ", ".join((SURVIVED, NO_FAILURES, *KINDS))
            raise FailuresAskedError(f"{failures!r} names nothing that can fail; allowed: {allowed}.")
        if two_at_once and places:
            raise FailuresAskedError("Two failures at once are tried against what is expected, not against all places.")
        return cls(tuple(kind for kind in KINDS if kind in named), not two_at_once, two_at_once, places)

    @classmethod
    def of_text(cls, text: str) -> "FailuresAsked":
        """From its ``text``."""
        failures, *more = text.split(" ")
        return cls.of(failures, TWO_AT_ONCE in more, PLACES in more)

    @property
    def text(self) -> str:
        """The same for all who ask the same."""
        failures = ",".join(self.kinds) or (SURVIVED if self.with_survival else NO_FAILURES)
        return " ".join([failures, *([TWO_AT_ONCE] if self.two_at_once else []), *([PLACES] if self.places else [])])
