"""The project's own database cluster: made, found again, guarded, and apart from every other."""

import json
import os
import shutil
import signal
import socket
import subprocess
import sys
import tempfile
from concurrent.futures import ThreadPoolExecutor
from pathlib import Path

import psycopg
import pytest

OPS = Path(__file__).parents[2] / "ops"
AS_ROOT = os.geteuid() == 0
# An ordinary account: one's own, or for root one that owns nothing.
ACCOUNTS = ["nobody", "root"] if AS_ROOT else [""]
SYSTEM_PYTHON = shutil.which("python3", path="/usr/bin:/bin:/usr/local/bin") or sys.executable


def run(account: str, state: Path, code: str) -> str:
    """Run a line of Python against ops/database.py under an account; returns what it printed."""
    prefix = ["runuser", "-u", account, "--"] if account == "nobody" else []
    program = f"import sys; sys.path.insert(0, {str(OPS)!r}); import database; {code}"
    done = subprocess.run(
        [*prefix, SYSTEM_PYTHON, "-c", program],
        env={"PATH": os.environ["PATH"], "ROUTREL_STATE": str(state)},
        capture_output=True,
        text=True,
        cwd="/",
    )
    assert done.returncode == 0, done.stderr
    return done.stdout.strip()


@pytest.fixture(params=ACCOUNTS)
def cluster(request):
    """A new cluster of an account, stopped and removed at the end."""
    folder = Path(tempfile.mkdtemp(prefix="routrel-test-", dir="/tmp"))
    folder.chmod(0o755)
    state = folder / "state"
    state.mkdir()
    if request.param == "nobody":
        shutil.chown(state, "nobody")
    described = Path(run(request.param, state, "print(database.ensure())"))
    yield request.param, state, json.loads(described.read_text())
    run(request.param, state, "database.stop()")
    shutil.rmtree(folder)


def connect(about: dict, password: str | None = None, name: str = "postgres"):
    return psycopg.connect(
        host="127.0.0.1",
        port=about["port"],
        user=about["user"],
        password=about["password"] if password is None else password,
        dbname=name,
        connect_timeout=10,
    )


def test_it_answers_on_loopback_with_its_password_alone(cluster):
    _, state, about = cluster
    with connect(about) as connection:
        listens = connection.execute("SHOW listen_addresses").fetchone()
        assert listens == ("127.0.0.1",)
        assert connection.execute("SHOW password_encryption").fetchone() == ("scram-sha-256",)
    with pytest.raises(psycopg.OperationalError):
        connect(about, "guessed")
    assert len(about["password"]) >= 30
    assert (state / "database.json").stat().st_mode & 0o077 == 0


def test_it_survives_a_restart_and_is_started_once(cluster):
    account, state, about = cluster
    with connect(about) as connection:
        connection.execute("CREATE TABLE kept (word text)")
        connection.execute("INSERT INTO kept VALUES ('anchor')")
    assert run(account, state, "print(database.stop())") == "True"
    assert run(account, state, "print(database.stop())") == "False"
    run(account, state, "database.ensure(); database.ensure()")
    with connect(about) as connection:
        assert connection.execute("SELECT word FROM kept").fetchone() == ("anchor",)


def test_another_port_is_taken_where_its_own_is_in_use(cluster):
    account, state, about = cluster
    run(account, state, "database.stop()")
    with socket.socket() as taken:
        taken.bind(("127.0.0.1", about["port"]))
        taken.listen()
        described = Path(run(account, state, "print(database.ensure())"))
        moved = json.loads(described.read_text())
        assert moved["port"] != about["port"]
        assert moved["password"] == about["password"]
        with connect(moved):
            pass


def test_the_signing_key_is_made_once_and_private(cluster):
    account, state, _ = cluster
    first = run(account, state, "print(database.secret())")
    assert len(first) > 40
    assert run(account, state, "print(database.secret())") == first
    assert (state / "secret").stat().st_mode & 0o077 == 0


def test_one_that_died_is_started_again_on_its_own_port(cluster):
    account, state, about = cluster
    assert run(account, state, "print(database.revive())") == "False"
    postmaster = int((state / "cluster" / "postmaster.pid").read_text().splitlines()[0])
    os.kill(postmaster, signal.SIGKILL)
    assert run(account, state, "print(database.revive())") == "True"
    with connect(about):
        pass


def test_two_starts_at_once_share_one_cluster(tmp_path_factory):
    folder = Path(tempfile.mkdtemp(prefix="routrel-test-", dir="/tmp"))
    folder.chmod(0o755)
    state = folder / "state"
    with ThreadPoolExecutor(3) as pool:
        described = list(pool.map(lambda _: run("root", state, "print(database.ensure())"), range(3)))
    assert len(set(described)) == 1
    with connect(json.loads(Path(described[0]).read_text())):
        pass
    run("root", state, "database.stop()")
    shutil.rmtree(folder)


@pytest.mark.skipif(not AS_ROOT, reason="only root changes accounts")
def test_a_missing_runuser_is_named(tmp_path):
    code = "database.shutil.which = lambda *_, **__: None; database._as_postgres()"
    program = f"import sys; sys.path.insert(0, {str(OPS)!r}); import database; {code}"
    done = subprocess.run([SYSTEM_PYTHON, "-c", program], capture_output=True, text=True, cwd="/")
    assert "runuser is missing" in done.stderr


def test_a_backup_is_private_and_restores_what_was_stored(cluster):
    account, state, about = cluster
    dump = state / "kept.dump"
    with connect(about) as connection:
        connection.autocommit = True
        connection.execute("CREATE DATABASE routrel")
    with connect(about, name="routrel") as own:
        own.execute("CREATE TABLE kept (word text)")
        own.execute("INSERT INTO kept VALUES ('anchor')")
        own.commit()
        run(account, state, f"from pathlib import Path; database.backup(Path({str(dump)!r}))")
        own.execute("UPDATE kept SET word = 'lost'")
        own.commit()
    assert dump.stat().st_mode & 0o077 == 0
    run(account, state, f"from pathlib import Path; database.restore(Path({str(dump)!r}))")
    with connect(about, name="routrel") as own:
        assert own.execute("SELECT word FROM kept").fetchone() == ("anchor",)
        dump.write_bytes(dump.read_bytes()[:200])
    said = run(
        account,
        state,
        f"from pathlib import Path\ntry: database.restore(Path({str(dump)!r}))\nexcept Exception as error: print(error)",
    )
    assert "failed" in said
    with connect(about, name="routrel") as own:
        assert own.execute("SELECT word FROM kept").fetchone() == ("anchor",)
