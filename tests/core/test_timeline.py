"""A network over time: states at moments against the changed text solved anew, strips against asking at each moment."""

import json
from datetime import UTC, datetime, timedelta

import pytest
from hypothesis import HealthCheck, given, settings
from hypothesis import strategies as st

from routrel.analysis.timeline.flow_states import outcome_of
from routrel.analysis.timeline.outages import downs_of, happened, happened_lines, length_words
from routrel.analysis.timeline.outcomes import flow_outcomes
from routrel.analysis.timeline.states import State, Timeline
from routrel.analysis.timeline.strip import strips
from routrel.analysis.timeline.switches import Switch, is_on, switches_of
from routrel.analysis.walk_verdicts import Answerer
from routrel.formats.changes.applying import apply_changes
from routrel.formats.changes.finding import ChangeError
from routrel.formats.events_file import read_events
from routrel.formats.sources import read_files
from routrel.forwarding.flow import Flow, parse_flow
from routrel.model.addresses import Address
from routrel.model.events import Event
from routrel.solving import solve
from tests.core.change_lists import LAYOUTS, change_lists
from tests.core.mixed_networks import documents
from tests.core.speaker_networks import speakers
from tests.core.test_areas_reference import labs
from tests.core.test_changes import tables
from tests.examples import examples

SLOW = [HealthCheck.too_slow, HealthCheck.data_too_large, HealthCheck.filter_too_much]
SINCE = datetime(2026, 11, 20, 6, tzinfo=UTC)

RING = """
routrel: 1
name: ring
taken_at: 2026-11-20T06:00:00Z
sites: {east: {}, west: {}}
devices:
  a:
    site: west
    interfaces: {lo: {addresses: [10.0.0.1/32]}, e1: {addresses: [10.1.0.1/30]}, e2: {addresses: [10.2.0.1/30]}}
    routing: {ospf: {areas: {0: {interfaces: {lo: {}, e1: {cost: 10}, e2: {cost: 10}}}}}}
  b:
    site: east
    interfaces: {lo: {addresses: [10.0.0.2/32]}, e1: {addresses: [10.1.0.2/30]}, e2: {addresses: [10.3.0.1/30]}}
    routing: {ospf: {areas: {0: {interfaces: {lo: {}, e1: {cost: 10}, e2: {cost: 10}}}}}}
  c:
    site: east
    interfaces: {lo: {addresses: [10.0.0.3/32]}, e1: {addresses: [10.3.0.2/30]}, e2: {addresses: [10.2.0.2/30]}}
    routing: {ospf: {areas: {0: {interfaces: {lo: {}, e1: {cost: 10}, e2: {cost: 10}}}}}}
links:
- {ends: [a:e1, b:e1], name: ab, risk_groups: [duct]}
- {ends: [b:e2, c:e1], name: bc}
- {ends: [a:e2, c:e2], name: ac, risk_groups: [duct]}
"""


def at(hour: float) -> datetime:
    return SINCE + timedelta(hours=hour)


def happening(*said: tuple[float, str]) -> list[Event]:
    """Events, each by its hours after the revision and the rest of its line."""
    lines = (f'{{"time": "{at(hour).isoformat()}", {rest}}}' for hour, rest in said)
    return read_events("\n".join(lines).encode(), "events.jsonl")[0]


def timeline_of(*said: tuple[float, str], text: str = RING, reaches_back: bool = True) -> Timeline:
    files = {"network.yaml": text.encode()}
    return Timeline(files, solve(read_files(files)), SINCE, happening(*said), reaches_back)


def held(timeline: Timeline, flow: str, start: float, end: float):
    *_, last = strips(timeline, [parse_flow(flow)], at(start), at(end))
    assert last.held is not None
    return last.held


def test_what_goes_down_is_down_until_it_comes_up():
    timeline = timeline_of((1, '"down": "link", "at": "ab"'), (2, '"up": "link", "at": "b:e1"'))
    link = Switch("link", "a:e1")
    assert [timeline.state_at(at(hour)).off for hour in (0.5, 1, 1.5, 2)] == [set(), {link}, {link}, set()]


def test_a_site_and_a_risk_group_are_what_they_hold():
    timeline = timeline_of((1, '"down": "site", "at": "east"'), (2, '"down": "risk_group", "at": "duct"'))
    both = {Switch("device", "b"), Switch("device", "c")}
    assert timeline.state_at(at(1)).off == both
    assert timeline.state_at(at(2)).off == both | {Switch("link", "a:e1"), Switch("link", "a:e2")}


