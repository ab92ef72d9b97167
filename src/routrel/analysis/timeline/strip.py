"""Flows over a window of time: segments, in each of which nothing about a flow changes."""

from collections import Counter
from collections.abc import Iterable, Iterator, Mapping, Sequence
from datetime import datetime
from itertools import islice, takewhile
from typing import NamedTuple

from routrel.analysis.answers.health import PathHealth
from routrel.analysis.answers.timeline import (
    FlowState,
    Segment,
    Strip,
    StripsHeld,
    StripsSoFar,
    WayOverTime,
)
from routrel.analysis.timeline.flow_states import Outcome, RouteUsed, Way
from routrel.analysis.timeline.health import health, ways_in_use
from routrel.analysis.timeline.outages import availability, event_shown, things_of
from routrel.analysis.timeline.outcomes import flow_outcomes
from routrel.analysis.timeline.states import State, Step, Timeline
from routrel.analysis.timeline.story import story_of
from routrel.analysis.walk_verdicts import asked_flow
from routrel.forwarding.flow import Flow
from routrel.model.times import rfc3339

SHOWN_EVERY = 50
"""States after which what is known so far is told."""

MOST_STEPS = 10_000
"""Moments of a window at which something happened that may concern its flows."""


class TooMuchHappenedError(Exception):
    """That a window is too wide to be told; the message says so."""


class Span(NamedTuple):
    """A part of a window in one state of the flow, with its outcome; None where nobody knows."""

    start: datetime
    end: datetime
    outcome: Outcome | None
    unknown: str
    because: tuple[int, ...]
    fell_back: tuple[str, ...]

    @property
    def seconds(self) -> float:
        return (self.end - self.start).total_seconds()


def strips(timeline: Timeline, flows: Sequence[Flow], start: datetime, end: datetime) -> Iterator[StripsSoFar]:
    """Flows over a window, one state after the other; ``held`` comes last."""
    timeline = timeline.concerning(flows)
    steps = steps_of(timeline, start, end)
    states = list(dict.fromkeys([State(), *(step.state for step in steps if not step.state.unknown)]))
    found_in = flow_outcomes(timeline)
    # Its own: what is kept may be forgotten meanwhile for another strip.
    outcomes: dict[tuple[Flow, State], Outcome] = {}
    begun = list[Strip]()
    for done, state in enumerate(states):
        if done % SHOWN_EVERY == SHOWN_EVERY - 1:
            begun = _begun(timeline, flows, steps, outcomes)
        yield StripsSoFar(done, len(states), begun, None)
        outcomes.update({(flow, state): found_in.of(flow, state) for flow in flows})
    found = list[list[Span]]()
    for flow in flows:
        of = {state: outcomes[flow, state] for state in states}
        found.append(list(_spans(steps, of, of[State()], end)))
    yield StripsSoFar(len(states), len(states), [], _held(timeline, flows, found, start, end))


def steps_of(timeline: Timeline, start: datetime, end: datetime) -> list[Step]:
    """All moments of a window at which something happened; raises ``TooMuchHappenedError``."""
    steps = list(islice(timeline.steps(start, end), MOST_STEPS + 1))
    if len(steps) > MOST_STEPS:
        raise TooMuchHappenedError(f"more than {MOST_STEPS:,} things happened in this window: choose a shorter one")
    return steps


def _begun(
    timeline: Timeline, flows: Sequence[Flow], steps: Sequence[Step], outcomes: Mapping[tuple[Flow, State], Outcome]
) -> list[Strip]:
    """The strips up to the first moment of which it is not known yet what becomes of the flows."""
    known = list(takewhile(lambda step: step.state.unknown or (flows[-1], step.state) in outcomes, steps))
    if len(known) < 2:
        return []
    end = known.pop().moment
    found = []
    for flow in flows:
        of = {step.state: outcomes[flow, step.state] for step in known if not step.state.unknown}
        found.append(
            _strip(timeline, flow, list(_spans(known, of, outcomes[flow, State()], end)), known[0].moment, end)
        )
    return found


def _held(
    timeline: Timeline, flows: Sequence[Flow], found: Sequence[Sequence[Span]], start: datetime, end: datetime
) -> StripsHeld:
    hops = {
        hop
        for spans in found
        for span in spans
        if span.outcome is not None
        for way in span.outcome.ways
        for hop in way.hops
    }
    devices = {name for device, _, beyond in hops for name in (device, beyond)}
    switches = things_of(timeline, devices, _ports(timeline, hops))
    things = [availability(timeline, switch, start, end) for switch in switches]
    lasting = ((span.outcome.ways, span.seconds) for spans in found for span in spans if span.outcome is not None)
    well = health(timeline, ways_in_use(lasting), start, end)
    numbers = {number for spans in found for span in spans for number in span.because}
    wanted = set(switches)
    for number in range(timeline.number_before(start), timeline.number_after(end)):
        if wanted.intersection(timeline.switched[number]):
            numbers.add(number)
    return StripsHeld(
        rfc3339(start),
        rfc3339(end),
        [_strip(timeline, flow, spans, start, end, well) for flow, spans in zip(flows, found, strict=True)],
        [event_shown(timeline, number) for number in sorted(numbers)],
        sorted((one for one in things if one.outages), key=lambda one: one.up),
        well,
    )


