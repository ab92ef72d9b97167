"""Answers have the shape the schema promises: the web client's types are made from it."""

from pathlib import Path

import pytest
from drf_spectacular.generators import SchemaGenerator
from jsonschema import Draft202012Validator

from tests.server.test_uploads import CASES, capture_zip, upload

DEMO = Path(__file__).parents[2] / "examples" / "saltmarsh"
SCHEMA = SchemaGenerator().get_schema(public=True)


def plain(part):
    """A part of the schema as JSON Schema: OpenAPI 3.0 says ``nullable`` where that has a type null."""
    if isinstance(part, list):
        return [plain(one) for one in part]
    if not isinstance(part, dict):
        return part
    made = {key: plain(value) for key, value in part.items() if key != "nullable"}
    if part.get("type") == "object" and "properties" in part:
        made.setdefault("additionalProperties", False)
    return {"anyOf": [made, {"type": "null"}]} if part.get("nullable") else made


COMPONENTS = plain(SCHEMA["components"])


def complaints(answer, path: str, method: str = "get", status: str = "200") -> list[str]:
    promised = SCHEMA["paths"][path][method]["responses"][status]["content"]["application/json"]["schema"]
    validator = Draft202012Validator({**plain(promised), "components": COMPONENTS})
    return [f"{list(error.path)}: {error.message[:200]}" for error in validator.iter_errors(answer.json())]


QUESTIONS = {
    "map": {},
    "findings": {},
    "services": {},
    "sources": {},
    "words": {"q": "b"},
    "table": {"device": "bw-core1"},
    "source": {"file": "network.yaml"},
}
FLOWS = [
    ("ot-tracking", "bookings", "tracking"),
    ("tq-office", "resolver", "names"),
    ("gp-kiosk", "resolver", "names"),
    ("203.0.113.99", "ticket-shop", "shop"),
    ("control-room", "10.40.1.99", "icmp"),
    ("gp-gates", "resolver-v6", "names"),
]


@pytest.fixture
def demo(owner) -> dict:
    from networks.management.commands.load_demo import zipped_example

    return upload(owner, zipped_example(), "saltmarsh.zip").json()


def test_every_question_about_the_demo_is_answered_as_promised(owner, demo):
    base = "/api/networks/{network_id}/revisions/{number}/"
    for what, query in QUESTIONS.items():
        answer = owner.get(base.format(network_id=demo["id"], number=1) + what, query)
        assert complaints(answer, base + what) == [], what
    for source, destination, service in FLOWS:
        query = {"from": source, "to": destination, "service": service}
        answer = owner.get(base.format(network_id=demo["id"], number=1) + "walk", query)
        assert complaints(answer, base + "walk") == [], query


def test_a_capture_is_answered_as_promised(owner):
    assert CASES.is_dir()
    made = upload(owner, capture_zip(), "c.zip").json()
    base = "/api/networks/{network_id}/revisions/{number}/"
    here = base.format(network_id=made["id"], number=1)
    for what, query in (("map", {}), ("findings", {}), ("table", {"device": "ninefold"})):
        assert complaints(owner.get(here + what, query), base + what) == []
    for service in ("udp/5004", "tcp/22"):
        answer = owner.get(here + "walk", {"from": "camera", "to": "office", "service": service})
        assert complaints(answer, base + "walk") == []


def test_networks_and_errors_have_the_shapes_promised(owner, network):
    one = "/api/networks/{network_id}"
    here = one.format(network_id=network["id"])
    assert complaints(owner.get("/api/networks"), "/api/networks") == []
    assert complaints(owner.get(here), one) == []
    for what in ("members", "revisions"):
        assert complaints(owner.get(f"{here}/{what}"), f"{one}/{what}") == []
    assert complaints(upload(owner, b"x"), "/api/networks", "post", "400") == []
    assert complaints(owner.get("/api/session"), "/api/session") == []
