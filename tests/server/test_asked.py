"""What was asked before: kept per user and revision, starred, asked again, forgotten."""

import pytest
from rest_framework.test import APIClient

from accounts.models import ApiToken
from asked import records
from asked.models import AskedFlow
from tests.server.conftest import TEXT

MENDED = TEXT.replace("action: drop", "action: accept")


def ask(client, network: dict, number: object = 1, **query):
    return client.get(f"/api/networks/{network['id']}/revisions/{number}/walk", {"from": "h1", "to": "h2", **query})


def asked(client, network: dict) -> list[dict]:
    return client.get(f"/api/networks/{network['id']}/asked").json()


def star(client, network: dict, asked_id: int, starred: bool = True):
    return client.put(f"/api/networks/{network['id']}/asked/{asked_id}", {"starred": starred}, format="json")


def add_revision(client, network: dict, text: str):
    return client.post(f"/api/networks/{network['id']}/revisions", {"text": text}, format="multipart")


def test_an_answer_is_kept_once_per_revision(owner, network):
    for _ in range(2):
        first = ask(owner, network, service="udp/53")
    ask(owner, network)
    assert (
        owner.get(
            f"/api/networks/{network['id']}/revisions/1/walk",
            {"from": "h1", "to": "h2", "service": "udp/53"},
            headers={"If-None-Match": first["ETag"]},
        ).status_code
        == 304
    )
    kept = asked(owner, network)
    assert [(one["from"], one["to"], one["service"]) for one in kept] == [("h1", "h2", "udp/53"), ("h1", "h2", "icmp")]
    (answer,) = kept[0]["answers"]
    assert (answer["revision"], answer["forward"]) == (1, "blocked") and "ACL" in answer["cause"]
    assert kept[1]["answers"][0]["forward"] == kept[1]["answers"][0]["back"] == "arrives"


def test_a_forgotten_answer_that_the_client_still_has_is_kept_anew(owner, network):
    first = ask(owner, network)
    path = f"/api/networks/{network['id']}/asked/{asked(owner, network)[0]['id']}"
    assert owner.delete(path).status_code == 204
    query = {"from": "h1", "to": "h2"}
    again = owner.get(first.wsgi_request.path, query, headers={"If-None-Match": first["ETag"]})
    assert again.status_code == 304
    assert asked(owner, network)[0]["answers"][0]["forward"] == "arrives"


def test_what_the_sentence_cannot_say_is_not_kept(owner, network):
    assert ask(owner, network, service="udp/53", source_port="4000").status_code == 200
    assert asked(owner, network) == []


def test_the_newest_answers_are_listed(owner, network, monkeypatch):
    monkeypatch.setattr("asked.views.MOST_ANSWERS", 2)
    ask(owner, network)
    star(owner, network, asked(owner, network)[0]["id"])
    for _ in range(3):
        add_revision(owner, network, MENDED)
    assert [one["revision"] for one in asked(owner, network)[0]["answers"]] == [4, 3]


def test_what_cannot_be_asked_is_not_kept(owner, network):
    assert ask(owner, network, to="nobody").status_code == 400
    assert asked(owner, network) == []


def test_what_scripts_ask_is_not_kept(owner, network):
    token = owner.post("/api/tokens", {"name": "script", "days": 3}, format="json").json()["token"]
    script = APIClient()
    script.credentials(HTTP_AUTHORIZATION=f"Token {token}")
    assert ask(script, network).status_code == 200 and ApiToken.objects.exists()
    assert not AskedFlow.objects.exists()


def test_a_starred_flow_is_asked_of_every_new_revision(owner, network):
    ask(owner, network, service="udp/53")
    ask(owner, network)
    starred = next(one for one in asked(owner, network) if one["service"] == "udp/53")
    assert star(owner, network, starred["id"]).json()["starred"] is True
    assert add_revision(owner, network, MENDED).status_code == 201
    first, second = asked(owner, network)
    assert [(one["revision"], one["forward"]) for one in first["answers"]] == [(2, "arrives"), (1, "blocked")]
    assert len(second["answers"]) == 1


def test_a_starred_flow_that_cannot_be_asked_any_more_keeps_its_answers(owner, network):
    ask(owner, network)
    star(owner, network, asked(owner, network)[0]["id"])
    assert add_revision(owner, network, "routrel: 1\nname: empty\ndevices: {}\n").status_code == 201
    assert [one["revision"] for one in asked(owner, network)[0]["answers"]] == [1]


def test_everyone_has_a_list_of_their_own(owner, network, join):
    ask(owner, network)
    other = join("rita", "reader")
    assert asked(other, network) == []
    (own,) = asked(owner, network)
    assert star(other, network, own["id"]).status_code == 404
    path = f"/api/networks/{network['id']}/asked/{own['id']}"
    assert other.delete(path).status_code == 404
    assert owner.delete(path).status_code == 204 and asked(owner, network) == []


def test_the_longest_ago_asked_are_forgotten_but_for_starred_ones(owner, network, monkeypatch):
    monkeypatch.setattr(records, "MOST_KEPT", 3)
    monkeypatch.setattr("asked.views.MOST_STARRED", 1)
    for port in range(80, 86):
        ask(owner, network, service=f"tcp/{port}")
        if port == 80:
            star(owner, network, asked(owner, network)[0]["id"])
    kept = asked(owner, network)
    assert [one["service"] for one in kept] == ["tcp/80", "tcp/85", "tcp/84", "tcp/83"]
    assert "starred already" in star(owner, network, kept[1]["id"]).json()["detail"]


@pytest.mark.django_db
def test_the_list_takes_as_many_queries_however_long_it_is(owner, network, django_assert_max_num_queries):
    for port in range(80, 90):
        ask(owner, network, service=f"tcp/{port}")
    with django_assert_max_num_queries(5):
        assert len(asked(owner, network)) == 10
