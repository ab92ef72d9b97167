"""Large uploads: read by a worker, said how far they are, stored once or not at all."""

import pytest
from django.core.files.uploadedfile import SimpleUploadedFile
from django.db import OperationalError, connection
from psycopg.errors import DiskFull

from jobs import running
from networks.models import Membership, Network, Revision, Role
from tests.server.conftest import TEXT
from tests.server.test_asked import ask, asked, star
from tests.server.workers import no_connection_is_left, no_process_is_left, packed, work  # noqa: F401
from uploading import reading, records
from uploading.models import UploadJob

pytestmark = pytest.mark.django_db(transaction=True)


def sent(client, data: bytes = TEXT.encode(), file: str = "network.yaml", expect: int = 202, **words) -> dict:
    answer = client.post("/api/uploads", {"file": SimpleUploadedFile(file, data), **words}, format="multipart")
    assert answer.status_code == expect, answer.json()
    return answer.json()


def now(client, upload: dict) -> dict:
    return client.get(f"/api/uploads/{upload['id']}").json()


def test_an_upload_becomes_a_network(owner):
    data = packed()
    upload = sent(owner, data, "n.zip", name="ours", note="first")
    assert (upload["state"], upload["stage"], upload["network"], upload["workers"]) == ("waiting", None, None, 0)
    assert owner.get("/api/networks").json()["count"] == 0
    work()
    done = now(owner, upload)
    assert (done["state"], done["stage"], done["revision"], done["errors"]) == ("done", None, 1, [])
    assert [one["id"] for one in owner.get("/api/uploads").json()] == [upload["id"]]
    network = owner.get(f"/api/networks/{done['network']}").json()
    assert (network["name"], network["role"], network["latest"]["note"]) == ("ours", "owner", "first")
    at_once = owner.post("/api/networks", {"file": SimpleUploadedFile("n.zip", data)}, format="multipart").json()
    same = ("digest", "size", "device_count", "is_capture", "taken_at", "file_name")
    assert {key: network["latest"][key] for key in same} == {key: at_once["latest"][key] for key in same}
    assert owner.get(f"/api/networks/{done['network']}/revisions/1/download").content == data
    assert bytes(UploadJob.objects.get().packed) == b""
    # what is expected of it is held, as of any revision
    assert [one["failures"] for one in owner.get(f"/api/networks/{done['network']}/jobs").json()] == ["survived"]


def test_a_network_without_a_name_is_called_as_the_upload_calls_itself(owner):
    sent(owner)
    work()
    assert Network.objects.get().name == "two hosts"


def test_an_upload_becomes_a_revision_and_what_is_starred_is_asked_of_it(owner, network):
    ask(owner, network)
    (flow,) = asked(owner, network)
    assert star(owner, network, flow["id"]).status_code == 200
    upload = sent(owner, TEXT.replace("two hosts", "later").encode(), network=network["id"])
    work()
    assert (now(owner, upload)["network"], now(owner, upload)["revision"]) == (network["id"], 2)
    (flow,) = asked(owner, network)
    assert {answer["revision"] for answer in flow["answers"]} == {1, 2}


def test_only_who_may_change_a_network_sends_a_revision_of_it(owner, network, join, client_of):
    sent(join("rita", "reader"), network=network["id"], expect=403)
    sent(client_of("sam"), network=network["id"], expect=404)
    sent(owner, network="00000000-0000-0000-0000-000000000000", expect=404)
    assert not UploadJob.objects.exists()
    assert sent(join("eve", "editor"), network=network["id"])["network"] == network["id"]


@pytest.mark.parametrize("gone", ["membership", "network", "role"])
def test_who_may_not_change_it_any_more_when_it_is_read_is_refused(owner, network, join, gone):
    editor = join("eve", "editor")
    upload = sent(editor, network=network["id"])
    if gone == "network":
        assert owner.delete(f"/api/networks/{network['id']}").status_code == 204
    elif gone == "membership":
        assert owner.delete(f"/api/networks/{network['id']}/members/eve").status_code == 204
    else:
        Membership.objects.filter(user__username="eve").update(role=Role.READER)
    work()
    assert now(editor, upload)["state"] == "failed" and "may not change it" in now(editor, upload)["problem"]
    assert Revision.objects.count() == 1


def test_what_is_wrong_with_an_upload_is_said_as_at_once_and_nothing_is_stored(owner):
    bad = TEXT.replace("action: drop", "action: dorp").encode()
    upload = sent(owner, bad)
    work()
    failed = now(owner, upload)
    refused = owner.post("/api/load-check", {"file": SimpleUploadedFile("network.yaml", bad)}, format="multipart")
    assert failed["state"] == "failed" and failed["errors"] == refused.json()["errors"] != []
    assert failed["problem"] == refused.json()["detail"]
    assert not Network.objects.exists() and bytes(UploadJob.objects.get().packed) == b""
    assert owner.delete(f"/api/uploads/{upload['id']}").status_code == 204
    assert owner.get("/api/uploads").json() == []


