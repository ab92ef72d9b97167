"""All traffic between places of a network under each failure of one thing alone, part by part."""

from collections.abc import Iterable, Iterator, Sequence

from routrel.analysis.answers.expectations import FailurePlaces, FailuresPart, PlacesUnderFailures
from routrel.analysis.expectations.failures import KIND_WORDS, KINDS, Failure, failed, failures_of
from routrel.analysis.held.effects import EFFECTS
from routrel.analysis.held.first_state import FirstState
from routrel.analysis.held.groups import comparing
from routrel.model.expectations import FailureKind
from routrel.routing.solve import Solved
from routrel.solving import solve


class PlacesStressed:
    """A network, and the failures that all its traffic is held against, each of which may be looked at by anybody."""

    def __init__(self, solved: Solved, kinds: Sequence[FailureKind]):
        self.solved = solved
        self._first = FirstState(solved)
        self.failures: list[Failure] = list(failures_of(solved, [kind for kind in KINDS if kind in kinds]))
        """All to look at, always in the same order."""

    def part(self, numbers: range) -> FailuresPart:
        """What some of the failures do to all traffic."""
        failures = self.failures[numbers.start : numbers.stop]
        return FailuresPart(len(failures), [], [], [self._under(failure) for failure in failures])

    def _under(self, failure: Failure) -> FailurePlaces:
        *_, last = comparing(self._first, solve(failed(self.solved.network, failure), self.solved))
        assert last.held is not None
        held = last.held
        return FailurePlaces(
            failure.kind, failure.name, failure.change, held.pairs, held.changed, held.effects, held.left_out
        )


def places_together(parts: Iterable[FailuresPart]) -> PlacesUnderFailures:
    """What was found of some parts: the failures by what they do to most pairs of places, the worst first."""
    found = [one for part in parts for one in part.places]
    changing = sorted((one for one in found if one.changed), key=_worst_first)
    pairs, left_out = max((one.pairs for one in found), default=0), max((one.left_out for one in found), default=0)
    cutting = sum(one.is_worse for one in found)
    words = f"{cutting:,} of {len(found):,} failures cut off some of {pairs:,} pairs of places"
    if left_out:
        words += f"; up to {left_out:,} pairs were not compared"
    return PlacesUnderFailures(words, pairs, changing, len(found), len(found) - len(changing))


def _worst_first(one: FailurePlaces) -> tuple[int | str, ...]:
    counts = {effect.effect: effect.pairs for effect in one.effects}
    lost = counts.get("blocked", 0) + counts.get("loops", 0)
    rest = (-counts.get(effect, 0) for effect in EFFECTS if effect not in ("blocked", "loops"))
    return -lost, *rest, KINDS.index(one.kind), one.name


def places_lines(found: PlacesUnderFailures) -> Iterator[str]:
    """The answer as lines for a terminal or a ticket."""
    yield found.words
    for one in found.failures:
        said = "; ".join(effect.words for effect in one.effects)
        yield f"{'-' if one.is_worse else '~'} without {KIND_WORDS[one.kind]} {one.name}: {said}"
    yield f"{found.harmless:,} of {found.failures_tried:,} failures change nothing"
