"""Events kept by the server, and questions asked of moments by them."""

import json
from datetime import UTC, datetime, timedelta

import pytest
from django.core.files.uploadedfile import SimpleUploadedFile

from history.models import EventFile
from networks.models import Revision
from tests.core import dumps
from tests.core.test_received_paths import border
from tests.server.conftest import TEXT

DATED = TEXT.replace("name: two hosts\n", "name: two hosts\ntaken_at: 2026-11-20T06:00:00Z\n")
BASE = datetime.fromtimestamp(dumps.TIME, UTC)
DOWN = {"time": "2026-11-20T07:00:00Z", "down": "interface", "at": "r:e2"}
UP = {"time": "2026-11-20T08:00:00Z", "up": "interface", "at": "r:e2"}


def lines(*events: dict) -> str:
    return "\n".join(map(json.dumps, events))


@pytest.fixture
def base(owner) -> str:
    made = owner.post("/api/networks", {"text": DATED}, format="multipart").json()
    return f"/api/networks/{made['id']}"


def send(client, base: str, *events: dict):
    return client.post(f"{base}/events", {"text": lines(*events)}, format="multipart")


def walk_at(owner, base: str, moment: str, number: object = "latest") -> str:
    asked = {"from": "h1", "to": "h2", **({"as_of": moment} if moment else {})}
    answer = owner.get(f"{base}/revisions/{number}/walk", asked)
    assert answer.status_code == 200, answer.json()
    return answer.json()["forward"]["verdict"]


def test_what_was_down_at_a_moment_is_down_in_questions_of_that_moment(owner, base):
    sent = send(owner, base, DOWN, UP)
    assert sent.status_code == 201 and sent.json()["count"] == 2 and sent.json()["unfitting"] == 0
    found = [walk_at(owner, base, moment) for moment in ("2026-11-20T06:30:00Z", DOWN["time"], UP["time"], "")]
    assert found == ["arrives", "unrouted", "arrives", "arrives"]
    state = owner.get(f"{base}/revisions/1/state", {"moment": "2026-11-20T07:30:00Z"}).json()
    assert [one["words"] for one in state["otherwise"]] == ["interface r:e2 down"]
    assert state["changes"] == [{"disable": "interface", "at": "r:e2"}]
    assert (state["before"], state["after"]) == (DOWN["time"], UP["time"])


def test_a_network_says_until_when_it_is_known_what_happened(owner, base):
    assert owner.get(base).json()["events_until"] is None
    samples = {"text": "time,at,cpu_percent\n2026-11-20T09:00:00Z,r,10\n2026-11-20T09:05:00Z,r,11\n"}
    owner.post(f"{base}/events", samples, format="multipart")
    assert owner.get(base).json()["events_until"] is None  # what is measured changes nothing
    send(owner, base, DOWN, UP)
    assert owner.get(base).json()["events_until"] == UP["time"]
    assert owner.get("/api/networks").json()["results"][0]["events_until"] == UP["time"]


def test_a_trial_is_tried_on_a_moment(owner, base):
    send(owner, base, DOWN, UP)
    trial = {"revision": 1, "changes": [{"enable": "interface", "at": "r:e2"}]}
    owner.post(f"{base}/trials", trial, format="json")
    asked = {"from": "h1", "to": "h2", "trial": 1, "as_of": "2026-11-20T07:30:00Z"}
    assert owner.get(f"{base}/revisions/1/walk", asked).json()["forward"]["verdict"] == "arrives"
    asked = {"trial": 1, "as_of": "2026-11-20T07:30:00Z"}
    tried = owner.get(f"{base}/revisions/1/tried", asked).json()["changes"]
    assert [(one["words"], one["state"]) for one in tried] == [("enable interface r:e2", "applied")]
    assert owner.get(f"{base}/revisions/1/moved", asked).json()["routes_changed"]


