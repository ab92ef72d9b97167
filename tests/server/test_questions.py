"""Questions over the API: the answers of the core, fast once a network is solved."""

import hashlib
import json

from rest_framework.test import APIClient

from networks.models import Revision
from routrel.analysis.walk_verdicts import Answerer
from routrel.forwarding.flow import Flow
from tests.core.networks import load, plain
from tests.server.conftest import TEXT
from work import service


def get(client, network: dict, what: str, **query):
    return client.get(f"/api/networks/{network['id']}/revisions/1/{what}", query)


def test_a_walk_has_the_answer_of_the_command_line_and_its_evidence(owner, network):
    answer = get(owner, network, "walk", **{"from": "h1", "to": "h2", "service": "udp/53"}).json()
    answerer = Answerer(load(TEXT.split("\n", 2)[2]))
    said = plain(answerer.verdict(answerer.asker.ask(Flow("h1", "h2", "udp/53"))))
    for direction in ("forward", "return"):
        for key in ("verdict", "path_count", "paths"):
            assert answer[direction][key] == said[direction][key]
    assert answer["forward"]["causes"][0]["entry"] == 1
    assert answer["forward"]["stops"][1]["checks"][0]["state"] == "fail"


def test_a_walk_that_cannot_be_asked_says_why(owner, network):
    for query, said in (
        ({"from": "nobody", "to": "h2"}, "no device"),
        ({"from": "h1"}, "to"),
        ({"from": "h1", "to": "h2", "service": "tcp/x"}, "no service"),
        ({"from": "h1", "to": "h2", "source_port": "70000"}, "source_port"),
        ({"from": "h1", "to": "<script>"}, "no device"),
    ):
        answer = get(owner, network, "walk", **query)
        assert answer.status_code == 400
        assert said in answer.content.decode()
        assert answer.headers["Content-Type"] == "application/problem+json"


def test_the_map_and_words(owner, network):
    drawn = get(owner, network, "map").json()
    assert [device["name"] for device in drawn["devices"]] == ["r", "h1", "h2"]
    assert len(drawn["cables"]) == 2
    found = get(owner, network, "words", q="10.0.1.1").json()
    assert [word["word"] for word in found] == ["r:e1", "h1:e1"]
    assert get(owner, network, "words", q="h").json()[0]["word"] == "h1"
    assert get(owner, network, "services").json()[0]["word"] == "icmp"


def test_tables_findings_and_source(owner, network):
    assert [row["prefix"] for row in get(owner, network, "table", device="h1").json()] == [
        "0.0.0.0/0",
        "10.0.1.0/24",
        "10.0.1.10/32",
    ]
    assert get(owner, network, "table", device="x").status_code == 404
    whole = get(owner, network, "table", device="h1").json()
    assert get(owner, network, "table", device="h1", most=1).json() == whole[:1]
    assert get(owner, network, "table", device="h1", within=whole[-1]["prefix"]).json()[-1] == whole[-1]
    refused = get(owner, network, "table", device="h1", within="10.0.0.1/8")
    assert refused.status_code == 400 and "within" in str(refused.json())
    assert get(owner, network, "findings").json() == []
    (source,) = get(owner, network, "sources").json()
    digest = hashlib.sha256(TEXT.encode()).hexdigest()
    assert source == {"file": "network.yaml", "size": len(TEXT), "digest": digest}
    assert get(owner, network, "source", file="network.yaml").json()["text"] == TEXT
    for name in ("../secret", "/etc/passwd", "", "nowhere"):
        assert get(owner, network, "source", file=name).status_code == 404
        assert get(owner, network, "outline", file=name).status_code == 404
        assert get(owner, network, "statements", file=name or "x", line=1).status_code == 404
    huge = get(owner, network, "statements", file="network.yaml", line=10**12).json()
    assert huge and all(one["does"] for one in huge)
    assert get(owner, network, "statements", file="network.yaml", line=0).status_code == 400