def test_an_adjacency_that_is_down_leaves_the_subnet_and_sends_round():
    timeline = timeline_of((1, '"down": "adjacency", "at": "b:e1"'), (2, '"up": "adjacency", "at": "b:e1"'))
    assert timeline.state_at(at(1)).off == {Switch("adjacency", "b:e1")}
    solved = timeline.solved_in(timeline.state_at(at(1)))
    route, subnet = (solved.table(0).lookup(Address.parse(text)) for text in ("10.0.0.2", "10.1.0.2"))
    assert route is not None and route.metric == 20 and subnet is not None and subnet.protocol == "connected"
    found = held(timeline, "a > b", 0, 3)
    assert [one.state for one in found.strips[0].segments] == [0, 1, 0]
    assert [(one.what, one.outages) for one in found.things] == [("adjacency", 1)]
    (event,) = happened(timeline_of((1, '"down": "adjacency", "at": "a:lo9"')), at(0), at(2)).events
    assert "there is no interface" in event.remark
    silent = timeline_of((1, '"down": "adjacency", "at": "b:e1"'), text=RING.replace("e1: {cost: 10}, ", ""))
    assert silent.remarks == ["b:e1 forms no adjacencies"]


def test_before_the_first_revision_events_are_taken_back():
    timeline = timeline_of(
        (-3, '"down": "link", "at": "ab"'), (-2, '"up": "link", "at": "ab"'), (-1, '"up": "device", "at": "c"')
    )
    assert timeline.state_at(at(-4)).off == {Switch("device", "c")}
    assert timeline.state_at(at(-2.5)).off == {Switch("device", "c"), Switch("link", "a:e1")}
    assert timeline.state_at(at(-1)).off == set()


def test_before_a_change_of_configuration_nothing_is_known():
    timeline = timeline_of((-2, '"set": "cost", "at": "a:e1", "to": 10'))
    assert timeline.state_at(at(-3)).unknown and not timeline.state_at(at(-2)).unknown
    (early, late) = held(timeline, "a > b", -3, 1).strips[0].segments
    assert early.state is None and late.state == 0 and "not known" in early.unknown


def test_before_a_later_revision_another_one_counts():
    assert timeline_of(reaches_back=False).state_at(at(-1)).unknown


def test_what_went_down_stays_down_in_a_later_configuration_but_not_in_a_later_capture():
    timeline = timeline_of((-1, '"down": "link", "at": "ab"'))
    assert timeline.state_at(at(1)).off == {Switch("link", "a:e1")}
    shut = RING.replace("name: ab,", "name: ab, enabled: false,")
    came_up = timeline_of((-1, '"up": "link", "at": "ab"'), text=shut)
    assert came_up.state_at(at(1)).on == set(), "what was shut since stays so"
    assert came_up.state_at(at(-0.5)).on == {Switch("link", "a:e1")}


def test_changes_count_from_the_revision_on_and_the_last_of_a_setting():
    timeline = timeline_of(
        (-1, '"set": "cost", "at": "a:e2", "to": 7'),
        (1, '"set": "cost", "at": "a:e1", "to": 5'),
        (2, '"add": "static", "at": "a", "entry": {"prefix": "192.0.2.0/24", "action": "discard"}'),
        (3, '"set": "cost", "at": "a:e1", "to": 6'),
    )
    assert [timeline.state_at(at(hour)).in_force for hour in (0, 1, 2, 3)] == [(), (1,), (1, 2), (2, 3)]
    solved = timeline.solved_in(timeline.state_at(at(3)))
    assert solved.table(0).lookup(Address.parse("10.0.0.2")).metric == 6


@pytest.mark.parametrize(
    ("said", "remark"),
    [
        ('"down": "link", "at": "xy"', "there is no link of this name"),
        ('"up": "link", "at": "ab"', ""),
        ('"set": "cost", "at": "a:e9", "to": 4', "there is no interface on a of this name"),
        ('"set": "cost", "at": "a:e1", "to": -4', "the number is out of range: '-4'"),
    ],
)
def test_what_does_not_fit_is_kept_and_said(said, remark):
    timeline = timeline_of((1, said))
    (event,) = happened(timeline, at(0), at(2)).events
    assert remark in event.remark and bool(event.remark) == bool(remark)
    assert not timeline.state_at(at(2)).off


