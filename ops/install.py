"""What the project needs on a machine: found, installed where that is possible, named where it is not."""

import contextlib
import fcntl
import hashlib
import os
import re
import shutil
import subprocess
import sys
from collections.abc import Iterator, Sequence
from contextlib import contextmanager
from pathlib import Path

ROOT = Path(__file__).resolve().parent.parent
VENV = ROOT / ".venv"
PYTHON = VENV / "bin" / "python"
WEB = ROOT / "web"
IMPORTS = (
    "django",
    "rest_framework",
    "drf_spectacular",
    "whitenoise",
    "psycopg",
    "numpy",
    "yaml",
    "re2",
    "granian",
    "procrastinate",
)
"""What the server and the core cannot do without."""

NODE_LEAST = (20, 19)
LEAST_PYTHON = (3, 11)
POSTGRESQL_PROGRAMS = Path("/usr/lib/postgresql")


class MissingError(Exception):
    """Something that is needed, not there, and not to be installed from here."""


def call(command: Sequence[str | Path], env: dict[str, str] | None = None, cwd: Path = ROOT) -> int:
    """Run a command with its output shown; returns its exit status."""
    return subprocess.call([str(part) for part in command], cwd=cwd, env={**os.environ, **(env or {})})


def need(command: Sequence[str | Path], what: str, cwd: Path = ROOT) -> None:
    """Run a command that must succeed; its output is shown only where it fails."""
    done = subprocess.run([str(part) for part in command], cwd=cwd, stdout=subprocess.PIPE, stderr=subprocess.STDOUT)
    if done.returncode:
        sys.stderr.write(done.stdout.decode(errors="replace"))
        raise MissingError(f"{what} failed: {' '.join(map(str, command))}")


def say(text: str) -> None:
    print(f"· {text}", file=sys.stderr, flush=True)


def debian_packages(programs: Sequence[str], packages: Sequence[str], why: str) -> None:
    """Install Debian packages as root; otherwise name the command that does."""
    manual = f"apt-get install --no-install-recommends {' '.join(packages)}"
    if os.geteuid() != 0 or not shutil.which("apt-get"):
        raise MissingError(f"{', '.join(programs)} is missing ({why}); install it with: sudo {manual}")
    say(f"installing {', '.join(packages)} ({why})")
    os.environ["DEBIAN_FRONTEND"] = "noninteractive"
    if subprocess.call(["apt-get", "update", "-qq"], stdout=subprocess.DEVNULL) == 0:
        need(["apt-get", "install", "-y", "-qq", "--no-install-recommends", *packages], f"installing {packages[0]}")
        return
    raise MissingError(f"{', '.join(programs)} is missing ({why}); install it with: {manual}")


@contextmanager
def alone() -> Iterator[None]:
    """Keep other calls of ours from installing at the same time: they wait, and then find it done."""
    with (ROOT / ".install.lock").open("w") as lock:
        fcntl.flock(lock, fcntl.LOCK_EX)
        yield


def python_packages(kind: str) -> None:
    """The virtual environment with the pinned packages: ``run`` to serve, ``dev`` to test as well."""
    if sys.version_info[:2] < LEAST_PYTHON:
        raise MissingError(f"Python 3.11 or later is needed; this is {sys.version.split()[0]}")
    wanted = ROOT / "requirements" / f"{kind}.txt"
    stamp = VENV / f"installed-{kind}"
    digest = hashlib.sha256(wanted.read_bytes()).hexdigest()
    with alone():
        if stamp.is_file() and stamp.read_text() == digest and _works():
            os.utime(stamp)
            return
        if PYTHON.is_file() and stamp.is_file() and not _works():
            say("the Python environment is broken inside: making it anew")
            shutil.rmtree(VENV, ignore_errors=True)
        _install_python_packages(kind, wanted)
        stamp.write_text(digest)


def _works() -> bool:
    """Whether what is to be imported can be: a stamp alone says only what was installed once."""
    program = f"import {', '.join(IMPORTS)}"
    return subprocess.run([PYTHON, "-c", program], stdout=subprocess.DEVNULL, stderr=subprocess.DEVNULL).returncode == 0


def _install_python_packages(kind: str, wanted: Path) -> None:
    if not (PYTHON.is_file() and (VENV / "bin" / "pip").is_file()):
        say("making the Python environment")
        made = subprocess.run([sys.executable, "-m", "venv", VENV], stdout=subprocess.PIPE, stderr=subprocess.STDOUT)
        if made.returncode:
            shutil.rmtree(VENV, ignore_errors=True)
            debian_packages(["python3-venv"], ["python3-venv"], "Python's environments")
            need([sys.executable, "-m", "venv", VENV], "making the Python environment")
    say(f"installing Python packages ({kind})")
    uv = ROOT / "requirements" / "uv.txt"
    need([PYTHON, "-m", "pip", "install", "-q", "--require-hashes", "-r", uv], "installing the package installer")
    need(
        [VENV / "bin" / "uv", "pip", "install", "-q", "-p", PYTHON, "-r", wanted, "--require-hashes"],
        "installing Python packages",
    )
    if kind == "dev":
        run = ROOT / "requirements" / "run.txt"
        (VENV / "installed-run").write_text(hashlib.sha256(run.read_bytes()).hexdigest())