def test_what_is_missing_is_not_found(owner, network):
    assert owner.get(f"/api/networks/{network['id']}/revisions/9/map").status_code == 404
    assert owner.get(f"/api/networks/{network['id']}/revisions/99999999999999999999999/map").status_code == 404
    assert owner.delete(f"/api/networks/{network['id']}/members/%00").status_code == 404
    assert get(owner, network, "walk", **{"from": "\0", "to": "h2"}).status_code == 400
    assert get(owner, network, "words", q="\0" * 500).json() == []
    assert owner.get("/api/networks/not-an-id/revisions/1/map").status_code == 404
    assert owner.get("/api/nothing").status_code == 404


def test_a_forgotten_solution_is_made_again(owner, network):
    before = get(owner, network, "walk", **{"from": "h1", "to": "h2"}).json()
    service.pool.close()
    assert get(owner, network, "walk", **{"from": "h1", "to": "h2"}).json() == before


def test_the_page_and_the_schemas_are_served(client, db):
    page = client.get("/networks/x/flow")
    assert page.status_code in (200, 503)
    assert "default-src 'self'" in page.headers["Content-Security-Policy"]
    assert client.get("/api/schema").status_code == 200
    schema = json.loads(client.get("/api/network-file.schema.json").content)
    assert schema["properties"]["routrel"]["enum"] == ["1", 1]


def test_why_a_route_stands(owner, network):
    answer = get(owner, network, "contest", device="h1", prefix="10.9.9.9").json()
    assert (answer["prefix"], answer["winner"]["protocol"]) == ("0.0.0.0/0", "static")
    assert answer["candidates"][0]["state"] == "winner"
    assert get(owner, network, "tipping", device="h1", prefix="0.0.0.0/0").json() == []
    absent = get(owner, network, "contest", device="r", prefix="10.77.0.0/16").json()
    assert (absent["winner"], absent["prefix"]) == (None, None)
    for query, status in (
        ({"device": "nobody", "prefix": "10.0.0.0/8"}, 404),
        ({"device": "r", "vrf": "red", "prefix": "10.0.0.0/8"}, 404),
        ({"device": "r", "prefix": "10.0.0.1/8"}, 400),
        ({"device": "r"}, 400),
    ):
        assert get(owner, network, "contest", **query).status_code == status


def test_every_route_to_a_destination(owner, network):
    answer = get(owner, network, "forest", prefix="10.0.1.10").json()
    assert [row["device"] for row in answer["rows"]] == ["r"]
    assert answer["groups"][0]["label"] == "to r:e1"
    assert get(owner, network, "forest", prefix="x").status_code == 400
    assert get(owner, network, "instances").json() == []
    assert get(owner, network, "drift", device="r").json() == {"compared": False, "differences": []}


POLICY_TEXT = """
routrel: 1
name: two speakers
devices:
  a:
    interfaces: {e1: {addresses: [10.1.0.1/30]}}
    routing:
      static: [{prefix: 203.0.113.0/24, action: discard}]
      bgp: {as: 64501, networks: [203.0.113.0/24], neighbors: {10.1.0.2: {as: 64502, export: out}}}
    policies: {out: [{match: {prefixes: [192.0.2.0/24]}, result: accept}]}
  b:
    interfaces: {e1: {addresses: [10.1.0.2/30]}}
    routing: {bgp: {as: 64502, neighbors: {10.1.0.1: {as: 64501}}}}
"""


def test_what_a_policy_does_and_what_a_neighbor_never_sent(owner):
    network = owner.post("/api/networks", {"text": POLICY_TEXT}).json()
    assert get(owner, network, "policies").json()[0]["policy"] == "out"
    report = get(owner, network, "policy", device="a", policy="out").json()
    assert [use["closing"] for use in report["uses"]] == [1]
    for query in ({"device": "a", "policy": "in"}, {"device": "c", "policy": "out"}, {"device": "a"}):
        assert get(owner, network, "policy", **query).status_code == 404
    answer = get(owner, network, "contest", device="b", prefix="203.0.113.0/24").json()
    assert "export policy out rejects it" in answer["unsent"][0]["reason"]
    assert any(step["stopped"] for trail in answer["trails"] for step in trail)


