"""The state of a network at a moment: a revision with what happened since, or, before it, with that taken back.

What is down follows from the events alone, the last one before the moment; an event that went before a later capture
of its device is overtaken by that. Before the first event of a thing it was the other way. Configuration changes count
from the revision on: before one nobody knows what was configured.
"""

from bisect import bisect_left, bisect_right
from collections import OrderedDict, defaultdict
from collections.abc import Callable, Hashable, Iterable, Iterator, Mapping, Sequence
from copy import copy
from datetime import datetime
from typing import NamedTuple

from routrel.analysis.timeline.concerned import concerning
from routrel.analysis.timeline.heard import Heard, Said, Standing, content, received_of, with_received
from routrel.analysis.timeline.measured import Measurements
from routrel.analysis.timeline.switches import Switch, devices_of, is_on, switches_of, with_off
from routrel.formats.changes.applying import Applier, apply_changes
from routrel.formats.changes.finding import ChangeError
from routrel.formats.changes.outcomes import errors_of, taken_over
from routrel.formats.changes.vocabulary import INTERFACE_KEYS, SWITCHES
from routrel.formats.errors import InputError
from routrel.forwarding.flow import Flow
from routrel.model.addresses import Prefix
from routrel.model.announcements import Announcements, microseconds, moment_of
from routrel.model.changes import Change
from routrel.model.events import Event
from routrel.model.fields import replace
from routrel.model.network import Network
from routrel.model.received import ReceivedPaths
from routrel.model.samples import Samples
from routrel.routing.solve import Solved
from routrel.solving import solve

MOST_IN_FORCE = 500
"""Configuration changes since a revision that a state has; with more, a new revision is wanted."""
CONFIGURED_KEPT = 4
SOLVED_KEPT = 6
COLUMNS_MORE = 1.5
"""States solved one from the other tell ever more prefixes apart; past so many times those of the revision no more."""
HARMLESS = frozenset({"cost", "metric", "delay", "bandwidth", "mtu"})
"""Settings that bring no address in which packets were not sent before."""
OVERTAKEN = frozenset({"cost", "metric", "delay", "bandwidth", "install_policy", *INTERFACE_KEYS, *SWITCHES})
"""Settings of which the last alone counts."""


class State(NamedTuple):
    """What is off and on otherwise than the revision says, and the numbers of the events whose changes are in force.

    ``said`` is what neighbours outside say otherwise. ``unknown`` says why nobody knows the state, where that is so.
    """

    off: frozenset[Switch] = frozenset()
    on: frozenset[Switch] = frozenset()
    in_force: tuple[int, ...] = ()
    said: frozenset[Said] = frozenset()
    unknown: str = ""


class Step(NamedTuple):
    """A moment at which something happened, by numbers of events, and the state from then on.

    Announcements are numbered behind the events.
    """

    moment: datetime
    events: tuple[int, ...]
    state: State


