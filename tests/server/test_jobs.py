"""Jobs: expectations under failures, done by workers, with results as they come, each part stored once."""

from datetime import timedelta

import msgspec
import pytest
from django.core.files.uploadedfile import SimpleUploadedFile

from jobs import doing, running, tasks
from jobs.models import Job, JobPart, KeptExpectation
from routrel.analysis.expectations.holding import hold
from routrel.analysis.held.under_failures import PlacesStressed, places_together
from routrel.formats.sources import files_of_upload, read_files
from routrel.solving import solve
from tests.server.conftest import TEXT
from tests.server.test_expectations import EXPECTATIONS
from tests.server.workers import (  # noqa: F401
    begun,
    no_connection_is_left,
    no_process_is_left,
    packed,
    with_expectations,
    work,
)

pytestmark = pytest.mark.django_db(transaction=True)


@pytest.fixture
def base(owner) -> str:
    return with_expectations(owner)


def test_a_job_finds_what_is_found_at_once_and_is_done_once(owner, base):
    job = begun(owner, base, failures="devices,links")
    assert (job["state"], job["held"], job["workers"]) == ("waiting", None, 0)
    assert begun(owner, base, failures="links,devices")["id"] == job["id"]  # the same, said otherwise
    work()
    done = owner.get(f"{base}/jobs/{job['id']}").json()
    assert (done["state"], done["done"], done["seconds_left"]) == ("done", done["of"], None)
    solved = solve(read_files(files_of_upload("n.zip", packed())))
    found = hold(solved, solved.network.expectations, ("links", "devices"))
    assert done["held"] == msgspec.json.decode(msgspec.json.encode(found))
    assert not JobPart.objects.exists()
    assert begun(owner, base, failures="links,devices")["held"] == done["held"]
    assert [one["failures"] for one in owner.get(f"{base}/jobs").json()] == ["links,devices", "survived"]


def test_two_failures_at_once_and_all_traffic_are_jobs_of_their_own(owner, base):
    one, two, all_traffic = (
        begun(owner, base, failures="links", **words) for words in ({}, {"two_at_once": True}, {"against": "places"})
    )
    assert len({job["id"] for job in (one, two, all_traffic)}) == 3
    work()
    solved = solve(read_files(files_of_upload("n.zip", packed())))
    done = owner.get(f"{base}/jobs/{two['id']}").json()
    held = hold(solved, solved.network.expectations, ("links",), two_at_once=True)
    assert done["held"]["failures"] == msgspec.json.decode(msgspec.json.encode(held.failures))
    assert done["of"] == held.failures_tried == 1
    done = owner.get(f"{base}/jobs/{all_traffic['id']}").json()
    stressed = PlacesStressed(solved, ["links"])
    found = places_together([stressed.part(range(len(stressed.failures)))])
    assert done["held"] is None and done["places"] == msgspec.json.decode(msgspec.json.encode(found))


@pytest.mark.parametrize(
    ("words", "message"),
    [
        ({"failures": "cables"}, "'cables' names nothing that can fail"),
        ({"failures": "survived", "two_at_once": True}, "This is asked of kinds of failures"),
        ({"failures": "none", "against": "places"}, "This is asked of kinds of failures"),
        ({"failures": "links", "two_at_once": True, "against": "places"}, "not against all places"),
    ],
)
def test_what_cannot_be_asked_of_failures_is_refused(owner, base, words, message):
    refused = owner.post(f"{base}/jobs", {"revision": 1, **words}, format="json")
    assert refused.status_code == 400 and message in refused.json()["failures"][0]


def test_results_come_part_by_part(owner, base, monkeypatch):
    monkeypatch.setattr(doing, "PART", 1)
    seen = []
    real = doing.asked

    def looking(job, name, *more):
        if name == "failures-part" and job.failures == "links":
            seen.append(owner.get(f"{base}/jobs/{job.pk}").json())
        return real(job, name, *more)

    monkeypatch.setattr(doing, "asked", looking)
    begun(owner, base, failures="links")
    work()
    assert [one["done"] for one in seen] == list(range(seen[0]["of"])) and len(seen) > 1
    assert all(one["held"]["failures_tried"] == one["done"] for one in seen)
    assert all((one["seconds_left"] is None) == (one["done"] == 0) for one in seen)


def test_what_two_workers_find_of_one_part_is_stored_once(owner, base, monkeypatch):
    job = begun(owner, base, failures="links")
    real = doing.asked

    def twice(of, name, *more):
        if name == "failures-part" and str(of.pk) == job["id"]:
            monkeypatch.setattr(doing, "asked", real)
            for part in JobPart.objects.filter(job=of, found=None):
                tasks.look.defer(job=job["id"], start=part.start)
        return real(of, name, *more)

    monkeypatch.setattr(doing, "asked", twice)
    work()
    done = owner.get(f"{base}/jobs/{job['id']}").json()
    assert (
        done["state"] == "done" and done["held"]["failures_tried"] == 2
    )  # of three, the device is tried for one alone


