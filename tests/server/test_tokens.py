"""Tokens by which scripts act: named, with an end, ended by a new password; and how often a sign-in may be tried."""

from datetime import timedelta

import pytest
from django.core.management import CommandError, call_command
from django.utils import timezone
from rest_framework.test import APIClient

from accounts.models import ApiToken
from accounts.tokens import MOST_TOKENS
from networks.models import Membership, Network


def with_token(text: str) -> APIClient:
    client = APIClient()
    client.credentials(HTTP_AUTHORIZATION=f"Token {text}")
    return client


def made(client: APIClient, **values) -> dict:
    answer = client.post("/api/tokens", {"name": "pipeline", **values}, format="json")
    assert answer.status_code == 201, answer.json()
    return answer.json()


def test_a_token_is_shown_once_listed_and_taken_back(owner):
    token = made(owner)
    assert with_token(token["token"]).get("/api/networks").status_code == 200
    listed = owner.get("/api/tokens").json()
    assert [(one["name"], "token" in one) for one in listed] == [("pipeline", False)]
    assert listed[0]["last_used_at"] is not None
    assert owner.delete(f"/api/tokens/{listed[0]['id']}").status_code == 204
    assert with_token(token["token"]).get("/api/networks").status_code == 401


def test_a_token_of_another_cannot_be_seen_or_taken_back(owner, client_of):
    made(owner)
    number = ApiToken.objects.get().pk
    other = client_of("mallory")
    assert other.get("/api/tokens").json() == []
    assert other.delete(f"/api/tokens/{number}").status_code == 404


def test_a_token_has_an_end(owner):
    token = made(owner, days=3)
    ApiToken.objects.update(expires_at=timezone.now() - timedelta(minutes=1))
    answer = with_token(token["token"]).get("/api/networks")
    assert answer.status_code == 401 and "ended at" in answer.json()["detail"]


def test_a_new_password_ends_tokens_and_sessions(make_user):
    user = make_user("nora")
    client = APIClient()
    client.force_authenticate(user)
    token = made(client)
    call_command("add_user", "nora")
    answer = with_token(token["token"]).get("/api/networks")
    assert answer.status_code == 401 and "password" in answer.json()["detail"]


def test_a_user_has_several_tokens_up_to_a_bound(owner):
    for number in range(MOST_TOKENS):
        made(owner, name=f"script {number}")
    assert owner.post("/api/tokens", {"name": "one more"}, format="json").status_code == 400


def test_scripts_get_a_token_on_the_command_line(make_user, capsys):
    make_user("nora")
    call_command("make_token", "nora", label="backup", days=30)
    assert with_token(capsys.readouterr().out.strip()).get("/api/networks").status_code == 200
    with pytest.raises(CommandError, match="no user"):
        call_command("make_token", "nobody", label="x", days=1)


def test_a_user_is_removed_unless_a_network_would_be_left_without_owner(network, join, capsys):
    with pytest.raises(CommandError, match="only owner of two hosts"):
        call_command("remove_user", "olive")
    join("otto", "owner")
    call_command("remove_user", "olive")
    assert "removed olive" in capsys.readouterr().out
    assert [one.user.username for one in Membership.objects.all()] == ["otto"]
    with pytest.raises(CommandError, match="no user"):
        call_command("remove_user", "olive")


def sign_in(name: str, **more) -> int:
    return APIClient().post("/api/session", {"username": name, "password": "wrong"}, format="json", **more).status_code


def test_a_made_up_forwarding_header_does_not_get_round_the_throttle(db):
    found = [sign_in(f"user{n}", HTTP_X_FORWARDED_FOR=f"192.0.2.{n}") for n in range(25)]
    assert set(found[:20]) == {403} or set(found[:20]) == {401}
    assert set(found[20:]) == {429}


def test_one_name_is_throttled_from_many_addresses(db):
    found = [sign_in("olive", REMOTE_ADDR=f"192.0.2.{n}") for n in range(12)]
    assert found[-1] == 429 and 429 not in found[:10]


def test_behind_a_proxy_its_clients_are_told_apart(db, settings):
    settings.REST_FRAMEWORK = {**settings.REST_FRAMEWORK, "NUM_PROXIES": 1}
    found = [sign_in(f"user{n}", HTTP_X_FORWARDED_FOR=f"203.0.113.9, 192.0.2.{n}") for n in range(25)]
    assert 429 not in found


def test_a_member_leaves_and_a_last_owner_does_not(network, owner, join):
    reader = join("rita", "reader")
    path = f"/api/networks/{network['id']}/members"
    assert reader.delete(f"{path}/olive").status_code == 403
    assert reader.delete(f"{path}/rita").status_code == 204
    assert reader.get(f"/api/networks/{network['id']}").status_code == 404
    assert owner.delete(f"{path}/olive").status_code == 400
    assert Network.objects.count() == 1
