"""What was down, how often and how long, by events alone."""

from collections import Counter
from collections.abc import Iterable, Iterator, Sequence
from datetime import UTC, datetime, timedelta
from typing import Literal, NamedTuple

from routrel.analysis.answers.timeline import Availability, EventShown, Happened, Outage, PrefixChanges
from routrel.analysis.timeline.states import Timeline
from routrel.analysis.timeline.switches import Switch, words_of
from routrel.analysis.timeline.unusual import most_unusual
from routrel.formats.changes.text_edits import written
from routrel.model.announcements import WITHDRAWN
from routrel.model.events import Event
from routrel.model.times import length_words, rfc3339

MOST_LISTED = 20
"""Of outages, and of what goes down most."""
MOST_EVENTS = 1000
"""Events that are listed; all are counted."""
LAST_HOUR = timedelta(hours=1)
BEGINNING = datetime.min.replace(tzinfo=UTC)
TREND_FROM = 4
"""Outages from which on a trend is told."""
WORSE = 1.5
"""So much more in the second half of a window is a trend."""


class Down(NamedTuple):
    """Something is down from ``start``, None where it was before all events, to ``end``, None where it still is."""

    start: datetime | None
    end: datetime | None

    def seconds(self, since: datetime, until: datetime) -> float:
        """How long, as far as it is known: from ``since`` where its start is not, ``until`` where it goes on."""
        return ((self.end or until) - (self.start or since)).total_seconds()

    def within(self, start: datetime, end: datetime) -> "Down":
        """The part in a window."""
        return Down(max(self.start or start, start), min(self.end or end, end))


def downs_of(timeline: Timeline, switch: Switch, start: datetime, end: datetime) -> list[Down]:
    """The times in which something was down in some part of a window, in order, with their whole length."""
    found = list[Down]()
    is_down = not timeline.is_on(switch, BEGINNING)
    since: datetime | None = None
    for moment in timeline.moments_of(switch, BEGINNING, end):
        was_down, is_down = is_down, not timeline.is_on(switch, moment)
        if is_down and not was_down:
            since = moment
        elif was_down and not is_down:
            if moment > start:
                found.append(Down(since, moment))
            since = None
    if is_down:
        found.append(Down(since, None))
    return found


def availability(timeline: Timeline, switch: Switch, start: datetime, end: datetime) -> Availability:
    """How something did over a window."""
    words = words_of(timeline.solved.network, switch)
    return availability_of(switch.what, words, switch.at, downs_of(timeline, switch, start, end), start, end)


def availability_of(
    what: str, words: str, at: str, downs: Sequence[Down], start: datetime, end: datetime, counted: str = "outages"
) -> Availability:
    """How something did over a window, by the times that it was down in it, which are ``counted`` in words."""
    lengths = [one.within(start, end).seconds(start, end) for one in downs]
    window = (end - start).total_seconds()
    hours = Counter(one.start.hour for one in downs if one.start is not None)
    return Availability(
        what,
        words,
        at,
        1 - sum(lengths) / window if window > 0 else 1.0,
        len(downs),
        max(lengths, default=0.0),
        sum(lengths),
        bool(downs) and downs[-1].end is None,
        _trend(downs, lengths, start, end, counted),
        [hours[hour] for hour in range(24)],
    )


def _trend(downs: Sequence[Down], lengths: Sequence[float], start: datetime, end: datetime, counted: str) -> str:
    """Whether the second half of a window is worse than the first, with the numbers; '' where it cannot be told."""
    if len(downs) < TREND_FROM:
        return ""
    middle = start + (end - start) / 2
    halves: tuple[list[float], list[float]] = ([], [])
    for down, length in zip(downs, lengths, strict=True):
        halves[(down.start or start) >= middle].append(length)
    first, second = halves
    told = f"{len(first)} then {len(second)} {counted} in the halves of the window"
    lasted = f"{length_words(sum(first))} then {length_words(sum(second))}"
    are_longer = len(second) >= len(first) > 0 and sum(second) >= WORSE * sum(first)
    if len(second) >= WORSE * max(1, len(first)) or are_longer:
        return f"getting worse: {told}, {lasted}"
    if len(first) >= WORSE * max(1, len(second)):
        return f"getting better: {told}, {lasted}"
    return f"steady: {told}, {lasted}"


def event_shown(timeline: Timeline, number: int) -> EventShown:
    """An event, or behind all of them an announcement, in words."""
    if number >= len(timeline.events):
        return _announced(timeline, number)
    event = timeline.events[number]
    goes: Literal["down", "up", "changed"] = "changed"
    if event.is_switch:
        goes = "down" if event.is_down else "up"
    change = event.change
    return EventShown(
        number,
        rfc3339(event.time),
        event_words(event),
        goes,
        change.what,
        change.at,
        event.note,
        timeline.remarks[number],
        event.place,
    )


def _announced(timeline: Timeline, number: int) -> EventShown:
    row = timeline.heard.row(number - len(timeline.events))
    if row.prefix is None:
        words = f"{row.speaker}: all its paths are gone"
    elif row.attributes is None:
        words = f"{row.prefix} withdrawn by {row.speaker}"
    else:
        way = " ".join(map(str, row.attributes.as_path)) or "its own"
        words = f"{row.prefix} announced by {row.speaker}, AS path {way}"
    goes: Literal["down", "changed"] = "down" if row.attributes is None else "changed"
    what = "" if row.prefix is None else str(row.prefix)
    remark = timeline.heard.unknown.get(row.speaker, "")
    return EventShown(number, rfc3339(row.moment), words, goes, "path", what, "", remark, row.place)