def test_a_flow_over_time_and_what_happened(owner, base):
    send(owner, base, DOWN, UP)
    window = {"start": "2026-11-20T06:00:00Z", "end": "2026-11-20T10:00:00Z"}
    for _ in range(20):
        answer = owner.get(f"{base}/revisions/latest/strip", {"from": "h1", "to": "h2", **window}).json()
        if answer["held"]:
            break
    (strip,) = answer["held"]["strips"]
    assert [one["because"] for one in strip["segments"]] == [[], [0], [1]]
    assert [strip["states"][one["state"]]["good"] for one in strip["segments"]] == [True, False, True]
    assert "75.00% of the time" in strip["story"][1]
    happened = owner.get(f"{base}/revisions/latest/happened", window).json()
    assert [one["words"] for one in happened["longest"]] == ["interface r:e2"]
    assert happened["event_count"] == 2 and not happened["down"]


def test_a_moment_is_asked_of_the_revision_that_was_true_then(owner, base):
    later = DATED.replace("2026-11-20T06", "2026-11-21T06").replace("h2, e]", "h2, e], enabled: false")
    assert later.count("2026-11-21") == 1
    owner.post(f"{base}/revisions", {"text": later}, format="multipart")
    send(owner, base, DOWN)
    numbers = [
        owner.get(f"{base}/revisions/latest/state", {"moment": moment, "as_of": moment}).json()["before"]
        for moment in ("2026-11-20T06:30:00Z", "2026-11-20T09:00:00Z")
    ]
    assert numbers == [None, DOWN["time"]]
    early = owner.get(f"{base}/revisions/2/walk", {"from": "h1", "to": "h2", "as_of": "2026-11-20T07:00:00Z"})
    assert early.status_code == 400 and "ask an earlier one" in json.dumps(early.json())
    assert walk_at(owner, base, "2026-11-20T07:00:00Z") == "unrouted"
    # A later configuration does not bring up what is down.
    assert walk_at(owner, base, "2026-11-21T07:00:00Z", 2) == "unrouted"


def test_updates_are_kept_and_told(owner):
    net = border({"received": []}).document()
    made = owner.post(
        "/api/networks", {"text": json.dumps({"routrel": 1, "name": "n", **net})}, format="multipart"
    ).json()
    base = f"/api/networks/{made['id']}"
    owner.post(f"{base}/revisions", {"text": dated(net)}, format="multipart")
    said = dumps.attributes([64600, 64601], "192.0.2.1")
    data = dumps.heard(dumps.update(["203.0.113.0/24"], said), time=dumps.TIME + 10)
    data += dumps.heard(dumps.update(withdrawn=["203.0.113.0/24"]), time=dumps.TIME + 20)
    data += dumps.heard(dumps.update(["10.9.0.0/16"], said), number=64999) + data[:9]
    sent = owner.post(f"{base}/events", {"file": SimpleUploadedFile("u.mrt", data)}, format="multipart")
    assert sent.status_code == 201, sent.json()
    assert sent.json()["count"] == 3
    assert "AS 64999" in sent.json()["told"][0] and "inside record 4" in sent.json()["told"][1]
    at = [(BASE + timedelta(seconds=seconds)).isoformat().replace("+00:00", "Z") for seconds in (5, 15, 25)]
    asked = {"from": "b", "to": "203.0.113.9"}
    walks = [owner.get(f"{base}/revisions/latest/walk", {**asked, "as_of": one}).json() for one in at]
    assert [one["forward"]["verdict"] for one in walks] == ["unrouted", "leaves", "unrouted"]
    happened = owner.get(f"{base}/revisions/latest/happened").json()
    assert happened["announcements"] == 3
    (busiest,) = happened["busiest"]
    assert (busiest["announced"], busiest["withdrawn"], busiest["is_gone"]) == (1, 1, True)
    broken = owner.post(f"{base}/events", {"file": SimpleUploadedFile("x.mrt", b"nonsense")}, format="multipart")
    assert broken.status_code == 400 and "BGP4MP" in json.dumps(broken.json())


