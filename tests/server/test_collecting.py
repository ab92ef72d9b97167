"""A round of collecting whose changes become revisions of a network on a server."""

import pytest
from django.db import connections
from rest_framework.test import APIClient

from collecting.rounds import due, take
from collecting.tasks import ask
from routrel.cli import main
from routrel.collecting.stand_ins import RestconfStandIns
from tests.core.model_documents import ietf, ietf_interface
from tests.server.conftest import TEXT
from tests.server.workers import work
from work import service


@pytest.fixture
def olive(make_user, transactional_db):
    client = APIClient()
    client.force_authenticate(make_user("olive"))
    return client


def test_a_revision_is_stored_where_something_changed_and_only_there(olive, live_server, tmp_path, monkeypatch, capsys):
    network = olive.post("/api/networks", {"text": TEXT}, format="multipart").json()["id"]
    token = olive.post("/api/tokens", {"name": "rounds"}, format="json").json()["token"]
    monkeypatch.setenv("ROUTREL_TOKEN", token)
    documents = {"a": ietf(ietf_interface("e1", "10.1.0.1/24"))}
    revisions = f"/api/networks/{network}/revisions"
    with RestconfStandIns(documents) as restconf:
        inventory = tmp_path / "inventory.yaml"
        inventory.write_text(f"inventory: 1\ndevices:\n  a: {{over: restconf, url: '{restconf.url('a')}'}}\n")
        call = ["collect", str(inventory), str(tmp_path / "net"), "--to", live_server.url + revisions]
        assert main(call) == 0
        assert main(call) == 0
        assert olive.get(revisions).json()["count"] == 2  # the second round had nothing new
        documents["a"] = ietf(ietf_interface("e1", "10.2.0.1/24"))
        assert main(call) == 0
        latest, *_ = olive.get(revisions).json()["results"]
        assert (latest["number"], latest["note"]) == (3, "collected from 1 device")
        capsys.readouterr()
        documents["a"] = ietf(ietf_interface("e1", "10.3.0.1/24", enabled=False))
        monkeypatch.setenv("ROUTREL_TOKEN", "wrong")
        assert main(call) == 2
        assert "the revision was not stored: status 401" in capsys.readouterr().err
        # Nothing changed since, but what changed before is still to be stored.
        monkeypatch.setenv("ROUTREL_TOKEN", token)
        assert main(call) == 0 and olive.get(revisions).json()["count"] == 4
        assert main(call) == 0 and olive.get(revisions).json()["count"] == 4
        (file,) = olive.get(f"/api/networks/{network}/events").json()
        assert file["count"] == 1  # what was seen while the server was away is not lost


def test_storing_needs_a_token(tmp_path, monkeypatch, capsys):
    monkeypatch.delenv("ROUTREL_TOKEN", raising=False)
    inventory = tmp_path / "inventory.yaml"
    inventory.write_text("inventory: 1\ndevices: {}\n")
    assert main(["collect", str(inventory), str(tmp_path / "net"), "--to", "http://127.0.0.1:1/x"]) == 2
    assert "ROUTREL_TOKEN" in capsys.readouterr().err


@pytest.fixture
def rounds(olive, tmp_path, settings):
    """An inventory of a stand-in and of nobody, into a network of text; the folder and the documents that are played."""
    network = olive.post("/api/networks", {"text": TEXT}, format="multipart").json()["id"]
    settings.COLLECT = str(tmp_path)
    documents = {"a": ietf(ietf_interface("e1", "10.1.0.1/24"))}
    with RestconfStandIns(documents) as restconf:
        (tmp_path / "quay.yaml").write_text(
            f"inventory: 1\ninto: {network}\nevery: 15\ndevices:\n"
            f"  a: {{over: restconf, url: '{restconf.url('a')}'}}\n"
            "  b: {over: restconf, url: 'http://127.0.0.1:1/restconf', seconds: 2}\n"
        )
        yield f"/api/networks/{network}", documents
    service.pool.close()
    connections.close_all()


def test_a_workers_rounds_become_revisions_where_something_changed(olive, rounds):
    base, documents = rounds
    assert due() == ["quay.yaml"]
    ask("quay.yaml")
    ask("quay.yaml")  # one waits already
    work()
    (inventory,) = olive.get(f"{base}/collecting").json()
    (first,) = inventory["rounds"]
    assert (inventory["inventory"], inventory["every"]) == ("quay.yaml", 15)
    assert (first["answered"], list(first["failed"]), first["problem"], first["revision"]) == (1, ["b"], "", 2)
    assert due() == []
    take("quay.yaml")
    assert olive.get(f"{base}/collecting").json()[0]["rounds"][0]["revision"] is None  # nothing new
    documents["a"] = ietf(ietf_interface("e1", "10.2.0.1/24", enabled=False))
    answer = olive.post(f"{base}/collecting", {"inventory": "quay.yaml"}, format="json")
    assert answer.status_code == 200
    work()
    latest, *_ = olive.get(f"{base}/revisions").json()["results"]
    assert latest["number"] == 3
    assert latest["note"] == "collected by quay.yaml from 1 device; 1 could not be had"
    assert latest["created_by"] is None
    # What went down between two rounds is an event, seen by the second.
    (file,) = olive.get(f"{base}/events").json()
    assert file["file_name"].startswith("quay.yaml-") and file["count"] == 1
    happened = olive.get(f"{base}/revisions/3/happened").json()
    assert [one["words"] for one in happened["down"]] == ["interface a:e1"]
    assert happened["events"][0]["note"].startswith("seen by collecting, since 20") and not happened["unfitting"]


def test_rounds_that_cannot_be_made_say_why(olive, rounds, tmp_path, monkeypatch):
    base, _ = rounds
    text = (tmp_path / "quay.yaml").read_text()
    (tmp_path / "quay.yaml").write_text(text.replace("seconds: 2", "password_from: NOWHERE_SET, user: olive"))
    take("quay.yaml")
    (inventory,) = olive.get(f"{base}/collecting").json()
    assert "NOWHERE_SET" in str(inventory["rounds"][0])
    (tmp_path / "other.yaml").write_text("inventory: 1\ninto: nobody\nevery: 1\ndevices: {}\n")
    (tmp_path / "broken.yaml").write_text("inventory: 7\n")
    take("other.yaml")
    take("broken.yaml")
    assert len(olive.get(f"{base}/collecting").json()) == 1
    assert olive.post(f"{base}/collecting", {"inventory": "other.yaml"}, format="json").status_code == 404
    assert olive.post(f"{base}/collecting", {}, format="json").status_code == 400