def test_what_comes_up_twice_is_said():
    timeline = timeline_of(*((hour, '"up": "link", "at": "ab"') for hour in (1, 2)))
    assert timeline.remarks == ["", "it came up, though it was not down"]


def test_what_a_change_took_out_is_down_no_more():
    """Its link, its interface, its whole text: what goes down afterwards is not there."""
    plain = "interfaces: {lo: {addresses: [10.0.0.9/32]}, e1: {addresses: [10.1.0.2/30]}}"
    timeline = timeline_of(
        (1, '"down": "interface", "at": "b:e2"'),
        (2, '"down": "link", "at": "bc"'),
        (3, '"remove": "link", "at": "bc"'),
        (4, f'"edit": "device", "at": "b", "text": "{plain}"'),
        (5, '"down": "device", "at": "b"'),
    )
    for hour in (2.5, 3.5, 4.5, 5.5):
        state = timeline.state_at(at(hour))
        tried = apply_changes(timeline.files, timeline.solved.network, timeline.changes_of(state))
        assert tables(timeline.solved_in(state)) == tables(solve(tried.network))
    assert not any(timeline.remarks), timeline.remarks
    assert held(timeline, "a > c", 0, 6).strips[0].states[0].good


def test_a_flow_over_time_has_its_ways_and_what_began_them():
    said = [(1, '"down": "link", "at": "ab"'), (2, '"down": "link", "at": "ac"'), (3, '"up": "link", "at": "ab"')]
    found = held(timeline_of(*said), "a > b", 0, 4)
    (strip,) = found.strips
    assert [(one.state, one.because) for one in strip.segments] == [(0, []), (1, [0]), (2, [1]), (0, [2])]
    assert [strip.states[number].good for number in range(3)] == [True, True, False]
    assert [way.paths[0] for way in strip.ways if way.paths[0][0] == "a"][:2] == [["a", "b"], ["a", "c", "b"]]
    assert strip.ways[strip.usual].paths == [["a", "b"]]
    assert [event.number for event in found.events] == [0, 1, 2]
    assert {one.at: one.outages for one in found.things} == {"a:e1": 1, "a:e2": 1}
    assert "75.00% of the time" in strip.story[1]
    assert strip.story[2].startswith("- Not from 2026-11-20 08:00 UTC to 2026-11-20 09:00 UTC (1 h)")


def test_what_is_told_so_far_is_the_beginning_of_what_is_told_in_the_end(monkeypatch):
    monkeypatch.setattr("routrel.analysis.timeline.strip.SHOWN_EVERY", 1)
    said = [
        (hour, f'"{"down" if hour % 2 else "up"}": "link", "at": "{"ab" if hour < 5 else "ac"}"')
        for hour in range(1, 9)
    ]
    *so_far, last = strips(timeline_of(*said), [parse_flow("a > b"), parse_flow("c > b")], at(0), at(10))
    assert last.held is not None and not last.begun
    assert [one.done for one in so_far] == list(range(len(so_far)))
    ends = list[str]()
    for one in so_far:
        for begun, whole in zip(one.begun, last.held.strips, strict=False):
            told = [(of.start, begun.states[of.state].words, of.because) for of in begun.segments]
            assert told == [(of.start, whole.states[of.state].words, of.because) for of in whole.segments][: len(told)]
            ends.append(begun.segments[-1].end)
    assert ends and ends == sorted(ends)


def test_strips_of_two_flows_at_once_do_not_disturb_each_other(monkeypatch):
    monkeypatch.setattr("routrel.analysis.timeline.outcomes.OUTCOMES_KEPT", 0)
    timeline = timeline_of((1, '"down": "link", "at": "ab"'), (2, '"down": "link", "at": "ac"'))
    going = strips(timeline, [parse_flow("a > b")], at(0), at(4))
    next(going)
    next(going)
    other = held(timeline, "c > a", 0, 4)
    *_, last = going
    assert last.held is not None and len(last.held.strips[0].segments) == 3 and len(other.strips[0].segments) == 2


def test_what_does_not_touch_a_flow_begins_no_segment_but_is_told_where_it_is_on_a_way():
    found = held(timeline_of((1, '"down": "link", "at": "bc"')), "a > b", 0, 4)
    assert len(found.strips[0].segments) == 1 and not found.events
    assert found.strips[0].story[-1].startswith("The network was whole")


