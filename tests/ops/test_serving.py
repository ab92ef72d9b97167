"""The whole server as the start command runs it: idle clients, a database that dies, an end on request."""

import http.client
import json
import os
import re
import shutil
import signal
import socket
import subprocess
import tempfile
import time
from pathlib import Path

import pytest

from bench.generator import Shape, document

ROUTREL = Path(__file__).parents[2] / "routrel"
PATIENCE = 180


def free_port() -> int:
    with socket.socket() as probe:
        probe.bind(("127.0.0.1", 0))
        return probe.getsockname()[1]


@pytest.fixture(scope="module")
def server():
    """``./routrel demo`` with a state of its own: (port, state folder, process)."""
    folder = Path(tempfile.mkdtemp(prefix="routrel-test-", dir="/tmp"))
    folder.chmod(0o755)
    port = free_port()
    environment = {**os.environ, "ROUTREL_STATE": str(folder / "state"), "ROUTREL_WORK_PROCESSES": "2"}
    process = subprocess.Popen(
        [ROUTREL, "demo", "--port", str(port)],
        env=environment,
        stdout=subprocess.PIPE,
        stderr=subprocess.STDOUT,
        text=True,
    )
    end = time.monotonic() + PATIENCE
    while time.monotonic() < end and process.poll() is None and get(port, "/api/session")[0] != 200:
        time.sleep(0.5)
    assert process.poll() is None, process.stdout.read()
    yield port, folder / "state", process
    process.send_signal(signal.SIGTERM)
    assert process.wait(60) == 0
    subprocess.run([ROUTREL, "stop"], env=environment, check=True, capture_output=True)
    shutil.rmtree(folder)


def get(port: int, path: str, token: str = "") -> tuple[int, bytes]:
    connection = http.client.HTTPConnection("127.0.0.1", port, timeout=30)
    try:
        connection.request("GET", path, headers={"Authorization": f"Token {token}"} if token else {})
        answer = connection.getresponse()
        return answer.status, answer.read()
    except OSError:
        return 0, b""
    finally:
        connection.close()


def test_idle_and_slow_clients_block_nobody(server):
    port, _, _ = server
    idle = [socket.create_connection(("127.0.0.1", port)) for _ in range(200)]
    for number, one in enumerate(idle):
        if number % 2:
            one.sendall(b"GET /api/session HTTP/1.1\r\nHost: loc")
        else:
            one.sendall(b"POST /api/session HTTP/1.1\r\nHost: localhost\r\nContent-Length: 1000\r\n\r\n{")
    assert [get(port, "/api/session")[0] for _ in range(5)] == [200] * 5
    for one in idle:
        one.close()


def token_of(state: Path) -> str:
    """A new token of the demo's user."""
    environment = {**os.environ, "ROUTREL_STATE": str(state)}
    made = subprocess.run([ROUTREL, "token", "harbour"], env=environment, capture_output=True, text=True, check=True)
    return re.search(r"routrel_\S+", made.stdout)[0]


def database_of(state: Path) -> int | None:
    """The process of a server's database."""
    noted = state / "cluster" / "postmaster.pid"
    return int(noted.read_text().split()[0]) if noted.is_file() else None


def kill_database(state: Path) -> int:
    died = database_of(state)
    assert died is not None
    os.kill(died, signal.SIGKILL)
    return died


def test_a_database_that_dies_comes_back_and_nothing_is_a_500(server):
    port, state, _ = server
    token = token_of(state)
    assert json.loads(get(port, "/api/networks", token)[1])["count"] == 1
    died = kill_database(state)
    seen, end = set(), time.monotonic() + 60
    while time.monotonic() < end:
        is_another = database_of(state) not in (None, died)
        status, _ = get(port, "/api/networks", token)
        seen.add(status)
        if status == 200 and is_another:
            break
    assert 200 in seen and seen <= {200, 503}
    assert json.loads(get(port, "/api/networks", token)[1])["count"] == 1


def post(port: int, path: str, token: str, body: dict) -> dict:
    connection = http.client.HTTPConnection("127.0.0.1", port, timeout=30)
    headers = {"Authorization": f"Token {token}", "Content-Type": "application/json"}
    connection.request("POST", path, json.dumps(body), headers)
    answer = json.loads(connection.getresponse().read())
    connection.close()
    return answer


def children_of(process: int, command: bytes) -> list[int]:
    """The children of a process that run a command."""
    found = Path(f"/proc/{process}/task/{process}/children").read_text().split()
    return [int(one) for one in found if command in Path(f"/proc/{one}/cmdline").read_bytes()]


def child_of(process: subprocess.Popen, command: bytes) -> int:
    """A process beside a server."""
    end = time.monotonic() + 60
    while time.monotonic() < end:
        for child in children_of(process.pid, command):
            return child
        time.sleep(0.1)
    raise AssertionError(f"no {command} is there")


def test_web_processes_and_their_pool_are_replaced_when_they_die(server):
    port, state, process = server
    token = token_of(state)
    network = json.loads(get(port, "/api/networks", token)[1])["results"][0]["id"]
    asked = f"/api/networks/{network}/revisions/1/map"
    assert get(port, asked, token)[0] == 200
    web = children_of(child_of(process, b"granian"), b"granian")
    assert len(web) >= 2
    died = [child_of(process, b"work.pool_process"), web[0]]
    for one in died:
        os.kill(one, signal.SIGKILL)
    seen, end = [], time.monotonic() + 60
    while time.monotonic() < end and seen[-5:] != [200] * 5:
        seen.append(get(port, asked, token)[0])
        time.sleep(0.2)
    assert seen[-5:] == [200] * 5 and set(seen) <= {0, 200, 503}
    assert not set(died) & {child_of(process, b"work.pool_process"), *children_of(process.pid, b"granian")}


def test_a_job_outlives_its_worker_and_its_database(server, tmp_path):
    port, state, process = server
    token = token_of(state)
    file = tmp_path / "ring.json"
    file.write_text(json.dumps(document(Shape(30, areas=3, prefixes=30, sites=4))))
    network = post(port, "/api/networks", token, {"text": file.read_text()})["id"]
    asked = {"revision": 1, "failures": "links", "against": "places"}
    job = post(port, f"/api/networks/{network}/jobs", token, asked)

    def until(is_so) -> dict:
        end = time.monotonic() + PATIENCE
        while time.monotonic() < end:
            status, text = get(port, f"/api/networks/{network}/jobs/{job['id']}", token)
            if status == 200 and is_so(json.loads(text)):
                return json.loads(text)
            time.sleep(0.1)
        raise AssertionError(text)

    until(lambda now: 0 < now["done"] < now["of"])
    os.kill(child_of(process, b"manage.py\0worker"), signal.SIGKILL)
    before = until(lambda now: now["workers"] >= 1 and now["done"] > 8)
    kill_database(state)
    assert before["state"] == "running"
    done = until(lambda now: now["state"] != "running")
    assert (done["state"], done["done"], done["problem"]) == ("done", done["of"], "")
    alone = subprocess.run([ROUTREL, "check", file, "--stress", "links", "--json"], capture_output=True, text=True)
    assert done["places"] == json.loads(alone.stdout) and done["places"]["failures_tried"] == done["of"]
