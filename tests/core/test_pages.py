"""The pages that lead to a first answer, word for word: every command in them is run as it stands."""

import os
import re
import shlex
import subprocess
import sys
from pathlib import Path

import pytest

ROOT = Path(__file__).parents[2]
COMMAND = re.compile(r"^    \./routrel (.+)$", re.MULTILINE)


@pytest.mark.parametrize("page", ["first-answer.md", "collecting.md"])
def test_every_command_of_a_page_does_what_it_says(page, tmp_path):
    (tmp_path / "examples").symlink_to(ROOT / "examples")
    environment = {**os.environ, "PYTHONPATH": str(ROOT / "src")}
    beside = []
    try:
        for command in COMMAND.findall((ROOT / "docs" / page).read_text()):
            if command.startswith("collect INVENTORY"):
                continue
            call = [sys.executable, "-m", "routrel", *shlex.split(command.removesuffix("&"))]
            if command.endswith("&"):
                beside.append(subprocess.Popen(call, cwd=tmp_path, env=environment, stdout=subprocess.PIPE, text=True))
                assert "devices are played" in beside[-1].stdout.readline()
                continue
            done = subprocess.run(call, cwd=tmp_path, env=environment, capture_output=True, text=True, check=False)
            assert done.returncode == 0 or command.startswith("check "), (command, done.stdout, done.stderr)
            assert done.stdout and "Traceback" not in done.stderr
    finally:
        for one in beside:
            one.terminate()
            one.wait(10)
