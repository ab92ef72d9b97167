"""The project's own PostgreSQL cluster: own data folder and port, loopback only, own password.

No other cluster on the machine is touched: this one is found by its data folder alone.
"""

import fcntl
import hashlib
import json
import os
import pwd
import secrets
import shutil
import socket
import subprocess
import tempfile
import time
from collections.abc import Iterator, Sequence
from contextlib import contextmanager
from pathlib import Path

import install

NAME = "routrel"
USER = "routrel"
PATIENCE = 15
"""Seconds to wait for a port."""


def state_folder() -> Path:
    """Where the project keeps what outlives a run.

    PostgreSQL refuses to run as root, and the account it runs under may not see the checkout: for root
    the folder is under /var/lib, named after the checkout.
    """
    if "ROUTREL_STATE" in os.environ:
        return Path(os.environ["ROUTREL_STATE"]).resolve()
    if os.geteuid() == 0:
        return Path("/var/lib/routrel") / hashlib.sha256(str(install.ROOT).encode()).hexdigest()[:12]
    return install.ROOT / ".routrel"


def ensure(keep_port: bool = False) -> Path:
    """Start the cluster where it is not running, making it first where there is none.

    Where its port is in use another is taken, unless ``keep_port`` says that somebody relies on it.
    Returns the file that describes it, readable by the caller only.
    """
    programs = install.postgresql()
    state = state_folder()
    state.mkdir(parents=True, exist_ok=True)
    with _alone(state):
        return _ensure(programs, state, keep_port)


@contextmanager
def _alone(state: Path) -> Iterator[None]:
    """Keep two starts at once from making, or removing, one cluster: the second waits and finds it."""
    with (state / "lock").open("w") as lock:
        fcntl.flock(lock, fcntl.LOCK_EX)
        yield


def _ensure(programs: Path, state: Path, keep_port: bool) -> Path:
    data, described = state / "cluster", state / "database.json"
    if not ((data / "PG_VERSION").is_file() and described.is_file()):
        _make(programs, data, described)
    version = (data / "PG_VERSION").read_text().strip()
    if f"/{version}/" not in f"{programs}/" and (install.POSTGRESQL_PROGRAMS / version / "bin").is_dir():
        programs = install.POSTGRESQL_PROGRAMS / version / "bin"
    about = json.loads(described.read_text())
    if not _is_running(programs, data):
        if keep_port:
            _wait_until_free(about["port"])
        elif not is_free(about["port"]):
            about["port"] = _free_port()
            _write_private(described, json.dumps(about))
        install.say(f"starting the database on 127.0.0.1:{about['port']}")
        options = f"-p {about['port']} -c listen_addresses=127.0.0.1 -c unix_socket_directories=''"
        _as_owner(
            [programs / "pg_ctl", "-D", data, "-w", "-t", "60", "-l", data / "server.log", "-o", options, "start"],
            f"starting the database (its log is {data / 'server.log'})",
        )
    return described


def revive() -> bool:
    """Start the cluster again where it has died, on its own port; False where it is well."""
    about = json.loads((state_folder() / "database.json").read_text())
    with socket.socket() as probe:
        probe.settimeout(1)
        if probe.connect_ex(("127.0.0.1", about["port"])) == 0:
            return False
    ensure(keep_port=True)
    return True


def _wait_until_free(port: int) -> None:
    """What is left of a server that died holds its port for a moment."""
    end = time.monotonic() + PATIENCE
    while not is_free(port):
        if time.monotonic() > end:
            raise install.MissingError(f"port {port} of the database is taken by something else")
        time.sleep(0.2)


def stop() -> bool:
    """Stop the cluster; False where it was not running."""
    data = state_folder() / "cluster"
    if not (data / "PG_VERSION").is_file():
        return False
    programs = install.postgresql()
    if not _is_running(programs, data):
        return False
    _as_owner([programs / "pg_ctl", "-D", data, "-m", "fast", "-w", "stop"], "stopping the database")
    return True


def _make(programs: Path, data: Path, described: Path) -> None:
    install.say("making the database")
    if data.exists():
        shutil.rmtree(data)
    password = secrets.token_urlsafe(24)
    data.mkdir(mode=0o700)
    owner = _owner()
    if owner is not None:
        # The folders of ours on the way down must let the other account pass.
        os.chown(data, owner.pw_uid, owner.pw_gid)
        own = [data.parent] if "ROUTREL_STATE" in os.environ else [data.parent, data.parent.parent]
        for folder in own:
            folder.chmod(folder.stat().st_mode | 0o011)
    with tempfile.NamedTemporaryFile("w", dir="/tmp") as file:
        file.write(password)
        file.flush()
        if owner is not None:
            os.chown(file.name, owner.pw_uid, owner.pw_gid)
        _as_owner(
            [
                programs / "initdb",
                "-D",
                data,
                "-U",
                USER,
                "-A",
                "scram-sha-256",
                f"--pwfile={file.name}",
                "-E",
                "UTF8",
                "--locale=C.UTF-8",
            ],
            "making the database",
        )
    _write_private(described, json.dumps({"port": _free_port(), "user": USER, "password": password}))


