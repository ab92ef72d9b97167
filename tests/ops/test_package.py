"""The core as a package: built, installed apart, and run by its own name."""

import os
import subprocess
import sys
import tomllib
from pathlib import Path

import routrel

ROOT = Path(__file__).parents[2]
PROJECT = tomllib.loads((ROOT / "pyproject.toml").read_text())["project"]


def test_the_package_asks_for_what_the_project_is_tested_with():
    pinned = (ROOT / "requirements" / "run.in").read_text().split()
    assert set(PROJECT["dependencies"]) <= set(pinned)


def test_an_installed_package_runs_by_its_name_with_its_version(tmp_path):
    source = tmp_path / "source"
    for name in ("src", "pyproject.toml", "README.md", "LICENSE"):
        source.mkdir(exist_ok=True)
        (source / name).symlink_to(ROOT / name)
    environment = {**os.environ, "PYTHONPATH": "", "PYTHONDONTWRITEBYTECODE": "1"}
    install = [
        "-m",
        "pip",
        "install",
        "-q",
        "--no-deps",
        "--no-build-isolation",
        "--no-index",
        "--target",
        tmp_path / "there",
    ]
    subprocess.run([sys.executable, *install, source], check=True, env=environment, cwd=tmp_path)
    environment["PYTHONPATH"] = str(tmp_path / "there")
    run = [tmp_path / "there" / "bin" / "routrel"]
    said = subprocess.run(
        [*run, "--version"], check=True, env=environment, capture_output=True, text=True, cwd=tmp_path
    )
    assert said.stdout == f"routrel {routrel.__version__}\n"
    network = ROOT / "examples" / "saltmarsh"
    asked = [*run, "walk", network, "--from", "ot-tracking", "--to", "bookings", "--service", "tracking"]
    assert subprocess.run(asked, env=environment, capture_output=True, cwd=tmp_path).returncode in (0, 1)
