"""What those who run the server rely on: health, settings without fallback, logs for machines, few queries."""

import json
import logging
import os
import subprocess
import sys
from datetime import UTC, datetime
from pathlib import Path
from unittest.mock import patch

import pytest
from django.db import OperationalError, connection
from django.db.migrations.executor import MigrationExecutor
from rest_framework.test import APIClient

from site_settings.logs import JsonFormatter
from tests.server.conftest import TEXT

ROOT = Path(__file__).parents[2]


@pytest.mark.django_db
def test_health_needs_no_account_and_says_what_is_well():
    answer = APIClient().get("/api/health")
    assert (answer.status_code, answer.json()) == (200, {"database": True, "migrations": True, "worker": True})


@pytest.mark.django_db
def test_health_says_which_part_is_not():
    with patch("site_settings.health.MigrationExecutor", side_effect=OperationalError("gone")):
        answer = APIClient().get("/api/health")
    assert (answer.status_code, answer.json()["database"], answer.json()["worker"]) == (503, False, True)
    with patch.object(MigrationExecutor, "migration_plan", return_value=["one to come"]):
        answer = APIClient().get("/api/health")
    assert (answer.status_code, answer.json()["migrations"]) == (503, False)
    with patch("work.service.pool._alive", side_effect=OSError("no processes left")):
        assert APIClient().get("/api/health").json()["worker"] is False


def settings_with(**environment: str) -> subprocess.CompletedProcess:
    program = "import site_settings.settings as s; print(s.DATABASES['default']['HOST'], s.DATABASES['default'].get('OPTIONS'))"
    kept = {name: value for name, value in os.environ.items() if not name.startswith("ROUTREL_")}
    folders = f"{ROOT}/src:{ROOT}/server"
    run = [sys.executable, "-c", program]
    return subprocess.run(run, env={**kept, "PYTHONPATH": folders, **environment}, capture_output=True, text=True)


def test_a_missing_secret_is_an_error():
    run = settings_with()
    assert run.returncode and "ROUTREL_SECRET is not set" in run.stderr


def test_the_database_may_be_another_machine(tmp_path):
    described = tmp_path / "database.json"
    described.write_text(json.dumps({"host": "db.example", "sslmode": "verify-full"}))
    run = settings_with(ROUTREL_SECRET="some text", ROUTREL_DATABASE=str(described))
    assert run.stdout == "db.example {'sslmode': 'verify-full'}\n", run.stderr


def test_a_log_line_for_machines_is_one_json_object():
    record = logging.LogRecord("routrel.work", logging.ERROR, "", 0, "reference %s:\nbad", ("12",), None)
    line = JsonFormatter().format(record)
    assert "\n" not in line
    said = json.loads(line)
    assert (said["level"], said["logger"], said["message"]) == ("error", "routrel.work", "reference 12:\nbad")
    assert datetime.fromisoformat(said["time"]).tzinfo == UTC


def test_a_list_of_networks_costs_as_many_queries_as_one_network(owner, network, django_assert_num_queries):
    with django_assert_num_queries(4):
        (one,) = owner.get("/api/networks").json()["results"]
    for _ in range(4):
        assert owner.post("/api/networks", {"text": TEXT}, format="multipart").status_code == 201
    owner.post(f"/api/networks/{network['id']}/revisions", {"text": TEXT}, format="multipart")
    with django_assert_num_queries(4):
        results = owner.get("/api/networks").json()["results"]
    assert len(results) == 5
    assert sorted(found["latest"]["number"] for found in results) == [1, 1, 1, 1, 2]
    assert one["latest"]["number"] == 1


def test_lists_within_a_network_cost_the_same_however_long(owner, network, join, django_assert_num_queries):
    for kind, more in (
        (
            "revisions",
            lambda n: owner.post(f"/api/networks/{network['id']}/revisions", {"text": TEXT}, format="multipart"),
        ),
        ("members", lambda n: join(f"mate{n}", "reader")),
    ):
        with django_assert_num_queries(3 if kind == "revisions" else 2):
            owner.get(f"/api/networks/{network['id']}/{kind}")
        for number in range(3):
            more(number)
        with django_assert_num_queries(3 if kind == "revisions" else 2):
            owner.get(f"/api/networks/{network['id']}/{kind}")


@pytest.mark.django_db(transaction=True)
def test_times_stated_as_texts_become_times_and_texts_again(django_user_model):
    before, after = [("networks", "0001_networks_and_revisions")], [("networks", "0002_taken_at_is_a_time")]
    executor = MigrationExecutor(connection)
    old = executor.migrate(before).apps
    network = old.get_model("networks", "Network").objects.create(name="n")
    more = {"file_name": "f", "packed": b"", "size": 0, "digest": "", "device_count": 0, "network": network}
    for number, text in enumerate(("2026-11-20T06:00:00+01:00", "2026-11-20t06:00:00.5z", ""), 1):
        old.get_model("networks", "Revision").objects.create(number=number, taken_at=text, **more)
    new = MigrationExecutor(connection).migrate(after).apps
    found = new.get_model("networks", "Revision").objects.order_by("number").values_list("taken_at", flat=True)
    assert list(found) == [
        datetime(2026, 11, 20, 5, tzinfo=UTC),
        datetime(2026, 11, 20, 6, 0, 0, 500000, tzinfo=UTC),
        None,
    ]
    back = MigrationExecutor(connection).migrate(before).apps
    texts = back.get_model("networks", "Revision").objects.order_by("number").values_list("taken_at", flat=True)
    assert list(texts)[2] == "" and datetime.fromisoformat(next(iter(texts))) == datetime(2026, 11, 20, 5, tzinfo=UTC)
    latest = MigrationExecutor(connection)
    latest.migrate(latest.loader.graph.leaf_nodes())
