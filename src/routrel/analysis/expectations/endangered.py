"""Which expectations hang on one thing: what becomes of them where it fails."""

from collections import defaultdict
from collections.abc import Iterator, Mapping, Sequence

from routrel.analysis.answers.expectations import Danger, Endangered, EndangeredExpectation, Outcome
from routrel.analysis.expectations.conditions import Conditions
from routrel.analysis.expectations.failures import Failure, failed, failure_of
from routrel.analysis.expectations.holding import BROKEN, flows_of
from routrel.analysis.expectations.separate_ways import LeftSingle, SingleWays, ends_of_way
from routrel.analysis.expectations.stress import Stress, Watched
from routrel.analysis.expectations.words import MOST_NAMED, expectation_words, flow_words
from routrel.model.expectations import Expectation, FailureKind
from routrel.model.findings import SEVERITIES
from routrel.routing.solve import Solved
from routrel.topology.segments import Topology

DANGERS: tuple[Danger, ...] = ("loops", "breaks", "single", "exit", "longer", "moves")
"""From the worst to the least."""


class Endangering:
    """The expectations of a network that hold, asked about one failure after the other."""

    def __init__(self, solved: Solved, expectations: Sequence[Expectation]):
        conditions = Conditions(solved)
        checked = [(one, conditions.check(one, flow)) for one in expectations for flow in flows_of(one)]
        self.solved = solved
        self.of = [(one, found.walk) for one, found in checked if found.holds and found.walk is not None]
        self.ways = SingleWays(solved.topology)
        self.stress = Stress(solved, [Watched(walk.flow, one.expect, walk) for one, walk in self.of])

    def by(self, kind: FailureKind, at: str) -> Endangered:
        """What the failure of one thing does; raises ``NothingToFailError``. It is named as a change names it."""
        failure = failure_of(self.solved, kind, at)
        hurt = {one.number: one.outcome for one in self.stress.under(failure)}
        of = defaultdict[str, list[tuple[int, str]]](list)
        expectation_of = {one.name: one for one, _ in self.of}
        for number, outcome in self._dangers(failure, hurt):
            expectation, walk = self.of[number]
            of[expectation.name].append((DANGERS.index(outcome), flow_words(walk.flow)))
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
                    DANGERS[worst],
                    named[:MOST_NAMED],
                    len(named),
                )
            )
        found.sort(key=lambda one: (DANGERS.index(one.outcome), SEVERITIES.index(one.severity)))
        return Endangered(_words(failure, found), failure.kind, failure.name, failure.change, found)

    def _dangers(self, failure: Failure, hurt: Mapping[int, Outcome]) -> Iterator[tuple[int, Danger]]:
        """What becomes of each flow that something becomes of; whether it carries the flow or stands by."""
        then = Topology(failed(self.solved.network, failure))
        known = dict[tuple[int, int], LeftSingle | None]()
        for number, (expectation, walk) in enumerate(self.of):
            outcome = hurt.get(number)
            if outcome not in BROKEN and expectation.expect != "never arrives":
                ends = ends_of_way(self.solved.topology, walk)
                if ends is not None and not {self.solved.topology.devices[end].name for end in ends} & failure.devices:
                    if ends not in known:
                        known[ends] = self.ways.left(then, *ends)
                    if known[ends] is not None:
                        yield number, "single"
                        continue
            if outcome is not None:
                yield number, outcome


def _words(failure: Failure, found: Sequence[EndangeredExpectation]) -> str:
    failing = sum(one.outcome in BROKEN for one in found)
    single = sum(one.outcome == "single" for one in found)
    words = f"without {failure.words} {failing} expectation{' fails' if failing == 1 else 's fail'}"
    if single:
        words += f", {single} {'is' if single == 1 else 'are'} left a single way"
    return f"{words}, {len(found) - failing - single} go otherwise"
