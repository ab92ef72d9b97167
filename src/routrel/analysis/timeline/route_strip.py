"""A table's route for one prefix over a window of time: what it went by when, and the events that concern it."""

from collections.abc import Iterable, Iterator, Mapping, Sequence
from datetime import datetime
from typing import NamedTuple

from routrel.analysis.answers.routes import TableRow
from routrel.analysis.answers.timeline import Availability, RouteOverTime, RouteOverTimeSoFar, RouteSegment
from routrel.analysis.comparison import row_text
from routrel.analysis.timeline.outages import MOST_EVENTS, Down, availability_of, event_shown
from routrel.analysis.timeline.outcomes import Outcomes, route_outcomes
from routrel.analysis.timeline.route_states import RouteAsked
from routrel.analysis.timeline.states import State, Step, Timeline
from routrel.analysis.timeline.strip import steps_of
from routrel.forwarding.flow import Flow
from routrel.model.addresses import Address, Prefix
from routrel.model.routing import DEFAULT_INSTANCE
from routrel.model.times import length_words, rfc3339

DAY_SECONDS = 86_400


def route_over_time(
    timeline: Timeline, asked: RouteAsked, start: datetime, end: datetime
) -> Iterator[RouteOverTimeSoFar]:
    """A route over a window, one state after the other; ``held`` comes last. Raises ``TooMuchHappenedError``."""
    address = str(Address(asked.prefix.family, asked.prefix.network))
    timeline = timeline.concerning([Flow(asked.device, address, vrf=asked.vrf)])
    steps, outcomes = steps_of(timeline, start, end), route_outcomes(timeline)
    states = list(dict.fromkeys(step.state for step in steps if not step.state.unknown))
    rows = dict[State, TableRow | None]()
    for done, state in enumerate(states):
        yield RouteOverTimeSoFar(done, len(states), None)
        rows[state] = outcomes.of(asked, state)
    yield RouteOverTimeSoFar(len(states), len(states), _told(timeline, asked, steps, rows, outcomes, end))


def _told(
    timeline: Timeline,
    asked: RouteAsked,
    steps: Sequence[Step],
    rows: Mapping[State, TableRow | None],
    outcomes: Outcomes[RouteAsked, TableRow | None],
    end: datetime,
) -> RouteOverTime:
    start = steps[0].moment
    spans = list(_spans(steps, rows, end))
    usual = _usual(spans)
    longest = max((Prefix.parse(span.row.prefix).length for span in spans if span.row is not None), default=-1)
    segments = [
        RouteSegment(
            rfc3339(span.start),
            rfc3339(span.end),
            span.row,
            span.unknown,
            list(span.because),
            span.row is not None and Prefix.parse(span.row.prefix).length < longest,
        )
        for span in spans
    ]
    known = [(span, segment) for span, segment in zip(spans, segments, strict=True) if not span.unknown]
    row = None if usual is None else spans[usual].row
    away = availability_of(
        "route",
        f"route of {asked.device}{'' if asked.vrf == DEFAULT_INSTANCE else f' {asked.vrf}'} for {asked.prefix}",
        str(asked.prefix),
        _downs((span for span, _ in known if span.row != row), end),
        start,
        end,
        "times",
    )
    gone = _downs((span for span, segment in known if span.row is None or segment.fell_back), end)
    numbers = {number for segment in segments for number in segment.because}
    for number in range(timeline.number_before(start), timeline.number_after(end)):
        if any(outcomes.touches(asked, switch) for switch in timeline.switched[number]):
            numbers.add(number)
    return RouteOverTime(
        rfc3339(start),
        rfc3339(end),
        asked.device,
        asked.vrf,
        str(asked.prefix),
        segments,
        [event_shown(timeline, number) for number in sorted(numbers)[-MOST_EVENTS:]],
        usual,
        away,
        list(_words(spans, away, [down.seconds(start, end) for down in gone], len(numbers))),
    )


