"""What is missing and cannot be installed is named, with the command that installs it."""

import socket
import subprocess
import sys
from pathlib import Path

import pytest

import checks
import install
import serving

ROUTREL = Path(__file__).parents[2] / "routrel"


def test_a_missing_program_is_named_with_its_command(monkeypatch):
    monkeypatch.setattr(install.os, "geteuid", lambda: 1000)
    with pytest.raises(install.MissingError, match=r"sudo apt-get install --no-install-recommends postgresql"):
        install.debian_packages(["postgresql"], ["postgresql"], "the database server")


def test_root_without_a_package_manager_is_told_the_same(monkeypatch):
    monkeypatch.setattr(install.shutil, "which", lambda name: None)
    with pytest.raises(install.MissingError, match="chromium is missing"):
        install.debian_packages(["chromium"], ["chromium"], "the browser tests")
    with pytest.raises(install.MissingError, match=r"Node\.js 20\.19 or later with npm is missing"):
        install._check_node()


def test_an_old_node_and_an_old_python_are_refused(monkeypatch):
    old = subprocess.CompletedProcess([], 0, "v18.19.0\n", "")
    monkeypatch.setattr(install.subprocess, "run", lambda *_, **__: old)
    with pytest.raises(install.MissingError, match=r"is v18\.19\.0"):
        install._check_node()
    monkeypatch.setattr(install, "LEAST_PYTHON", (3, 99))
    with pytest.raises(install.MissingError, match="Python 3"):
        install.python_packages("run")


def test_a_step_that_fails_shows_what_it_said(capsys):
    with pytest.raises(install.MissingError, match="counting failed"):
        install.need([sys.executable, "-c", "print('three'); raise SystemExit(3)"], "counting")
    assert "three" in capsys.readouterr().err


def test_installing_again_changes_nothing(capsys):
    install.python_packages("dev")
    install.node_packages()
    assert capsys.readouterr().err == ""


def test_generated_files_that_are_out_of_date_are_told(monkeypatch, tmp_path, capsys):
    stale = install.ROOT / "docs" / "never.json"
    monkeypatch.setattr(checks, "_generated", lambda env: {stale: "x"})
    assert checks._stale_files({}) == ["docs/never.json"]
    assert "run ./routrel generate" in capsys.readouterr().out


@pytest.mark.parametrize("arguments", [["--help"], []])
def test_the_front_door_says_what_it_can(arguments):
    done = subprocess.run([ROUTREL, *arguments], capture_output=True, text=True)
    for command in ("demo", "serve", "test", "lint", "bench", "walk"):
        assert command in done.stdout
    assert done.returncode == (0 if arguments else 2)


def test_an_unknown_command_is_refused():
    done = subprocess.run([ROUTREL, "dance"], capture_output=True, text=True)
    assert done.returncode == 2
    assert "no command 'dance'" in done.stderr


def test_the_lock_files_and_settings_hold_no_registry_address():
    for pattern in (
        "requirements/*.txt",
        "web/package-lock.json",
        "web/codegen/package-lock.json",
        "web/.npmrc",
        "*.toml",
    ):
        for path in install.ROOT.glob(pattern):
            text = path.read_text()
            assert "registry." not in text, path
            assert "--index-url" not in text, path
            assert '"resolved"' not in text, path


def test_a_port_in_use_is_a_message():
    with socket.socket() as taken:
        taken.bind(("127.0.0.1", 0))
        taken.listen()
        with pytest.raises(install.MissingError, match=f"port {taken.getsockname()[1]} is in use"):
            serving.serve(with_demo=False, port=taken.getsockname()[1])


def test_an_environment_that_is_broken_inside_is_made_anew(monkeypatch, capsys):
    made = []
    monkeypatch.setattr(install, "_works", lambda: bool(made))
    monkeypatch.setattr(install.shutil, "rmtree", lambda *_, **__: None)
    monkeypatch.setattr(install, "_install_python_packages", lambda kind, wanted: made.append(kind))
    install.python_packages("dev")
    assert made == ["dev"] and "broken inside" in capsys.readouterr().err


def test_what_the_server_imports_is_looked_for(monkeypatch):
    assert install._works()
    monkeypatch.setattr(install, "IMPORTS", ("django", "no_such_package"))
    assert not install._works()


def test_the_package_installer_is_pinned_by_hash():
    lines = (install.ROOT / "requirements" / "uv.txt").read_text()
    assert "--hash=sha256:" in lines and "==" in lines
