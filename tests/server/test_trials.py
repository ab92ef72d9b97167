"""Trials over the API: kept, asked with, undone, handed over and made into a revision."""

import pytest

from tests.server.conftest import TEXT

DENY = {"disable": "device", "at": "r"}
PASS = {"set": "acl_in", "at": "r:e1", "to": None}


@pytest.fixture
def base(network) -> str:
    return f"/api/networks/{network['id']}"


@pytest.fixture
def trial(owner, base) -> dict:
    """A trial that takes the list off the way of udp."""
    made = owner.post(f"{base}/trials", {"revision": 1, "name": "let udp in", "changes": [PASS]}, format="json")
    assert made.status_code == 201, made.json()
    return made.json()


def walk(client, base: str, more: str = "", number: int = 1) -> str:
    return client.get(f"{base}/revisions/{number}/walk?from=h1&to=h2&service=udp/53{more}").json()["forward"]["verdict"]


def patch(client, base: str, number: int, **values):
    return client.patch(f"{base}/trials/{number}", values, format="json")


def test_every_question_may_be_asked_with_a_trial(owner, base, trial):
    assert walk(owner, base) == "blocked"
    assert walk(owner, base, "&trial=1") == "arrives"
    assert walk(owner, base) == "blocked"
    (change,) = owner.get(f"{base}/revisions/1/tried?trial=1").json()["changes"]
    assert (change["words"], change["state"]) == ("ACL in of r e1: e → none", "applied")
    sources = {one["file"] for one in owner.get(f"{base}/revisions/1/sources?trial=1").json()}
    assert "trial/r.yaml" in sources
    moved = owner.get(f"{base}/revisions/1/moved?trial=1").json()
    assert moved["routes_changed"] == 0
    assert [(one["before"][:7], one["after"][:7]) for one in moved["flows"]] == [("blocked", "arrives")]
    compared = owner.get(f"{base}/revisions/1/comparison?since=1&trial=1").json()
    assert [one["name"] for one in compared["model"] if one["kind"] == "interface"] == ["r:e1"]


def test_all_traffic_is_held_against_each_other_step_by_step(owner, base, trial):
    found = owner.get(f"{base}/revisions/1/held?trial=1")
    assert found.headers["Cache-Control"] == "no-store" and found.json()["of"] > 0
    for _ in range(20):
        held = owner.get(f"{base}/revisions/1/held?trial=1").json()["held"]
        if held:
            break
    assert held["changed"] and {one["effect"] for one in held["effects"]} <= {"open"}
    assert all(one["example"]["flow"]["from"] for one in held["groups"])
    refused = owner.get(f"{base}/revisions/1/held")
    assert refused.status_code == 400 and "asked of a trial" in refused.json()["detail"]


def test_remedies_are_ranked_with_and_without_a_trial(owner, base, trial):
    asked = f"{base}/revisions/1/remedies?from=h1&to=h2&service=udp/53"
    found = owner.get(asked).json()
    assert found[0]["is_cured"] and found[0]["moves"] == "nothing else moves"
    assert owner.get(f"{asked}&trial=1").json() == []


def test_a_flow_is_led_with_and_without_a_trial(owner, base, trial):
    asked = f"{base}/revisions/1/wanted-way?from=h1&to=h2&service=udp/53"
    for more in ("", "&trial=1"):
        found = owner.get(f"{asked}&avoiding=r{more}").json()
        assert found["proposals"] == [] and found["costs"]
    assert owner.get(f"{asked}&passing=r&trial=1").json()["is_so_already"]
    refused = owner.get(f"{asked}&passing=rr")
    assert refused.status_code == 400 and "there is no device 'rr'" in refused.json()["detail"]


def test_what_is_asked_with_a_trial_is_not_kept_as_asked_before(owner, base, trial):
    walk(owner, base, "&trial=1")
    assert owner.get(f"{base}/asked").json() == []


def test_what_was_done_is_undone_and_done_again_until_something_else_is_done(owner, base, trial):
    assert patch(owner, base, 1, changes=[PASS, DENY]).json()["steps"] == 3
    assert walk(owner, base, "&trial=1") != "arrives"
    assert patch(owner, base, 1, at=1).json()["changes"] == [PASS]
    assert walk(owner, base, "&trial=1") == "arrives"
    assert patch(owner, base, 1, at=2).json()["changes"] == [PASS, DENY]
    patch(owner, base, 1, at=1)
    other = patch(owner, base, 1, changes=[DENY]).json()
    assert (other["at"], other["steps"]) == (2, 3)
    assert patch(owner, base, 1, at=5).status_code == 400
    assert patch(owner, base, 1, at=0).json()["changes"] == []