class _Span(NamedTuple):
    """A part of a window with one route."""

    start: datetime
    end: datetime
    row: TableRow | None
    unknown: str
    because: tuple[int, ...]

    @property
    def seconds(self) -> float:
        return (self.end - self.start).total_seconds()


def _spans(steps: Sequence[Step], rows: Mapping[State, TableRow | None], end: datetime) -> Iterator[_Span]:
    last: _Span | None = None
    for number, step in enumerate(steps):
        until, unknown = steps[number + 1].moment if number + 1 < len(steps) else end, step.state.unknown
        row = None if unknown else rows[step.state]
        if last is not None and (last.row, last.unknown) == (row, unknown):
            last = last._replace(end=until)
            continue
        if last is not None:
            yield last
        last = _Span(step.moment, until, row, unknown, step.events if number else ())
    if last is not None:
        yield last


def _usual(spans: Sequence[_Span]) -> int | None:
    """The first span with the route of the longest time."""
    lasting = list[tuple[int, float]]()
    for at, span in enumerate(spans):
        if span.row is not None:
            same = next((place for place, (first, _) in enumerate(lasting) if spans[first].row == span.row), None)
            if same is None:
                lasting.append((at, span.seconds))
            else:
                lasting[same] = lasting[same][0], lasting[same][1] + span.seconds
    return max(lasting, key=lambda one: one[1])[0] if lasting else None


def _downs(spans: Iterable[_Span], end: datetime) -> list[Down]:
    """Spans one after the other as one; what goes on to the end has none."""
    found = list[Down]()
    for span in spans:
        before = found.pop() if found and found[-1].end == span.start else None
        found.append(Down(before.start if before else span.start, span.end))
    return [down._replace(end=None if down.end == end else down.end) for down in found]


def _words(spans: Sequence[_Span], away: Availability, gone: Sequence[float], events: int) -> Iterator[str]:
    """How often and how long it was another than usual, whether that gets worse, and when it was gone."""
    known = [span for span in spans if not span.unknown]
    if not known:
        yield "It is not known."
        return
    if not any(span.row is not None for span in known):
        yield "There was none all the time."
    elif not away.outages:
        yield "It was the same all the time."
    else:
        days = sum(span.seconds for span in spans) / DAY_SECONDS
        often = f" ({away.outages / days:.2g} a day)" if days >= 1 and away.outages > 1 else ""
        times = _times(away.outages, away.down_seconds, away.longest_seconds)
        is_told = (len(gone), sum(gone)) == (away.outages, away.down_seconds)
        rest = "" if is_told else f"; another, or none, {times}{often}"
        yield f"It was the usual one {away.up:.2%} of the time{rest}."
    if away.trend:
        yield f"That is {away.trend}."
    if gone:
        yield f"It was gone, or a shorter prefix stood for it, {_times(len(gone), sum(gone), max(gone))}."
    count = "No event concerns" if not events else "1 event concerns" if events == 1 else f"{events:,} events concern"
    yield f"{count} it."


def _times(count: int, seconds: float, longest: float) -> str:
    times = "once" if count == 1 else f"{count:,} times"
    return f"{times}, {length_words(seconds)} in all" + (f", the longest {length_words(longest)}" if count > 1 else "")


def route_lines(found: RouteOverTime) -> Iterator[str]:
    """The answer as lines for a terminal or a ticket."""
    at = found.device if found.vrf == DEFAULT_INSTANCE else f"{found.device}/{found.vrf}"
    yield f"{at} {found.prefix}, from {found.start} to {found.end}."
    yield from found.words
    words = {event.number: event.words for event in found.events}
    for segment in found.segments:
        told = f"not known: {segment.unknown}" if segment.unknown else row_text(segment.route)
        prefix = f"{segment.route.prefix} " if segment.route is not None else ""
        because = ", ".join(words[number] for number in segment.because if number in words)
        yield f"{segment.start} {prefix}{told}{f' ({because})' if because else ''}"
