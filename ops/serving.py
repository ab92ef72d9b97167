"""demo and serve: everything installed, the database up, the application server running."""

import os
import socket

import database
import install

FIRST_PORT = 8000
THREADS = 8


def serve(with_demo: bool, port: int) -> int:
    install.python_packages("run")
    install.web_build()
    manage, environment = _prepared()
    chosen = port or _free_port()
    address = f"http://127.0.0.1:{chosen}/"
    prepare = ["load_demo", "--address", address] if with_demo else ["first_user", "--address", address]
    if install.call([*manage, *prepare], env=environment):
        raise install.MissingError("the first network could not be loaded")
    os.environ.update(environment)
    # One process: solved networks are kept in its memory. Threads overlap waiting, not computing.
    arguments = [
        str(install.PYTHON),
        *("-m", "gunicorn", "site_settings.wsgi:application"),
        *("--bind", f"127.0.0.1:{chosen}", "--workers", "1", "--threads", str(THREADS)),
        *("--timeout", "300", "--log-level", "warning"),
    ]
    os.execv(install.PYTHON, arguments)


def _prepared() -> tuple[list[str], dict[str, str]]:
    """The server's management command, and its environment with the database up to date."""
    environment = database.environment()
    manage = [str(install.PYTHON), str(install.ROOT / "server" / "manage.py")]
    if install.call([*manage, "create_database"], env=environment):
        raise install.MissingError("the database cannot be reached")
    if install.call([*manage, "migrate", "--verbosity", "0"], env=environment):
        raise install.MissingError("the database could not be brought up to date")
    return manage, environment


def add_user(name: str) -> int:
    install.python_packages("run")
    manage, environment = _prepared()
    return install.call([*manage, "add_user", name], env=environment)


def stop() -> int:
    print("the database was stopped" if database.stop() else "the database was not running")
    return 0


def _free_port() -> int:
    for port in range(FIRST_PORT, FIRST_PORT + 100):
        with socket.socket() as probe:
            probe.setsockopt(socket.SOL_SOCKET, socket.SO_REUSEADDR, 1)
            try:
                probe.bind(("127.0.0.1", port))
            except OSError:
                continue
            return port
    raise install.MissingError(f"no port from {FIRST_PORT} on is free; say one with --port")
