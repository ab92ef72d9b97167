"""Which expectations hang on one thing: what becomes of them where it fails."""

from collections import defaultdict
from collections.abc import Sequence

from routrel.analysis.answers.expectations import Endangered, EndangeredExpectation
from routrel.analysis.expectations.conditions import Conditions
from routrel.analysis.expectations.failures import Failure, failure_of
from routrel.analysis.expectations.holding import flows_of
from routrel.analysis.expectations.standing_by import OwnExits
from routrel.analysis.expectations.stress import BROKEN, OUTCOMES, Stress, Watched
from routrel.analysis.expectations.words import MOST_NAMED, expectation_words, flow_words
from routrel.model.expectations import Expectation, FailureKind
from routrel.model.findings import SEVERITIES
from routrel.routing.solve import Solved


class Endangering:
    """The expectations of a network that hold, asked about one failure after the other."""

    def __init__(self, solved: Solved, expectations: Sequence[Expectation]):
        conditions = Conditions(solved)
        checked = [(one, conditions.check(one, flow)) for one in expectations for flow in flows_of(one)]
        self.solved = solved
        self.of = [(one, found.walk) for one, found in checked if found.holds and found.walk is not None]
        self.stress = Stress(solved, [Watched(walk.flow, one.expect, walk) for one, walk in self.of])
        self._exits = OwnExits(self.stress)

    def by(self, kind: FailureKind, at: str) -> Endangered:
        """What the failure of one thing does; raises ``NothingToFailError``. It is named as a change names it."""
        failure = failure_of(self.solved, kind, at)
        of = defaultdict[str, list[tuple[int, str]]](list)
        expectation_of = {one.name: one for one, _ in self.of}
        hurts = self.stress.under(failure)
        hurts += self._exits.left_single(failure, {hurt.number for hurt in hurts})
        for number, outcome in hurts:
            expectation, walk = self.of[number]
            of[expectation.name].append((OUTCOMES.index(outcome), flow_words(walk.flow)))
        found = []
        for name, flows in of.items():
            worst = min(rank for rank, _ in flows)
            named = [words for rank, words in flows if rank == worst]
            expectation = expectation_of[name]
            found.append(
                EndangeredExpectation(
                    name,
                    expectation_words(expectation),
                    expectation.severity,
                    expectation.owner,
                    OUTCOMES[worst],
                    named[:MOST_NAMED],
                    len(named),
                )
            )
        found.sort(key=lambda one: (OUTCOMES.index(one.outcome), SEVERITIES.index(one.severity)))
        words = _words(failure, found)
        if self._exits.left_out:
            words += f"; whether flows by {self._exits.left_out:,} more exits keep another was not looked at"
        return Endangered(words, failure.kind, failure.name, failure.change, found)


def _words(failure: Failure, found: Sequence[EndangeredExpectation]) -> str:
    failing = sum(one.outcome in BROKEN for one in found)
    single = sum(one.outcome == "single" for one in found)
    words = f"without {failure.words} {failing} expectation{' fails' if failing == 1 else 's fail'}"
    if single:
        words += f", {single} {'is' if single == 1 else 'are'} left a single way"
    return f"{words}, {len(found) - failing - single} go otherwise"
