"""What is expected of a network, asked step by step, of a revision and with a trial."""

import io
import zipfile

import pytest
from django.core.files.uploadedfile import SimpleUploadedFile

from tests.server.conftest import TEXT

EXPECTATIONS = """\
- {name: web, from: h1, to: h2, on: tcp/80, survives: devices}
- {name: names, from: h1, to: h2, on: udp/53}
- {name: no mail, from: h1, to: h2, on: udp/25, expect: never arrives}
"""


@pytest.fixture
def base(owner) -> str:
    packed = io.BytesIO()
    with zipfile.ZipFile(packed, "w") as archive:
        archive.writestr("network.yaml", TEXT)
        archive.writestr("expectations.yaml", EXPECTATIONS)
    made = owner.post("/api/networks", {"file": SimpleUploadedFile("n.zip", packed.getvalue())}, format="multipart")
    assert made.status_code == 201, made.json()
    return f"/api/networks/{made.json()['id']}"


def held(client, base: str, more: str = "") -> dict:
    for _ in range(30):
        found = client.get(f"{base}/revisions/1/expectations?{more}")
        assert found.status_code == 200 and found.headers["Cache-Control"] == "no-store", found.json()
        if found.json()["held"]:
            return found.json()["held"]
    raise AssertionError("it does not come to an end")


def states(found: dict) -> dict[str, str]:
    return {one["name"]: one["state"] for one in found["expectations"]}


def test_expectations_are_held_as_the_network_is_and_under_failures(owner, base):
    assert states(held(owner, base, "failures=none")) == {"web": "holds", "names": "fails", "no mail": "holds"}
    found = held(owner, base)
    assert states(found)["web"] == "fails" and found["failures"] == []
    (failure,) = found["expectations"][0]["not_survived"]
    assert (failure["name"], failure["change"]) == ("r", {"disable": "device", "at": "r"})
    stressed = held(owner, base, "failures=devices,links")
    assert [(one["name"], one["breaks"]) for one in stressed["failures"]] == [("r", 1)]
    assert stressed["failures_tried"] == stressed["harmless"] + 1


def test_a_trial_is_held_against_what_is_expected_too(owner, base):
    change = {"set": "acl_in", "at": "r:e1", "to": None}
    owner.post(f"{base}/trials", {"revision": 1, "name": "open", "changes": [change]}, format="json")
    assert states(held(owner, base, "failures=none&trial=1")) == {"web": "holds", "names": "holds", "no mail": "fails"}


def test_one_call_names_what_hangs_on_one_thing(owner, base):
    asked = f"{base}/revisions/1/endangered"
    found = owner.get(f"{asked}?device=r").json()
    assert [(one["name"], one["outcome"]) for one in found["expectations"]] == [("web", "breaks")]
    assert found["change"] == {"disable": "device", "at": "r"}
    assert owner.get(f"{asked}?interface=r:e1").json()["expectations"][0]["name"] == "web"
    unknown = owner.get(f"{asked}?device=rr")
    assert unknown.status_code == 404 and unknown.json()["detail"].endswith("did you mean r?")
    for words in ("", "?device=r&link=r:e1"):
        refused = owner.get(f"{asked}{words}")
        assert refused.status_code == 400 and "asked of one thing" in refused.json()["detail"]


def test_what_cannot_fail_is_refused_by_name(owner, base):
    refused = owner.get(f"{base}/revisions/1/expectations?failures=cables")
    assert refused.status_code == 400 and "'cables' names nothing that can fail" in refused.json()["failures"][0]


def test_a_network_without_any_says_so(owner, network):
    found = held(owner, f"/api/networks/{network['id']}")
    assert found["words"] == "nothing is expected of this network" and found["expectations"] == []
