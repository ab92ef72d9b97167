"""What a server does when something else fails: says so, keeps its word, and comes back."""

import asyncio
import json
import logging

import pytest
from django.db import OperationalError
from psycopg.errors import DiskFull

from site_settings.bounds import BODY_BYTES, Bounds
from site_settings.failures import answer_to
from tests.server.conftest import TEXT


def raising(error: Exception):
    def raise_it(*_, **__):
        raise error

    return raise_it


def test_a_database_that_is_away_is_a_503_with_a_message(owner, monkeypatch):
    monkeypatch.setattr("networks.views.Membership.objects.filter", raising(OperationalError("connection refused")))
    answer = owner.get("/api/networks")
    assert (answer.status_code, answer.headers["Retry-After"]) == (503, "2")
    assert "database is not to be reached" in answer.json()["detail"]


def test_a_full_disk_refuses_an_upload(owner, monkeypatch):
    full = OperationalError("could not extend file")
    full.__cause__ = DiskFull()
    monkeypatch.setattr("networks.uploads.store", raising(full))
    answer = owner.post("/api/networks", {"text": TEXT}, format="multipart")
    assert answer.status_code == 507 and "disk is full" in answer.json()["detail"]
    assert owner.get("/api/networks").json()["count"] == 0


def test_anything_else_is_one_line_in_the_log_with_the_reference_the_user_sees(owner, monkeypatch, caplog):
    monkeypatch.setattr(logging.getLogger("routrel"), "propagate", True)
    monkeypatch.setattr("networks.views.Membership.objects.filter", raising(ZeroDivisionError("surprise")))
    answer = owner.get("/api/networks")
    assert answer.status_code == 500
    reference = answer.json()["detail"].split("Reference: ")[1]
    (line,) = {one.getMessage() for one in caplog.records if reference in one.getMessage()}
    assert "surprise" in line and "\n" not in line
    assert "surprise" not in answer.content.decode()


def test_errors_outside_of_views_are_answered_alike(caplog):
    assert answer_to(OperationalError("gone"))[0] == 503
    assert answer_to(ValueError("odd"))[0] == 500


def test_a_quota_stops_uploads(owner, network, settings):
    settings.QUOTA = {"revisions": 1, "bytes": 2**30}
    answer = owner.post(f"/api/networks/{network['id']}/revisions", {"text": TEXT}, format="multipart")
    assert answer.status_code == 403 and "allowed are 1" in answer.json()["detail"]


@pytest.mark.parametrize("path", ["/", "/static/missing.js", "/api/session"])
def test_the_content_policy_covers_every_page_and_its_forms(client, db, path):
    policy = client.get(path).headers["Content-Security-Policy"]
    assert "default-src 'self'" in policy and "form-action 'self'" in policy


TLS = {
    "SESSION_COOKIE_SECURE": True,
    "CSRF_COOKIE_SECURE": True,
    "SECURE_HSTS_SECONDS": 3600,
    "SECURE_PROXY_SSL_HEADER": ("HTTP_X_FORWARDED_PROTO", "https"),
    "CSRF_TRUSTED_ORIGINS": ["https://routrel.example"],
    "ALLOWED_HOSTS": ["routrel.example"],
}


def test_sign_in_behind_a_proxy_that_ends_tls(make_user, settings, client):
    for name, value in TLS.items():
        setattr(settings, name, value)
    make_user("nora")
    strict = type(client)(enforce_csrf_checks=True, HTTP_HOST="routrel.example", HTTP_X_FORWARDED_PROTO="https")
    page = strict.get("/")
    token = strict.cookies["csrftoken"].value
    assert strict.cookies["csrftoken"]["secure"] and page.headers["Strict-Transport-Security"]
    credentials = json.dumps({"username": "nora", "password": "nora's long password"})
    more = {"content_type": "application/json", "HTTP_X_CSRFTOKEN": token}
    refused = strict.post("/api/session", credentials, HTTP_ORIGIN="https://elsewhere.example", **more)
    assert refused.status_code == 403
    answer = strict.post("/api/session", credentials, HTTP_ORIGIN="https://routrel.example", **more)
    assert answer.status_code == 200
    assert strict.cookies["sessionid"]["secure"]


def call(bounds: Bounds, messages: list, pause: float = 0.0) -> list:
    """An ASGI call with a body in parts; what was sent."""
    sent = []

    async def receive():
        await asyncio.sleep(pause)
        return messages.pop(0) if messages else await asyncio.Event().wait()

    async def send(message):
        sent.append(message)

    asyncio.run(bounds({"type": "http"}, receive, send))
    return sent


async def reading(scope, receive, send):
    while (await receive()).get("more_body"):
        pass
    await send({"type": "http.response.start", "status": 200, "headers": []})
    await send({"type": "http.response.body", "body": b""})


def part(data: bytes, more: bool = True) -> dict:
    return {"type": "http.request", "body": data, "more_body": more}


def test_a_body_that_does_not_come_is_given_up():
    assert call(Bounds(reading, pause=0.05), [part(b"a")])[0]["status"] == 408


def test_a_body_that_trickles_is_given_up():
    drops = [part(b"a") for _ in range(100)]
    assert call(Bounds(reading, pause=1, whole=0.1), drops, 0.01)[0]["status"] == 408


def test_a_body_that_is_too_large_is_refused_before_all_of_it_came():
    large = [part(b"a" * 2**20) for _ in range(BODY_BYTES // 2**20 + 2)]
    assert call(Bounds(reading), large)[0]["status"] == 413
    assert large


def test_a_whole_body_is_passed_on():
    assert call(Bounds(reading), [part(b"a"), part(b"b", False)])[0]["status"] == 200
