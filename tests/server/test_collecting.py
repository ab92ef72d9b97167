"""A round of collecting whose changes become revisions of a network on a server."""

import pytest
from rest_framework.test import APIClient

from routrel.cli import main
from routrel.collecting.stand_ins import RestconfStandIns
from tests.core.model_documents import ietf, ietf_interface
from tests.server.conftest import TEXT


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
        documents["a"] = ietf(ietf_interface("e1", "10.3.0.1/24"))
        monkeypatch.setenv("ROUTREL_TOKEN", "wrong")
        assert main(call) == 2
        assert "the revision was not stored: status 401" in capsys.readouterr().err
        # Nothing changed since, but what changed before is still to be stored.
        monkeypatch.setenv("ROUTREL_TOKEN", token)
        assert main(call) == 0 and olive.get(revisions).json()["count"] == 4
        assert main(call) == 0 and olive.get(revisions).json()["count"] == 4


def test_storing_needs_a_token(tmp_path, monkeypatch, capsys):
    monkeypatch.delenv("ROUTREL_TOKEN", raising=False)
    inventory = tmp_path / "inventory.yaml"
    inventory.write_text("inventory: 1\ndevices: {}\n")
    assert main(["collect", str(inventory), str(tmp_path / "net"), "--to", "http://127.0.0.1:1/x"]) == 2
    assert "ROUTREL_TOKEN" in capsys.readouterr().err
