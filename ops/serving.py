"""demo and serve: everything installed, the database up and kept up, the application server running."""

import contextlib
import os
import signal
import subprocess
import sys
import tempfile
import threading
import time
from collections.abc import Callable
from pathlib import Path

import database
import install

FIRST_PORT = 8000
HEAD_MILLISECONDS = 10_000
"""How long a client may take to send the head of a request."""

LOOKS = 1.0
"""Seconds between two looks at the database."""

WEB_PROCESSES = max(2, min(4, os.cpu_count() or 1))
"""Processes that take requests, where ROUTREL_WEB_PROCESSES does not say."""

PATIENCE = 20
"""Failed starts of the database in a row that are told; after that one in a minute."""


def serve(with_demo: bool, port: int, workers: int = 1) -> int:
    install.python_packages("run")
    install.web_build()
    if port and not database.is_free(port):
        raise install.MissingError(f"port {port} is in use; say another with --port, or none for the next free one")
    manage, environment = _prepared()
    chosen = port or _free_port()
    address = f"http://127.0.0.1:{chosen}/"
    prepare = ["load_demo", "--address", address] if with_demo else ["first_user", "--address", address]
    prepared = subprocess.run(
        [*manage, *prepare], cwd=install.ROOT, env={**os.environ, **environment}, stdout=subprocess.PIPE, text=True
    )
    if prepared.returncode:
        raise install.MissingError("the first network could not be loaded")
    web_processes = os.environ.get("ROUTREL_WEB_PROCESSES") or str(WEB_PROCESSES)
    command = [
        str(install.PYTHON),
        *("-m", "granian", "--interface", "asginl", "site_settings.asgi:application"),
        *("--host", "127.0.0.1", "--port", str(chosen), "--workers", web_processes, "--http", "1", "--no-ws"),
        *("--http1-header-read-timeout", str(HEAD_MILLISECONDS), "--backpressure", "256"),
        *("--log-level", "warning", "--respawn-failed-workers"),
    ]
    environment = {**os.environ, **environment}
    with tempfile.TemporaryDirectory(prefix="routrel-") as folder:  # short: a socket's path has 107 bytes at most
        pool = Path(folder) / "pool"
        beside = [
            _Beside(
                [str(install.PYTHON), "-m", "work.pool_process", str(pool), "--until-input-ends"],
                _of_server(environment),
                pool,
            ),
            *(_Beside([*manage, "worker"], environment) for _ in range(workers)),
        ]
        served = {"ROUTREL_SERVING": "1", "ROUTREL_WEB_PROCESSES": web_processes, "ROUTREL_POOL": str(pool)}
        return _supervise(command, {**environment, **served}, beside, chosen, prepared.stdout)


def work() -> int:
    """Do jobs until told to: one more worker, on the database that ROUTREL_DATABASE describes or the project's own."""
    install.python_packages("run")
    environment = database.environment(os.environ.get("ROUTREL_DATABASE", ""))
    manage = [str(install.PYTHON), str(install.ROOT / "server" / "manage.py")]
    worker = _Beside([*manage, "worker"], {**os.environ, **environment})
    install.say("a worker does jobs; stop it with Ctrl-C")
    is_told = _told_to_stop()
    while not is_told():
        worker.look_after()
        time.sleep(0.2)
    worker.stop()
    return 0


def _of_server(environment: dict[str, str]) -> dict[str, str]:
    """An environment in which the server's modules are found."""
    return {**environment, "PYTHONPATH": os.pathsep.join(str(install.ROOT / one) for one in ("src", "server"))}


class _Beside:
    """A process beside the server, started again where it has ended; ``socket`` is what it leaves behind then."""

    def __init__(self, command: list[str], environment: dict[str, str], socket: Path | None = None):
        self.command, self.environment, self.socket = command, environment, socket
        self.running: subprocess.Popen[bytes] | None = None
        self.next_start = 0.0

    def look_after(self) -> None:
        if time.monotonic() >= self.next_start and (self.running is None or self.running.poll() is not None):
            if self.socket is not None:
                self.socket.unlink(missing_ok=True)
            # The pool ends where the other end of its input does, with us.
            self.running = subprocess.Popen(
                self.command, env=self.environment, stdin=subprocess.PIPE, start_new_session=True
            )
            self.next_start = time.monotonic() + 3

    def stop(self) -> None:
        if self.running is not None:
            _end(self.running)


def _end(process: "subprocess.Popen[bytes]") -> int:
    """End a process, and whatever it started; its exit status."""
    if process.poll() is None:
        process.terminate()
        try:
            process.wait(15)
        except subprocess.TimeoutExpired:
            process.kill()
    status = process.wait()
    with contextlib.suppress(ProcessLookupError):
        os.killpg(process.pid, signal.SIGKILL)  # a child that was still starting outlives its parent
    return status


def _told_to_stop() -> Callable[[], bool]:
    """Whether we were told to stop, by Ctrl-C or SIGTERM."""
    told = threading.Event()
    for number in (signal.SIGTERM, signal.SIGINT):
        signal.signal(number, lambda *_: told.set())
    return told.is_set


def _supervise(command: list[str], environment: dict[str, str], beside: list[_Beside], port: int, greeting: str) -> int:
    """Run the server until it ends or is told to, and start the database again whenever it has died.

    The greeting is printed once the port answers.
    """
    server = subprocess.Popen(command, env=environment, start_new_session=True)
    is_told = _told_to_stop()
    failed, next_look = 0, time.monotonic() + LOOKS
    while not is_told() and server.poll() is None:
        time.sleep(0.1)
        for one in beside:
            one.look_after()
        if greeting and database.answers(port):
            print(greeting, end="", flush=True)
            greeting = ""
        if time.monotonic() < next_look:
            continue
        try:
            if database.revive():
                install.say("the database had died and was started again")
            failed = 0
        except (install.MissingError, OSError) as error:
            failed += 1
            if failed <= PATIENCE:
                print(f"routrel: the database cannot be started: {error}", file=sys.stderr, flush=True)
        next_look = time.monotonic() + (LOOKS if failed <= PATIENCE else 60)
    stopping = is_told()
    for one in beside:
        one.stop()
    status = _end(server)
    return 0 if stopping else status


def _prepared() -> tuple[list[str], dict[str, str]]:
    """The server's management command, and its environment with the database up to date."""
    environment = database.environment()
    manage = [str(install.PYTHON), str(install.ROOT / "server" / "manage.py")]
    if install.call([*manage, "create_database"], env=environment):
        raise install.MissingError("the database cannot be reached")
    if install.call([*manage, "migrate", "--verbosity", "0", "--skip-checks"], env=environment):
        raise install.MissingError("the database could not be brought up to date")
    return manage, environment


def manage(*arguments: str) -> int:
    """A management command on the database, made where it is not there yet."""
    install.python_packages("run")
    command, environment = _prepared()
    return install.call([*command, *arguments], env=environment)


def stop() -> int:
    print("the database was stopped" if database.stop() else "the database was not running")
    return 0


def _free_port() -> int:
    for port in range(FIRST_PORT, FIRST_PORT + 100):
        if database.is_free(port):
            return port
    raise install.MissingError(f"no port from {FIRST_PORT} on is free; say one with --port")
