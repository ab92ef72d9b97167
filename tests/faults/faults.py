"""The networks of ``networks/``, each of which once had a wrong answer or none, and what they are asked with."""

import json
from pathlib import Path
from typing import Any

from routrel.analysis.check import check
from routrel.analysis.contest.why import WhyAnswerer, parse_prefix
from routrel.analysis.table_rows import table_rows
from routrel.analysis.walk_verdicts import Answerer
from routrel.formats.network_file import read_network
from routrel.forwarding.flow import Flow
from routrel.model.findings import Finding
from routrel.routing.solve import Solved
from routrel.solving import solve
from tests.core.networks import plain

NETWORKS = Path(__file__).parent / "networks"


def text_of(name: str) -> str:
    return (NETWORKS / f"{name}.yaml").read_text()


def solved(name: str, *changes: tuple[str, str]) -> Solved:
    """A network solved, with texts in its file replaced."""
    text = text_of(name)
    for old, new in changes:
        assert old in text, old
        text = text.replace(old, new)
    return solve(read_network({"network.yaml": text.encode()}))


def routes(network: Solved, device: str) -> dict[str, dict[str, Any]]:
    found = network.topology.instances_of(network.topology.device_index[device])
    return {row["prefix"]: row for row in plain(list(table_rows(network, found)))}


def gateways(route: dict[str, Any]) -> list[str]:
    return [hop["address"] for hop in route["next_hops"]]


def ask(network: Solved, source: str, destination: str, service: str = "icmp", **more: Any) -> dict[str, Any]:
    answerer = Answerer(network)
    return plain(answerer.verdict(answerer.asker.ask(Flow(source, destination, service, **more))))


def why(network: Solved, device: str, prefix: str, vrf: str = "default") -> dict[str, Any]:
    instance = network.topology.instance_index[device, vrf]
    return plain(WhyAnswerer(network).why(instance, parse_prefix(prefix)))


def findings(network: Solved, code: str = "") -> list[Finding]:
    return [finding for finding in check(network) if not code or finding.code == code]


def assert_routes_of_real_routers(network: Solved, folder: str) -> None:
    """Every row of ``expected.json`` stands, and no device named there has other prefixes, its own aside."""
    expected = json.loads((NETWORKS / folder / "expected.json").read_text())["routes"]
    for row in expected:
        found = routes(network, row["device"])[row["prefix"]]
        for key in ("protocol", "action", "metric", "preference"):
            if key in row:
                assert found[key] == row[key], (row, found)
        assert gateways(found) == gateways(row), (row, found)
    for device in {row["device"] for row in expected}:
        own = {row["prefix"] for row in expected if row["device"] == device}
        assert {prefix for prefix, row in routes(network, device).items() if row["protocol"] != "local"} == own