def test_nobody_overwrites_what_another_did_meanwhile(owner, base, trial, join):
    rita = join("rita", "reader")
    assert patch(rita, base, 1, changes=[], version=trial["version"]).status_code == 200
    answer = patch(owner, base, 1, changes=[DENY], version=trial["version"])
    assert answer.status_code == 409 and "changed meanwhile" in answer.json()["detail"]


def test_a_list_that_is_none_is_refused_with_what_is_wrong(owner, base, trial):
    answer = patch(owner, base, 1, changes=[{"set": "costs", "at": "r:e1", "to": 1}])
    assert answer.status_code == 400
    assert answer.json()["errors"][0]["message"] == "this cannot be set"
    assert owner.get(f"{base}/trials/1").json()["changes"] == [PASS]
    for bad in ("x", "-1", "²"):
        assert owner.get(f"{base}/revisions/1/tried?trial={bad}").status_code == 400
    assert owner.get(f"{base}/revisions/1/tried?trial=7").status_code == 404
    assert owner.get(f"{base}/revisions/1/tried").status_code == 400


def test_a_change_that_cannot_be_made_is_said_and_left_out(owner, base):
    changes = [{"disable": "device", "at": "rr"}, PASS]
    answer = owner.post(f"{base}/revisions/1/tried", {"changes": changes}, format="json").json()
    assert [one["state"] for one in answer["changes"]] == ["error", "applied"]
    assert answer["changes"][0]["problems"][0]["message"] == "there is no device of this name"
    assert owner.get(f"{base}/trials").json() == []


def test_a_text_is_checked_as_it_is_typed(owner, base):
    text = owner.get(f"{base}/revisions/1/device-text?device=r").json()["text"]
    assert "acl_in: e" in text
    bad = {"edit": "device", "at": "r", "text": text.replace("acl_in: e", "acl_in: f")}
    (change,) = owner.post(f"{base}/revisions/1/tried", {"changes": [bad]}, format="json").json()["changes"]
    problem = change["problems"][0]
    assert problem["message"] == "there is no ACL of this name" and problem["nearest"] == ""
    assert (
        problem["place"]["file"] == "trial/r.yaml"
        and "acl_in: f" in bad["text"].splitlines()[problem["place"]["line"] - 1]
    )


def test_a_trial_is_handed_over_as_a_difference_and_made_into_a_revision(owner, base, trial):
    said = owner.get(f"{base}/revisions/1/difference?trial=1").json()
    assert "-" in said["difference"] and said["difference"] != said["back_out"]
    made = owner.post(f"{base}/trials/1/revision", {"revision": 1}, format="json")
    assert made.status_code == 201
    assert (made.json()["number"], made.json()["note"]) == (2, "trial 1, let udp in")
    assert walk(owner, base, number=2) == "arrives"
    text = owner.get(f"{base}/revisions/2/download").content.decode()
    assert text == TEXT.replace(", acl_in: e", "")


def test_a_trial_is_asked_of_a_newer_revision_and_what_no_longer_applies_is_said(owner, base, trial):
    owner.post(
        f"{base}/revisions", {"text": TEXT.replace("  r:\n", "  r2:\n").replace("r:e", "r2:e")}, format="multipart"
    )
    (change,) = owner.get(f"{base}/revisions/2/tried?trial=1").json()["changes"]
    assert change["state"] == "error"
    refused = owner.post(f"{base}/trials/1/revision", {"revision": 2}, format="json")
    assert refused.status_code == 409 and "cannot be made here" in refused.json()["detail"]


def test_readers_try_and_delete_only_what_is_theirs(base, trial, join):
    rita, ed = join("rita", "reader"), join("ed", "editor")
    assert rita.post(f"{base}/trials", {"revision": 1, "changes": [DENY]}, format="json").json()["number"] == 2
    assert rita.delete(f"{base}/trials/1").status_code == 403
    assert rita.post(f"{base}/trials/2/revision", {"revision": 1}, format="json").status_code == 403
    assert rita.delete(f"{base}/trials/2").status_code == 204
    assert ed.delete(f"{base}/trials/1").status_code == 204


def test_a_zipped_network_is_zipped_again(owner):
    from networks.example import zipped_example
    from tests.server.test_uploads import upload

    made = upload(owner, zipped_example(), "saltmarsh.zip").json()
    base = f"/api/networks/{made['id']}"
    changes = [{"set": "cost", "at": "gp-core:e1", "to": 400, "instance": "four"}]
    owner.post(f"{base}/trials", {"revision": 1, "changes": changes}, format="json")
    assert owner.post(f"{base}/trials/1/revision", {"revision": 1}, format="json").status_code == 201
    text = owner.get(f"{base}/revisions/2/source?file=devices/gp-core.yaml").json()["text"]
    assert "e1: {cost: 400}" in text and text.startswith("#")