class Timeline:
    """A solved revision, true at ``since``, and events. ``reaches_back`` says that no revision went before it."""

    def __init__(
        self,
        files: Mapping[str, bytes],
        solved: Solved,
        since: datetime,
        events: Sequence[Event],
        reaches_back: bool = True,
        announcements: Sequence[Announcements] = (),
        samples: Sequence[Samples] = (),
    ):
        self.files = files
        self.solved = solved
        self.since = since
        self.events = sorted(events, key=lambda one: one.time)
        self.reaches_back = reaches_back
        self.heard = Heard(solved.network, announcements, since)
        self.measurements = Measurements(solved.network, samples)
        self.switched: list[tuple[Switch, ...]] = []
        """What each event switches."""
        self.remarks: list[str] = []
        """Of each event why it does not fit to what is known; '' where it does."""
        self._courses = _courses(self)
        self._set_at = [number for number, event in enumerate(self.events) if not event.is_switch]
        """The numbers of events that are no switches."""
        self._overtaken_by = _overtaken_by(self.events, self.number_after(since))
        self._configured = _Configured(self)
        self._base = solved
        self._is_concerned: Callable[[Prefix], bool] | None = None
        self._reduced: dict[ReceivedPaths, ReceivedPaths] = {}
        self._kept: OrderedDict[State, Solved] = OrderedDict()
        self.outcomes: dict[tuple[Hashable, State], object] = {}
        """What became of flows and routes in states, as far as it was asked."""
        self.supports: dict[tuple[Hashable, State], frozenset[int] | None] = {}
        """The ports that they rested on there."""

    def concerning(self, flows: Sequence[Flow]) -> "Timeline":
        """The same as far as some flows are concerned: of what neighbours say, what can decide about them."""
        if not len(self.heard) and not any(received_of(self.solved.network)):
            return self
        for event in self.events:
            if not (event.is_switch or event.change.what in HARMLESS):
                return self
        hops = (one.next_hop for one in self.heard.attributes if one.next_hop is not None)
        is_concerned = concerning(self.solved, flows, hops)
        if is_concerned is None:
            return self
        found = copy(self)
        found.heard = self.heard.only(is_concerned)
        found._is_concerned = is_concerned
        found._reduced = {}
        found._base = solve(with_received(self.solved.network, is_concerned, found._reduced), self.solved)
        found._kept, found.outcomes, found.supports = OrderedDict(), {}, {}
        return found

    def state_at(self, moment: datetime) -> State:
        """The state at a moment: what happened then has happened."""
        standing: Standing = {}
        self.heard.take(standing, 0, self.heard.number_after(moment))
        return self._state(moment, self._turned(self._courses, moment), standing)

    def steps(self, start: datetime, end: datetime) -> Iterator[Step]:
        """The state at ``start``, and that after each moment at which something happened before ``end``."""
        turned = self._turned(self._courses, start)
        standing: Standing = {}
        said = self.heard.number_after(start)
        self.heard.take(standing, 0, said)
        yield Step(start, (), self._state(start, turned, standing))
        moments: dict[datetime, list[int]] = defaultdict(list)
        for number in range(self.number_after(start), self.number_after(end)):
            if self.events[number].time < end:
                moments[self.events[number].time].append(number)
        for number in range(said, self.heard.number_after(end)):
            if (time := moment_of(int(self.heard.times[number]))) < end:
                moments[time].append(len(self.events) + number)
        if start < self.since < end:
            moments[self.since].extend(())  # the revision may say otherwise than events did
        for moment in sorted(moments):
            numbers = moments[moment]
            touched = {switch for number in numbers if number < len(self.events) for switch in self.switched[number]}
            for switch in self._courses if moment == self.since else touched:
                turned.pop(switch, None)
                turned |= self._turned((switch,), moment)
            before, said = said, self.heard.number_after(moment)
            self.heard.take(standing, before, said)
            yield Step(moment, tuple(numbers), self._state(moment, turned, standing))

    def number_after(self, moment: datetime) -> int:
        """The number of the first event after a moment."""
        return bisect_right(self.events, moment, key=lambda one: one.time)

    def number_before(self, moment: datetime) -> int:
        """The number of the first event at or after a moment."""
        return bisect_left(self.events, moment, key=lambda one: one.time)

    def moments_of(self, switch: Switch, start: datetime, end: datetime) -> list[datetime]:
        """When something may have come up or gone down after ``start``, up to ``end``."""
        times = self._courses[switch].times
        found = times[bisect_right(times, start) : bisect_right(times, end)]
        return sorted({*found, *([self.since] if start < self.since <= end else [])})

    def changes_of(self, state: State) -> tuple[Change, ...]:
        """What a trial of the revision has to change to be in a state."""
        return (
            *map(self.change_of, state.in_force),
            *(switch.change(True) for switch in sorted(state.on)),
            *(switch.change(False) for switch in sorted(state.off)),
        )

    def solved_in(self, state: State) -> Solved:
        """The network in a state, solved."""
        if state not in self._kept:
            self._kept[state] = solve(self.network_in(state), self._nearest())
            while len(self._kept) > SOLVED_KEPT:
                self._kept.popitem(last=False)
        self._kept.move_to_end(state)
        return self._kept[state]

    def _nearest(self) -> Solved:
        """What a state is solved from: the one before, from which it differs least, while its columns stay few."""
        last = next(reversed(self._kept.values()), self._base)
        most = COLUMNS_MORE * len(self._base.prefix_classes)
        return last if len(last.prefix_classes) <= most else self._base

    def network_in(self, state: State) -> Network:
        """The network in a state."""
        network = self.solved.network
        if state.on:
            changes = self.changes_of(state._replace(off=frozenset()))
            network = apply_changes(self.files, network, changes).network
        elif state.in_force:
            network = self._configured.up_to(state.in_force[-1])
        if self._is_concerned is not None:
            network = with_received(network, self._is_concerned, self._reduced)
        if state.said:
            network = self.heard.network_with(network, state.said)
        return with_off(network, (one for one in state.off if _is_still_on(network, one)))

    def ever_switched(self, switch: Switch) -> bool:
        """Whether an event says that it went down or came up."""
        return switch in self._courses

    def is_on(self, switch: Switch, moment: datetime) -> bool:
        """Whether something is on at a moment."""
        course = self._courses[switch]
        at = bisect_right(course.times, moment)
        if at:
            was_on = course.values[at - 1]
            is_newer = course.times[at - 1] > self.since or moment < self.since
            # What was configured since wins over what came up before; what is down is down whatever is configured.
            if is_newer or (not was_on and not course.is_captured):
                return was_on
        elif moment < self.since and course.times[0] <= self.since:
            return not course.values[0]
        return course.in_revision

    def _turned(self, switches: Iterable[Switch], moment: datetime) -> dict[Switch, bool]:
        """Of some things those that are otherwise at a moment than the revision says: whether they are on."""
        known = ((switch, self.is_on(switch, moment)) for switch in switches)
        return {switch: value for switch, value in known if value != self._courses[switch].in_revision}

    def _state(self, moment: datetime, turned: Mapping[Switch, bool], standing: Standing) -> State:
        first, last = sorted((self.number_after(moment), self.number_after(self.since)))
        numbers = self._set_at[bisect_left(self._set_at, first) : bisect_left(self._set_at, last)]
        unknown = ""
        if moment < self.since:
            if not self.reaches_back:
                unknown = "nothing is known of the time before the first revision"
            elif numbers:
                unknown = "a setting was changed between then and the revision, from what is not known"
            elif len(self.heard.replaced) and self.heard.replaced[-1] > microseconds(moment):
                unknown = "neighbors announced paths between then and the revision, in place of what is not known"
            numbers = []
        in_force = tuple(number for number in numbers if self._overtaken_by[number] >= last)
        if len(in_force) > MOST_IN_FORCE:
            unknown = f"more than {MOST_IN_FORCE} changes since the revision: a new one is wanted"
        return State(
            frozenset(switch for switch, is_up in turned.items() if not is_up),
            frozenset(switch for switch, is_up in turned.items() if is_up),
            () if unknown else in_force,
            frozenset() if unknown else content(standing),
            unknown,
        )

    def say_of_changes(self) -> None:
        """Find which of the changes cannot be made, if they are not too many to try for that alone."""
        numbers = self._set_at[bisect_left(self._set_at, self.number_after(self.since)) :]
        if 0 < len(numbers) <= MOST_IN_FORCE:
            self._configured.up_to(numbers[-1])

    def change_of(self, number: int) -> Change:
        """The change of an event, complete: a session that restarts is up since then."""
        event = self.events[number]
        if event.change.verb != "restart" or "to" in event.change.values:
            return event.change
        to = event.time.strftime("%Y-%m-%dT%H:%M:%SZ")
        return replace(event.change, values={**event.change.values, "to": to})


