"""The bulk solution held against a slow, obviously right one, on random networks."""

import json

from hypothesis import given, settings
from hypothesis import strategies as st

from routrel.formats.network_file import read_network
from routrel.routing.solve import Solved
from routrel.solving import solve
from tests.core.test_areas_reference import shortest
from tests.examples import examples


@st.composite
def networks(draw):
    """Routers with loopbacks and point-to-point cables of random costs, parallel ones included."""
    count = draw(st.integers(2, 9))
    pairs = [(a, b) for a in range(count) for b in range(a + 1, count)]
    cables = draw(st.lists(st.tuples(st.sampled_from(pairs), st.integers(1, 4), st.integers(1, 4)), max_size=16))
    devices = {
        f"r{i}": {
            "interfaces": {"lo": {"addresses": [f"10.0.0.{i + 1}/32"]}},
            "routing": {"ospf": {"areas": {"0": {"interfaces": {"lo": {}}}}}},
        }
        for i in range(count)
    }
    edges: dict[str, list[tuple[str, int, str]]] = {}
    links = []
    for number, ((a, b), there, back) in enumerate(cables):
        for end, other, cost, host in ((a, b, there, 1), (b, a, back, 2)):
            device = devices[f"r{end}"]
            device["interfaces"][f"c{number}"] = {"addresses": [f"172.16.{number}.{host}/30"]}
            device["routing"]["ospf"]["areas"]["0"]["interfaces"][f"c{number}"] = {"cost": cost}
            edges.setdefault(f"r{end}", []).append((f"r{other}", cost, f"c{number}"))
        links.append([f"r{a}:c{number}", f"r{b}:c{number}"])
    document = {"routrel": 1, "name": "random", "devices": devices, "links": links}
    return json.dumps(document), count, edges


def check_tables(solved: Solved, count: int, edges) -> None:
    ports = solved.topology.ports
    for i in range(count):
        cost, first = shortest(edges, f"r{i}")
        routes = {str(route.prefix): route for route in solved.table(solved.topology.device_index[f"r{i}"])}
        for j in range(count):
            if i == j:
                continue
            route = routes.get(f"10.0.0.{j + 1}/32")
            assert (route is not None) == (f"r{j}" in cost)
            if route is not None:
                assert route.metric == cost[f"r{j}"]
                assert {ports[hop.port].name.interface for hop in route.next_hops} == first[f"r{j}"]


@given(networks())
@settings(max_examples=examples(120))
def test_costs_and_equal_cost_ways_are_those_of_the_reference(drawn):
    text, count, edges = drawn
    check_tables(solve(read_network({"n.json": text.encode()})), count, edges)


def test_a_router_with_more_than_64_cables_keeps_all_its_next_hops():
    count = 70
    interfaces = {f"e{i}": {"addresses": [f"10.1.{i}.1/30"]} for i in range(count)}
    far = {f"e{i}": {"addresses": [f"10.1.{i}.2/30"]} for i in range(count)}
    settings_of = {"multipath": 256, "areas": {"0": {"interfaces": {name: {} for name in (*interfaces, "lo")}}}}
    devices = {
        "a": {"interfaces": {**interfaces, "lo": {"addresses": ["10.0.0.1/32"]}}, "routing": {"ospf": settings_of}},
        "b": {"interfaces": {**far, "lo": {"addresses": ["10.0.0.2/32"]}}, "routing": {"ospf": settings_of}},
    }
    links = [[f"a:e{i}", f"b:e{i}"] for i in range(count)]
    document = {"routrel": 1, "name": "wide", "devices": devices, "links": links}
    solved = solve(read_network({"n.json": json.dumps(document).encode()}))
    routes = {str(route.prefix): route for route in solved.table(0)}
    assert len(routes["10.0.0.2/32"].next_hops) == count