def dated(document: dict) -> str:
    return json.dumps({"routrel": 1, "name": "n", "taken_at": BASE.isoformat(), **document})


def test_two_moments_are_held_against_each_other(owner, base):
    send(owner, base, DOWN, UP)
    window = {"start": "2026-11-20T06:59:59Z", "end": DOWN["time"]}
    found = owner.get(f"{base}/revisions/1/between", window).json()
    assert [one["words"] for one in found["events"]] == ["interface r:e2 down"]
    assert found["moved"]["routes_changed"] >= 1
    assert all(one["after"] is None for one in found["moved"]["routes"])


def until_held(owner, address: str, asked: dict) -> dict:
    for _ in range(20):
        answer = owner.get(address, asked)
        assert answer.status_code == 200, answer.json()
        if answer.json()["held"]:
            break
    return answer.json()["held"]


def test_two_moments_may_be_of_different_revisions_and_all_traffic_is_held(owner, base):
    later = DATED.replace("06:00:00Z", "09:00:00Z")
    sent = owner.post(f"{base}/revisions", {"text": later}, format="multipart")
    assert sent.status_code == 201, sent.json()
    send(owner, base, DOWN, UP)
    window = {"start": "2026-11-20T07:30:00Z", "end": "2026-11-20T09:30:00Z"}
    found = owner.get(f"{base}/revisions/2/between", window).json()
    assert (found["start"], found["end"]) == (window["start"], window["end"])
    assert [one["words"] for one in found["events"]] == ["interface r:e2 up"]
    # Down in the first revision at the one moment, up in the second at the other.
    assert found["moved"]["routes_changed"] and all(one["before"] is None for one in found["moved"]["routes"])
    held = until_held(owner, f"{base}/revisions/2/between-held", window)
    # What arrives now was unrouted; what a list drops now fails for another reason.
    assert {one["effect"] for one in held["effects"]} == {"open", "failing"} and held["changed"] >= 1
    within = {"start": "2026-11-20T07:59:59Z", "end": UP["time"]}
    assert until_held(owner, f"{base}/revisions/1/between-held", within)["changed"] >= 1
    outside = {"start": "2026-11-20T09:30:00Z", "end": "2026-11-20T09:40:00Z"}
    assert owner.get(f"{base}/revisions/1/between-held", outside).status_code == 400


def test_what_happened_before_a_revision_is_told_of_what_it_has(owner, base):
    send(owner, base, DOWN, UP, {**DOWN, "time": "2026-11-20T10:00:00Z"})
    owner.post(f"{base}/revisions", {"text": DATED.replace("06:00:00Z", "09:00:00Z")}, format="multipart")
    found = owner.get(f"{base}/revisions/2/happened", {"start": "2026-11-20T06:30:00Z"}).json()
    assert found["start"] == "2026-11-20T06:30:00Z" and found["event_count"] == 3
    assert [(one["words"], one["start"]) for one in found["down"]] == [("interface r:e2", "2026-11-20T10:00:00Z")]
    (often,) = found["flapping"]
    assert often["outages"] == 2 and 3600 <= often["down_seconds"] <= 3602


def test_events_that_cannot_be_read_are_refused_with_their_lines_and_nothing_is_stored(owner, base):
    answer = owner.post(f"{base}/events", {"text": f"{json.dumps(DOWN)}\nnonsense\n{{}}"}, format="multipart")
    assert answer.status_code == 400
    assert [one["line"] for one in answer.json()["errors"]] == [2, 3]
    assert not EventFile.objects.exists()
    assert owner.post(f"{base}/events", {"text": "\n"}, format="multipart").status_code == 400


def test_events_that_do_not_fit_are_kept_and_told(owner, base):
    sent = send(owner, base, {**DOWN, "at": "r:e9"}, UP, UP)
    assert sent.json()["unfitting"] == 2
    assert sent.json()["told"][1] == "line 3: it came up, though it was not down"
    assert EventFile.objects.get().count == 3


