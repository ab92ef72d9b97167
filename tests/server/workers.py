"""Workers in the tests' own process, and a network with expectations for them."""

import asyncio
import io
import zipfile

import pytest
from django.core.files.uploadedfile import SimpleUploadedFile
from django.db import connections
from procrastinate.contrib.django import app

from jobs import running
from tests.server.conftest import TEXT
from tests.server.test_expectations import EXPECTATIONS


@pytest.fixture(scope="module", autouse=True)
def no_process_is_left():
    yield
    running.close()


@pytest.fixture(autouse=True)
def no_connection_is_left(monkeypatch):
    """Those of a worker's threads end with their task, so that the test database can be dropped."""
    monkeypatch.setitem(connections.settings["default"], "CONN_MAX_AGE", 0)


def packed(text: str = TEXT, expectations: str = EXPECTATIONS) -> bytes:
    into = io.BytesIO()
    with zipfile.ZipFile(into, "w") as archive:
        archive.writestr("network.yaml", text)
        archive.writestr("expectations.yaml", expectations)
    return into.getvalue()


def with_expectations(client) -> str:
    """The address of a network of which something is expected."""
    made = client.post("/api/networks", {"file": SimpleUploadedFile("n.zip", packed())}, format="multipart")
    assert made.status_code == 201, made.json()
    return f"/api/networks/{made.json()['id']}"


def work() -> None:
    """Do all that is queued, as a worker does."""

    async def until_done():
        async with app.open_async():
            await app.run_worker_async(wait=False, listen_notify=False, install_signal_handlers=False)

    with app.replace_connector(app.connector.get_worker_connector()):
        asyncio.run(until_done())


def begun(client, base: str, **words) -> dict:
    answer = client.post(f"{base}/jobs", {"revision": 1, **words}, format="json")
    assert answer.status_code == 200, answer.json()
    return answer.json()
