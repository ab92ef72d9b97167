"""Files of samples, and what was measured against the usual, held against a plain reference."""

import json
import statistics
from contextlib import suppress
from datetime import UTC, datetime, timedelta

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from routrel.analysis.answers.health import Usual
from routrel.analysis.timeline.gauge_points import gauge_over
from routrel.analysis.timeline.measured import HOUR, Gauge, Measurements, Thing
from routrel.analysis.timeline.outages import happened
from routrel.analysis.timeline.states import Timeline
from routrel.analysis.timeline.strip import strips
from routrel.analysis.timeline.unusual import most_unusual
from routrel.formats.errors import LoadError
from routrel.formats.events_file import read_events
from routrel.formats.happenings import read_happenings
from routrel.formats.sources import read_files
from routrel.forwarding.flow import parse_flow
from routrel.model.announcements import microseconds
from routrel.model.samples import READINGS, Samples
from routrel.solving import solve
from tests.core.test_timeline import RING, SINCE, at
from tests.examples import examples

FILES = {"network.yaml": RING.encode()}


def samples(text: str) -> Samples:
    return read_happenings(text.encode(), "samples").samples


def values(found: Samples) -> dict[tuple[str, str], list[float]]:
    return {
        (one.measure, one.at): found.values[found.bounds[number] : found.bounds[number + 1]].tolist()
        for number, one in enumerate(found.series)
    }


def test_a_table_holds_many_measures_in_a_line():
    text = (
        "time,at,delay_ms,loss_percent,cpu_ratio\n2026-11-20T07:00:00Z,ab,2.5,1,\n2026-11-20T06:00:00+00:00,ab,2,,\n\n"
    )
    found = samples(text + "2026-11-20T07:00:00Z,a,,,0.25\n")
    assert values(found) == {("delay", "ab"): [0.002, 0.0025], ("loss", "ab"): [0.01], ("cpu", "a"): [0.25]}
    assert found.times[0] == microseconds(SINCE)


def test_open_metrics_text_says_the_same():
    found = read_happenings(
        b"# TYPE delay_seconds gauge\n# UNIT delay_seconds seconds\n"
        b'delay_seconds{at="ab"} 0.002 1795154400\ndelay_seconds{at="ab"} 0.0025 1795158000.5\n'
        b"# TYPE sent_bytes counter\n"
        b'sent_bytes_total{device="a",interface="e1"} 10 1795154400\nsent_bytes_total{device="a",interface="e1"} 20 1795154410\n'
        b"# TYPE fans gauge\nfans 3 1795154400\n# EOF\n",
        "x",
    )
    assert values(found.samples) == {("delay", "ab"): [0.002, 0.0025], ("sent", "a:e1"): [80, 160]}
    assert found.unused == {"metric fans": 1}
    assert int(found.samples.times[1] - found.samples.times[0]) == 3600_500_000


@pytest.mark.parametrize(
    ("text", "says"),
    [
        ("time,at\n", "nothing is measured"),
        ("time,delay_ms\n", "there is no column 'at'"),
        ("time,at,delay_ms,delay\n", "there is no such column; found 'delay'"),
        ("time,at,at,delay_ms\n", "stands twice"),
        ("time,at,delay_ms\nyesterday,a,1\n", ":2:1: this is no time; found 'yesterday'"),
        ("time,at,delay_ms\n2026-11-20T06:00:00Z,,1\n", "does not say of what it is"),
        ("time,at,delay_ms\n2026-11-20T06:00:00Z,a,x\n", "delay_ms is a number; found 'x'"),
        (
            "time,at,loss_percent\n2026-11-20T06:00:00Z,a,101\n",
            "cannot be measured; found 'loss_percent 101.0'; allowed: 0 to 100",
        ),
        ("time,at,delay_ms\n2026-11-20T06:00:00Z,a,inf\n", "0 and more"),
        ("time,at,delay_ms\n2026-11-20T06:00:00Z,a\n", "not the columns of the first; found 2; allowed: 3"),
        ('time,at,delay_ms\n2026-11-20T06:00:00Z,"a,1\n', "not readable as CSV"),
        ('fans 1 1\ndelay_seconds{at="a"} -1 1795154400\n# EOF\n', ":2:1: this cannot be measured"),
        ('delay_seconds{at="a"} 1\n# EOF\n', "a sample has a time"),
        ("delay_seconds 1 1795154400\n# EOF\n", "does not say of what it is"),
        ('delay_seconds{at="a"} 1 1795154400\ndelay_seconds{at="a} 1\n# EOF\n', ":2:1: this is no OpenMetrics text"),
        ("# TYPE a gauge\n", "no OpenMetrics text: Missing # EOF"),
    ],
)
def test_what_cannot_be_is_said_at_its_line(text, says):
    with pytest.raises(LoadError) as error:
        samples(text)
    assert says in str(error.value)


