"""An order in which to drain and shut things so that nothing expected breaks at any step, or as little as can be."""

from collections.abc import Iterable, Iterator, Mapping, Sequence
from typing import Any, Literal, NamedTuple

from routrel.analysis.answers.maintenance import (
    BrokenThen,
    FewerWays,
    Maintenance,
    MaintenanceSoFar,
    MaintenanceStep,
)
from routrel.analysis.expectations.failures import KIND_WORDS, Failure, failure_of
from routrel.analysis.expectations.single_ways import LeftSingle, SingleWays, ends_of_way
from routrel.analysis.expectations.stress import passes_ports
from routrel.analysis.expectations.words import MOST_NAMED, flow_words
from routrel.analysis.maintenance.draining import drained_by, ports_over
from routrel.analysis.maintenance.states import Expected, State, States
from routrel.model.expectations import FailureKind
from routrel.routing.solve import Solved

MOST_SHUT = 8
"""Things that are shut by one plan."""

MOST_STATES = 120
"""States that are solved to find an order."""

Changes = list[dict[str, Any]]


NOTHING_TO_TELL_BY = "no expected flow that holds goes anywhere else: what breaks cannot be told"


class MaintenanceError(Exception):
    """What cannot be planned; the message says why."""


class _Target(NamedTuple):
    """Something to shut: how it is drained, and the ports that lead to it or over it."""

    failure: Failure
    drain: Changes
    ports: frozenset[int]

    @property
    def shut(self) -> Changes:
        return [self.failure.change]


class _Planned(NamedTuple):
    """A step with the state before it and after it."""

    kind: Literal["drain", "shut"]
    target: _Target
    changes: Changes
    before: State
    after: State


def things_to_shut(words: Iterable[str]) -> list[tuple[FailureKind, str]]:
    """What is to be shut, each with what it is, like ``device bw-core2``; raises ``MaintenanceError``."""
    kinds: dict[str, FailureKind] = {word: kind for kind, word in KIND_WORDS.items()}
    found = []
    for part in filter(None, map(str.strip, words)):
        kind = next((kind for word, kind in kinds.items() if part.startswith(f"{word} ")), None)
        if kind is None:
            allowed = ", ".join(kinds)
            raise MaintenanceError(f"{part!r} does not say what it is: {allowed} is expected before its name")
        found.append((kind, part.removeprefix(KIND_WORDS[kind]).strip()))
    if not found:
        raise MaintenanceError("nothing is named to be shut")
    if len(found) > MOST_SHUT:
        raise MaintenanceError(f"{len(found)} things are to be shut; at most {MOST_SHUT} are planned at once")
    if len(set(found)) < len(found):
        raise MaintenanceError("something is named twice")
    return found


def planning(
    files: Mapping[str, bytes], solved: Solved, shut: Sequence[tuple[FailureKind, str]]
) -> Iterator[MaintenanceSoFar]:
    """A plan, state by state.

    Raises ``NothingToFailError`` for a name of nothing that is up. Where nothing is expected nothing is said to be
    well.
    """
    failures = [failure_of(solved, kind, at) for kind, at in shut]
    targets = list[_Target]()
    for failure in failures:
        ports = ports_over(solved.topology, failure)
        targets.append(_Target(failure, drained_by(solved, ports), frozenset(ports)))
    states = States(files, solved, failures)
    search = _Search(states, targets)
    for _ in search.looking():
        yield MaintenanceSoFar(states.looked_at, MOST_STATES, None)
    yield MaintenanceSoFar(states.looked_at, states.looked_at, _answer(states, targets, search.steps))


def plan(files: Mapping[str, bytes], solved: Solved, shut: Sequence[tuple[FailureKind, str]]) -> Maintenance:
    """The same at once."""
    *_, last = planning(files, solved, shut)
    assert last.held is not None
    return last.held


class _Search:
    """Goes through orders, the one that was written first, until one breaks nothing that need not break."""

    def __init__(self, states: States, targets: Sequence[_Target]):
        self.states = states
        self.targets = targets
        self.steps: list[_Planned] = []
        """Of the order that was found, or of the one that was written."""

    def looking(self) -> Iterator[None]:
        """Look at one state after the other."""
        everything = [change for one in self.targets for change in (*one.drain, *one.shut)]
        unavoidable = self.states.after(everything).broken.keys()
        yield
        stack: list[list[_Planned]] = [[]]
        seen = set[frozenset[str]]()
        while stack and self.states.looked_at < MOST_STATES:
            steps = stack.pop()
            done = frozenset(one.target.failure.words for one in steps if one.kind == "shut")
            if done in seen:
                continue  # in whatever order these were shut, the state is the same
            seen.add(done)
            left = [one for one in self.targets if one.failure.words not in done]
            if not left:
                self.steps = steps
                return
            for target in reversed(left):
                next_steps = self._next(steps, target)
                yield
                if all(one.after.broken.keys() <= unavoidable for one in next_steps):
                    stack.append([*steps, *next_steps])
        for target in self.targets:
            self.steps += self._next(self.steps, target)
            yield

    def _next(self, steps: list[_Planned], target: _Target) -> list[_Planned]:
        before = steps[-1].after if steps else self.states.as_it_is
        changes = list(steps[-1].changes) if steps else []
        found = []
        if target.drain:
            changes = [*changes, *(one for one in target.drain if one not in changes)]
            drained = self.states.after(changes)
            found.append(_Planned("drain", target, changes, before, drained))
            before = drained
        changes = [*changes, *target.shut]
        return [*found, _Planned("shut", target, changes, before, self.states.after(changes))]


