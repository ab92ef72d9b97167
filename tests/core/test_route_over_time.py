"""The route of a table for a prefix over time."""

import json
from datetime import datetime, timedelta

import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from routrel.analysis.timeline.route_states import RouteAsked, route_in
from routrel.analysis.timeline.route_strip import route_over_time
from routrel.analysis.timeline.states import Timeline
from routrel.analysis.timeline.strip import TooMuchHappenedError
from routrel.formats.sources import read_files
from routrel.model.addresses import Prefix
from routrel.solving import solve
from tests.core import dumps
from tests.core.mixed_networks import documents
from tests.core.test_heard_states import BASE, outside
from tests.core.test_heard_states import timeline_of as timeline_of_updates
from tests.core.test_timeline import SINCE, SLOW, at, histories, timeline_of
from tests.core.test_updates import NET, SAID
from tests.examples import examples


def told(timeline: Timeline, device: str, prefix: str, start: datetime, end: datetime):
    *_, last = route_over_time(timeline, RouteAsked(device, "default", Prefix.parse(prefix)), start, end)
    return last.held


def test_a_route_has_its_times_what_began_them_and_how_often_it_was_another():
    said = [(1, '"down": "link", "at": "ab"'), (2, '"down": "link", "at": "ac"'), (4, '"up": "link", "at": "ab"')]
    found = told(timeline_of(*said, (5, '"down": "link", "at": "bc"')), "a", "10.0.0.2/32", at(0), at(8))
    hops = [one.route and one.route.next_hops[0].device for one in found.segments]
    assert hops == ["b", "c", None, "b"]
    assert [one.because for one in found.segments] == [[], [0], [1], [2]]
    assert found.usual == 0 and (found.otherwise.outages, found.otherwise.down_seconds) == (1, 3 * 3600)
    assert found.words[:2] == [
        "It was the usual one 62.50% of the time; another, or none, once, 3 h in all.",
        "It was gone, or a shorter prefix stood for it, once, 2 h in all.",
    ]
    # The cable between the others carries nothing of it while all is up.
    assert [event.number for event in found.events] == [0, 1, 2] and found.words[2] == "3 events concern it."


def test_a_route_that_nothing_touches_is_the_same_and_what_never_was_is_said():
    timeline = timeline_of((1, '"down": "link", "at": "bc"'), (2, '"down": "device", "at": "c"'))
    found = told(timeline, "a", "10.0.0.2/32", at(0), at(4))
    assert (len(found.segments), found.events, found.usual) == (1, [], 0)
    assert found.words == ["It was the same all the time.", "No event concerns it."]
    nowhere = told(timeline, "a", "192.0.2.0/24", at(0), at(4))
    assert nowhere.usual is None and nowhere.words[0] == "There was none all the time."
    assert told(timeline, "a", "10.0.0.2/32", at(-9), at(-8)).words[0] == "It was the same all the time."


def test_a_route_that_is_withdrawn_falls_back_to_the_prefix_that_covers_it_and_gets_worse():
    data = dumps.heard(dumps.update([NET, "203.0.112.0/20"], SAID), time=dumps.TIME + 1)
    for seconds in (20, 60, 65, 70, 75, 80):
        data += dumps.heard(dumps.update(withdrawn=[NET]), time=dumps.TIME + seconds)
        data += dumps.heard(dumps.update([NET], SAID), time=dumps.TIME + seconds + 2)
    timeline = timeline_of_updates(outside(), data, "u.mrt")
    found = told(timeline, "b", NET, BASE + timedelta(seconds=11), BASE + timedelta(seconds=100))
    assert {(one.route.prefix, one.fell_back) for one in found.segments} == {(NET, False), ("203.0.112.0/20", True)}
    assert found.otherwise.outages == 6 and sum(found.otherwise.by_hour) == 6
    words = {one.number: one.words for one in found.events}
    assert words[found.segments[1].because[0]] == f"{NET} withdrawn by AS64600 192.0.2.1 to 192.0.2.2"
    assert found.words[1].startswith("That is getting worse: 1 then 5 times in the halves of the window"), found.words


def test_a_window_in_which_too_much_happened_is_refused(monkeypatch):
    monkeypatch.setattr("routrel.analysis.timeline.strip.MOST_STEPS", 1)
    timeline = timeline_of((1, '"down": "link", "at": "ab"'), (2, '"up": "link", "at": "ab"'))
    with pytest.raises(TooMuchHappenedError, match="choose a shorter one"):
        told(timeline, "a", "10.0.0.2/32", at(0), at(4))


@given(st.one_of(documents(), documents(("ospf",), lans=2)), st.data())
@settings(max_examples=examples(6), deadline=None, suppress_health_check=SLOW)
def test_a_route_is_at_every_moment_what_solving_that_says(document, data):
    document = {"routrel": 1, "name": "n", **json.loads(json.dumps(document))}
    files = {"network.json": json.dumps(document).encode()}
    timeline = Timeline(files, solve(read_files(files)), SINCE, data.draw(histories(document)))
    device = data.draw(st.sampled_from(sorted(document["devices"])))
    for prefix in data.draw(st.lists(st.sampled_from(timeline.solved.prefixes.prefixes), min_size=1, max_size=3)):
        asked = RouteAsked(device, "default", prefix)
        *_, last = route_over_time(timeline, asked, at(-4), at(7))
        segments = last.held.segments
        assert (segments[0].start, segments[-1].end) == ("2026-11-20T02:00:00Z", "2026-11-20T13:00:00Z")
        for half in range(-7, 14):
            moment = at(half / 2 + 0.25)
            state = timeline.state_at(moment)
            starts = [datetime.fromisoformat(one.start) for one in segments]
            segment = segments[max(number for number, start in enumerate(starts) if start <= moment)]
            assert segment.unknown == state.unknown
            if not state.unknown:
                assert segment.route == route_in(solve(timeline.network_in(state)), asked), (prefix, moment)
