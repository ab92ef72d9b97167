"""The states of a network that follow from what neighbours announce and withdraw, in trials too."""

import json
from datetime import UTC, datetime, timedelta

import pytest
from hypothesis import HealthCheck, given, settings
from hypothesis import strategies as st

from routrel.analysis.timeline.states import Timeline
from routrel.analysis.timeline.strip import strips
from routrel.analysis.trial import Trial
from routrel.analysis.walk_verdicts import Answerer
from routrel.formats.changes.applying import apply_changes
from routrel.formats.changes.reading import changes_of
from routrel.formats.errors import LoadError
from routrel.formats.events_file import read_events
from routrel.formats.happenings import read_happenings
from routrel.formats.network_file import read_network
from routrel.formats.sources import read_files
from routrel.forwarding.flow import Flow, parse_flow
from routrel.model.addresses import Address
from routrel.model.unchanged import without_places
from routrel.solving import solve
from tests.core import dumps
from tests.core.test_changes import tables
from tests.core.test_received_paths import border, with_stubs
from tests.core.test_updates import NET, OTHER, SAID, SIX
from tests.examples import examples

BASE = datetime.fromtimestamp(dumps.TIME, UTC)


def timeline_of(document: dict, data: bytes, name: str = "events.jsonl", since: datetime = BASE) -> Timeline:
    files = {"n.json": json.dumps(document).encode()}
    read = read_happenings(data, name)
    return Timeline(files, solve(read_files(files)), since, read.events, True, [read.announcements])


def outside(**received) -> dict:
    """``a`` with a neighbour outside that says nothing, or what is given, and ``b`` behind it."""
    return border(received or {"received": []}).document()


def way(timeline: Timeline, seconds: float, prefix: str = NET) -> str:
    solved = timeline.solved_in(timeline.state_at(BASE + timedelta(seconds=seconds)))
    route = solved.table(solved.topology.instance_index["b", "default"]).lookup(Address.parse(prefix.split("/")[0]))
    return "" if route is None else str(route.prefix)


def test_a_path_stands_from_when_it_is_announced_until_it_is_withdrawn():
    data = dumps.heard(dumps.update([NET], SAID), time=dumps.TIME + 10)
    data += dumps.heard(dumps.update(withdrawn=[NET]), time=dumps.TIME + 20)
    timeline = timeline_of(outside(), data, "u.mrt")
    assert [way(timeline, at) for at in (9, 10, 19, 20)] == ["", NET, NET, ""]


def test_what_the_revision_knows_is_replaced_and_gone_with_the_session():
    known = {"received": [{"prefix": NET, "as_path": [64600]}, {"prefix": OTHER, "as_path": [64600]}]}
    data = dumps.heard(dumps.update(withdrawn=[NET]), time=dumps.TIME + 10)
    data += dumps.turned(False, time=dumps.TIME + 20) + dumps.turned(True, time=dumps.TIME + 30)
    data += dumps.heard(dumps.update([NET], SAID), time=dumps.TIME + 40)
    timeline = timeline_of(outside(**known), data, "u.mrt")
    assert [(way(timeline, at), way(timeline, at, OTHER)) for at in (0, 10, 20, 30, 40)] == [
        (NET, OTHER),
        ("", OTHER),
        ("", ""),
        ("", ""),
        (NET, ""),
    ]