def test_a_cancelled_job_is_given_up(owner, base, monkeypatch):
    job = begun(owner, base, failures="devices")
    real = doing.asked
    asked = []

    def cancelling(of, name, *more):
        asked.append(name)
        if str(of.pk) == job["id"]:
            assert owner.post(f"{base}/jobs/{job['id']}/cancel").json()["state"] == "cancelled"
        return real(of, name, *more)

    monkeypatch.setattr(doing, "asked", cancelling)
    work()
    found = owner.get(f"{base}/jobs/{job['id']}").json()
    assert (found["state"], found["held"]) == ("cancelled", None) and not JobPart.objects.filter(job=job["id"]).exists()
    assert begun(owner, base, failures="devices")["id"] != job["id"]  # who asks again has it done


def test_what_is_under_way_is_ended_when_nobody_wants_it(owner, base, monkeypatch):
    job = Job.objects.select_related("revision").get(pk=begun(owner, base, failures="devices")["id"])
    words = {"failures": "devices"}
    monkeypatch.setattr(running, "LOOKS", 0)
    with pytest.raises(running.NotWantedError):
        running.asked(job, "failures-planned", words, lambda: False)
    found = running.asked(job, "failures-planned", words, lambda: True)  # by another process
    assert msgspec.json.decode(found)["failures"] == 1


def test_a_trial_and_what_cannot_be_done_in_it(owner, base):
    opened = {"set": "acl_in", "at": "r:e1", "to": None}
    for number, changes in enumerate(([opened], [{"disable": "device", "at": "nowhere"}]), 1):
        made = owner.post(f"{base}/trials", {"revision": 1, "name": f"{number}", "changes": changes}, format="json")
        assert made.status_code == 201
    jobs = [begun(owner, base, failures="links", trial=number) for number in (1, 2)]
    work()
    first, second = (owner.get(f"{base}/jobs/{job['id']}").json() for job in jobs)
    states = {one["name"]: one["state"] for one in first["held"]["expectations"]}
    assert states["names"] == "holds" and states["no mail"] == "fails"
    assert second["state"] == "done"  # a change in error is left out of the trial
    assert second["held"]["expectations"] == begun(owner, base)["held"]["expectations"]


def test_a_job_that_fails_says_why(owner, base, monkeypatch):
    job = begun(owner, base, failures="links")
    Job.objects.filter(pk=job["id"]).update(failures="cables")
    work()
    found = owner.get(f"{base}/jobs/{job['id']}").json()
    assert found["state"] == "failed" and "'cables' names nothing that can fail" in found["problem"]


def test_expectations_over_revisions(owner, base):
    texts = [TEXT.replace("action: drop, protocol: udp", "action: accept, protocol: udp"), TEXT, TEXT]
    for number, text in enumerate(texts):
        file = SimpleUploadedFile("n.zip", packed(text, EXPECTATIONS + "\n" * number))
        assert owner.post(f"{base}/revisions", {"file": file}, format="multipart").status_code == 201
    work()
    of = {one["name"]: one for one in owner.get(f"{base}/expectation-history").json()}
    assert [one["state"] for one in of["names"]["revisions"]] == ["fails", "holds", "fails", "fails"]
    assert (of["names"]["held_until"], of["names"]["fails_since"]) == (2, 3)
    assert [one["state"] for one in of["no mail"]["revisions"]] == ["holds", "fails", "holds", "holds"]
    assert of["no mail"]["fails_since"] is None
    assert "h1 > h2 udp/53" in of["names"]["revisions"][3]["words"]
    assert "does not survive r" in of["web"]["revisions"][0]["words"] and of["web"]["held_until"] is None
    assert KeptExpectation.objects.count() == 12


def test_one_user_has_so_many_jobs_and_a_stranger_none(owner, base, client_of, monkeypatch):
    monkeypatch.setattr("jobs.records.MOST_UNDER_WAY", 2)
    begun(owner, base, failures="links")
    refused = owner.post(f"{base}/jobs", {"revision": 1, "failures": "devices"}, format="json")
    assert refused.status_code == 429 and "jobs under way" in refused.json()["detail"]
    assert client_of("stranger").get(f"{base}/jobs").status_code == 404


def test_what_goes_wrong_unforeseen_is_said_of_the_job(owner, base, monkeypatch):
    def wrong(*_):
        raise ValueError("unforeseen")

    monkeypatch.setattr(doing, "asked", wrong)
    job = begun(owner, base, failures="links")
    work()
    found = owner.get(f"{base}/jobs/{job['id']}").json()
    assert found["state"] == "failed" and found["problem"].endswith(f"Reference: {job['id']}")


def test_a_job_that_was_never_queued_is_when_it_is_asked_again(owner, base, monkeypatch):
    with monkeypatch.context() as lost:
        lost.setattr("jobs.records._queue", lambda job: None)
        job = begun(owner, base, failures="links")
    work()
    assert owner.get(f"{base}/jobs/{job['id']}").json()["state"] == "waiting"
    monkeypatch.setattr("jobs.records.LONG_WAIT", timedelta(0))
    assert [begun(owner, base, failures="links")["id"] for _ in range(2)] == [job["id"]] * 2
    work()
    assert owner.get(f"{base}/jobs/{job['id']}").json()["state"] == "done"