def _ports(timeline: Timeline, hops: Iterable[tuple[str, str, str]]) -> set[str]:
    """Interfaces that packets left by, and those at the other ends of their links."""
    left = {f"{device}:{interface}" for device, interface, _ in hops}
    ends = ([str(end) for end in link.ends] for link in timeline.solved.network.links)
    return left.union(*(names for names in ends if not left.isdisjoint(names)))


def _spans(steps: Sequence[Step], of: dict[State, Outcome], normal: Outcome, end: datetime) -> Iterator[Span]:
    """Steps of which each differs from the one before, with what of the ways before is gone."""
    longest = dict(normal.routes)
    exits = _exits(normal)
    last: Span | None = None
    for number, step in enumerate(steps):
        until = steps[number + 1].moment if number + 1 < len(steps) else end
        outcome = of.get(step.state)
        if last is not None and _is_same(last, outcome, step.state.unknown):
            last = last._replace(end=until)
            continue
        if last is not None:
            yield last
        exits = exits or (() if outcome is None else _exits(outcome))
        fell_back = () if outcome is None else tuple(_fell_back(outcome, longest, exits))
        last = Span(step.moment, until, outcome, step.state.unknown, step.events, fell_back)
        for device, route in () if outcome is None else outcome.routes.items():
            if device not in longest or route.prefix.length > longest[device].prefix.length:
                longest[device] = route
    if last is not None:
        yield last


def _is_same(last: Span, outcome: Outcome | None, unknown: str) -> bool:
    if last.outcome is None or outcome is None:
        return last.outcome is outcome and last.unknown == unknown
    return last.outcome.shown == outcome.shown and last.outcome.routes == outcome.routes


def _fell_back(outcome: Outcome, longest: dict[str, RouteUsed], exits: tuple[str, ...]) -> Iterator[str]:
    """Which routes are gone where it goes by a shorter prefix than before, and by which other exit it leaves."""
    for device, route in outcome.routes.items():
        before = longest.get(device)
        if (
            before is not None
            and before.prefix.family == route.prefix.family
            and before.prefix.length > route.prefix.length
        ):
            what = "the default" if route.prefix.length == 0 else str(route.prefix)
            yield f"{device} goes by {what} ({route.protocol}): {before.prefix} ({before.protocol}) is gone"
    now = _exits(outcome)
    if now and exits and now != exits:
        yield f"it leaves by {', '.join(now)}, not by {', '.join(exits)}"


def _exits(outcome: Outcome) -> tuple[str, ...]:
    return outcome.ways[0].exits if outcome.ways else ()


def _strip(
    timeline: Timeline,
    flow: Flow,
    spans: Sequence[Span],
    start: datetime,
    end: datetime,
    well: PathHealth | None = None,
) -> Strip:
    ways = list[Way]()
    states = dict[tuple[object, ...], int]()
    shown = list[FlowState]()
    lasting: tuple[Counter[int], Counter[int]] = (Counter(), Counter())
    segments = list[Segment]()
    for span in spans:
        state = None
        if span.outcome is not None:
            state = states.setdefault(span.outcome.shown, len(shown))
            if state == len(shown):
                shown.append(_flow_state(span.outcome, ways))
            for counter, way in zip(lasting, (shown[state].way, shown[state].way_back), strict=True):
                if way is not None and shown[state].good:
                    counter[way] += round(span.seconds * 1000)
        times = rfc3339(span.start), rfc3339(span.end)
        segments.append(Segment(*times, state, span.unknown, list(span.because), list(span.fell_back)))
    usual, back = (counter.most_common(1)[0][0] if counter else None for counter in lasting)
    return Strip(
        asked_flow(flow),
        shown,
        [WayOverTime([list(path) for path in way.paths], way.path_count, list(way.exits)) for way in ways],
        segments,
        usual,
        back,
        story_of(timeline, flow, spans, start, end, well),
    )


def _flow_state(outcome: Outcome, ways: list[Way]) -> FlowState:
    """A state with its ways by number, which are the same where the way is."""
    numbers = list[int]()
    for way in outcome.ways:
        number = next((at for at, known in enumerate(ways) if known.is_like(way)), len(ways))
        if number == len(ways):
            ways.append(way)
        numbers.append(number)
    there, back = (*numbers, None, None)[:2]
    return FlowState(outcome.forward, outcome.reply, outcome.good, there, back, outcome.words)
