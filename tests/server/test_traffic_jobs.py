"""All traffic with a trial, held by a worker against that without it."""

import msgspec
import pytest

from jobs import doing, running
from jobs.models import Job
from routrel.analysis.answers.held import HeldSoFar
from tests.server.workers import (  # noqa: F401
    begun,
    no_connection_is_left,
    no_process_is_left,
    with_expectations,
    work,
)

pytestmark = pytest.mark.django_db(transaction=True)


@pytest.fixture
def base(owner) -> str:
    return with_expectations(owner)


OPENED = {"set": "acl_in", "at": "r:e1", "to": None}


@pytest.fixture
def trial(owner, base) -> str:
    made = owner.post(f"{base}/trials", {"revision": 1, "name": "open", "changes": [OPENED]}, format="json")
    assert made.status_code == 201
    return f"{base}/trials/1"


def test_what_a_worker_finds_is_what_is_found_step_by_step(owner, base, trial):
    job = begun(owner, base, question="traffic", trial=1)
    assert (job["state"], job["question"], job["failures"], job["traffic"]) == ("waiting", "traffic", "", None)
    assert begun(owner, base, question="traffic", trial=1)["id"] == job["id"]
    work()
    done = owner.get(f"{base}/jobs/{job['id']}").json()
    assert (done["state"], done["done"], done["held"], done["places"]) == ("done", done["of"], None, None)
    while (step := owner.get(f"{base}/revisions/1/held?trial=1").json())["held"] is None:
        pass
    assert done["traffic"] == step["held"] and done["traffic"]["changed"]
    assert begun(owner, base, question="traffic", trial=1)["traffic"] == done["traffic"]  # it is kept
    assert owner.get(f"{base}/jobs").json()[0]["question"] == "traffic"


def test_how_far_it_is_is_said_and_it_is_given_up_when_cancelled(owner, base, trial, monkeypatch):
    job = begun(owner, base, question="traffic", trial=1)
    seen, real = [], doing.asked

    def in_steps(of, name, *more):
        if name != "held":
            return real(of, name, *more)
        if not more[1]():
            raise running.NotWantedError
        seen.append(owner.get(f"{base}/jobs/{job['id']}").json())
        if len(seen) == 4:
            owner.post(f"{base}/jobs/{job['id']}/cancel")
        return msgspec.json.encode(HeldSoFar(2 * len(seen), 10, None))

    monkeypatch.setattr(doing, "asked", in_steps)
    work()
    assert [(one["done"], one["of"]) for one in seen] == [(0, None), (2, 10), (4, 10), (6, 10)]
    assert {one["seconds_left"] for one in seen} == {None}
    assert owner.get(f"{base}/jobs/{job['id']}").json()["state"] == "cancelled" and len(seen) == 4


def test_what_was_asked_of_a_trial_before_it_was_changed_is_given_up(owner, base, trial):
    first = begun(owner, base, question="traffic", trial=1)
    other = {"disable": "interface", "at": "r:e2"}
    assert owner.patch(trial, {"add": [other]}, format="json").status_code == 200
    second = begun(owner, base, question="traffic", trial=1)
    assert second["id"] != first["id"]
    assert Job.objects.get(pk=first["id"]).state == "cancelled"
    work()
    assert owner.get(f"{base}/jobs/{second['id']}").json()["state"] == "done"


def test_a_trial_that_cannot_be_held_says_why(owner, base, monkeypatch, trial):
    def refused(*_):
        raise running.JobFailedError("no room")

    monkeypatch.setattr(doing, "asked", refused)
    job = begun(owner, base, question="traffic", trial=1)
    work()
    found = owner.get(f"{base}/jobs/{job['id']}").json()
    assert (found["state"], found["problem"]) == ("failed", "no room")


def test_all_traffic_is_asked_with_a_trial_alone(owner, base):
    refused = owner.post(f"{base}/jobs", {"revision": 1, "question": "traffic"}, format="json")
    assert refused.status_code == 400 and "name one" in refused.json()["trial"][0]
    refused = owner.post(f"{base}/jobs", {"revision": 1, "question": "more"}, format="json")
    assert refused.status_code == 400
