"""``routrel history``: what happened to a network, what of it a flow met, and the state at a moment."""

import argparse
import sys
from collections.abc import Iterator
from datetime import UTC, datetime, timedelta
from pathlib import Path

from routrel.analysis.answers.timeline import StripsHeld
from routrel.analysis.contest.why import WhyError, parse_prefix
from routrel.analysis.timeline.outages import happened, happened_lines
from routrel.analysis.timeline.route_states import RouteAsked
from routrel.analysis.timeline.route_strip import route_lines, route_over_time
from routrel.analysis.timeline.states import Timeline
from routrel.analysis.timeline.strip import TooMuchHappenedError, strips
from routrel.cli_flows import flows_of
from routrel.cli_output import DONE, NO, CallError, bytes_of, print_answer, print_json, print_lines
from routrel.formats.changes.reading import list_text
from routrel.formats.errors import nearest
from routrel.formats.events_file import parse_time
from routrel.formats.happenings import read_happenings
from routrel.formats.sources import files_of, read_files
from routrel.forwarding.flow import parse_flow
from routrel.garbage_collection import keep
from routrel.model.addresses import Address, Prefix
from routrel.model.routing import DEFAULT_INSTANCE
from routrel.routing.solve import Solved
from routrel.solving import solve


def history_command(options: argparse.Namespace) -> int:
    """What happened; of flows, whether they were let through all the time; the exit status says so."""
    flows = [*map(parse_flow, options.flow), *(flows_of(options.flows) if options.flows else [])]
    read = [read_happenings(bytes_of(name), Path(name).name) for name in options.events]
    events = [event for one in read for event in one.events]
    spans = [one.span for one in read if one.span is not None]
    for one in read:
        for what, count in one.unused.items():
            print(f"routrel: {one.announcements.file}: {count:,} x {what}", file=sys.stderr)
    if not spans:
        raise CallError("there are no events: --events FILE names a file of them, one on a line (docs/events.md)")
    files = files_of(Path(options.network))
    solved = solve(read_files(files))
    keep()
    first, last = min(first for first, _ in spans), max(last for _, last in spans)
    # A network that says no time is taken to be as it was after all events.
    announcements = [one.announcements for one in read if len(one.announcements)]
    samples = [one.samples for one in read if len(one.samples)]
    timeline = Timeline(files, solved, solved.network.taken_at or last, events, True, announcements, samples)
    for what, why in timeline.measurements.unknown.items():
        print(f"routrel: {what}: {why}", file=sys.stderr)
    if options.state_at is not None:
        return _state(options, timeline, _moment(options.state_at, "--state-at"))
    end = _moment(options.until, "--until") if options.until else max(last + timedelta(seconds=1), timeline.since)
    start = _moment(options.since, "--since") if options.since else min(first, timeline.since)
    if start >= end:
        raise CallError(f"the time ends ({end.isoformat()}) before it begins ({start.isoformat()})")
    try:
        if options.route is not None:
            *_, told = route_over_time(timeline, _route_asked(solved, options.route), start, end)
            assert told.held is not None
            return print_answer(options, told.held, route_lines(told.held), told.held.usual is not None)
        if not flows:
            found = happened(timeline, start, end)
            return print_answer(options, found, happened_lines(found), True)
        *_, so_far = strips(timeline, flows, start, end)
    except TooMuchHappenedError as error:
        raise CallError(str(error)) from None
    held = so_far.held
    assert held is not None
    is_good = all(
        segment.state is None or strip.states[segment.state].good for strip in held.strips for segment in strip.segments
    )
    return print_answer(options, held, _lines(held), is_good)


def _route_asked(solved: Solved, text: str) -> RouteAsked:
    """What ``--route`` names: a device, another routing instance than the default one behind a stroke, a prefix."""
    name, _, prefix = text.strip().rpartition(" ")
    device, _, vrf = name.partition("/")
    asked = RouteAsked(device, vrf or DEFAULT_INSTANCE, _prefix(prefix))
    if asked.instance_in(solved) is None:
        close = nearest(device, list(solved.network.devices))
        meant = f"; did you mean {close[0]}?" if close and device not in solved.network.devices else ""
        raise CallError(f"--route: {name or text!r} is no device, or device/VRF, of this network{meant}")
    return asked


def _prefix(text: str) -> Prefix:
    try:
        found = parse_prefix(text)
    except WhyError as error:
        raise CallError(f"--route: {error}; allowed: a device and a prefix, like 'r1 192.0.2.0/24'") from None
    return found.host_prefix() if isinstance(found, Address) else found


def _moment(text: str, name: str) -> datetime:
    found = parse_time(text) or (parse_time(f"{text}T00:00:00Z") if len(text) == 10 else None)
    if found is None:
        raise CallError(f"{name}: {text!r} is no time; allowed: 2026-11-20T03:12:44Z, or a day, 2026-11-20")
    return found.astimezone(UTC)


def _state(options: argparse.Namespace, timeline: Timeline, moment: datetime) -> int:
    """The state at a moment as the changes that make the network so, to be tried on it."""
    state = timeline.state_at(moment)
    if state.unknown:
        print_lines([f"not known: {state.unknown}"])
        return NO
    changes = timeline.changes_of(state)
    if options.json:
        print_json([change.data() for change in changes])
    else:
        print(list_text(changes), end="")
    return DONE


def _lines(held: StripsHeld) -> Iterator[str]:
    for number, strip in enumerate(held.strips):
        if number:
            yield ""
        yield from strip.story
