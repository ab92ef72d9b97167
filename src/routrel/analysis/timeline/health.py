"""How all that a flow went over did in a window: up and down, delay, loss and load against what is usual."""

from collections import Counter, defaultdict
from collections.abc import Iterable, Iterator, Mapping, Sequence
from datetime import datetime
from typing import Literal, NamedTuple

import numpy as np

from routrel.analysis.answers.health import Measured, OnTheWay, PathHealth, Unusual, WayDelay
from routrel.analysis.timeline.flow_states import Way
from routrel.analysis.timeline.measured import Gauge, Thing
from routrel.analysis.timeline.outages import downs_of
from routrel.analysis.timeline.states import Timeline
from routrel.analysis.timeline.switches import Switch
from routrel.analysis.timeline.unusual import thing_words, unusual_of, worst
from routrel.model.announcements import microseconds
from routrel.model.network import Network

OF_INTERFACES = ("delay", "loss", "sent_drops", "sent_errors", "received_drops", "received_errors")


class WaysInUse(NamedTuple):
    """The ways of flows over a window, those in use for the longest time first, there and back."""

    there: list[Way]
    back: list[Way]


def ways_in_use(states: Iterable[tuple[tuple[Way, ...], float]]) -> WaysInUse:
    """The ways of states, by the seconds that each lasted."""
    lasting: tuple[Counter[Way], Counter[Way]] = (Counter(), Counter())
    for ways, seconds in states:
        for counter, way in zip(lasting, ways, strict=False):
            counter[way] += round(seconds * 1000)
    there, back = ([way for way, _ in counter.most_common()] for counter in lasting)
    return WaysInUse(there, back)


def health(timeline: Timeline, ways: WaysInUse, start: datetime, end: datetime) -> PathHealth:
    """How devices and links of ways did, in the order of the usual way there, then of others."""
    links = _Links(timeline.solved.network)
    there, back = ({thing for way in of for thing in _along(links, [way])} for of in ways)
    rows = dict[Thing, OnTheWay]()
    unusual = list[Unusual]()
    for thing, ports in _along(links, [*ways.there, *ways.back]).items():
        measured = list[Measured]()
        for toward, sources in _measures(links, thing, ports):
            for of, measure in sources:
                gauge = timeline.measurements.gauge(of, measure)
                if gauge is not None:
                    found = list(unusual_of(timeline.solved.network, of, gauge, start, end))
                    unusual += found
                    measured += _measured(timeline, of, gauge, toward, (start, end), bool(found))
                    break
        up, outages = _up(timeline, links, thing, start, end)
        words = thing_words(timeline.solved.network, thing)
        rows[thing] = OnTheWay(*thing, words, thing in there, thing in back, up, outages, measured)
    delays = list[WayDelay]()
    if ways.there:
        delays += _delay(links, rows, "there", ways.there[0])
    if ways.back:
        delays += _delay(links, rows, "back", ways.back[0])
    return PathHealth(list(rows.values()), delays, worst(unusual), any(row.measured for row in rows.values()))


class _Links:
    """Which link an interface stands in; looked up once for a network."""

    def __init__(self, network: Network):
        self._of = {str(end): [str(one) for one in link.ends] for link in network.links for end in link.ends}

    def thing(self, port: str) -> Thing:
        """The link of an interface, or the interface where it stands in none."""
        ends = self._of.get(port)
        return Thing("interface", port) if ends is None else Thing("link", ends[0])

    def others(self, port: str) -> list[str]:
        """The other ends of an interface's link."""
        return [end for end in self._of.get(port, ()) if end != port]


def _along(links: _Links, ways: Iterable[Way]) -> dict[Thing, list[str]]:
    """Devices and links in the order of ways, with the interfaces that packets leave by over each link."""
    found = defaultdict[Thing, list[str]](list)
    for way in ways:
        leaving = defaultdict[str, list[tuple[str, str]]](list)
        for device, interface, beyond in sorted(way.hops):
            leaving[device].append((f"{device}:{interface}", beyond))
        names = dict.fromkeys(name for path in way.paths for name in path)
        for name in [*names, *(name for name in leaving if name not in names)]:
            found[Thing("device", name)]
            for port, beyond in leaving[name]:
                found[links.thing(port)].append(port)
                if beyond and beyond not in names:
                    found[Thing("device", beyond)]
    return found


def _measures(links: _Links, thing: Thing, ports: Sequence[str]) -> Iterator[tuple[str, list[tuple[Thing, str]]]]:
    """What may be measured of a device or link on a way: toward whom, and where it is found, the first there is."""
    if thing.what == "device":
        yield "", [(thing, "cpu")]
        yield "", [(thing, "memory")]
        return
    if thing.what == "link":
        yield "", [(thing, "delay")]
        yield "", [(thing, "loss")]
    beyond = [other for port in ports for other in links.others(port)]
    for port in dict.fromkeys([*ports, *beyond]):
        others = links.others(port)
        toward = ", ".join(other.partition(":")[0] for other in others[:2]) or "outside"
        own = Thing("interface", port)
        # What the only other end receives is what this one sends.
        far = others if len(others) == 1 else []
        yield toward, [(own, "sent"), *((Thing("interface", other), "received") for other in far)]
        for measure in OF_INTERFACES:
            yield toward, [(own, measure)]
        if not others:
            yield "", [(own, "received")]


def _measured(
    timeline: Timeline, thing: Thing, gauge: Gauge, toward: str, window: tuple[datetime, datetime], is_unusual: bool
) -> Iterator[Measured]:
    """A measure over a window, if there is a sample of it."""
    start, end = map(microseconds, window)
    values = gauge.within(start, end)
    if len(values):
        most = timeline.measurements.most(thing, gauge.measure)
        median, highest = float(np.median(values)), float(values.max())
        usual = gauge.usual_within(start, end)
        yield Measured(*thing, gauge.measure, toward, len(values), median, highest, most, usual, is_unusual)


def _delay(
    links: _Links, rows: Mapping[Thing, OnTheWay], direction: Literal["there", "back"], way: Way
) -> Iterator[WayDelay]:
    """The delays along the first path of a way, if any of them is known."""
    known = list[Measured]()
    steps = list(zip(way.paths[0], way.paths[0][1:], strict=False)) if way.paths else []
    for step in steps:
        port = min(f"{device}:{interface}" for device, interface, beyond in way.hops if (device, beyond) == step)
        measured = [one for one in rows[links.thing(port)].measured if one.measure == "delay"]
        known += sorted(measured, key=lambda one: one.at != port)[:1]
    if known:
        usual = [one.usual.median for one in known if one.usual is not None]
        total = sum(usual) if len(usual) == len(known) else None
        yield WayDelay(direction, sum(one.median for one in known), total, len(known), len(steps))


def _up(timeline: Timeline, links: _Links, thing: Thing, start: datetime, end: datetime) -> tuple[float, int]:
    """The part of a window that a thing was up, with its link's interfaces, and how often it went down."""
    switches = [Switch(thing.what, thing.at)]
    if thing.what == "link":
        switches += [Switch("interface", name) for name in (thing.at, *links.others(thing.at))]
    downs = [
        down.within(start, end)
        for one in switches
        if timeline.ever_switched(one)
        for down in downs_of(timeline, one, start, end)
    ]
    seconds, until, outages = 0.0, start, 0
    for down in sorted(downs, key=lambda one: one.start or start):
        begin, over = down.start or start, down.end or end
        outages += not outages or begin > until
        seconds += max(0.0, (over - max(begin, until)).total_seconds())
        until = max(until, over)
    window = (end - start).total_seconds()
    return (1 - seconds / window if window > 0 else 1.0), outages