def test_the_latest_revision_is_asked_by_that_word(owner, network):
    path = f"/api/networks/{network['id']}/revisions"
    owner.post(path, {"text": TEXT.replace("two hosts", "again")}, format="multipart")
    assert owner.get(f"{path}/latest").json()["number"] == 2
    assert owner.get(f"{path}/latest/map").json()["name"] == "again"
    assert owner.get(f"{path}/1/map").json()["name"] == "two hosts"
    assert owner.get(f"{path}/newest/map").status_code == 404


def test_a_parameter_that_a_question_lacks_is_refused_by_name(owner, network):
    answer = get(owner, network, "walk", **{"from": "h1", "to": "h2", "port": "80"})
    assert answer.status_code == 400
    assert answer.json()["detail"].startswith("unknown parameter 'port'; allowed: from, to, service, source_port")
    assert get(owner, network, "map", q="x").json()["detail"].endswith("allowed: trial, as_of")


def test_an_answer_that_the_client_has_is_not_sent_again(owner, network, monkeypatch):
    path = f"/api/networks/{network['id']}/revisions/1/table"
    first = owner.get(path, {"device": "h1"})
    again = owner.get(path, {"device": "h1"}, headers={"If-None-Match": first["ETag"]})
    assert again.status_code == 304 and again["ETag"] == first["ETag"] and not again.content
    monkeypatch.setattr("questions.answer_tags.CODE", 1)
    assert owner.get(path, {"device": "h1"}, headers={"If-None-Match": first["ETag"]}).status_code == 200
    assert owner.get(path, {"device": "h2"}, headers={"If-None-Match": first["ETag"]}).status_code == 200


def test_many_flows_are_asked_in_one_call(owner, network):
    path = f"/api/networks/{network['id']}/revisions/latest/walks"
    flows = [
        {"from": "h1", "to": "h2"},
        {"from": "h1", "to": "nobody"},
        {"from": "h1", "to": "h2", "service": "udp/53"},
    ]
    answers = owner.post(path, {"flows": flows}, format="json").json()
    assert [answer["walk"] and answer["walk"]["good"] for answer in answers] == [True, None, False]
    assert "no device" in answers[1]["error"] and answers[1]["flow"]["to"] == "nobody"
    single = get(owner, network, "walk", **flows[2]).json()
    assert answers[2]["walk"]["forward"]["causes"] == single["forward"]["causes"]


def test_flows_that_cannot_be_read_say_which_and_why(owner, network):
    path = f"/api/networks/{network['id']}/revisions/1/walks"
    for flows, said in (
        ([], "empty"),
        ([{"from": "h1"}], "to"),
        ([{"from": "h1", "to": "h2"}, {"from": "h1", "to": "h2", "port": 3}], "flow 2: unknown key 'port'"),
        ([{"from": "h1", "to": "h2"}] * 1001, "1000"),
        ("h1 > h2", "list"),
        ([3], "dictionary"),
    ):
        answer = owner.post(path, {"flows": flows}, format="json")
        assert answer.status_code == 400 and said in answer.json()["detail"], answer.json()


def test_every_error_has_one_form(owner, network):
    for answer in (
        owner.get("/api/nothing"),
        owner.get(f"/api/networks/{network['id']}/revisions/99"),
        owner.post("/api/networks", {"text": "x"}, format="multipart"),
        get(owner, network, "contest", device="h1", prefix="x"),
        owner.put("/api/networks"),
        APIClient().get("/api/networks"),
    ):
        body = answer.json()
        assert answer["Content-Type"] == "application/problem+json"
        assert body["status"] == answer.status_code >= 400
        assert body["title"] and body["detail"] and body["type"] == "about:blank"


def test_a_revision_deleted_while_it_is_asked_does_not_exist(owner, network, monkeypatch):
    number = Revision.objects.get()
    monkeypatch.setattr(
        "questions.views.revision_of", lambda *_: Revision(pk=number.pk + 1, digest="gone", file_name="n")
    )
    assert get(owner, network, "map").status_code == 404
