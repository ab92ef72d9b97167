"""Which routers have two separate ways, told for all pairs at once, is what counting the ways of each pair says."""

from itertools import permutations
from unittest.mock import patch

import pytest
from hypothesis import HealthCheck, given, settings
from hypothesis import strategies as st

from routrel.analysis.expectations import single_ways
from routrel.analysis.expectations.failures import failed, failures_of
from routrel.analysis.expectations.single_ways import APARTS, MOST_COUNTED, SingleWays
from routrel.analysis.expectations.two_ways import JoinedRouters, TwoWays
from routrel.analysis.expectations.way_graph import WayGraph
from routrel.solving import solve
from routrel.topology.segments import Topology
from tests.core.mixed_networks import read
from tests.core.networks import load
from tests.examples import examples


@st.composite
def joined(draw):
    """Up to eight devices on cables and on segments of more, some of them hosts, some interfaces down."""
    count = draw(st.integers(2, 8))
    names = [f"d{one}" for one in range(count)]
    devices = {name: {"interfaces": {}} for name in names}
    for name in draw(st.lists(st.sampled_from(names), max_size=2)):
        devices[name]["kind"] = "host"
    links = []
    for number in range(draw(st.integers(1, 12))):
        ends = draw(st.lists(st.sampled_from(names), min_size=2, max_size=4))
        for at, name in enumerate(ends):
            address = {"addresses": [f"10.0.{number}.{1 + at}/24"], "enabled": draw(st.integers(0, 5)) > 0}
            devices[name]["interfaces"][f"e{number}{at}"] = address
        cables = [f"{name}:e{number}{at}" for at, name in enumerate(ends)]
        if len(ends) == 2:
            links.append(cables)
            continue
        devices[f"s{number}"] = {"kind": "switch", "interfaces": {f"p{at}": {} for at in range(len(ends))}}
        links += [[cable, f"s{number}:p{at}"] for at, cable in enumerate(cables)]
    return {"routrel": 1, "name": "n", "devices": devices, "links": links}


def said_of(joined_routers: JoinedRouters, topology: Topology) -> dict:
    found = TwoWays(joined_routers, topology)
    routers = [number for number, device in enumerate(topology.devices) if device.forwards]
    return {
        (one, other): (found.are_joined(one, other), *(found.has_two(one, other, apart) for apart in APARTS))
        for one, other in permutations(routers, 2)
    }


def counted(topology: Topology, pairs) -> dict:
    graphs = [WayGraph(topology, apart) for apart in APARTS]
    counts = {pair: [graph.count(*pair, 2) for graph in graphs] for pair in pairs}
    return {pair: (min(counts) > 0, *(count > 1 for count in counts)) for pair, counts in counts.items()}


@given(joined())
@settings(max_examples=examples(10), deadline=None, suppress_health_check=[HealthCheck.too_slow])
def test_all_pairs_at_once_are_what_is_counted_of_each(document):
    solved = solve(read(document))
    topology = solved.topology
    routers = JoinedRouters(topology)
    said = said_of(routers, topology)
    assert said == counted(topology, said)
    for failure in failures_of(solved, ("links", "interfaces", "devices")):
        then = topology.of_like(failed(solved.network, failure))
        if then is not None and then.segments is topology.segments:
            assert said_of(routers, then) == counted(then, said), failure


@pytest.mark.parametrize("most", [2, 3, 4, MOST_COUNTED])
@given(joined())
@settings(max_examples=examples(15), deadline=None, suppress_health_check=[HealthCheck.too_slow])
def test_who_is_left_a_single_way_is_told_without_counting_as_with(most, document):
    solved = solve(read(document))
    routers = [number for number, device in enumerate(solved.topology.devices) if device.forwards]
    with patch.object(single_ways, "MOST_COUNTED", most):
        ways = SingleWays(solved.topology)
        for failure in failures_of(solved, ("links", "devices")):
            then = solved.topology.of_like(failed(solved.network, failure))
            for one, other in permutations(routers, 2) if then is not None else ():
                assert ways.are_left(then, one, other) == (ways.left(then, one, other) is not None), failure


SQUARE = """
devices:
  a: {interfaces: {x: {addresses: [10.0.1.1/30]}, y: {addresses: [10.0.2.1/30]}, z: {addresses: [10.0.3.1/30]}}}
  b: {interfaces: {x: {addresses: [10.0.1.2/30]}, y: {addresses: [10.0.2.2/30]}, z: {addresses: [10.0.4.1/30]}}}
  c: {interfaces: {x: {addresses: [10.0.3.2/30]}, y: {addresses: [10.0.5.1/30]}}}
  d: {interfaces: {x: {addresses: [10.0.5.2/30]}}}
links: [["a:x", "b:x"], ["a:y", "b:y"], ["a:z", "c:x"], ["c:y", "d:x"]]
"""


@pytest.mark.parametrize(
    ("one", "other", "by_links", "by_devices"),
    [("a", "b", True, True), ("a", "c", False, True), ("b", "c", False, False), ("a", "d", False, False)],
)
def test_two_cables_beside_each_other_are_two_ways_and_one_is_past_no_device(one, other, by_links, by_devices):
    topology = load(SQUARE).topology
    found, index = TwoWays(JoinedRouters(topology), topology), topology.device_index
    assert found.are_joined(index[one], index[other])
    assert found.has_two(index[one], index[other], "links") == by_links
    assert found.has_two(index[one], index[other], "devices") == by_devices
