"""Segments of many routers: a vertex of their own gives what an edge for every pair gives."""

import json

import pytest
from hypothesis import given
from hypothesis import strategies as st

from routrel.analysis.contest.explainer import Explainer
from routrel.formats.network_file import read_network
from routrel.routing.ospf import adjacencies
from routrel.routing.solve import Solved
from routrel.routing.spf.graph import Edge, Graph, Member
from routrel.solving import solve


@st.composite
def lans(draw) -> dict:
    """Routers on one or two LANs and some cables; some on a LAN have another area, id or priority."""
    count = draw(st.integers(3, 8))
    devices, links = {}, []
    for i in range(count):
        interfaces = {"lo": {"addresses": [f"10.255.0.{i + 1}/32"]}}
        areas = {"0": {"interfaces": {"lo": {}}}}
        for lan in range(2):
            if draw(st.booleans()) or lan == 0:
                interfaces[f"lan{lan}"] = {"addresses": [f"10.{lan}.0.{i + 1}/24"]}
                area = draw(st.sampled_from(["0", "0", "0", "1"]))
                settings = {"cost": draw(st.integers(1, 4)), "priority": draw(st.sampled_from([1, 1, 0]))}
                areas.setdefault(area, {"interfaces": {}})["interfaces"][f"lan{lan}"] = settings | {
                    "network": "broadcast"
                }
        identifier = f"1.1.1.{draw(st.sampled_from([i + 1, i + 1, i + 1, 1]))}"
        devices[f"r{i}"] = {"interfaces": interfaces, "routing": {"router_id": identifier, "ospf": {"areas": areas}}}
    for lan in range(2):
        ends = [f"{name}:lan{lan}" for name, device in devices.items() if f"lan{lan}" in device["interfaces"]]
        if len(ends) > 1:
            links.append({"ends": ends})
    for number in range(draw(st.integers(0, 3))):
        a, b = draw(st.permutations(range(count)))[:2]
        for end, host in ((a, 1), (b, 2)):
            devices[f"r{end}"]["interfaces"][f"c{number}"] = {"addresses": [f"172.16.{number}.{host}/30"]}
            areas = devices[f"r{end}"]["routing"]["ospf"]["areas"]
            areas["0"]["interfaces"][f"c{number}"] = {"cost": draw(st.integers(1, 6))}
        links.append({"ends": [f"r{a}:c{number}", f"r{b}:c{number}"]})
    return {"routrel": 1, "name": "lans", "devices": devices, "links": links}


def tables(solved: Solved) -> list[list]:
    return [
        [(str(r.prefix), r.protocol, r.origin, r.metric, set(r.next_hops)) for r in solved.table(number)]
        for number in range(len(solved.topology.instances))
    ]


@given(lans())
def test_a_shared_network_gives_the_routes_of_an_edge_for_every_pair(document):
    network = read_network({"n.json": json.dumps(document).encode()})
    pairwise = solve(network)
    with pytest.MonkeyPatch.context() as patch:
        patch.setattr(adjacencies, "MANY", 1)
        shared = solve(network)
    assert tables(shared) == tables(pairwise)
    explainer = Explainer(shared)
    for instance in range(len(shared.topology.instances)):
        for route in shared.table(instance):
            contest = explainer.contest(instance, route.prefix)
            assert set(contest.next_hops) == set(route.next_hops)
            for index in contest.winners:
                assert all(way.total == route.metric for way in contest.candidates[index].ways)


def test_masks_made_router_by_router_are_those_made_at_once(monkeypatch):
    edges = [
        Edge(a, b, 1 + (a * b) % 3, a * 10 + b, b * 10 + a)
        for a in range(6)
        for b in range(6)
        if (a + b) % 5 and a != b
    ]
    whole = Graph(list(range(6)), edges)
    monkeypatch.setattr("routrel.routing.spf.graph.WHOLE_BYTES", 0)
    single = Graph(list(range(6)), edges)
    for router in range(6):
        assert (whole.masks_from(router) == single.masks_from(router)).all()


def test_every_member_of_a_shared_network_is_a_first_hop_of_the_others():
    graph = Graph([3, 5, 8], [], [(Member(3, 30, 10), Member(5, 50, 20), Member(8, 80, 30))])
    assert graph.distance.tolist() == [[0, 10, 10], [20, 0, 20], [30, 30, 0]]
    assert [edge.target for edge in graph.first_hops(0)] == [5, 8]
    assert graph.masks_from(0).tolist() == [[0, 1, 2]]


def test_many_routers_that_all_differ_are_not_compared_without_end(monkeypatch):
    monkeypatch.setattr(adjacencies, "MANY", 3)
    monkeypatch.setattr(adjacencies, "MOST_PAIRS", 3)
    devices = {
        f"r{i}": {
            "interfaces": {"e": {"addresses": [f"10.0.0.{i + 1}/24"]}},
            "routing": {
                "router_id": f"1.1.1.{i + 1}",
                "ospf": {"areas": {"0": {"interfaces": {"e": {"network": "point-to-point"}}}}},
            },
        }
        for i in range(4)
    }
    document = {"routrel": 1, "name": "n", "devices": devices, "links": [{"ends": [f"r{i}:e" for i in range(4)]}]}
    solved = solve(read_network({"n.json": json.dumps(document).encode()}))
    (finding,) = [one for one in solved.findings if one.code == "not-represented"]
    assert "not looked into" in finding.message