def _is_still_on(network: Network, switch: Switch) -> bool:
    """Whether something is on, and there at all: a change may have taken it out."""
    try:
        return is_on(network, switch)
    except ChangeError:
        return False


class _Configured:
    """The revision with the changes of events made one after the other."""

    def __init__(self, timeline: Timeline):
        self._timeline = timeline
        self._begin()
        self._kept: OrderedDict[int, Network] = OrderedDict()

    def _begin(self) -> None:
        timeline = self._timeline
        self._applier = Applier(timeline.files, timeline.solved.network)
        self._next = timeline.number_after(timeline.since)

    def up_to(self, last: int) -> Network:
        """The network after the event of a number."""
        if last not in self._kept:
            if last < self._next - 1:
                self._begin()
            timeline = self._timeline
            for number in range(self._next, last + 1):
                if not timeline.events[number].is_switch:
                    outcome = self._applier.apply(number, timeline.change_of(number))
                    if outcome.state == "error":
                        timeline.remarks[number] = _told(outcome.errors[0])
            self._next = last + 1
            self._kept[last] = taken_over(timeline.solved.network, self._applier.network)
            while len(self._kept) > CONFIGURED_KEPT:
                self._kept.popitem(last=False)
        self._kept.move_to_end(last)
        return self._kept[last]


