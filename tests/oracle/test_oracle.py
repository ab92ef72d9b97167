"""Answers held against what real routers did, by the comparison that came with the cases."""

import io
import json
import subprocess
import sys
from contextlib import redirect_stderr, redirect_stdout
from pathlib import Path

import pytest

from routrel.cli import main
from tests.oracle import compare as comparison

HERE = Path(__file__).parent
CASES = HERE / "cases"
ROUTREL = HERE.parent.parent / "routrel"
FAMILIES = (
    "ospf-p2p",
    "ospf-broadcast",
    "ospf-areas",
    "ospf-asymmetric",
    "ospf-external",
    "ospf-stub-nssa",
    "ipv6",
    "dual-stack",
    "static-and-preference",
    "rip",
    "acl",
    "steering",
    "failure",
    "bgp-edge",
    "bgp-ibgp",
    "bgp-reflector",
    "redistribution",
    "two-point-redistribution",
    "mixed-redistribution",
    "isis-p2p",
    "isis-levels",
    "vrf",
    "bgp-med",
    "bgp-communities",
    "bgp-options",
    "bgp-frr",
    "ipv6-mirror",
    "static-recursive",
    "realistic",
)


def called_here(command: list[str], arguments: list[str], timeout: float):
    """A command carried out in this process, as the comparison calls one in its own: starting one takes longer."""
    said, complained = io.StringIO(), io.StringIO()
    with redirect_stdout(said), redirect_stderr(complained):
        status = main([str(one) for one in arguments])
    return (
        (None, f"exit {status}: {complained.getvalue()}")
        if status not in (0, 1)
        else (json.loads(said.getvalue()), None)
    )


@pytest.fixture
def compared_here(monkeypatch, capsys):
    """Compare one family in this process."""

    def compared(family: str) -> dict:
        monkeypatch.setattr(comparison, "call", called_here)
        monkeypatch.setattr(
            sys, "argv", ["compare", str(CASES), "--routrel", "routrel", "--json", "--jobs", "1", "--family", family]
        )
        comparison.main()
        return json.loads(capsys.readouterr().out)

    return compared


def compare(*arguments: str) -> dict:
    command = [sys.executable, HERE / "compare.py", CASES, "--routrel", str(ROUTREL), "--json", "--strict"]
    done = subprocess.run([*command, *arguments], capture_output=True, text=True)
    assert done.stdout, done.stderr
    return json.loads(done.stdout)


def complaints(result: dict) -> list[str]:
    return [text for case in result["cases"] for text in (*case["mismatches"], *case["detail_mismatches"])]


@pytest.mark.parametrize("family", FAMILIES)
def test_network_files_agree_with_real_routers(family, compared_here):
    result = compared_here(family)
    assert not complaints(result)
    assert result["totals"]["rows"] > 50
    assert result["totals"]["walks"] > 5


def test_the_command_itself_agrees_with_real_routers():
    result = compare("--family", "realistic")
    assert not complaints(result)
    assert result["totals"]["walks_equal"] == result["totals"]["walks"] > 5


def test_captures_agree_with_real_routers():
    result = compare("--captures")
    assert not complaints(result)
    assert result["totals"]["cases"] == 6
    assert result["totals"]["undecided"] == 0