def event_words(event: Event) -> str:
    """What happened, on one line."""
    change = event.change
    what = change.what.replace("_", " ")
    if event.is_switch:
        return f"{what} {change.at} {'down' if event.is_down else 'up'}"
    if change.verb == "set":
        of = {key: value for key, value in change.values.items() if key != "to"}
        more = "".join(f", {key} {written(value)}" for key, value in of.items())
        return f"{what} of {change.at}{more}: {written(change.values['to']).strip(chr(34))}"
    rest = ", ".join(f"{key} {written(value)}" for key, value in change.values.items() if key != "text")
    return f"{change.verb} {what} {change.at}{': ' if rest else ''}{rest}"


def happened(timeline: Timeline, start: datetime, end: datetime) -> Happened:
    """What happened in a window, the worst and the newest first."""
    timeline.say_of_changes()
    numbers = range(timeline.number_before(start), timeline.number_after(end))
    switches = dict.fromkeys(one for number in range(timeline.number_after(end)) for one in timeline.switched[number])
    all_downs = {switch: downs_of(timeline, switch, start, end) for switch in switches}
    outages = [(switch, down) for switch, downs in all_downs.items() for down in downs]
    still = [(switch, down) for switch, down in outages if down.end is None]
    longest = sorted(outages, key=lambda one: -one[1].seconds(start, end))
    often = sorted((one for one in switches if len(all_downs[one]) > 1), key=lambda one: -len(all_downs[one]))
    return Happened(
        rfc3339(start),
        rfc3339(end),
        [_outage(timeline, *one, start, end) for one in sorted(still, key=lambda one: (one[1].start or start, one[0]))],
        [availability(timeline, one, start, end) for one in often[:MOST_LISTED]],
        [_outage(timeline, *one, start, end) for one in longest[:MOST_LISTED]],
        [event_shown(timeline, number) for number in reversed(numbers[-MOST_EVENTS:])],
        len(numbers),
        sum(timeline.events[number].time > end - LAST_HOUR for number in numbers),
        sum(bool(timeline.remarks[number]) for number in numbers),
        *_busiest(timeline, start, end),
        most_unusual(timeline, end),
    )


def _busiest(timeline: Timeline, start: datetime, end: datetime) -> tuple[int, list[PrefixChanges]]:
    """How many announcements there were, and the prefixes of which there were most."""
    heard = timeline.heard
    first, last = heard.number_before(start), heard.number_after(end)
    speaking = heard.speaking[first:last].tolist()
    counts = Counter(zip(speaking, heard.prefixes[first:last], strict=True))
    counts = Counter({key: count for key, count in counts.items() if key[1] is not None and key[0] >= 0})
    wanted = dict.fromkeys((key for key, _ in counts.most_common(MOST_LISTED)), (0, -1))
    for number, key in enumerate(zip(speaking, heard.prefixes[first:last], strict=True), first):
        if key in wanted:
            wanted[key] = wanted[key][0] + int(heard.numbers[number] == WITHDRAWN), number
    found = []
    for key, (withdrawn, at) in wanted.items():
        row = heard.row(at)
        found.append(
            PrefixChanges(
                str(row.prefix),
                row.speaker,
                counts[key] - withdrawn,
                withdrawn,
                rfc3339(row.moment),
                row.attributes is None,
            )
        )
    return last - first, found


def _outage(timeline: Timeline, switch: Switch, down: Down, start: datetime, end: datetime) -> Outage:
    return Outage(
        switch.what,
        words_of(timeline.solved.network, switch),
        switch.at,
        None if down.start is None else rfc3339(down.start),
        None if down.end is None else rfc3339(down.end),
        down.seconds(start, end),
    )


def happened_lines(found: Happened) -> Iterator[str]:
    """What happened, as lines for a terminal."""
    for one in found.down:
        yield f"down  {one.words}, since {one.start or 'before ' + found.start} ({length_words(one.seconds)})"
    for again in found.flapping:
        trend = f"; {again.trend}" if again.trend else ""
        yield (
            f"often {again.words}: down {again.outages} times, {length_words(again.down_seconds)} in all,"
            f" up {again.up:.3%}{trend}"
        )
    for event in reversed(found.events):
        remark = f" ({event.remark})" if event.remark else ""
        note = f" - {event.note}" if event.note else ""
        yield f"{event.time} {event.words}{note}{remark}"
    if found.announcements:
        yield f"{found.announcements:,} announcements and withdrawals; most of:"
    for one_of in found.busiest:
        told = f"{one_of.announced:,} announced, {one_of.withdrawn:,} withdrawn, last {one_of.last}"
        yield f"  {one_of.prefix} by {one_of.speaker}: {told}{', gone' if one_of.is_gone else ''}"
    for one_over in found.unusual:
        yield f"unusual: {one_over.words}"
    if found.event_count > len(found.events):
        yield f"… and {found.event_count - len(found.events):,} earlier events"
    if not found.event_count and not found.announcements:
        yield "no event"


def things_of(timeline: Timeline, devices: Iterable[str], ports: Iterable[str]) -> list[Switch]:
    """What was ever switched of some devices, interfaces, and the links and sessions on them."""
    names, interfaces = set(devices), set(ports)
    links = {str(link.ends[0]): {str(end) for end in link.ends} for link in timeline.solved.network.links}
    found = []
    for switch in dict.fromkeys(one for switches in timeline.switched for one in switches):
        if switch.what == "link":
            concerns = bool(links.get(switch.at, set()) & interfaces)
        elif switch.what in ("interface", "adjacency"):
            concerns = switch.at in interfaces
        else:
            concerns = switch.at.partition(" ")[0] in names
        if concerns:
            found.append(switch)
    return found