def test_the_same_file_is_stored_once_and_can_be_had_and_taken_out(owner, base):
    first, again = (send(owner, base, DOWN).json()["id"] for _ in range(2))
    assert first == again
    (listed,) = owner.get(f"{base}/events").json()
    assert (listed["count"], listed["first"], listed["created_by"]) == (1, DOWN["time"], "olive")
    assert owner.get(f"{base}/events/{first}").content == lines(DOWN).encode()
    assert owner.delete(f"{base}/events/{first}").status_code == 204
    assert walk_at(owner, base, "2026-11-20T07:30:00Z") == "arrives"


def test_samples_are_kept_told_of_and_seen_over_time(owner, base):
    rows = [
        f"2026-11-{day:02}T07:{minute}:00Z,h1,{90 if day == 21 else 20}\n"
        for day in range(10, 22)
        for minute in (10, 40)
    ]
    text = "time,at,cpu_percent\n" + "".join(rows) + "2026-11-20T07:00:00Z,h9,3\n"
    sent = owner.post(f"{base}/events", {"text": text}, format="multipart")
    stored = sent.json()
    assert sent.status_code == 201 and (stored["samples"], stored["count"], stored["first"]) == (
        25,
        0,
        "2026-11-10T07:10:00Z",
    )
    assert stored["told"] == ["cpu of h9: there is no device of this name"]
    asked = {"what": "device", "at": "h1", "measure": "cpu"}
    course = owner.get(f"{base}/revisions/1/measured", asked).json()
    assert course["words"] == "processor load of device h1" and course["points"][-1]["high"] == 0.9
    assert owner.get(f"{base}/revisions/1/measured", {**asked, "at": "h2"}).status_code == 404
    assert owner.get(f"{base}/revisions/1/measured", {**asked, "measure": "warmth"}).status_code == 400
    window = {"start": "2026-11-21T00:00:00Z", "end": "2026-11-22T00:00:00Z"}
    held = owner.get(f"{base}/revisions/1/strip", {"from": "h1", "to": "h2", **window}).json()["held"]
    assert [one["words"] for one in held["health"]["unusual"]] == [
        "processor load of device h1 was 90%, usually 20%, from 2026-11-21 07:00 to 08:00 UTC"
    ]
    assert owner.get(f"{base}/revisions/1/happened", window).json()["unusual"] == held["health"]["unusual"]
    bad = owner.post(f"{base}/events", {"text": "time,at,warmth\n"}, format="multipart")
    assert bad.status_code == 400 and "there is no such column" in json.dumps(bad.json())


@pytest.mark.parametrize("moment", ["yesterday", "2026-11-20", "2026-99-20T00:00:00Z"])
def test_a_moment_that_is_none_is_refused(owner, base, moment):
    answer = owner.get(f"{base}/revisions/1/walk", {"from": "h1", "to": "h2", "as_of": moment})
    assert answer.status_code == 400 and "2026-11-20T03:12:44Z" in json.dumps(answer.json())


def test_no_trial_changes_the_past(owner, base):
    answer = owner.get(f"{base}/revisions/1/happened", {"trial": 1})
    assert answer.status_code == 400 and "unknown parameter 'trial'" in json.dumps(answer.json())


def test_a_window_that_ends_before_it_begins_is_refused(owner, base):
    window = {"start": "2026-11-21T00:00:00Z", "end": "2026-11-20T00:00:00Z"}
    assert owner.get(f"{base}/revisions/1/happened", window).status_code == 400


def test_what_is_asked_of_a_moment_is_not_kept_as_asked_of_the_revision(owner, base):
    send(owner, base, DOWN)
    owner.get(f"{base}/revisions/1/findings", {"as_of": "2026-11-20T07:30:00Z"})
    assert Revision.objects.get().error_count is None