def test_a_fall_back_to_a_shorter_prefix_says_which_route_was_gone():
    default = RING.replace(
        "routing: {ospf: {areas: {0: {interfaces: {lo: {}, e1: {cost: 10}, e2: {cost: 10}}}}}}",
        "routing: {static: [{prefix: 0.0.0.0/0, next_hop: 10.2.0.2}],"
        " ospf: {areas: {0: {interfaces: {lo: {}, e1: {cost: 10}, e2: {cost: 10}}}}}}",
        1,
    )
    timeline = timeline_of((1, '"down": "device", "at": "b"'), (2, '"up": "device", "at": "b"'), text=default)
    (strip,) = held(timeline, "a > 10.0.0.2", 0, 3).strips
    assert [one.fell_back for one in strip.segments] == [
        [],
        ["a goes by the default (static): 10.0.0.2/32 (ospf) is gone"],
        [],
    ]


def test_outages_are_counted_and_a_trend_is_told_with_its_numbers():
    flaps = [
        (hour, f'"{word}": "link", "at": "ab"') for n in (1, 6, 7, 8) for word, hour in (("down", n), ("up", n + 0.1))
    ]
    timeline = timeline_of(*flaps, (9, '"down": "device", "at": "c"'))
    found = happened(timeline, at(0), at(10))
    assert [(one.at, one.outages) for one in found.flapping] == [("a:e1", 4)]
    assert found.flapping[0].trend == "getting worse: 1 then 3 outages in the halves of the window, 6 min then 18 min"
    assert [(one.words, one.start, one.seconds) for one in found.down] == [("device c", "2026-11-20T15:00:00Z", 3600.0)]
    assert found.event_count == 9 and found.last_hour == 0
    assert any("down 4 times" in line for line in happened_lines(found))


def test_what_was_down_before_a_window_is_down_since_then():
    timeline = timeline_of((1, '"down": "link", "at": "ab"'), (5, '"up": "link", "at": "ab"'))
    (down,) = downs_of(timeline, Switch("link", "a:e1"), at(2), at(4))
    assert (down.start, down.end) == (at(1), None)


def test_lengths_in_words():
    assert [length_words(one) for one in (0, 59, 61, 3600, 90_061)] == ["0 s", "59 s", "1 min 1 s", "1 h", "1 d 1 h"]


# Held against slow references


@st.composite
def histories(draw, document: dict) -> list[Event]:
    """Up to a dozen events of all kinds around the revision, many at the same hour, not all of which fit."""
    changes = [*draw(change_lists(document)), *draw(change_lists(document))]
    said = []
    for change in changes:
        hour = draw(st.integers(-3, 6))
        if change.pop("off", False) or "expectation" in change.values():
            continue
        said.append(json.dumps({"time": at(hour).isoformat(), **change}))
    return read_events("\n".join(said).encode(), "events.jsonl")[0]


def plainly(files: dict, network, events: list[Event], moment: datetime) -> list | None:
    """The changes that make the revision what it was at a moment; None where nobody knows."""
    events = sorted(events, key=lambda one: one.time)
    low, high = sorted((moment, SINCE))
    between = [one for one in events if low < one.time <= high and not one.is_switch]
    if moment < SINCE and between:
        return None
    before: dict = {}
    after: dict = {}
    for event in events:
        try:
            switches = switches_of(network, event.change) if event.is_switch else []
        except ChangeError:
            continue
        for switch in switches:
            if event.time <= moment:
                is_carried = event.time <= SINCE <= moment
                before[switch] = None if is_carried and not event.is_down else not event.is_down
            elif event.time <= SINCE:
                after.setdefault(switch, event.is_down)
    finally_ = {**after, **before}
    switched = [one.change(value) for value in (True, False) for one, is_on in finally_.items() if is_on is value]
    set_ = [] if moment < SINCE else [one.change for one in between if one.change.verb != "restart"]
    return [*set_, *switched]


def same_at(files: dict, timeline: Timeline, moment: datetime) -> None:
    state = timeline.state_at(moment)
    changes = plainly(files, timeline.solved.network, timeline.events, moment)
    assert (changes is None) == bool(state.unknown)
    if changes is None:
        return
    slow = apply_changes(files, timeline.solved.network, changes)
    changed = {name: text.encode() for name, text in slow.changed_files.items()}
    cold = solve(read_files({**files, **changed}))
    assert tables(timeline.solved_in(state)) == tables(cold)
    # By the text, as a trial of the same changes is.
    tried = apply_changes(files, timeline.solved.network, timeline.changes_of(state))
    assert tables(solve(tried.network, timeline.solved)) == tables(cold)


