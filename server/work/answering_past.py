"""What a work process answers of a network over time; the events come beside the questions."""

from datetime import datetime, timedelta
from typing import cast

import msgspec

from routrel.analysis.answers.health import GaugeOverTime
from routrel.analysis.answers.held import HeldSoFar
from routrel.analysis.answers.timeline import Between, Happened, RouteOverTimeSoFar, StateThen, StripsSoFar
from routrel.analysis.comparison import moved
from routrel.analysis.held.groups import comparing
from routrel.analysis.timeline.gauge_points import gauge_over
from routrel.analysis.timeline.measured import thing_named
from routrel.analysis.timeline.outages import MOST_EVENTS, event_shown, happened
from routrel.analysis.timeline.route_states import RouteAsked
from routrel.analysis.timeline.route_strip import route_over_time
from routrel.analysis.timeline.states import Timeline
from routrel.analysis.timeline.strip import TooMuchHappenedError, strips
from routrel.analysis.timeline.then import state_then
from routrel.formats.changes.finding import ChangeError
from routrel.formats.happenings import read_happenings
from routrel.forwarding.flow import Flow
from routrel.model.addresses import Address
from routrel.model.announcements import moment_of
from routrel.model.routing import DEFAULT_INSTANCE
from routrel.model.times import rfc3339
from routrel.routing.solve import Solved
from work.past import Past
from work.solved_revision import Parameters, RefusedError, SolvedRevision, prefix_asked

MOST_ROUTES = 1000
"""Routes that moved between two moments which are listed; all are counted."""

MOST_UNFITTING = 20
"""Events that do not fit which are told; all are counted."""


class EventsLoaded(msgspec.Struct, frozen=True):
    """What a file of events has become: how many do not fit to what is known, and the first of these."""

    count: int
    samples: int
    first: datetime
    last: datetime
    unfitting: int
    told: list[str]


def strip(revision: SolvedRevision, parameters: Parameters) -> StripsSoFar:
    """Flows over a window, as far as it goes in a second."""
    timeline: Timeline = parameters["timeline"]
    window = _window(timeline, parameters)
    flows = [Flow(**flow) for flow in parameters["flows"]]
    name = f"strip {flows} {window} {parameters['past']}"
    try:
        return cast(StripsSoFar, revision.so_far(name, lambda: strips(timeline, flows, *window)))
    except TooMuchHappenedError as error:
        raise RefusedError(400, {"detail": str(error)}) from None


def route(revision: SolvedRevision, parameters: Parameters) -> RouteOverTimeSoFar:
    """The route of a table for a prefix over a window, as far as it goes in a second."""
    timeline: Timeline = parameters["timeline"]
    window, prefix = _window(timeline, parameters), prefix_asked(parameters)
    revision.instance(parameters)
    whole = prefix.host_prefix() if isinstance(prefix, Address) else prefix
    asked = RouteAsked(parameters["device"], parameters["vrf"] or DEFAULT_INSTANCE, whole)
    name = f"route {asked} {window} {parameters['past']}"
    try:
        return cast(RouteOverTimeSoFar, revision.so_far(name, lambda: route_over_time(timeline, asked, *window)))
    except TooMuchHappenedError as error:
        raise RefusedError(400, {"detail": str(error)}) from None


def what_happened(revision: SolvedRevision, parameters: Parameters) -> Happened:
    """What happened in a window, to all that the revision has, before it was true as well."""
    timeline: Timeline = parameters["timeline"]
    return happened(timeline, *_window(timeline, parameters, True))


def state(revision: SolvedRevision, parameters: Parameters) -> StateThen:
    """The state at a moment: what is otherwise than the revision says."""
    return state_then(parameters["timeline"], datetime.fromisoformat(parameters["moment"]))


def measured(revision: SolvedRevision, parameters: Parameters) -> GaugeOverTime:
    """One measure of one thing over a window, whichever revision stands for it; else over all that is measured."""
    timeline: Timeline = parameters["timeline"]
    if not timeline.measurements.span:
        raise RefusedError(404, {"detail": "Nothing was measured."})
    asked = [datetime.fromisoformat(text) if text else None for text in parameters["window"]]
    start, end = (one or known for one, known in zip(asked, timeline.measurements.span, strict=True))
    if start >= end:
        raise RefusedError(400, {"detail": "The window ends before it begins."})
    try:
        thing = thing_named(revision.solved.network, parameters["what"], parameters["at"])
    except ChangeError as error:
        raise RefusedError(404, {"detail": f"{error}: {parameters['at']}"}) from None
    found = gauge_over(timeline, thing, parameters["measure"], start, end)
    if found is None:
        raise RefusedError(404, {"detail": f"{parameters['measure']} of {' '.join(thing)} was not measured."})
    return found


