"""A failure solved from the network before it: what real routers came to when a cable was cut under them."""

import json
from pathlib import Path

import pytest

from routrel.analysis.walk_verdicts import Answerer
from routrel.formats.sources import read_path
from routrel.forwarding.flow import Flow
from routrel.model.fields import replace
from routrel.model.network import Network
from routrel.model.places import NOWHERE
from routrel.routing.solve import Solved
from routrel.solving import solve

CASES = Path(__file__).parent / "cases"
CUTS = sorted(CASES.glob("*-cut"))


def with_interface(network: Network, name: str, enabled: bool) -> Network:
    device_name, interface_name = name.split(":")
    device = network.devices[device_name]
    interface = replace(device.interfaces[interface_name], enabled=enabled)
    changed = replace(device, interfaces=device.interfaces | {interface_name: interface})
    return replace(network, devices=network.devices | {device_name: changed})


def rows(solved: Solved) -> list:
    """Every table, without the places, which are those of another text."""
    tables = (solved.table(instance.index) for instance in solved.topology.instances)
    return [[route._replace(place=NOWHERE) for route in table] for table in tables]


def ways(solved: Solved, flows: list[dict]) -> list:
    """Verdict and stops of each flow both ways."""
    asker = Answerer(solved).asker
    walks = [asker.ask(Flow(one["from"], one["to"], one["service"], one.get("source_port"))) for one in flows]
    return [[(strand.verdict, [stop.device for stop in strand.stops]) for strand in walk.strands] for walk in walks]


@pytest.mark.parametrize("cut", CUTS, ids=lambda cut: cut.name)
def test_a_cut_and_its_repair_come_out_as_the_routers_say(cut):
    """The cut state itself is held against the routers' rows and walks in test_oracle.py."""
    case = json.loads((cut / "case.json").read_text())
    before = solve(read_path(cut.with_name(cut.name.replace("-cut", "-base")) / "network.yaml"))
    after = solve(read_path(cut / "network.yaml"))
    failed = solve(with_interface(before.network, case["cut"], enabled=False), before)
    assert rows(failed) == rows(after)
    assert ways(failed, case["flows"]) == ways(after, case["flows"])
    repaired = solve(before.network, failed)
    assert rows(repaired) == rows(before)
    assert ways(repaired, case["flows"]) == ways(before, case["flows"])
