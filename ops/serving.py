"""demo and serve: everything installed, the database up and kept up, the application server running."""

import contextlib
import os
import signal
import subprocess
import sys
import time

import database
import install

FIRST_PORT = 8000
HEAD_MILLISECONDS = 10_000
"""How long a client may take to send the head of a request."""

LOOKS = 1.0
"""Seconds between two looks at the database."""

PATIENCE = 20
"""Failed starts of the database in a row that are told; after that one in a minute."""


def serve(with_demo: bool, port: int) -> int:
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
    command = [
        str(install.PYTHON),
        *("-m", "granian", "--interface", "asginl", "site_settings.asgi:application"),
        *("--host", "127.0.0.1", "--port", str(chosen), "--workers", "1", "--http", "1", "--no-ws"),
        *("--http1-header-read-timeout", str(HEAD_MILLISECONDS), "--backpressure", "256"),
        *("--log-level", "warning", "--respawn-failed-workers"),
    ]
    return _supervise(command, {**os.environ, **environment, "ROUTREL_SERVING": "1"}, chosen, prepared.stdout)


def _supervise(command: list[str], environment: dict[str, str], port: int, greeting: str) -> int:
    """Run the server until it ends or is told to, and start the database again whenever it has died.

    The greeting is printed once the port answers.
    """
    server = subprocess.Popen(command, env=environment, start_new_session=True)
    stopping = False

    def stop(*_: object) -> None:
        nonlocal stopping
        stopping = True

    signal.signal(signal.SIGTERM, stop)
    signal.signal(signal.SIGINT, stop)
    failed, next_look = 0, time.monotonic() + LOOKS
    while not stopping and server.poll() is None:
        time.sleep(0.1)
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
    if server.poll() is None:
        server.terminate()
        try:
            server.wait(15)
        except subprocess.TimeoutExpired:
            server.kill()
    status = server.wait()
    with contextlib.suppress(ProcessLookupError):
        os.killpg(server.pid, signal.SIGKILL)  # a worker that was still starting outlives its parent
    return 0 if stopping else status


def _prepared() -> tuple[list[str], dict[str, str]]:
    """The server's management command, and its environment with the database up to date."""
    environment = database.environment()
    manage = [str(install.PYTHON), str(install.ROOT / "server" / "manage.py")]
    if install.call([*manage, "create_database"], env=environment):
        raise install.MissingError("the database cannot be reached")
    if install.call([*manage, "migrate", "--verbosity", "0"], env=environment):
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
