"""``routrel history`` as people call it."""

import json

import pytest

from tests.core.test_cli import run
from tests.core.test_timeline import RING

EVENTS = [
    {"time": "2026-11-20T07:00:00Z", "down": "link", "at": "ab"},
    {"time": "2026-11-20T08:00:00Z", "down": "link", "at": "ac"},
    {"time": "2026-11-20T10:00:00Z", "up": "link", "at": "ac"},
]


@pytest.fixture
def called(tmp_path, capsys):
    """The command on a ring of three routers, with what happened to it."""
    (tmp_path / "n.yaml").write_text(RING)
    (tmp_path / "e.jsonl").write_text("\n".join(map(json.dumps, EVENTS)))

    def call(*options: str) -> tuple[int, str, str]:
        events = "--events", str(tmp_path / "e.jsonl")
        return run(capsys, "history", str(tmp_path / "n.yaml"), *events, "--until", "2026-11-20T11:00:00Z", *options)

    return call


def test_what_happened(called):
    status, out, _ = called()
    assert status == 0 and "down  link ab, since 2026-11-20T07:00:00Z (4 h)" in out
    found = json.loads(called("--json")[1])
    assert (found["event_count"], len(found["longest"])) == (3, 2)


def test_what_of_it_a_flow_met_and_the_exit_status_says_whether_it_got_through(called):
    status, out, _ = called("--flow", "a > b")
    assert status == 1 and "once it was not, 2 h in all" in out
    assert called("--flow", "b > c")[0] == 0


def test_the_state_at_a_moment_as_changes(called):
    status, out, _ = called("--state-at", "2026-11-20T09:00:00Z", "--json")
    assert status == 0 and [one["at"] for one in json.loads(out)] == ["a:e1", "a:e2"]


def test_a_route_over_the_time(called):
    status, out, _ = called("--route", "a 10.0.0.2/32")
    lines = out.splitlines()
    assert status == 0 and lines[0].startswith("a 10.0.0.2/32, from 2026-11-20T06:00:00Z to 2026-11-20T11:00:00Z")
    assert lines[-2] == "2026-11-20T08:00:00Z none (link ac down)"
    assert json.loads(called("--route", "a/default 10.0.0.2", "--json")[1])["prefix"] == "10.0.0.2/32"
    assert called("--route", "a 192.0.2.0/24")[0] == 1


@pytest.mark.parametrize(
    ("options", "message"),
    [
        (["--route", "aa 10.0.0.2/32"], "no device, or device/VRF, of this network; did you mean a?"),
        (["--route", "a/blue 10.0.0.2/32"], "'a/blue' is no device, or device/VRF, of this network"),
        (["--route", "a"], "allowed: a device and a prefix"),
        (["--route", "a 10.0.0.2/8"], "10.0.0.2/8 has host bits set"),
        (["--since", "yesterday"], "--since: 'yesterday' is no time"),
        (["--since", "2026-11-21"], "before it begins"),
        (["--flow", "a b"], "is no flow"),
    ],
)
def test_what_is_asked_wrongly_is_said(called, options, message):
    status, out, err = called(*options)
    assert (status, out) == (2, "") and message in err