@pytest.mark.parametrize("has_ids", [True, False])
def test_one_of_several_paths_of_a_dump_is_replaced_by_its_identifier(has_ids):
    """RFC 7911 section 3; of paths whose identifiers nobody knows all are replaced."""
    known = [(0, dumps.attributes([64600, *[64601] * more], f"192.0.2.{7 + more}")) for more in range(3)]
    document = outside()
    del document["devices"]["a"]["routing"]["bgp"]["neighbors"]["192.0.2.1"]["received"]
    dumped = dumps.index([("192.0.2.1", 64600)]) + dumps.routes(NET, known if has_ids else known[:1], has_ids)
    files = {"network.json": json.dumps(document).encode(), "a.mrt": dumped}
    longer = dumps.attributes([64600, 64602, 64602, 64602], "192.0.2.77")
    said = [
        dumps.heard(dumps.update(withdrawn=[NET], path=0), time=dumps.TIME + 10, subtype=9),
        dumps.heard(dumps.update([NET], longer, path=1), time=dumps.TIME + 20, subtype=9),
        dumps.heard(dumps.update(withdrawn=[NET], path=2), time=dumps.TIME + 30, subtype=9),
        dumps.heard(dumps.update(withdrawn=[NET], path=1), time=dumps.TIME + 40, subtype=9),
    ]
    read = read_happenings(b"".join(said), "u.mrt")
    timeline = Timeline(files, solve(read_files(files)), BASE, read.events, True, [read.announcements])
    hops_at = []
    for seconds in (0, 10, 20, 30, 40):
        solved = timeline.solved_in(timeline.state_at(BASE + timedelta(seconds=seconds)))
        route = solved.lookup(solved.topology.device_index["a"], Address.parse("203.0.113.9"))
        hops_at.append("" if route is None else str(route.next_hops[0].address))
    # Three paths: the shortest goes, then the second becomes the longest, then the third goes, then all are gone.
    of_all = ["192.0.2.7", "192.0.2.8", "192.0.2.9", "192.0.2.77", ""]
    assert hops_at == (of_all if has_ids else ["192.0.2.7", "", "192.0.2.77", "192.0.2.77", ""])


def test_before_what_was_announced_since_a_revision_nothing_is_known():
    data = dumps.heard(dumps.update([NET], SAID), time=dumps.TIME - 10)
    timeline = timeline_of(outside(), data, "u.mrt")
    assert timeline.state_at(BASE - timedelta(seconds=11)).unknown
    assert not timeline.state_at(BASE - timedelta(seconds=10)).unknown


def test_of_a_neighbor_of_whom_a_later_revision_knows_nothing_what_it_said_before_still_counts():
    document = outside()
    del document["devices"]["a"]["routing"]["bgp"]["neighbors"]["192.0.2.1"]["received"]
    data = dumps.heard(dumps.update([NET], SAID), time=dumps.TIME - 10)
    data += dumps.heard(dumps.update(withdrawn=[NET]), time=dumps.TIME + 10)
    timeline = timeline_of(document, data, "u.mrt")
    assert [way(timeline, at) for at in (-11, -10, 0, 9, 10)] == ["", NET, NET, NET, ""]
    assert not timeline.state_at(BASE - timedelta(seconds=11)).unknown


def test_who_is_no_neighbor_of_the_network_is_said():
    data = dumps.heard(dumps.update([NET], SAID), number=64999) + dumps.turned(False, number=64999)
    timeline = timeline_of(outside(), data, "u.mrt")
    assert list(timeline.heard.unknown.values()) == ["no session of the network is with AS 64999 at 192.0.2.1"]
    assert "AS 64999" in timeline.remarks[0]
    assert way(timeline, 5) == ""


def test_announcements_are_written_by_hand_too():
    lines = [
        {"time": "+1", "announce": "path", "at": "a 192.0.2.1", "for": NET, "path": {"as_path": [64600]}},
        {
            "time": "+2",
            "announce": "path",
            "at": "AS64600 192.0.2.1",
            "for": OTHER,
            "path": {"as_path": [64600], "med": 9},
        },
        {"time": "+3", "withdraw": "path", "at": "a 192.0.2.1", "for": NET},
        {"time": "+4", "withdraw": "path", "at": "a 192.0.2.1", "for": "all"},
    ]
    for line in lines:
        line["time"] = (BASE + timedelta(seconds=int(line["time"]))).isoformat()
    timeline = timeline_of(outside(), "\n".join(map(json.dumps, lines)).encode())
    assert [(way(timeline, at), way(timeline, at, OTHER)) for at in (0, 1, 2, 3, 4)] == [
        ("", ""),
        (NET, ""),
        (NET, OTHER),
        ("", OTHER),
        ("", ""),
    ]