@given(st.binary(max_size=60), st.sampled_from([b"time,at,delay_ms\n", b"# TYPE delay_seconds gauge\n", b"# EOF"]))
@settings(max_examples=examples(300), deadline=None)
def test_no_bytes_break_the_readers(data, begins):
    with suppress(LoadError):
        read_happenings(begins + data, "x")


def measured(*rows: str, columns: str = "delay_ms") -> Measurements:
    text = "\n".join([f"time,at,{columns}", *rows])
    return Measurements(read_files(FILES), [samples(text)])


def test_a_counter_tells_how_fast_it_grew_and_begins_anew():
    rows = [f"2026-11-20T06:0{minute}:00Z,a:e1,{count}" for minute, count in enumerate((100, 700, 700, 50, 80))]
    gauge = measured(*rows, columns="sent_bytes_total").gauge(Thing("interface", "a:e1"), "sent")
    assert gauge.values.tolist() == [80.0, 0.0, 4.0]
    assert [int(time // 60_000_000 % 60) for time in gauge.times] == [1, 2, 4]


def test_what_names_nothing_is_told_with_what_may_have_been_meant():
    found = measured("2026-11-20T06:00:00Z,abc,1", "2026-11-20T06:00:00Z,a:e7,1", "2026-11-20T06:00:00Z,ab,1")
    assert list(found.known) == [(Thing("link", "a:e1"), "delay")]
    assert list(found.unknown) == ["delay of abc", "delay of a:e7"]
    assert found.unknown["delay of abc"] == "there is no link of this name; did you mean bc?"
    assert found.unknown["delay of a:e7"] == "there is no interface on a of this name"
    found = measured("2026-11-20T06:00:00Z,a:e1,1", columns="cpu_percent")
    assert list(found.unknown) == ["cpu of a:e1"]
    found = measured(*(f"2026-11-20T06:00:00Z,nobody{number},1" for number in range(30)))
    assert len(found.unknown) == 30


def test_a_name_that_several_links_have_names_none_of_them():
    text = RING.replace("name: bc}", "name: ab}")
    found = Measurements(
        read_files({"n.yaml": text.encode()}), [samples("time,at,delay_ms\n2026-11-20T06:00:00Z,ab,1\n")]
    )
    assert found.known == [] and found.unknown == {"delay of ab": "several links have this name"}


def quartiles(known: list[float]) -> tuple[float, float, float]:
    ordered = sorted(known)

    def part(of: float) -> float:
        place = of * (len(ordered) - 1)
        low = int(place)
        high = min(low + 1, len(ordered) - 1)
        return ordered[low] + (ordered[high] - ordered[low]) * (place - low)

    return part(0.25), part(0.5), part(0.75)


@given(st.data())
@settings(max_examples=examples(200), deadline=None)
def test_unusual_hours_are_those_of_the_reference(data):
    begin = microseconds(SINCE) // HOUR
    hours = data.draw(st.lists(st.integers(0, 40 * 24), min_size=1, max_size=300))
    if data.draw(st.booleans()):
        hours = [hour // 24 * 24 + hour % 2 for hour in hours]  # many of the same hour of the day
    known = {}
    for hour in hours:
        moment = (begin + hour) * HOUR + data.draw(st.integers(0, HOUR - 1))
        known[moment] = data.draw(st.sampled_from([0.010, 0.0101, 0.011, 0.012, 0.05]))
    gauge = Gauge("delay", np.array(list(known), np.int64), np.array(list(known.values())))
    start, end = begin * HOUR, (begin + 41 * 24) * HOUR
    expected = set()
    for hour in {moment // HOUR for moment in known}:
        before = [
            value
            for moment, value in known.items()
            if moment // HOUR % 24 == hour % 24 and hour - 28 * 24 <= moment // HOUR < hour
        ]
        median = statistics.median([value for moment, value in known.items() if moment // HOUR == hour])
        if len(before) >= 8:
            low, middle, high = quartiles(before)
            if median > middle + max(3 * (high - low), 0.25 * middle, 0.001):
                expected.add(hour)
    found = list(gauge.unusual(start, end))
    assert {hour for one in found for hour in range(one.first, one.end)} == expected
    assert all(one.end != other.first for one, other in zip(found, found[1:], strict=False))


def test_load_that_is_gone_is_unusual_and_told_after_what_is_over_the_usual():
    rows = ["time,at,delay_ms,sent_bits_per_second,cpu_percent"]
    for hour in range(14 * 24):
        time, is_last = (SINCE - timedelta(hours=14 * 24 - hour)).isoformat(), hour >= 14 * 24 - 2
        load = [5e6, 6e6, 7e6, 8e6][hour // 24 % 4] if not is_last else 2e4 * (14 * 24 - hour)
        rows += [f"{time},ab,{9 if is_last else 2},,", f"{time},a:e1,,{load},", f"{time},b,,,{1 if is_last else 30}"]
    network = read_files(FILES)
    timeline = Timeline(FILES, solve(network), SINCE, [], True, (), [samples("\n".join(rows))])
    found = [one.words for one in most_unusual(timeline, SINCE)]
    # Less of a processor than usual troubles nobody.
    assert [words.partition(", from")[0] for words in found] == [
        "delay of link ab was 9 ms, usually 2 ms",
        "load sent by interface a:e1 was 20 kbit/s, usually 6 Mbit/s",
    ]
    assert "from 2026-11-20 04:00 to 06:00 UTC" in found[1]


@pytest.mark.parametrize(
    ("value", "strays"), [(1.2e6, -1), (1.3e6, 0), (5e6, 0), (9e6, 0), (13e6, 1)]
)  # the lowest quarter ends at 5 Mbit/s, half of all lie within 2, the middle is 6
def test_how_far_from_the_usual_is_unusual(value, strays):
    gauge = Gauge("sent", np.array([0]), np.array([value]))
    assert gauge.strays(value, Usual(5e6, 6e6, 7e6, 20)) == strays
    assert gauge.strays(value / 20, Usual(25e4, 30e4, 35e4, 20)) == 0


def two_weeks(slow_from: int, events: str = "") -> Timeline:
    """A fortnight to ``SINCE`` in which link ab is slow from some hour on, its load counted at one end."""
    rows = ["time,at,delay_ms,sent_bits_per_second,received_bits_per_second,cpu_percent"]
    for hour in range(14 * 24):
        time = (SINCE - timedelta(hours=14 * 24 - hour)).isoformat()
        delay = 30 if hour >= slow_from else 2 + hour % 3 / 10
        rows += [f"{time},ab,{delay},,,", f"{time},a:e1,,{1e6 + hour},{2e6},", f"{time},b,,,,{20 + hour % 2}"]
    network = read_files(FILES)
    return Timeline(
        FILES, solve(network), SINCE, read_events(events.encode(), "e")[0], True, (), [samples("\n".join(rows))]
    )


def health_of(timeline: Timeline, start: datetime, end: datetime, flow: str = "a > b"):
    *_, so_far = strips(timeline, [parse_flow(flow)], start, end)
    return so_far.held


def test_health_of_a_way_tells_what_is_usual_and_what_is_not():
    held = health_of(two_weeks(14 * 24 - 3), at(-24), at(0))
    of = {(row.what, row.at): row for row in held.health.on_the_way}
    assert list(of) == [("device", "a"), ("link", "a:e1"), ("device", "b")]
    link = {(one.at, one.measure): one for one in of["link", "a:e1"].measured}
    delay = link["a:e1", "delay"]
    assert (delay.median, delay.highest, delay.count) == (pytest.approx(0.0021), pytest.approx(0.03), 24)
    assert delay.usual.median == pytest.approx(0.0021) and delay.is_unusual
    # What b sends is what a receives.
    assert {(one.measure, one.at, one.toward) for one in link.values() if one.measure != "delay"} == {
        ("sent", "a:e1", "b"),
        ("received", "a:e1", "a"),
    }
    assert [one.measure for one in of["device", "b"].measured] == ["cpu"] and not of["device", "a"].measured
    (unusual,) = held.health.unusual
    assert (unusual.start, unusual.end) == ("2026-11-20T03:00:00Z", "2026-11-20T06:00:00Z")
    (there, back) = held.health.delays
    assert (there.direction, there.known, there.links, back.links) == ("there", 1, 1, 1)
    story = held.strips[0].story
    assert "- Delay of link ab was 30 ms, usually 2 ms, from 2026-11-20 03:00 to 06:00 UTC." in story
    assert not any("was whole" in line for line in story)


def test_nothing_unusual_says_so_and_the_network_was_whole():
    held = health_of(two_weeks(10_000), at(-24), at(0))
    assert held.health.unusual == [] and held.health.is_measured
    assert "Nothing that was measured on its ways was unusual." in held.strips[0].story
    assert "was whole" in held.strips[0].story[-1]
    assert happened(two_weeks(10_000), at(-24), at(0)).unusual == []
    assert [one.at for one in happened(two_weeks(330), at(-24), at(0)).unusual] == ["a:e1"]


def test_outages_of_a_link_and_its_interfaces_count_once_where_they_overlap():
    text = "\n".join(
        json.dumps({"time": at(hour).isoformat(), word: what, "at": name})
        for hour, word, what, name in [
            (-12, "down", "link", "ab"),
            (-11, "down", "interface", "b:e1"),
            (-10, "up", "link", "ab"),
            (-9, "up", "interface", "b:e1"),
            (-4, "down", "device", "c"),
            (-1, "up", "device", "c"),
        ]
    )
    held = health_of(two_weeks(10_000, text), at(-24), at(0))
    of = {row.at: (round(row.up * 24), row.outages) for row in held.health.on_the_way}
    assert of == {"a": (24, 0), "a:e1": (21, 1), "b": (24, 0), "a:e2": (24, 0), "c": (21, 1), "b:e2": (24, 0)}
    ways = {row.at: (row.there, row.back) for row in held.health.on_the_way}
    assert ways["a:e2"] == (True, True)


def test_a_course_has_points_with_what_was_usual():
    timeline = two_weeks(14 * 24 - 3)
    found = gauge_over(timeline, Thing("link", "a:e1"), "delay", at(-24), at(0))
    known = [point for point in found.points if point.median is not None]
    assert len(found.points) == 400 and len(known) == 24 and found.words == "delay of link ab"
    assert [round(point.median * 1000) for point in known[-4:]] == [2, 30, 30, 30]
    assert all(point.usual is not None and round(point.usual.median, 4) <= 0.0022 for point in known)
    assert gauge_over(timeline, Thing("link", "a:e1"), "loss", at(-24), at(0)) is None


def test_units_are_brought_to_one():
    time = datetime(2026, 11, 20, tzinfo=UTC).isoformat()
    for name, reading in READINGS.items():
        (found,) = values(samples(f"time,at,{name}\n{time},x,1\n")).values()
        assert found == [reading.factor]