@given(st.one_of(documents(("ospf",), lans=2), labs().map(lambda lab: lab.document)), st.data())
@settings(max_examples=examples(20), deadline=None, suppress_health_check=SLOW)
def test_what_becomes_of_flows_in_states_is_what_solving_each_says(document, data):
    document = {"routrel": 1, "name": "n", **json.loads(json.dumps(document))}
    files = {"network.json": json.dumps(document).encode()}
    network = read_files(files)
    names = sorted(network.devices)
    switches = sorted(
        {Switch("device", name) for name in names}
        | {
            Switch(what, f"{name}:{one}")
            for name in names
            for one in network.devices[name].interfaces
            for what in ("interface", "adjacency")
        }
        | {Switch("link", str(link.ends[0])) for link in network.links}
    )
    switches = [one for one in switches if is_on(network, one)]
    timeline = Timeline(files, solve(network), SINCE, [])
    outcomes = flow_outcomes(timeline)
    flows = [Flow(one, other) for one in names for other in names if one != other]
    for off in data.draw(st.lists(st.frozensets(st.sampled_from(switches), max_size=5), min_size=1, max_size=4)):
        answerer = Answerer(solve(timeline.network_in(State(off))))
        for flow in flows:
            assert outcomes.of(flow, State(off)) == outcome_of(answerer, flow), (flow, off)


@pytest.mark.parametrize("strategy", [documents(), speakers()], ids=["mixed", "speakers"])
@given(data=st.data())
@settings(max_examples=examples(15), deadline=None, suppress_health_check=SLOW)
def test_the_state_at_any_moment_is_that_of_the_changed_text_solved_anew(strategy, data):
    document = {"routrel": 1, "name": "n", **json.loads(json.dumps(data.draw(strategy)))}
    for number, device in enumerate(document["devices"].values()):
        device["site"] = ["here", "there"][number % 2]
    document["sites"] = {"here": {}, "there": {}}
    files = LAYOUTS[data.draw(st.sampled_from(sorted(LAYOUTS)))](document)
    events = [one for one in data.draw(histories(document)) if one.change.verb != "restart"]
    timeline = Timeline(files, solve(read_files(files)), SINCE, events)
    for hour in data.draw(st.lists(st.integers(-4, 7), min_size=2, max_size=4)):
        same_at(files, timeline, at(hour))


@given(data=st.data())
@settings(max_examples=examples(12), deadline=None, suppress_health_check=SLOW)
def test_a_strip_says_at_every_moment_what_asking_then_says(data):
    document = {"routrel": 1, "name": "n", **json.loads(json.dumps(data.draw(documents())))}
    files = LAYOUTS["folder"](document) if "folder" in LAYOUTS else LAYOUTS[sorted(LAYOUTS)[0]](document)
    timeline = Timeline(files, solve(read_files(files)), SINCE, data.draw(histories(document)))
    names = sorted(document["devices"])
    flow = Flow(data.draw(st.sampled_from(names)), data.draw(st.sampled_from(names)))
    *_, last = strips(timeline, [flow], at(-4), at(7))
    (strip,) = last.held.strips
    assert strip.segments[0].start == "2026-11-20T02:00:00Z" and strip.segments[-1].end == "2026-11-20T13:00:00Z"
    for one, following in zip(strip.segments, strip.segments[1:], strict=False):
        assert one.end == following.start
    for half in range(-7, 14):
        moment = at(half / 2 + 0.25)
        state = timeline.state_at(moment)
        (segment,) = [
            one
            for one in strip.segments
            if datetime.fromisoformat(one.start) <= moment < datetime.fromisoformat(one.end)
        ]
        assert (segment.state is None) == bool(state.unknown)
        if segment.state is None:
            continue
        shown = strip.states[segment.state]
        answer = Answerer(solve(timeline.network_in(state))).answer(flow)
        if answer.walk is None:
            assert shown.forward is None and shown.words == answer.error
        else:
            reply = answer.walk.reply
            assert (shown.forward, shown.reply) == (answer.walk.forward.verdict, reply and reply.verdict)
            assert strip.ways[shown.way].path_count == answer.walk.forward.path_count