@pytest.mark.parametrize(
    ("said", "message"),
    [
        ({"announce": "path", "for": NET}, "lacks the key 'path'"),
        ({"announce": "path", "for": NET, "path": {}}, "a path has an AS path"),
        ({"announce": "path", "for": "all", "path": {"as_path": [1]}}, "prefix"),
        ({"announce": "path", "for": NET, "path": {"as_path": [1], "next_hop": "2001:db8::1"}}, "of its family"),
        ({"announce": "path", "for": NET, "path": {"as_path": [1], "colour": 3}}, "unknown key"),
        ({"withdraw": "path", "for": "10.0.0.1/8"}, "prefix"),
    ],
)
def test_an_announcement_that_cannot_be_read_says_why(said, message):
    line = {"time": "2026-11-20T03:00:00Z", "at": "a 192.0.2.1", **said}
    with pytest.raises(LoadError) as error:
        read_events(json.dumps(line).encode(), "e.jsonl")
    assert message in str(error.value) and "e.jsonl:1:1" in str(error.value)


def test_a_strip_tells_what_was_announced_and_by_which_prefix_it_fell_back():
    data = dumps.heard(dumps.update([NET, "203.0.112.0/20"], SAID), time=dumps.TIME + 10)
    data += dumps.heard(dumps.update(["192.88.99.0/24"], SAID), time=dumps.TIME + 15)
    data += dumps.heard(dumps.update(withdrawn=[NET]), time=dumps.TIME + 20)
    timeline = timeline_of(outside(), data, "u.mrt")
    *_, last = strips(timeline, [parse_flow("b > 203.0.113.9")], BASE, BASE + timedelta(seconds=30))
    (strip,) = last.held.strips
    words = {one.number: one.words for one in last.held.events}
    assert [[words[number] for number in one.because] for one in strip.segments] == [
        [],
        [
            f"{prefix} announced by AS64600 192.0.2.1 to 192.0.2.2, AS path 64600 64601"
            for prefix in (NET, "203.0.112.0/20")
        ],
        [f"{NET} withdrawn by AS64600 192.0.2.1 to 192.0.2.2"],
    ], "what covers no address of the flow begins nothing"
    assert strip.segments[2].fell_back[0].endswith(f"goes by 203.0.112.0/20 (bgp): {NET} (bgp) is gone")


# In trials


def test_a_trial_announces_and_withdraws_by_the_text():
    files = {"n.json": json.dumps(outside(received=[{"prefix": NET, "as_path": [64600]}])).encode()}
    network = read_files(files)
    changes = changes_of(
        [
            {"announce": "path", "at": "a 192.0.2.1", "for": OTHER, "path": {"as_path": [64600, 64700], "med": 3}},
            {"announce": "path", "at": "a 192.0.2.1", "for": NET, "path": {"as_path": [64600, 64601]}},
            {"withdraw": "path", "at": "a 192.0.2.1", "for": OTHER},
            {"withdraw": "path", "at": "a 192.0.2.1", "for": SIX},
            {"withdraw": "path", "at": "a 10.0.0.2", "for": NET},
        ]
    )
    trial = Trial.of(files, solve(network), changes)
    assert [one.state for one in trial.applied.outcomes] == ["applied", "applied", "applied", "nothing", "error"]
    assert trial.applied.outcomes[0].words == f"192.0.2.1 announces {OTHER} to a"
    text = json.loads(trial.applied.changed_files["n.json"])
    neighbor = text["devices"]["a"]["routing"]["bgp"]["neighbors"]["192.0.2.1"]
    assert neighbor["received"] == [{"prefix": NET, "as_path": [64600, 64601]}]
    again = read_files({"n.json": trial.applied.changed_files["n.json"].encode()})
    assert without_places(again) == without_places(trial.applied.network)


def test_what_a_dump_has_is_withdrawn_by_a_line_of_the_text():
    document = outside()
    del document["devices"]["a"]["routing"]["bgp"]["neighbors"]["192.0.2.1"]["received"]
    path = dumps.attributes([64600], "192.0.2.1")
    dump = dumps.index([("192.0.2.1", 64600)]) + dumps.routes(NET, [(0, path)]) + dumps.routes(OTHER, [(0, path)])
    devices = document.pop("devices")
    files = {"network.yaml": json.dumps(document).encode(), "a.mrt": dump}
    files |= {f"devices/{name}.yaml": json.dumps(device).encode() for name, device in devices.items()}
    changes = changes_of(
        [
            {"withdraw": "path", "at": "a 192.0.2.1", "for": NET},
            {"announce": "path", "at": "a 192.0.2.1", "for": OTHER, "path": {"as_path": [64600, 64601]}},
        ]
    )
    applied = apply_changes(files, read_files(files), changes)
    assert [one.state for one in applied.outcomes] == ["applied", "applied"]
    again = read_files({**files, **{name: text.encode() for name, text in applied.changed_files.items()}})
    (neighbor,) = (one for one in again.devices["a"].routing.bgp.neighbors if str(one.address) == "192.0.2.1")
    assert [str(prefix) for one in neighbor.received for prefix in one.prefixes] == [OTHER]
    assert tables(solve(again)) == tables(solve(applied.network))