def test_what_takes_more_than_it_may_is_said(owner, monkeypatch):
    def too_long(*words, **more):
        raise running.WorkError("This took longer than allowed.")

    monkeypatch.setattr(running._pool, "ask", too_long)
    upload = sent(owner)
    work()
    assert (now(owner, upload)["state"], now(owner, upload)["problem"]) == ("failed", "This took longer than allowed.")


def test_what_nobody_foresaw_is_said_without_its_trace(owner, monkeypatch):
    def broken(*words):
        raise RuntimeError("no")

    monkeypatch.setattr(reading, "ask", broken)
    upload = sent(owner)
    work()
    assert now(owner, upload)["problem"] == f"Something went wrong here, not with you. Reference: {upload['id']}"


def test_a_full_disk_is_said(owner, monkeypatch):
    def full(*words):
        raise OperationalError("could not extend file") from DiskFull()

    monkeypatch.setattr(reading, "create", full)
    monkeypatch.setattr(running, "PATIENCE", 0)
    upload = sent(owner)
    work()
    assert now(owner, upload)["state"] == "failed" and "disk is full" in now(owner, upload)["problem"]


def test_an_upload_that_is_given_up_is_not_stored(owner, monkeypatch):
    real = running._pool.ask
    upload = sent(owner)

    def given_up(*words, **more):
        assert owner.delete(f"/api/uploads/{upload['id']}").status_code == 204
        connection.close()  # this is a thread that goes on
        return real(*words, **more)

    monkeypatch.setattr(running._pool, "ask", given_up)
    work()
    assert not Network.objects.exists() and not UploadJob.objects.exists()


def test_it_is_said_what_is_done_of_an_upload(owner, monkeypatch, tmp_path):
    monkeypatch.setenv("ROUTREL_SOLVED", str(tmp_path))
    monkeypatch.setattr(running, "LOOKS", 0.001)
    running.close()  # the next process is started with the folder
    said = []

    def heard(upload, stages):
        known = stages[:]
        real(upload, known)
        one = UploadJob.objects.get()
        assert (one.state, one.stage) == ("running", known[-1] if known else "")
        said.extend(known)
        return True

    real = reading._going_on
    monkeypatch.setattr(reading, "_going_on", heard)
    many = "".join(
        f"  n{number}: {{interfaces: {{e: {{addresses: [10.{number // 250}.{number % 250}.1/24]}}}}}}\n"
        for number in range(9000)
    )
    sent(owner, f"routrel: 1\nname: many\ndevices:\n{many}".encode())
    work()
    running.close()
    assert Network.objects.get().name == "many"
    seen = list(dict.fromkeys(said))
    assert (
        seen == [one for one in ("reading", "solving", "looking", "keeping") if one in seen] and seen[-1] == "keeping"
    )
    assert list(tmp_path.glob("*.solved"))  # before it is said to be done: whoever looks at it opens that


def test_what_is_sent_again_before_it_is_read_is_one_upload(owner, client_of):
    first = sent(owner)
    assert sent(owner)["id"] == first["id"] != sent(owner, file="other.yaml")["id"]
    assert sent(client_of("sam"))["id"] != first["id"]
    work()
    assert sent(owner)["id"] != first["id"]


def test_an_upload_that_two_workers_read_is_stored_once(owner, monkeypatch):
    real = reading.ask
    upload = sent(owner)

    def twice(*words):
        found = real(*words)
        monkeypatch.setattr(reading, "ask", real)
        reading.read(upload["id"], lambda: False)
        return found

    monkeypatch.setattr(reading, "ask", twice)
    work()
    assert now(owner, upload)["state"] == "done" and Network.objects.count() == Revision.objects.count() == 1


def test_a_user_has_few_uploads_at_once_and_no_more_than_the_quota(owner, settings):
    for number in range(records.MOST_UNDER_WAY):
        sent(owner, file=f"{number}.yaml")
    assert "not read yet" in sent(owner, file="more.yaml", expect=429)["detail"]
    work()
    settings.QUOTA = {"revisions": 3, "bytes": 1}
    assert "You have stored" in sent(owner, file="more.yaml", expect=403)["detail"]


def test_others_uploads_do_not_exist_for_one(owner, client_of):
    upload, other = sent(owner), client_of("sam")
    assert other.get("/api/uploads").json() == []
    assert other.get(f"/api/uploads/{upload['id']}").status_code == 404
    assert other.delete(f"/api/uploads/{upload['id']}").status_code == 404


def test_what_cannot_be_an_upload_is_refused_at_once(owner):
    for words in ({}, {"text": TEXT, "network": "x"}):
        assert owner.post("/api/uploads", words, format="multipart").status_code == 400
    too_large = sent(owner, b"#" * 33 * 1024 * 1024, expect=400)
    assert too_large["errors"][0]["message"] == "the file is too large"
    assert not UploadJob.objects.exists()
