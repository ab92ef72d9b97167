"""A flow over a window of time in sentences, to be pasted in a ticket."""

from collections import Counter
from collections.abc import Iterator, Sequence
from datetime import datetime
from typing import TYPE_CHECKING

from routrel.analysis.timeline.outages import event_words, length_words
from routrel.analysis.timeline.states import Timeline
from routrel.forwarding.flow import Flow

if TYPE_CHECKING:
    from routrel.analysis.timeline.strip import Span

MOST_TOLD = 8
"""Times of a kind that are told one by one; all are counted."""
WHOLE = "The network was whole all the time, as far as the model tells: look at the ends, the server first."


def story_of(timeline: Timeline, flow: Flow, spans: Sequence["Span"], start: datetime, end: datetime) -> list[str]:
    """What happened to a flow: whether it worked and when not, why, the ways it took, and what is not known."""
    known = [span for span in spans if span.outcome is not None]
    return [
        f"{flow.source} > {flow.destination} {flow.service}, from {time_words(start)} to {time_words(end)}.",
        *_unknown(spans),
        *(_worked(timeline, known) if known else ["Nothing is known of it in this time."]),
    ]


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
    bad = [span for span in spans if span.outcome is not None and not span.outcome.good]
    lost = sum(span.seconds for span in bad)
    if not bad:
        yield "It was let through all the time."
    elif lost >= total:
        yield "It was never let through."
    else:
        yield f"It was let through {1 - lost / total:.2%} of the time; not for {length_words(lost)}, {len(bad)} times."
    for span in bad[:MOST_TOLD]:
        assert span.outcome is not None
        yield f"- Not {_between(span.start, span.end)}: {span.outcome.words}{_because(timeline, span)}."
    if len(bad) > MOST_TOLD:
        longest = max(bad, key=lambda one: one.seconds)
        yield f"- … and {len(bad) - MOST_TOLD:,} more times; the longest was {_between(longest.start, longest.end)}."
    yield from _ways(timeline, spans)
    if not bad and len({span.outcome.shown for span in spans if span.outcome is not None}) == 1:
        yield WHOLE


def _because(timeline: Timeline, span: "Span") -> str:
    if not span.because:
        return ""
    words = [event_words(timeline.events[number]) for number in span.because]
    more = f" and {len(words) - 3} more" if len(words) > 3 else ""
    return f" (with {', '.join(words[:3])}{more})"


def _ways(timeline: Timeline, spans: Sequence["Span"]) -> Iterator[str]:
    """The ways it took, how long each; and when it fell back."""
    for at, direction in enumerate(("There", "Back")):
        lengths = Counter[str]()
        for span in spans:
            if span.outcome is not None and span.outcome.good and len(span.outcome.ways) > at:
                way = span.outcome.ways[at]
                more = f" and {way.path_count - 1:,} equal ways" if way.path_count > 1 else ""
                lengths[" – ".join(way.paths[0]) + more if way.paths else ""] += round(span.seconds)
        told = [f"by {way} for {length_words(seconds)}" for way, seconds in lengths.most_common(MOST_TOLD)]
        if told:
            rest = f", and {len(lengths) - len(told)} other ways" if len(lengths) > len(told) else ""
            yield f"{direction} it went {'; '.join(told)}{rest}."
    back = [span for span in spans if span.fell_back]
    for span in back[:MOST_TOLD]:
        gone = "; ".join(span.fell_back[:3])
        yield f"- Fell back {_between(span.start, span.end)}: {gone}{_because(timeline, span)}."
    if len(back) > MOST_TOLD:
        yield f"- … and fell back {len(back) - MOST_TOLD:,} more times."