def _owner() -> pwd.struct_passwd | None:
    """The account PostgreSQL runs under: the caller's, or for root the one Debian made for it."""
    if os.geteuid() != 0:
        return None
    try:
        return pwd.getpwnam("postgres")
    except KeyError:
        raise install.MissingError(
            "root cannot run PostgreSQL itself, and there is no account postgres; make one with:"
            " adduser --system --group postgres"
        ) from None


def _as_postgres() -> list[str]:
    """What makes a command run under the account of the cluster, where that is not ours."""
    if _owner() is None:
        return []
    program = shutil.which("runuser", path=f"{os.environ.get('PATH', '')}:/usr/sbin:/sbin:/usr/bin")
    if program is None:
        raise install.MissingError("runuser is missing (it comes with util-linux); root needs it to start PostgreSQL")
    return [program, "-u", "postgres", "--"]


def _as_owner(command: Sequence[str | Path], what: str) -> None:
    prefix = _as_postgres()
    # The server outlives us: it must not hold our output open.
    with tempfile.TemporaryFile() as output:
        done = subprocess.run(
            [*prefix, *map(str, command)], cwd="/", stdin=subprocess.DEVNULL, stdout=output, stderr=output
        )
        if done.returncode:
            output.seek(0)
            raise install.MissingError(f"{what} failed:\n{output.read().decode(errors='replace')}")


def _is_running(programs: Path, data: Path) -> bool:
    prefix = _as_postgres()
    command = [*prefix, str(programs / "pg_ctl"), "-D", str(data), "status"]
    if subprocess.run(command, cwd="/", stdout=subprocess.DEVNULL, stderr=subprocess.DEVNULL).returncode:
        return False
    return not _forget_dead(data / "postmaster.pid")


def _forget_dead(noted: Path) -> bool:
    """Whether the noted server has died and nobody has asked after it: its number is taken for that of a living one.

    The note is taken away then. Whether any of its processes still uses the data, PostgreSQL looks itself.
    """
    try:
        number = noted.read_text().split()[0]
        state = Path(f"/proc/{number}/stat").read_text().rsplit(")", 1)[1].split()[0]
    except (OSError, IndexError):
        return False
    if state not in ("Z", "X"):
        return False
    noted.unlink(missing_ok=True)
    return True


def is_free(port: int) -> bool:
    with socket.socket() as probe:
        probe.setsockopt(socket.SOL_SOCKET, socket.SO_REUSEADDR, 1)
        try:
            probe.bind(("127.0.0.1", port))
        except OSError:
            return False
        return True


def answers(port: int) -> bool:
    """Whether something listens at a port of loopback."""
    with socket.socket() as probe:
        return probe.connect_ex(("127.0.0.1", port)) == 0


def _free_port() -> int:
    with socket.socket() as probe:
        probe.bind(("127.0.0.1", 0))
        return int(probe.getsockname()[1])


def _write_private(path: Path, text: str) -> None:
    partial = path.with_suffix(".part")
    partial.touch(mode=0o600)
    partial.write_text(text)
    partial.replace(path)


def backup(path: Path) -> None:
    """Write all that is stored into one file, readable by the caller only; the server may run meanwhile."""
    partial = path.with_name(f".{path.name}.part")
    partial.unlink(missing_ok=True)
    partial.touch(mode=0o600)
    _with_programs("pg_dump", ["--format=custom", f"--file={partial}"], f"writing {path}")
    partial.replace(path)


def restore(path: Path) -> None:
    """Put back what a backup holds, all of it or nothing, in place of what is stored now."""
    if not path.is_file():
        raise install.MissingError(f"there is no file {path}")
    how = ["--clean", "--if-exists", "--no-owner", "--single-transaction", "--exit-on-error"]
    _with_programs("pg_restore", [*how, f"--dbname={NAME}", str(path)], f"restoring {path}")


def _with_programs(program: str, arguments: list[str], doing: str) -> None:
    about = json.loads(ensure().read_text())
    reach = {"PGHOST": "127.0.0.1", "PGPORT": str(about["port"]), "PGUSER": about["user"]}
    environment = {**os.environ, **reach, "PGPASSWORD": about["password"], "PGDATABASE": NAME}
    done = subprocess.run([install.postgresql() / program, *arguments], env=environment, capture_output=True, text=True)
    if done.returncode:
        raise install.MissingError(f"{doing} failed: {done.stderr.strip().splitlines()[-1:] or [program]}")


def secret() -> str:
    """The server's signing key, made at first use."""
    path = state_folder() / "secret"
    if not path.is_file():
        path.parent.mkdir(parents=True, exist_ok=True)
        _write_private(path, secrets.token_urlsafe(48))
    return path.read_text()


def environment(described: str = "") -> dict[str, str]:
    """The environment the server and its tests run in, on a database that is described in a file or the project's own,
    which is running afterwards."""
    return {
        "ROUTREL_DATABASE": described or str(ensure()),
        "ROUTREL_SECRET": secret(),
        "ROUTREL_SOLVED": os.environ.get("ROUTREL_SOLVED", str(state_folder() / "solved")),
        "DJANGO_SETTINGS_MODULE": "site_settings.settings",
        "PYTHONPATH": f"{install.ROOT}/src:{install.ROOT}/server",
    }
