"""A flow over a window of time in sentences, to be pasted in a ticket."""

from collections import Counter, defaultdict
from collections.abc import Iterable, Iterator, Sequence
from datetime import datetime
from typing import TYPE_CHECKING, NamedTuple

from routrel.analysis.answers.health import PathHealth, Unusual
from routrel.analysis.timeline.flow_states import Outcome
from routrel.analysis.timeline.outages import event_shown
from routrel.analysis.timeline.states import Timeline
from routrel.analysis.timeline.unusual import value_words
from routrel.forwarding.flow import Flow
from routrel.model.times import length_words

if TYPE_CHECKING:
    from routrel.analysis.timeline.strip import Span

MOST_TOLD = 8
"""Reasons, and ways, that are told; all are counted."""
EACH_TOLD = 3
"""Times for one reason that are told one by one."""
WHOLE = "The network was whole all the time, as far as the model tells: look at the ends, the server first."


def story_of(
    timeline: Timeline,
    flow: Flow,
    spans: Sequence["Span"],
    start: datetime,
    end: datetime,
    health: PathHealth | None = None,
) -> list[str]:
    """What happened to a flow: whether it worked and when not, why, the ways it took, how all on them did, and what is
    not known."""
    known = [span for span in spans if span.outcome is not None]
    told = [
        f"{flow.source} > {flow.destination} {flow.service}, from {time_words(start)} to {time_words(end)}.",
        *_unknown(spans),
        *(_worked(timeline, known) if known else ["Nothing is known of it in this time."]),
    ]
    measured = [] if health is None else list(_measured(health))
    is_whole = known and _was_whole(known)
    if is_whole and (health is None or not health.unusual):
        return [*told, *measured, WHOLE]
    return [*told, *measured]


def _was_whole(spans: Sequence["Span"]) -> bool:
    return len({_outcome(span).shown for span in spans}) == 1 and _outcome(spans[0]).good


def _measured(health: PathHealth) -> Iterator[str]:
    """What was out of the ordinary on the ways, or that nothing was."""
    for way in health.delays:
        usual = "" if way.usual is None else f", usually {value_words('delay', way.usual)}"
        of = "" if way.known == way.links else f" of {way.known} of its {way.links} links"
        yield f"The delay {way.direction}{of} was {value_words('delay', way.median)} (median){usual}."
    of_one = defaultdict[tuple[str, str, str], list[Unusual]](list)
    for one in health.unusual:
        of_one[one.what, one.at, one.measure].append(one)
    for worst, *rest in list(of_one.values())[:MOST_TOLD]:
        again = "" if not rest else "; once more" if len(rest) == 1 else f"; {len(rest)} times more"
        yield f"- {worst.words[0].upper()}{worst.words[1:]}{again}."
    if len(of_one) > MOST_TOLD:
        yield f"- … and {len(of_one) - MOST_TOLD} more measures were unusual."
    has_usual = any(one.usual is not None for row in health.on_the_way for one in row.measured)
    if has_usual and not health.unusual:
        yield "Nothing that was measured on its ways was unusual."


def time_words(moment: datetime) -> str:
    """A moment to the second, where it is not a whole minute."""
    return moment.strftime("%Y-%m-%d %H:%M:%S UTC").replace(":00 UTC", " UTC")


def _between(start: datetime, end: datetime) -> str:
    return f"from {time_words(start)} to {time_words(end)} ({length_words((end - start).total_seconds())})"


def _unknown(spans: Sequence["Span"]) -> Iterator[str]:
    for span in spans:
        if span.unknown:
            yield f"Not known {_between(span.start, span.end)}: {span.unknown}."


def _worked(timeline: Timeline, spans: Sequence["Span"]) -> Iterator[str]:
    total = sum(span.seconds for span in spans)
    bad = _times((span, _outcome(span).words) for span in spans if not _outcome(span).good)
    lost = sum(one.seconds for one in bad)
    if not bad:
        yield "It was let through all the time."
    elif lost >= total:
        yield "It was never let through."
    else:
        times = "once" if len(bad) == 1 else f"{len(bad):,} times"
        yield f"It was let through {1 - lost / total:.2%} of the time; {times} it was not, {length_words(lost)} in all."
    yield from _told(timeline, bad, "Not")
    yield from _ways([span for span in spans if _outcome(span).good or lost >= total])
    yield from _told(
        timeline, _times((span, "; ".join(span.fell_back)) for span in spans if span.fell_back), "Fell back"
    )


def _outcome(span: "Span") -> Outcome:
    assert span.outcome is not None
    return span.outcome


class _Time(NamedTuple):
    """Spans one after the other of which the same is told."""

    start: datetime
    end: datetime
    words: str
    because: tuple[int, ...]

    @property
    def seconds(self) -> float:
        return (self.end - self.start).total_seconds()


def _times(told: Iterable[tuple["Span", str]]) -> list[_Time]:
    found = list[_Time]()
    for span, words in told:
        if found and found[-1].end == span.start and found[-1].words == words:
            found[-1] = found[-1]._replace(end=span.end)
        else:
            found.append(_Time(span.start, span.end, words, span.because))
    return found


def _told(timeline: Timeline, times: Sequence[_Time], how: str) -> Iterator[str]:
    """Times of which the same is told together, where they are many; the longest ones first."""
    alike = defaultdict[str, list[_Time]](list)
    for one in times:
        alike[one.words].append(one)
    kinds = sorted(alike.items(), key=lambda kind: -sum(one.seconds for one in kind[1]))
    for words, of in kinds[:MOST_TOLD]:
        if len(of) <= EACH_TOLD:
            for one in of:
                yield f"- {how} {_between(one.start, one.end)}: {words}{_because(timeline, one.because)}."
            continue
        longest = max(of, key=lambda one: one.seconds)
        seconds = length_words(sum(one.seconds for one in of))
        told = f"the longest {_between(longest.start, longest.end)}{_because(timeline, longest.because)}"
        yield f"- {how} {len(of):,} times, {seconds} in all: {words}; {told}."
    if len(kinds) > MOST_TOLD:
        rest = sum(len(of) for _, of in kinds[MOST_TOLD:])
        yield f"- … and {rest:,} more times for {len(kinds) - MOST_TOLD:,} other reasons."


def _because(timeline: Timeline, because: Sequence[int]) -> str:
    if not because:
        return ""
    words = [event_shown(timeline, number).words for number in because]
    more = f" and {len(words) - 3} more" if len(words) > 3 else ""
    return f" (with {', '.join(words[:3])}{more})"


def _ways(spans: Sequence["Span"]) -> Iterator[str]:
    """The ways it took, and how long each."""
    for at, direction in enumerate(("There", "Back")):
        lengths = Counter[str]()
        for span in spans:
            if len(_outcome(span).ways) > at:
                way = _outcome(span).ways[at]
                more = "" if way.path_count == 1 else f" and {way.path_count - 1:,} more just as long"
                lengths[" – ".join(way.paths[0]) + more if way.paths else ""] += round(span.seconds)
        told = [f"by {way} for {length_words(seconds)}" for way, seconds in lengths.most_common(MOST_TOLD)]
        if told:
            rest = f", and {len(lengths) - len(told)} other ways" if len(lengths) > len(told) else ""
            yield f"{direction} it went {'; '.join(told)}{rest}."