def _answer(states: States, targets: Sequence[_Target], steps: Sequence[_Planned]) -> Maintenance:
    listed = [_step(states, one) for one in steps]
    breaks = [broken for one in listed for broken in one.breaks]
    fewer = list(_fewer_ways(states, steps[-1].after))
    return Maintenance(
        _words(breaks, fewer, len(targets)) if states.expected else NOTHING_TO_TELL_BY,
        bool(states.expected) and not breaks,
        [one.failure.words for one in targets],
        listed,
        fewer,
        [_flow(one) for one in states.own_ends],
        len(states.expected),
        states.looked_at,
    )


def _step(states: States, one: _Planned) -> MaintenanceStep:
    what = one.target.failure.words
    breaks = [
        BrokenThen(states.expected[number].expectation.name, _flow(states.expected[number]), reason)
        for number, reason in sorted(one.after.broken.items())
        if number not in one.before.broken
    ]
    passing = []
    if one.kind == "drain":
        passing = [
            _flow(states.expected[number])
            for number, walk in sorted(one.after.walks.items())
            if passes_ports(walk, one.target.ports)
        ]
    words = f"drain {what}: {_drain_words(one.target.drain)}" if one.kind == "drain" else f"shut {what}"
    return MaintenanceStep(one.kind, words, one.changes, states.moved(one.before, one.after), passing, breaks)


def _drain_words(drain: Changes) -> str:
    lowered = sum(change["set"] == "vrrp_priority" for change in drain)
    raised = len(drain) - lowered
    costs = f"{raised} cost{'' if raised == 1 else 's'} raised" if raised else ""
    priorities = f"{lowered} VRRP priorit{'y' if lowered == 1 else 'ies'} lowered" if lowered else ""
    return ", ".join(filter(None, (costs, priorities)))


def _fewer_ways(states: States, last: State) -> Iterator[FewerWays]:
    """Flows that are left a single way while all is shut."""
    topology, ways = last.solved.topology, SingleWays(states.solved.topology)
    known = dict[tuple[int, int], LeftSingle | None]()
    for number, walk in sorted(last.walks.items()):
        ends = ends_of_way(topology, walk)
        if ends is None:
            continue
        if ends not in known:
            known[ends] = ways.left(topology, *ends)
        left = known[ends]
        if left is not None:
            one = states.expected[number]
            yield FewerWays(one.expectation.name, _flow(one), *left)


def _flow(one: Expected) -> str:
    return flow_words(one.flow)


def _words(breaks: Sequence[BrokenThen], fewer: Sequence[FewerWays], count: int) -> str:
    things = "this" if count == 1 else "these"
    if breaks:
        flows = len({one.flow for one in breaks})
        words = f"{things} cannot{'' if count == 1 else ' all'} be shut without breaking {flows} expected flow"
        words += "" if flows == 1 else "s"
    else:
        order = "" if count == 1 else " in this order"
        words = f"{things} can be shut{order}, and nothing expected breaks at any step"
    if fewer:
        words += f"; {len(fewer)} {'is' if len(fewer) == 1 else 'are'} left a single way meanwhile"
    return words


def maintenance_lines(found: Maintenance) -> Iterator[str]:
    """The plan as lines for a terminal or a ticket."""
    yield found.words
    for number, step in enumerate(found.steps, 1):
        flows = f"{found.flow_count} flow{'' if found.flow_count == 1 else 's'}"
        go = "goes" if step.moved == 1 else "go"
        moved = f"; {step.moved} of {flows} {go} another way" if step.moved else ""
        yield f"{number}. {step.words}{moved}"
        for broken in step.breaks[:MOST_NAMED]:
            yield f"    - breaks {broken.flow} ({broken.expectation}): {broken.reason}"
        if len(step.breaks) > MOST_NAMED:
            yield f"    … and {len(step.breaks) - MOST_NAMED:,} more"
        if step.passing:
            more = f" and {len(step.passing) - MOST_NAMED} more" if len(step.passing) > MOST_NAMED else ""
            yield f"    ~ still over it, cut for a moment when it is shut: {', '.join(step.passing[:MOST_NAMED])}{more}"
    for one in found.fewer_ways:
        yield f"~ {one.flow} is left {one.then} of {one.before} ways that share no {one.apart}"
    if found.own_ends:
        ends = "flow ends" if len(found.own_ends) == 1 else "flows end"
        yield f"{len(found.own_ends):,} expected {ends} in what is shut"