def _overtaken_by(events: Sequence[Event], first: int) -> list[int]:
    """Of each event from the first on, the one that sets its setting again; else one that never comes."""
    found = [len(events)] * len(events)
    last: dict[object, int] = {}
    for number in range(first, len(events)):
        change = events[number].change
        if change.verb == "edit":
            last.clear()
        elif (change.verb == "set" and change.what in OVERTAKEN) or change.verb == "restart":
            others = sorted((key, str(value)) for key, value in change.values.items() if key != "to")
            slot = change.verb, change.what, change.at, tuple(others)
            if slot in last:
                found[last[slot]] = number
            last[slot] = number
    return found


def _switches(network: Network, change: Change) -> tuple[list[Switch], str]:
    """What a change switches, and why nothing where it names nothing."""
    try:
        return switches_of(network, change), ""
    except ChangeError as error:
        return [], _told(errors_of(change, error)[0])


def _told(error: InputError) -> str:
    """An error without its place."""
    found = f": {error.found}" if error.found else ""
    return f"{error.message}{found}{f'; did you mean {error.nearest}?' if error.nearest else ''}"


class _Course(NamedTuple):
    """When something was switched, and how; ``is_captured`` where a capture of its device tells how it is."""

    times: list[datetime]
    values: list[bool]
    in_revision: bool
    is_captured: bool


def _courses(timeline: Timeline) -> dict[Switch, _Course]:
    """What each thing went through, events that do not fit noted."""
    network = timeline.solved.network
    found: dict[Switch, _Course] = {}
    named: dict[object, tuple[list[Switch], str]] = {}
    for event in timeline.events:
        remark, switches = "", list[Switch]()
        if event.is_switch:
            key = event.change.what, event.change.at, event.change.values.get("vrf")
            if key not in named:
                named[key] = _switches(network, event.change)
            switches, remark = named[key]
        to = not event.is_down
        was = [found[one].values[-1] for one in switches if one in found]
        if was and len(was) == len(switches) and all(one == to for one in was):
            remark = "it came up, though it was not down" if to else "it went down, though it was not up"
        for switch in switches:
            if switch not in found:
                names = devices_of(network, switch)
                captured = any(network.devices[name].known_by == "capture" for name in names)
                found[switch] = _Course([], [], is_on(network, switch), captured)
            found[switch].times.append(event.time)
            found[switch].values.append(to)
        timeline.switched.append(tuple(switches))
        timeline.remarks.append(remark)
    return found