def postgresql() -> Path:
    """The folder of the PostgreSQL server's programs, the newest version."""
    found = _postgresql_folders()
    if not found:
        # Debian would start a cluster of its own on installation: it is left alone, ours is another.
        debian_packages(["postgresql"], ["postgresql"], "the database server")
        found = _postgresql_folders()
    if not found:
        raise MissingError("the PostgreSQL server is missing; install it with: sudo apt-get install postgresql")
    return found[-1]


def _postgresql_folders() -> list[Path]:
    folders = [path.parent for path in POSTGRESQL_PROGRAMS.glob("*/bin/initdb")]
    if not folders and (program := shutil.which("initdb")):
        folders = [Path(program).resolve().parent]
    return sorted(folders, key=lambda folder: [int(n) for n in re.findall(r"\d+", str(folder))])


def browser() -> None:
    """Chromium and its driver, for the browser tests."""
    if not (shutil.which("chromium") and shutil.which("chromedriver")):
        debian_packages(["chromium", "chromedriver"], ["chromium", "chromium-driver"], "the browser tests")


def filter_tools() -> None:
    """nft, sshd, bird and bgpd, by which tests meet the kernel and real servers, where they may be installed."""
    if os.geteuid() == 0 and not Path("/usr/sbin/bird").exists() and shutil.which("apt-get"):
        with contextlib.suppress(MissingError):
            debian_packages(["bird"], ["bird2"], "BGP of a routing daemon, in tests")
    if os.geteuid() == 0 and not Path("/usr/lib/frr/bgpd").exists() and shutil.which("apt-get"):
        with contextlib.suppress(MissingError):
            debian_packages(["bgpd"], ["frr"], "BMP of a routing daemon, in tests")
    if os.geteuid() == 0 and not Path("/usr/sbin/sshd").exists() and shutil.which("apt-get"):
        with contextlib.suppress(MissingError):
            debian_packages(["sshd"], ["openssh-server"], "collecting over SSH, in tests")
    has_modules = shutil.which("yanglint") and Path("/usr/share/yuma/nmda-modules").exists()
    if os.geteuid() == 0 and not has_modules and shutil.which("apt-get"):
        with contextlib.suppress(MissingError):
            debian_packages(
                ["yanglint"], ["libyang2-tools", "libyuma-base"], "documents against YANG modules, in tests"
            )
    if os.geteuid() == 0 and not shutil.which("nft") and shutil.which("apt-get"):
        with contextlib.suppress(MissingError):
            debian_packages(["nft"], ["nftables", "iproute2"], "filter rules in the kernel, in tests")


def node_packages(folder: Path = WEB) -> None:
    """The pinned packages of a folder of the web client."""
    _check_node()
    lock = folder / "package-lock.json"
    stamp = folder / "node_modules" / ".installed"
    digest = hashlib.sha256(lock.read_bytes()).hexdigest()
    with alone():
        if stamp.is_file() and stamp.read_text() == digest:
            return
        say(f"installing the packages of {folder.relative_to(ROOT)}/")
        need(["npm", "ci", "--no-audit", "--no-fund"], "npm ci", cwd=folder)
        stamp.write_text(digest)


def _check_node() -> None:
    least = ".".join(map(str, NODE_LEAST))
    node = shutil.which("node")
    if not node or not shutil.which("npm"):
        raise MissingError(
            f"Node.js {least} or later with npm is missing; install it with: sudo apt-get install nodejs npm"
        )
    version = subprocess.run([node, "--version"], capture_output=True, text=True, check=True).stdout.strip()
    if tuple(int(part) for part in version.lstrip("v").split(".")[:2]) < NODE_LEAST:
        raise MissingError(f"Node.js {least} or later is needed; {node} is {version}")


def web_build() -> None:
    """The web client, built again where a source is newer than the build."""
    node_packages()
    built = WEB / "dist" / "index.html"
    sources = [WEB / "package-lock.json", WEB / "vite.config.ts", WEB / "index.html", *(WEB / "src").rglob("*")]
    with alone():
        if built.is_file() and built.stat().st_mtime > max(source.stat().st_mtime for source in sources):
            return
        say("building the web client")
        need(["npm", "run", "--silent", "build"], "building the web client", cwd=WEB)
