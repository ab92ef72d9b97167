"""Uploads: stored whole and given back byte for byte, or refused with every error and nothing stored."""

import io
import json
import zipfile
from pathlib import Path

import pytest
from django.core.files.uploadedfile import SimpleUploadedFile

from networks.models import Network, Revision
from tests.core.test_bad_input import BOMB, zipped
from tests.server.conftest import TEXT

CASES = Path(__file__).parents[1] / "oracle" / "cases"


def upload(client, data: bytes, name: str = "network.yaml", path: str = "/api/networks"):
    return client.post(path, {"file": SimpleUploadedFile(name, data)}, format="multipart")


def capture_zip() -> bytes:
    folder = CASES / "saltmarsh" / "captures"
    buffer = io.BytesIO()
    with zipfile.ZipFile(buffer, "w") as archive:
        for file in folder.rglob("*.json"):
            archive.write(file, f"saltmarsh/{file.relative_to(folder)}")
    return buffer.getvalue()


BAD = {
    "empty": (b"", "network.yaml"),
    "binary": (bytes(range(256)) * 40, "network.yaml"),
    "50 MB": (b"#" * 50_000_000, "network.yaml"),
    "alias bomb": (BOMB, "network.yaml"),
    "deep": (b"[" * 10_000 + b"]" * 10_000, "network.yaml"),
    "deep json": (b"[" * 10_000 + b"]" * 10_000, "network.json"),
    "duplicate keys": (b"routrel: 1\nname: a\nname: b\n", "network.yaml"),
    "tabs": (b"routrel: 1\nname: a\ndevices:\n\tr1: {}\n", "network.yaml"),
    "latin-1": ("routrel: 1\nname: caf\u00e9\n".encode("latin-1"), "network.yaml"),
    "utf-16": ("routrel: 1\nname: a\n".encode("utf-16"), "network.yaml"),
    "path traversal": (zipped({"../../etc/network.yaml": b"x"}), "n.zip"),
    "zip bomb": (zipped({"network.yaml": b"\0" * 100_000_000}), "n.zip"),
    "cut zip": (capture_zip()[:5000], "n.zip"),
    "cut capture": (zipped({"r1/addresses.json": b"[]", "r1/routes.json": b'[{"dst":"def'}), "n.zip"),
    "evil device": (b"routrel: 1\nname: a\ndevices: {../../x: {}}\n", "network.yaml"),
    "evil folder": (zipped({"network.yaml": b"routrel: 1\nname: a\n", "devices/=x.yaml": b"{}"}), "n.zip"),
    "NUL by an escape": (b'routrel: 1\nname: "a\\0b"\n', "network.yaml"),
    "endless fraction": (b"routrel: 1\nname: a\ntaken_at: 2026-01-01T00:00:00." + b"1" * 80 + b"Z\n", "network.yaml"),
    "huge integer": (b'{"routrel": ' + b"1" * 6000 + b"}", "network.json"),
    "captured nonsense": (
        zipped({"r/addresses.json": b'[{"ifname": "e1", "mtu": "x", "addr_info": 5}]', "r/routes.json": b"[]"}),
        "n.zip",
    ),
    "capture with a wrong time": (
        zipped({"capture.json": b'{"name": "x", "taken_at": 5}', "r/addresses.json": b"[]", "r/routes.json": b"[]"}),
        "n.zip",
    ),
    "lone zip header": (b"PK\x03\x04", "n.zip"),
}


@pytest.mark.parametrize("case", BAD)
def test_bad_input_is_refused_with_places_and_nothing_is_stored(case, owner):
    data, name = BAD[case]
    answer = upload(owner, data, name)
    assert answer.status_code == 400
    body = answer.json()
    assert body["errors"]
    assert all(error["line"] >= 1 and error["message"] for error in body["errors"])
    assert "Traceback" not in answer.content.decode()
    assert not Network.objects.exists()
    assert not Revision.objects.exists()
    assert owner.get("/api/networks").status_code == 200


def test_a_bad_revision_leaves_the_network_as_it_was(owner, network):
    path = f"/api/networks/{network['id']}/revisions"
    assert upload(owner, b"oops", path=path).status_code == 400
    assert owner.get(path).json()["count"] == 1


@pytest.mark.parametrize(
    ("data", "name"),
    [
        (TEXT.encode(), "my network.yaml"),
        (capture_zip(), "capture.zip"),
        (b"\xef\xbb\xbf" + TEXT.replace("\n", "\r\n").encode(), "w.yaml"),
    ],
)
def test_what_was_uploaded_is_given_back_byte_for_byte(data, name, owner):
    made = upload(owner, data, name)
    assert made.status_code == 201
    answer = owner.get(f"/api/networks/{made.json()['id']}/revisions/1/download")
    assert answer.content == data
    assert name in answer.headers["Content-Disposition"]
    assert answer.headers["X-Content-Type-Options"] == "nosniff"


DOCUMENT = b"""{"ietf-interfaces:interfaces": {"interface": [{"name": "e1", "acme:knob": 1,
 "ietf-ip:ipv4": {"address": [{"ip": "192.0.2.1", "prefix-length": 24}]}}]}}"""


