"""The pool in a process of its own: asked by several, ended and started again."""

import json
import os
import signal
import subprocess
import sys
import tempfile
import threading
from pathlib import Path

import pytest

from tests.core.test_walk import lan
from tests.server.test_work import TOO_MANY
from work import remote_pool
from work.pool import BusyError, TookTooMuchMemoryError
from work.process import Question
from work.remote_pool import RemotePool

TEXT = "routrel: 1\nname: two hosts\n" + lan("{e: [{action: accept}]}", ", acl_in: e")
ROOT = Path(__file__).parents[2]


def started(path: Path, gib: float = 3) -> subprocess.Popen:
    path.unlink(missing_ok=True)
    environment = {
        **os.environ,
        "PYTHONPATH": os.pathsep.join(str(ROOT / one) for one in ("src", "server")),
        "ROUTREL_WORK_PROCESSES": "2",
        "ROUTREL_WORK_GIB": str(gib),
    }
    command = [sys.executable, "-m", "work.pool_process", str(path), "--until-input-ends"]
    return subprocess.Popen(command, env=environment, stdin=subprocess.PIPE)


def ended(process: subprocess.Popen) -> int:
    process.stdin.close()
    return process.wait(20)


@pytest.fixture
def path():
    with tempfile.TemporaryDirectory(prefix="routrel-") as folder:
        yield Path(folder) / "pool"


@pytest.fixture
def process(path):
    made = started(path)
    yield made
    if made.poll() is None:
        assert ended(made) == 0


def ask(pool: RemotePool, digest: str = "one", text: bytes = TEXT.encode(), **more):
    return pool.ask(Question(digest, "n.yaml", "loaded", {}), lambda: text, **more)


def test_several_ask_at_once_and_each_has_its_own_answer(process, path):
    pools, answers = [RemotePool(str(path)) for _ in range(2)], {}

    def asks(number: int) -> None:
        text = TEXT.replace("two hosts", f"hosts of {number}")
        answers[number] = json.loads(ask(pools[number % 2], f"d{number}", text=text.encode()).body)

    threads = [threading.Thread(target=asks, args=(number,)) for number in range(6)]
    for one in threads:
        one.start()
    for one in threads:
        one.join(60)
    assert [answers[number]["name"] for number in range(6)] == [f"hosts of {number}" for number in range(6)]
    assert all(pool.is_answering() for pool in pools)


def test_a_revision_is_asked_for_once_whoever_asks(process, path):
    one, other, texts = RemotePool(str(path)), RemotePool(str(path)), []

    def text() -> bytes:
        texts.append(1)
        return TEXT.encode()

    question = Question("one", "n.yaml", "loaded", {})
    assert one.ask(question, text).body == other.ask(question, text).body
    assert len(texts) == 1


def test_stages_and_refusals_come_back(process, path):
    pool, heard = RemotePool(str(path)), []
    assert ask(pool, hear=heard.append).status == 200
    assert heard == ["reading", "solving", "looking"]
    refused = ask(pool, "bad", text=b"routrel: 1\nname: [")
    assert (refused.kind, refused.status) == ("refused", 400)
    since = Question("one", "n.yaml", "comparison", {"flows": []}, since=("two", "n.yaml"))
    other = TEXT.replace("two hosts", "other hosts")
    assert pool.ask(since, TEXT.encode, since_text=other.encode).kind == "answer"


def test_what_goes_over_a_limit_is_said_as_such(path):
    process = started(path, gib=0.44)
    try:
        with pytest.raises(TookTooMuchMemoryError):
            ask(RemotePool(str(path)), text=TOO_MANY)
    finally:
        assert ended(process) == 0


def test_a_text_that_cannot_be_had_ends_the_question_alone(process, path):
    pool = RemotePool(str(path))

    def text() -> bytes:
        raise LookupError("the database is away")

    with pytest.raises(LookupError):
        pool.ask(Question("one", "n.yaml", "loaded", {}), text)
    assert ask(pool).status == 200


def test_a_process_that_is_killed_is_found_again_when_it_is_back(process, path, monkeypatch):
    pool = RemotePool(str(path))
    assert ask(pool).status == 200
    monkeypatch.setattr(remote_pool, "START_SECONDS", 0.3)
    process.send_signal(signal.SIGKILL)
    process.wait()
    with pytest.raises(BusyError, match="started again"):
        ask(pool)
    assert not pool.is_answering()
    monkeypatch.setattr(remote_pool, "START_SECONDS", 20)
    again = started(path)
    try:
        assert ask(pool).status == 200 and pool.is_answering()
    finally:
        assert ended(again) == 0


def test_killed_while_it_works_it_is_said_to_be_busy(process, path):
    def text() -> bytes:
        process.send_signal(signal.SIGKILL)
        process.wait()
        return TEXT.encode()

    with pytest.raises(BusyError):
        RemotePool(str(path)).ask(Question("one", "n.yaml", "loaded", {}), text)
