"""A network written in open models and read back: the same tables, walks and findings."""

import json
from pathlib import Path

import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from routrel.analysis.check import check
from routrel.formats.errors import LoadError
from routrel.formats.sources import files_of, read_files
from routrel.formats.written_models import written_in_models
from routrel.routing.solve import Solved
from routrel.solving import solve
from tests.core import mixed_networks, speaker_networks
from tests.core.networks import answer, hops
from tests.examples import examples

ORACLES = sorted((Path(__file__).parents[1] / "oracle" / "cases").glob("*/network.*"))
DEMO = Path(__file__).parents[2] / "examples" / "saltmarsh"


def read_back(files: dict[str, bytes]) -> tuple[Solved, Solved, dict[str, str]]:
    """A network as it is and as it comes back from documents, with what was written."""
    network = read_files(files)
    written = written_in_models(files, network)
    return solve(network), solve(read_files({name: text.encode() for name, text in written.items()})), written


def tables(solved: Solved) -> dict[tuple[str, str], dict[str, tuple]]:
    found = {}
    for instance in solved.topology.instances:
        rows = {
            str(route.prefix): (
                route.protocol,
                route.preference,
                route.metric,
                route.action,
                sorted(hops(solved, route)),
            )
            for route in solved.table(instance.index)
        }
        found[solved.topology.devices[instance.device].name, instance.vrf] = rows
    return found


def findings(solved: Solved) -> list[tuple[str, str]]:
    return sorted((finding.code, finding.message) for finding in check(solved))


def assert_same(one: Solved, other: Solved) -> None:
    assert tables(other) == tables(one)
    assert findings(other) == findings(one)


def verdicts(solved: Solved, source: str, to: str) -> tuple:
    found = answer(solved, source, to, "tcp/443")
    return tuple(
        (way["verdict"], way["path_count"], way["paths"]) for way in (found["forward"], found["return"]) if way
    )


@pytest.mark.parametrize("path", ORACLES, ids=[path.parent.name for path in ORACLES])
def test_networks_that_real_routers_ran_come_back_the_same(path):
    one, other, _ = read_back(files_of(path))
    assert_same(one, other)
    names = list(one.network.devices)
    for source in names[:3]:
        for to in names[-3:]:
            if source != to:
                assert verdicts(other, source, to) == verdicts(one, source, to)


def test_the_demo_comes_back_the_same_and_mostly_in_models():
    one, other, written = read_back(files_of(DEMO))
    assert_same(one, other)
    rest = sum(
        len(json.loads(text).get("routrel-device:not-in-models", {}).get("network-file", ""))
        for name, text in written.items()
        if name.endswith(".json")
    )
    assert rest < sum(map(len, written.values())) / 10
    assert "expectations" not in written["network.yaml"] and "Carriers" in written["network.yaml"]


@settings(max_examples=examples(120), deadline=None)
@given(st.one_of(mixed_networks.documents(), speaker_networks.speakers()))
def test_random_networks_come_back_the_same(document):
    one, other, _ = read_back({"network.json": json.dumps(document).encode()})
    assert_same(one, other)


def test_statements_that_stand_twice_keep_their_turn():
    again = {"match": {"tag": 5}, "result": "continue"}
    policy = [again, {"match": {"tag": 6}, "set": {"next_hop": "10.0.0.9"}, "result": "accept"}, again]
    document = {"routrel": 1, "name": "x", "devices": {"r": {"policies": {"static": policy}}}}
    one, other, _ = read_back({"network.json": json.dumps(document).encode()})
    results = [[s.result for s in solved.network.devices["r"].policies["static"].statements] for solved in (one, other)]
    assert results == [["continue", "accept", "continue"]] * 2


def test_a_topology_alone_tells_the_cables(tmp_path):
    """RFC 8345: links of two ends, and what more than two share as a node of its own."""
    lan = {"links": [["r0:a", "r1:a"], ["r0:b", "r1:b", "r2:b"]], "routrel": 1, "name": "lan"}
    names = ("r0", "r1", "r2")
    devices = {
        name: {"interfaces": {"a": {}, "b": {}}, "routing": {"router_id": f"10.0.0.{n}"}}
        for n, name in enumerate(names, 1)
    }
    files = {"network.json": json.dumps(lan | {"devices": devices}).encode()}
    network = read_files(files)
    written = {
        name: text.encode() for name, text in written_in_models(files, network).items() if name != "network.yaml"
    }
    assert "ietf-l3-unicast-topology:l3-node-attributes" in written["_topology.json"].decode()
    again = read_files(written)
    assert {link.ends for link in again.links} == {link.ends for link in network.links}
    assert set(again.devices) == set(names)


def test_a_network_known_by_captures_is_refused():
    files = {"r/addresses.json": b"[]", "r/routes.json": b"[]"}
    with pytest.raises(LoadError, match="known by a capture is not written"):
        written_in_models(files, read_files(files))