def test_a_device_by_its_document_is_named_after_the_file(owner):
    made = upload(owner, DOCUMENT, "edge-1.json").json()
    assert (made["name"], made["latest"]["is_capture"], made["latest"]["device_count"]) == ("edge-1", False, 1)
    understood = owner.get(f"/api/networks/{made['id']}/revisions/1/understanding").json()
    assert understood["known_by"] == [{"kind": "models", "count": 1}]
    assert [(one["device"], one["not_represented"]) for one in understood["by_documents"]] == [("edge-1", 1)]


def test_a_trial_of_a_document_becomes_a_revision_with_both(owner):
    made = upload(owner, DOCUMENT, "edge-1.json").json()
    base = f"/api/networks/{made['id']}"
    change = {"set": "mtu", "at": "edge-1:e1", "to": 1400}
    trial = owner.post(f"{base}/trials", {"revision": 1, "changes": [change]}, format="json").json()["number"]
    stored = owner.post(f"{base}/trials/{trial}/revision", {"revision": 1}, format="json")
    assert stored.status_code == 201, stored.json()
    answer = owner.get(f"{base}/revisions/2/download")
    assert "edge-1.zip" in answer.headers["Content-Disposition"]
    with zipfile.ZipFile(io.BytesIO(answer.content)) as archive:
        assert archive.read("edge-1.json") == DOCUMENT
        assert b"mtu: 1400" in archive.read("devices/edge-1.yaml")
    understood = owner.get(f"{base}/revisions/2/understanding").json()
    assert understood["known_by"] == [{"kind": "models", "count": 1}]
    assert owner.get(f"{base}/revisions/1/patches?trial={trial}").json()[0]["device"] == "edge-1"


def test_a_revision_and_a_trial_are_given_as_models(owner, network):
    base = f"/api/networks/{network['id']}"
    answer = owner.get(f"{base}/revisions/1/models?as=zip")
    assert answer.headers["Content-Type"] == "application/zip"
    again = upload(owner, answer.content, "again.zip").json()
    assert again["latest"]["device_count"] == network["latest"]["device_count"]
    change = {"disable": "interface", "at": "h2:e1"}
    trial = owner.post(f"{base}/trials", {"revision": 1, "changes": [change]}, format="json").json()["number"]
    documents = {one["file"]: one["text"] for one in owner.get(f"{base}/revisions/1/models?trial={trial}").json()}
    assert '"enabled": false' in documents["h2.json"] and '"enabled"' not in documents["h1.json"]
    captured = upload(owner, capture_zip(), "c.zip").json()["id"]
    refused = owner.get(f"/api/networks/{captured}/revisions/1/models")
    assert refused.status_code == 400 and "known by a capture" in refused.content.decode()


def test_an_archive_of_documents_holds_a_device_in_each(owner):
    made = upload(owner, zipped({"site/a.json": DOCUMENT, "site/b.json": DOCUMENT}), "site.zip").json()
    assert (made["name"], made["latest"]["device_count"]) == ("site", 2)


def test_a_capture_is_told_as_one(owner):
    latest = upload(owner, capture_zip(), "c.zip").json()["latest"]
    assert (latest["is_capture"], latest["device_count"]) == (True, 12)
    assert latest["taken_at"].startswith("2026-11-23")


def test_revisions_are_numbered_and_the_newest_comes_first(owner, network):
    path = f"/api/networks/{network['id']}/revisions"
    second = owner.post(path, {"text": TEXT.replace("two hosts", "again"), "note": "renamed"}, format="multipart")
    assert second.json()["number"] == 2
    listed = owner.get(path).json()["results"]
    assert [one["number"] for one in listed] == [2, 1]
    assert listed[0]["note"] == "renamed"
    assert listed[0]["created_by"] == "olive"
    # A network's name is given once; a revision's own name does not change it.
    assert owner.get(f"/api/networks/{network['id']}").json()["name"] == "two hosts"


def test_text_in_json_and_a_name_of_ones_own(owner):
    made = owner.post("/api/networks", {"text": TEXT, "name": "<b>=cmd()</b>"}, format="json")
    assert made.json()["name"] == "<b>=cmd()</b>"


@pytest.mark.parametrize("body", [{}, {"text": TEXT, "file": "x"}, {"note": "n"}, {"file": "x"}])
def test_neither_or_both_is_refused(body, owner):
    assert owner.post("/api/networks", body, format="multipart").status_code == 400


def test_a_text_can_be_tried_without_storing_it(owner):
    answer = owner.post("/api/load-check", {"text": TEXT}, format="multipart")
    assert answer.json() == {
        "name": "two hosts",
        "taken_at": None,
        "device_count": 3,
        "link_count": 2,
        "is_capture": False,
        "expectation_count": 0,
    }
    assert owner.post("/api/load-check", {"text": "x"}, format="multipart").status_code == 400
    assert not Network.objects.exists()


def test_bodies_that_are_not_what_they_say(owner):
    assert owner.post("/api/networks", "{", content_type="application/json").status_code == 400
    assert owner.post("/api/networks", b"x", content_type="text/plain").status_code == 415
    assert owner.post("/api/networks", json.dumps([1]), content_type="application/json").status_code == 400


def test_a_wicked_file_name_is_made_plain(owner):
    made = upload(owner, TEXT.encode(), '..\\..\\a"b\r\nSet-Cookie: x.yaml')
    assert made.status_code == 201
    name = made.json()["latest"]["file_name"]
    assert not set(name) & set('"\\/\r\n:')