def between(revision: SolvedRevision, parameters: Parameters) -> Between:
    """Two moments held against each other, the first of which may be an earlier revision's."""
    timeline: Timeline = parameters["timeline"]
    start, end, before, after = _two_moments(revision, parameters)
    numbers = range(timeline.number_after(start), timeline.number_after(end))
    flows = [Flow(**flow) for flow in parameters["flows"]]
    return Between(
        rfc3339(start),
        rfc3339(end),
        [event_shown(timeline, number) for number in numbers[:MOST_EVENTS]],
        len(numbers),
        moved(before, after, flows, MOST_ROUTES),
    )


def between_held(revision: SolvedRevision, parameters: Parameters) -> HeldSoFar:
    """All traffic at two moments held against each other, as far as it goes in a second."""
    start, end, before, after = _two_moments(revision, parameters)
    name = f"between {rfc3339(start)} {rfc3339(end)} {parameters['past']}"
    return cast(HeldSoFar, revision.so_far(name, lambda: comparing(before, after)))


def _two_moments(revision: SolvedRevision, parameters: Parameters) -> tuple[datetime, datetime, Solved, Solved]:
    """Two moments and the network at them; ``earlier`` and ``since`` are the revision of the first, where it is not
    the one that is asked."""
    timeline: Timeline = parameters["timeline"]
    past: Past = parameters["past"]
    start, end = _window(timeline, parameters, parameters["earlier"] is not None)
    after = revision.at(past._replace(moment=rfc3339(end)), timeline).solved
    first, at = revision, past._replace(moment=rfc3339(start))
    if parameters["earlier"] is not None:
        first, at = parameters["since"], at._replace(**parameters["earlier"])
        timeline = first.timeline(at, parameters["happened"])
    return start, end, first.at(at, timeline).solved, after


def _window(timeline: Timeline, parameters: Parameters, is_wider: bool = False) -> tuple[datetime, datetime]:
    """The window that a question names, up to when the revision stands for it, and no wider unless it may be; else all
    that is known of."""
    earliest, latest = (datetime.fromisoformat(text) if text else None for text in parameters["reign"])
    start, end = (datetime.fromisoformat(text) if text else None for text in parameters["window"])
    if is_wider:
        earliest = None
    times = [timeline.since, *(event.time for event in (*timeline.events[:1], *timeline.events[-1:]))]
    times += [moment_of(int(time)) for time in (*timeline.heard.times[:1], *timeline.heard.times[-1:])]
    times += timeline.measurements.span
    begins = max(one for one in (start or min(times), earliest) if one is not None)
    ends = min(one for one in (end or max(times) + timedelta(seconds=1), latest) if one is not None)
    if begins >= ends:
        raise RefusedError(400, {"detail": "This revision stands for no part of that time."})
    return begins, ends


def events_loaded(revision: SolvedRevision, parameters: Parameters) -> EventsLoaded:
    """What a file of events holds, and the first of those that do not fit to the network; raises ``LoadError``."""
    read = read_happenings(parameters["data"], parameters["file_name"])
    if read.span is None:
        raise RefusedError(400, {"detail": "There is no event in it."})
    since = datetime.fromisoformat(parameters["since"])
    timeline = Timeline(revision.files, revision.solved, since, read.events, True, [read.announcements], [read.samples])
    told = [
        f"line {event.place.line}: {remark}"
        for event, remark in zip(timeline.events, timeline.remarks, strict=True)
        if remark
    ]
    told += [f"{speaker}: {why}" for speaker, why in timeline.heard.unknown.items()]
    told += [f"{what}: {why}" for what, why in timeline.measurements.unknown.items()]
    told += [f"{what}: {count:,}" for what, count in read.unused.items()]
    return EventsLoaded(read.event_count, len(read.samples), *read.span, len(told), told[:MOST_UNFITTING])