# Held against a slow reference


@st.composite
def spoken(draw, document: dict, names: list[tuple[str, str, int]]) -> list[dict]:
    """Announcements and withdrawals of some neighbours, in the order of their times."""
    said = []
    for second in range(draw(st.integers(2, 8))):
        device, peer, number = draw(st.sampled_from(names))
        prefix = draw(st.sampled_from([NET, OTHER, "203.0.112.0/20", "0.0.0.0/0"]))
        line = {"time": (BASE + timedelta(seconds=second)).isoformat(), "at": f"{device} {peer}"}
        if draw(st.booleans()):
            path = {
                "as_path": [number, *draw(st.lists(st.integers(64700, 64703), max_size=2))],
                "med": draw(st.integers(0, 2)),
            }
            said.append({**line, "announce": "path", "for": prefix, "path": path})
        else:
            said.append({**line, "withdraw": "path", "for": draw(st.sampled_from([prefix, prefix, "all"]))})
    return said


@given(st.data())
@settings(max_examples=examples(15), deadline=None, suppress_health_check=[HealthCheck.too_slow])
def test_what_is_heard_is_what_the_text_with_it_says_and_strips_say_the_same(data):
    _, document = data.draw(with_stubs())
    document = {"routrel": 1, "name": "n", **json.loads(json.dumps(document))}
    names = [
        (name, peer, neighbor["as"])
        for name, device in document["devices"].items()
        for peer, neighbor in device.get("routing", {}).get("bgp", {}).get("neighbors", {}).items()
        if "received" in neighbor and ":" not in peer
    ]
    if not names:
        return
    said = data.draw(spoken(document, names))
    timeline = timeline_of(document, "\n".join(map(json.dumps, said)).encode(), since=BASE - timedelta(seconds=1))
    devices = sorted(document["devices"])
    flow = Flow(
        data.draw(st.sampled_from(devices)), data.draw(st.sampled_from(["203.0.113.9", "198.51.100.7", *devices]))
    )
    *_, last = strips(timeline, [flow], BASE - timedelta(seconds=1), BASE + timedelta(seconds=9))
    (strip,) = last.held.strips
    plain = json.loads(json.dumps(document))
    for second in range(-1, 8):
        moment = BASE + timedelta(seconds=second)
        for one in said:
            if datetime.fromisoformat(one["time"]) == moment:
                plainly(plain, one)
        state = timeline.state_at(moment)
        cold = solve(read_network({"n.json": json.dumps(plain).encode()}))
        assert tables(timeline.solved_in(state)) == tables(cold)
        (segment,) = [
            one
            for one in strip.segments
            if datetime.fromisoformat(one.start) <= moment < datetime.fromisoformat(one.end)
        ]
        shown, answer = strip.states[segment.state], Answerer(cold).answer(flow)
        if answer.walk is None:
            assert shown.words == answer.error
        else:
            reply = answer.walk.reply
            assert (shown.forward, shown.reply) == (answer.walk.forward.verdict, reply and reply.verdict)
            assert strip.ways[shown.way].paths == answer.walk.forward.paths[:4]


def plainly(document: dict, said: dict) -> None:
    """The text after an announcement or a withdrawal."""
    device, peer = said["at"].split()
    neighbor = document["devices"][device]["routing"]["bgp"]["neighbors"][peer]
    left = [] if said["for"] == "all" else [one for one in neighbor["received"] if one["prefix"] != said["for"]]
    if "announce" in said:
        left.append({"prefix": said["for"], **said["path"]})
    neighbor["received"] = left
