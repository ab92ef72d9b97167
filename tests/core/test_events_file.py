"""Files of events (docs/events.md): what they say, and what is wrong with them, line by line."""

import json
from contextlib import suppress
from datetime import UTC, datetime

import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from routrel.formats.errors import LoadError
from routrel.formats.events_file import MAX_LINE, events_text, parse_time, read_events
from tests.examples import examples

AT = '"time": "2026-11-20T03:12:44Z"'


def errors(*lines: str) -> list[str]:
    with pytest.raises(LoadError) as found:
        read_events("\n".join(lines).encode(), "e.jsonl")
    return [str(one) for one in found.value.errors]


def test_events_come_in_the_order_of_their_times_and_are_written_as_they_are_read():
    text = "\n".join(
        (
            '{"time": "2026-11-20T05:00:00+01:00", "up": "link", "at": "r1:e1", "note": "spliced"}',
            "# by hand",
            "",
            '{"time": "2026-11-20T03:00:00.25Z", "down": "link", "at": "r1:e1"}',
            '{"time": "2026-11-20T06:00:00Z", "set": "cost", "at": "r1:e1", "to": 9}',
        )
    )
    events, announcements = read_events(b"\xef\xbb\xbf" + text.encode(), "e.jsonl")
    assert [(one.change.verb, one.change.at, one.place.line) for one in events] == [
        ("disable", "r1:e1", 4),
        ("enable", "r1:e1", 1),
        ("set", "r1:e1", 5),
    ]
    assert events[0].time == datetime(2026, 11, 20, 3, 0, 0, 250_000, UTC) and events[1].time.hour == 4
    assert not len(announcements)
    again, _ = read_events(events_text(events).encode(), "again.jsonl")
    assert [one.data() for one in again] == [one.data() for one in events]


@pytest.mark.parametrize(
    ("line", "message"),
    [
        ("nonsense", "this is no JSON object"),
        ("[1]", "this is no JSON object"),
        ('{"down": "link", "at": "r1:e1"}', "an event has a time"),
        ('{"time": "2026-11-20", "down": "link", "at": "r1:e1"}', "an event has a time"),
        ('{"time": "2026-11-31T00:00:00Z", "down": "link", "at": "r1:e1"}', "an event has a time"),
        ('{"time": "9999-12-31T23:59:59Z", "down": "link", "at": "r1:e1"}', "an event has a time"),
        ('{"time": 5, "down": "link", "at": "r1:e1"}', "an event has a time"),
        (f'{{{AT}, "down": "lnk", "at": "r1:e1"}}', "this cannot be disabled"),
        (f'{{{AT}, "down": "link"}}', "lacks the key 'at'"),
        (f'{{{AT}, "down": "link", "up": "link", "at": "x"}}', "a change says one thing"),
        (f'{{{AT}, "down": ["link"], "at": "x"}}', "this cannot be disabled"),
        (f'{{{AT}, "at": "x"}}', "a change says one thing"),
        (f'{{{AT}, "down": "link", "at": "x", "note": 3}}', "a note is text"),
        (f'{{{AT}, "down": "link", "at": "x", "off": true}}', "nothing that happens"),
        (f'{{{AT}, "remove": "expectation", "at": "x"}}', "nothing that happens"),
        (f'{{{AT}, "set": "mtu", "at": "x", "to": {"[" * 30_000}}}', "nested too deep"),
        (f'{{{AT}, "down": "link", "at": "{"x" * MAX_LINE}"}}', "the line is too long"),
    ],
)
def test_what_cannot_be_an_event_says_why_at_its_line(line, message):
    (error,) = errors("# first", line)
    assert error.startswith("e.jsonl:2:1: ") and message in error


def test_every_line_that_is_wrong_is_told():
    found = errors('{"time": 1}', f'{{{AT}, "down": "link", "at": "x"}}', "x", "y")
    assert [one.split(":")[1] for one in found] == ["1", "3", "4"]


def test_moments():
    told = ["2026-11-20T03:12:44Z", "2026-11-20t03:12:44.5z", "2026-11-20 03:12:44-01:30"]
    assert [parse_time(one).isoformat() for one in told] == [
        "2026-11-20T03:12:44+00:00",
        "2026-11-20T03:12:44.500000+00:00",
        "2026-11-20T04:42:44+00:00",
    ]
    for none in ("", "now", "2026-11-20T03:12Z", "2026-11-20T03:12:44", "2026-11-20T03:12:60Z", None, 3):
        assert parse_time(none) is None


@given(
    st.lists(
        st.one_of(
            st.text(),
            st.dictionaries(
                st.sampled_from(["time", "down", "set", "at", "to", "for", "path", "announce", "note"]),
                st.one_of(
                    st.none(),
                    st.text(),
                    st.integers(),
                    st.just("2026-11-20T03:12:44Z"),
                    st.just("link"),
                    st.just("path"),
                    st.lists(st.integers()),
                ),
            ).map(json.dumps),
        ),
        max_size=4,
    )
)
@settings(max_examples=examples(300), deadline=None)
def test_whatever_stands_in_a_file_is_read_or_refused(lines):
    with suppress(LoadError):
        read_events("\n".join(lines).encode("utf-8", "surrogatepass"), "e.jsonl")
