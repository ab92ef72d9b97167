"""Answers have the shape the schema promises: the web client's types are made from it."""

import json
from pathlib import Path

import pytest
from drf_spectacular.generators import SchemaGenerator
from hypothesis import HealthCheck, given, settings
from jsonschema import Draft202012Validator

from history.example import add_example_history
from networks.models import Network
from questions import examples as shown
from routrel.forwarding.flow_words import FlowError
from tests.core.mixed_networks import documents
from tests.core.speaker_networks import speakers
from tests.examples import examples
from tests.server.test_uploads import CASES, capture_zip, upload
from work.answering import QUESTIONS
from work.answering import answer as answer_to
from work.solved_revision import SolvedRevision

DEMO = Path(__file__).parents[2] / "examples" / "saltmarsh"
SCHEMA = SchemaGenerator().get_schema(public=True)


def strict(part):
    """A part of the schema that allows no key but those it names."""
    if isinstance(part, list):
        return [strict(one) for one in part]
    if not isinstance(part, dict):
        return part
    made = {key: strict(value) for key, value in part.items()}
    if part.get("type") == "object" and "properties" in part:
        made.setdefault("additionalProperties", False)
    return made


COMPONENTS = strict(SCHEMA["components"])


def validator(path: str, method: str = "get", status: str = "200") -> Draft202012Validator:
    (content,) = SCHEMA["paths"][path][method]["responses"][status]["content"].values()
    promised = content["schema"]
    return Draft202012Validator({**strict(promised), "components": COMPONENTS})


def complaints(answer, path: str, method: str = "get", status: str = "200") -> list[str]:
    errors = validator(path, method, status).iter_errors(answer.json())
    return [f"{list(error.path)}: {error.message[:200]}" for error in errors]


BASE = "/api/networks/{network_id}/revisions/{number}/"
OTHERS = ("walk", "walks", "loaded", "changed-files")
ASKED = {name: shown.ASKED.get(name, {}) for name in QUESTIONS if name not in OTHERS}
FLOWS = [
    ("ot-tracking", "bookings", "tracking"),
    ("tq-office", "resolver", "names"),
    ("gp-kiosk", "resolver", "names"),
    ("203.0.113.99", "ticket-shop", "shop"),
    ("control-room", "10.40.1.99", "icmp"),
    ("gp-gates", "resolver-v6", "names"),
]


VALIDATORS = {what: validator(BASE + what) for what in (*ASKED, "walk")}


@pytest.fixture
def demo(owner) -> dict:
    from networks.example import zipped_example

    made = upload(owner, zipped_example(), "saltmarsh.zip").json()
    trial = {"revision": 1, "changes": shown.CHANGES}
    assert owner.post(f"/api/networks/{made['id']}/trials", trial, format="json").status_code == 201
    return made


def test_the_examples_of_the_schema_are_what_is_answered():
    assert shown.answers() == shown.kept_answers()


def test_the_schema_shows_how_each_question_is_asked():
    paths = SchemaGenerator().get_schema(public=True)["paths"]
    for name in (*ASKED, "walk"):
        assert shown.address_of(name) in paths[BASE + name]["get"]["description"]
    body = paths[BASE + "walks"]["post"]["requestBody"]["content"]["application/json"]
    assert body["examples"]["Asked"]["value"] == shown.WALKS


def test_every_question_about_the_demo_is_answered_as_promised(owner, demo):
    base = BASE
    add_example_history(Network.objects.get(pk=demo["id"]), None)
    assert {*ASKED, *OTHERS} == {*QUESTIONS}
    for what, query in ASKED.items():
        answer = owner.get(base.format(network_id=demo["id"], number=1) + what, query)
        assert answer.status_code == 200, (what, answer.json())
        assert complaints(answer, base + what) == [], what
    for source, destination, service in FLOWS:
        query = {"from": source, "to": destination, "service": service}
        answer = owner.get(base.format(network_id=demo["id"], number=1) + "walk", query)
        assert complaints(answer, base + "walk") == [], query
    flows = [{"from": one, "to": other, "service": service} for one, other, service in FLOWS]
    answer = owner.post(base.format(network_id=demo["id"], number=1) + "walks", {"flows": flows}, format="json")
    assert complaints(answer, base + "walks", "post") == []


def asked_of(revision: SolvedRevision) -> list[tuple[str, dict[str, str]]]:
    """Every question, of a network's first devices and prefixes."""
    devices = list(revision.solved.network.devices.values())
    found = [
        (what, {}) for what in ("map", "understanding", "findings", "services", "sources", "instances", "policies")
    ]
    found += [("words", {"q": "r"}), ("source", {"file": "n.yaml"})]
    for device in devices[:2]:
        found += [(what, {"device": device.name}) for what in ("table", "drift")]
        found += [("policy", {"device": device.name, "policy": name}) for name in device.policies]
        found += [("walk", {"source": device.name, "destination": devices[-1].name, "service": "udp/50-60"})]
    for prefix in (*map(str, revision.solved.prefixes.prefixes[:3]), "198.51.100.77"):
        found += [(what, {"device": devices[0].name, "prefix": prefix}) for what in ("contest", "tipping")]
        found += [("forest", {"prefix": prefix})]
    return found


@given(documents() | speakers())
@settings(max_examples=examples(25), deadline=None, suppress_health_check=[HealthCheck.too_slow])
def test_every_question_about_any_network_is_answered_as_promised(document):
    revision = SolvedRevision.of("n.yaml", json.dumps(document).encode())
    for what, query in asked_of(revision):
        try:
            answer = json.loads(answer_to(revision, what, query))
        except FlowError:
            continue  # a device without an address of its own
        assert not [f"{error.json_path}: {error.message}" for error in VALIDATORS[what].iter_errors(answer)], what


def test_a_capture_is_answered_as_promised(owner):
    assert CASES.is_dir()
    made = upload(owner, capture_zip(), "c.zip").json()
    base = BASE
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
    trial = owner.post(f"{here}/trials", {"revision": 1, "changes": [{"disable": "device", "at": "r"}]}, format="json")
    assert complaints(trial, f"{one}/trials", "post", "201") == []
    for what in ("members", "revisions", "trials"):
        assert complaints(owner.get(f"{here}/{what}"), f"{one}/{what}") == []
    assert complaints(upload(owner, b"x"), "/api/networks", "post", "400") == []
    assert complaints(owner.get("/api/session"), "/api/session") == []
