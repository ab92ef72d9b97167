"""Answers held against what real routers did, by the comparison that came with the cases."""

import json
import subprocess
import sys
from pathlib import Path

import pytest

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


def compare(*arguments: str) -> dict:
    command = [sys.executable, HERE / "compare.py", CASES, "--routrel", str(ROUTREL), "--json", "--strict"]
    done = subprocess.run([*command, *arguments], capture_output=True, text=True)
    assert done.stdout, done.stderr
    return json.loads(done.stdout)


def complaints(result: dict) -> list[str]:
    return [text for case in result["cases"] for text in (*case["mismatches"], *case["detail_mismatches"])]


@pytest.mark.parametrize("family", FAMILIES)
def test_network_files_agree_with_real_routers(family):
    result = compare("--family", family)
    assert not complaints(result)
    assert result["totals"]["rows"] > 50
    assert result["totals"]["walks"] > 5


def test_captures_agree_with_real_routers():
    result = compare("--captures")
    assert not complaints(result)
    assert result["totals"]["cases"] == 6
    assert result["totals"]["undecided"] == 0
