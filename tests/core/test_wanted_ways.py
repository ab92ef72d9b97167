"""Leading a flow: costs held against trying every path and every single cost, and proposals that are walked."""

import pytest
from hypothesis import HealthCheck, given, settings
from hypothesis import strategies as st

from routrel.analysis.answers.wanted_ways import WantedWay
from routrel.analysis.trial import Trial
from routrel.analysis.wanted_ways import proposals
from routrel.analysis.wanted_ways.link_costs import Task, fewest_costs, paths_as_wanted
from routrel.analysis.wanted_ways.proposals import wanted_lines, wanted_way
from routrel.formats.changes.reading import changes_of, read_change
from routrel.formats.sources import read_files
from routrel.forwarding.flow import Asker, parse_flow
from routrel.forwarding.flow_words import FlowError
from routrel.routing.spf.graph import Edge
from routrel.solving import solve
from tests.examples import examples


@pytest.fixture(autouse=True)
def time_enough(monkeypatch):
    monkeypatch.setattr(proposals, "SECONDS", 600.0)


@st.composite
def graphs(draw) -> list[Edge]:
    """Both directions of each link, with costs of their own."""
    count = draw(st.integers(3, 6))
    pairs = [(one, other) for one in range(count) for other in range(one)]
    chosen = draw(st.lists(st.sampled_from(pairs), min_size=count - 1, max_size=9, unique=True))
    edges = []
    for number, (one, other) in enumerate(chosen):
        there, back = 2 * number, 2 * number + 1
        edges.append(Edge(one, other, draw(st.integers(1, 9)), there, back))
        edges.append(Edge(other, one, draw(st.integers(1, 9)), back, there))
    return edges


def simple_paths(edges, start, end, seen=()):
    """Every path that passes each router once."""
    if start == end:
        yield []
        return
    for edge in edges:
        if edge.source == start and edge.target not in (*seen, start):
            for rest in simple_paths(edges, edge.target, end, (*seen, start)):
                yield [edge, *rest]


def length(path, costs=None):
    return sum((costs or {}).get(edge.port, edge.cost) for edge in path)


def is_the_shortest(edges, path, costs) -> bool:
    others = (one for one in simple_paths(edges, path[0].source, path[-1].target) if one != path)
    return all(length(one, costs) > length(path, costs) for one in others)


@given(edges=graphs(), data=st.data())
@settings(max_examples=examples(60), deadline=None, suppress_health_check=[HealthCheck.function_scoped_fixture])
def test_costs_make_the_path_the_only_shortest_with_the_fewest_changes(edges, data):
    routers = sorted({router for edge in edges for router in edge[:2]})
    start, end, by = data.draw(st.permutations(routers))[:3]
    passes, avoids = data.draw(st.sampled_from([({by}, set()), (set(), {by}), (set(), set())]))
    wanted = [
        path
        for path in simple_paths(edges, start, end)
        if passes <= {e.source for e in path} and avoids.isdisjoint(e.target for e in path)
    ]
    outcome, path = next(paths_as_wanted(Task(edges, start, end, passes, avoids), 1))
    assert outcome == ("found" if wanted else "impossible")
    if not wanted:
        return
    assert path in wanted and length(path) == min(map(length, wanted))
    outcome, costs = next(fewest_costs(edges, path, 1))
    assert outcome == "found" and is_the_shortest(edges, path, costs)
    assert all(cost >= 1 for cost in costs.values())
    if is_the_shortest(edges, path, {}):
        assert costs == {}
    elif len(costs) > 1:  # no single cost does it
        most = length(path) + 2
        singles = ({port: cost} for port in {edge.port for edge in edges} for cost in range(1, most))
        assert not any(is_the_shortest(edges, path, one) for one in singles)


@pytest.mark.parametrize("most", [1, 3])
def test_other_costs_for_the_same_path_come_after_the_fewest(most):
    links = [(0, 1, 10), (1, 2, 10), (0, 3, 10), (3, 2, 20)]
    edges = [Edge(a, b, cost, 2 * n, 2 * n + 1) for n, (a, b, cost) in enumerate(links)]
    _, path = next(paths_as_wanted(Task(edges, 0, 2, {3}, set()), 1))
    found = [costs for outcome, costs in fewest_costs(edges, path, most) if outcome == "found"]
    assert [len(one) for one in found] == [1] * most
    assert {0: 21} in found or {2: 21} in found or {6: 9} in found
    (fixed,) = [costs for outcome, costs in fewest_costs(edges, path, 3, fixed=[0, 2]) if outcome == "found"]
    assert fixed == {6: 9}


# A square of routers with hosts at two corners, the way by r2 shorter; r9 stands behind r3 alone.
NETWORK = """\
routrel: 1
name: square
devices:
  a: {kind: host, gateway: 10.1.1.1, interfaces: {e: {addresses: [10.1.1.10/24]}}}
  b: {kind: host, gateway: 10.1.4.1, interfaces: {e: {addresses: [10.1.4.10/24]}}}
  r1: {interfaces: {lan: {addresses: [10.1.1.1/24]}, x: {addresses: [10.9.12.1/30]}, y: {addresses: [10.9.13.1/30]}}, PROTO r1}
  r2: {interfaces: {x: {addresses: [10.9.12.2/30]}, y: {addresses: [10.9.24.1/30]}}, PROTO r2}
  r3: {interfaces: {x: {addresses: [10.9.13.2/30]}, y: {addresses: [10.9.34.1/30]}, z: {addresses: [10.9.39.1/30]}}, PROTO r3}
  r4: {interfaces: {lan: {addresses: [10.1.4.1/24]}, x: {addresses: [10.9.24.2/30]}, y: {addresses: [10.9.34.2/30]}}, PROTO r4}
  r9: {interfaces: {z: {addresses: [10.9.39.2/30]}}, PROTO r9}
  far: {interfaces: {lo: {addresses: [10.7.0.1/32]}}}
links: [[a:e, r1:lan], [b:e, r4:lan], [r1:x, r2:x], [r1:y, r3:x], [r2:y, r4:x], [r3:y, r4:y], [r3:z, r9:z]]
"""
OSPF = "routing: {ospf: {areas: {0: {interfaces: {%s}}}}}"
ISIS = 'routing: {isis: {net: "49.0001.0000.0000.000%s.00", level: 2, interfaces: {%s}}}'
COSTS = {
    "r1": {"lan": 1, "x": 10, "y": 10},
    "r2": {"x": 10, "y": 10},
    "r3": {"x": 10, "y": 20, "z": 1},
    "r4": {"lan": 1, "x": 10, "y": 20},
    "r9": {"z": 1},
}


def files(protocol: str) -> dict[str, bytes]:
    text = NETWORK
    for name, costs in COSTS.items():
        word = "cost" if protocol == "ospf" else "metric"
        interfaces = ", ".join(f"{one}: {{{word}: {cost}}}" for one, cost in costs.items())
        part = OSPF % interfaces if protocol == "ospf" else ISIS % (name[1], interfaces)
        text = text.replace(f"PROTO {name}", part)
    return {"network.yaml": text.encode()}


def found(protocol="ospf", by=(), past=(), flow="a > b tcp/443", tried=None) -> WantedWay:
    text = files(protocol)
    return wanted_way(text, solve(read_files(text)), parse_flow(flow), by, past, tried)


@pytest.mark.parametrize("protocol", ["ospf", "isis"])
def test_a_flow_is_led_by_a_router_with_one_cost_or_past_one(protocol):
    for answer in (found(protocol, by=["r3"]), found(protocol, past=["r2"])):
        costs = [one for one in answer.proposals if one.by == "cost"]
        assert costs and answer.costs == "" and min(len(one.changes) for one in costs) == 1
        for one in answer.proposals:
            text = files(protocol)
            trial = Trial.of(text, solve(read_files(text)), changes_of(one.changes))
            walk = Asker(trial.after).ask(parse_flow("a > b tcp/443"))
            names = [[trial.after.topology.devices[device].name for device in way] for way in walk.forward.paths()]
            assert names == one.ways == [["a", "r1", "r3", "r4", "b"]]
        changed = [(one.beyond.is_worse, one.beyond.changed) for one in answer.proposals]
        assert changed == sorted(changed)


def test_an_entry_that_steers_the_flow_moves_nothing_else():
    first, *_ = found(by=["r3"]).proposals
    assert first.by == "steering" and first.moves == "nothing else moves"
    assert [one["at"] for one in first.changes] == ["r1", "r1:lan"]
    # Where a policy stands already, the entry goes before its others.
    text = files("ospf")
    before = solve(read_files(text))
    made = ["add: steering_entry, at: r1, policy: own, entry: {match: {protocol: udp}, action: discard}",
            "set: forwarding_policy, at: r1:lan, to: own"]  # fmt: skip
    tried = Trial.of(text, before, [read_change(one, "a change") for one in made])
    first, *_ = wanted_way(text, before, parse_flow("a > b tcp/443"), ["r3"], [], tried).proposals
    assert [(one["policy"], one["before"]) for one in first.changes] == [("own", 1)]


def test_that_costs_alone_cannot_is_said_only_where_it_is_so():
    assert found(by=["r2", "r3"]).costs == (
        "costs alone cannot: no way in ospf area 0 goes so and passes every router once"
    )
    assert found(past=["r2", "r3"]).proposals == []
    assert found(by=["r9"]).costs.startswith("costs alone cannot: no way")
    assert found(by=["far"]).costs == "costs alone cannot: far is not in ospf area 0, and costs lead nothing out of it"
    assert found(by=["r2"], flow="r1 > a").costs == "costs alone cannot: r1 has the destination itself"


def test_one_of_two_equal_ways_is_not_enough():
    # Both ways cost the same: some packets go by r2.
    equal = files("ospf")["network.yaml"].decode().replace("y: {cost: 20}", "y: {cost: 10}")
    data = {"network.yaml": equal.encode()}
    solved = solve(read_files(data))
    assert Asker(solved).ask(parse_flow("a > b tcp/443")).forward.path_count == 2
    for by, past in ((["r3"], []), ([], ["r2"])):
        answer = wanted_way(data, solved, parse_flow("a > b tcp/443"), by, past)
        assert not answer.is_so_already and answer.proposals
        assert all(one.ways == [["a", "r1", "r3", "r4", "b"]] for one in answer.proposals)
    assert wanted_way(data, solved, parse_flow("a > b tcp/443"), ["r1", "r4"], ["r9"]).is_so_already


def test_what_is_so_already_and_words_that_name_nothing():
    assert list(wanted_lines(found(by=["r2"]))) == ["it goes that way already"]
    with pytest.raises(FlowError, match="there is no device 'r22'; did you mean r2"):
        found(by=["r22"])
    with pytest.raises(FlowError, match="it is not said which devices"):
        found()
    lines = list(wanted_lines(found(by=["r3"])))
    assert lines[0].startswith("1. add to forwarding policy lead-lan of r1")
    assert lines[1] == "   a > r1 > r3 > r4 > b; nothing else moves"


def test_a_border_is_preferred_for_what_it_hears():
    text = """\
routrel: 1
name: exits
devices:
  a: {kind: host, gateway: 10.1.1.1, interfaces: {e: {addresses: [10.1.1.10/24]}}}
  r1: {interfaces: {lo: {addresses: [10.0.0.1/32]}, lan: {addresses: [10.1.1.1/24]}, o: {addresses: [172.31.1.1/30]}, x: {addresses: [10.9.12.1/30]}},
    routing: {ospf: {areas: {0: {interfaces: {lo: {}, x: {}, lan: {passive: true}}}}},
      bgp: {as: 64500, networks: [10.1.1.0/24], neighbors: {10.0.0.2: {as: 64500, update_source: lo, next_hop_self: true}, 172.31.1.2: {as: 64510}}}}}
  r2: {interfaces: {lo: {addresses: [10.0.0.2/32]}, o: {addresses: [172.31.2.1/30]}, x: {addresses: [10.9.12.2/30]}},
    routing: {ospf: {areas: {0: {interfaces: {lo: {}, x: {}}}}},
      bgp: {as: 64500, neighbors: {10.0.0.1: {as: 64500, update_source: lo, next_hop_self: true}, 172.31.2.2: {as: 64510}}}}}
  c: {interfaces: {one: {addresses: [172.31.1.2/30]}, two: {addresses: [172.31.2.2/30]}, lan: {addresses: [192.0.2.1/24]}},
    routing: {bgp: {as: 64510, networks: [192.0.2.0/24], neighbors: {172.31.1.1: {as: 64500}, 172.31.2.1: {as: 64500}}}}}
links: [[a:e, r1:lan], [r1:x, r2:x], [r1:o, c:one], [r2:o, c:two]]
"""
    data = {"network.yaml": text.encode()}
    answer = wanted_way(data, solve(read_files(data)), parse_flow("a > 192.0.2.1 icmp"), ["r2"], [])
    (preferred,) = [
        one for one in answer.proposals if one.by == "local_preference" and one.changes[0]["at"] == "r2 172.31.2.2"
    ]
    assert preferred.changes == [{"set": "local_preference", "at": "r2 172.31.2.2", "to": 250, "for": "192.0.2.0/24"}]
    assert preferred.ways == [["a", "r1", "r2", "c"]]
    assert "costs alone cannot" not in answer.costs


# Two ways out to one neighbouring AS, the nearer taken; and RIP, which knows no graph of links.
EXITS = """\
routrel: 1
name: exits
devices:
  a: {kind: host, gateway: 10.1.1.1, interfaces: {e: {addresses: [10.1.1.10/24]}}}
  r: {interfaces: {lo: {addresses: [10.0.0.1/32]}, lan: {addresses: [10.1.1.1/24]}, x: {addresses: [10.9.1.1/30]}, y: {addresses: [10.9.2.1/30]}},
      routing: {ospf: {areas: {0: {interfaces: {lo: {}, lan: {}, x: {cost: 10}, y: {cost: 20}}}}},
                bgp: {as: 64500, neighbors: {10.0.0.2: {as: 64500, update_source: lo}, 10.0.0.3: {as: 64500, update_source: lo}}}}}
  x: {interfaces: {lo: {addresses: [10.0.0.2/32]}, r: {addresses: [10.9.1.2/30]}, up: {addresses: [192.0.2.1/30]}},
      routing: {ospf: {areas: {0: {interfaces: {lo: {}, r: {cost: 10}}}}},
                bgp: {as: 64500, networks: [10.1.1.0/24], neighbors: {10.0.0.1: {as: 64500, update_source: lo, next_hop_self: true}, 192.0.2.2: {as: 64501}}}}}
  y: {interfaces: {lo: {addresses: [10.0.0.3/32]}, r: {addresses: [10.9.2.2/30]}, up: {addresses: [192.0.2.5/30]}},
      routing: {ospf: {areas: {0: {interfaces: {lo: {}, r: {cost: 20}}}}},
                bgp: {as: 64500, networks: [10.1.1.0/24], neighbors: {10.0.0.1: {as: 64500, update_source: lo, next_hop_self: true}, 192.0.2.6: {as: 64501}}}}}
  far: {interfaces: {x: {addresses: [192.0.2.2/30]}, y: {addresses: [192.0.2.6/30]}, net: {addresses: [203.0.113.1/24]}},
        routing: {bgp: {as: 64501, networks: [203.0.113.0/24], neighbors: {192.0.2.1: {as: 64500}, 192.0.2.5: {as: 64500}}}}}
links: [[a:e, r:lan], [r:x, x:r], [r:y, y:r], [x:up, far:x], [y:up, far:y]]
"""


def test_every_attribute_that_moves_the_choice_of_an_exit_is_offered_at_its_least_value():
    text = {"network.yaml": EXITS.encode()}
    flow = parse_flow("a > 203.0.113.1 tcp/443")
    answer = wanted_way(text, solve(read_files(text)), flow, ["y"], [])
    assert all(one.ways == [["a", "r", "y", "far"]] for one in answer.proposals)
    (change,) = next(one.changes for one in answer.proposals if one.by == "weight")
    assert (change["at"], change["to"]) == ("r 10.0.0.3", 1)
    set_at = {(one.by, change["at"], change["to"]) for one in answer.proposals for change in one.changes}
    assert set_at >= {
        ("weight", "r 10.0.0.3", 1),
        ("local_preference", "r 10.0.0.3", 101),
        ("med", "r 10.0.0.2", 1),
        ("prepend", "r 10.0.0.2", 1),
        ("local_preference", "y 192.0.2.6", 250),
    }
    for one in answer.proposals:
        trial = Trial.of(text, solve(read_files(text)), changes_of(one.changes))
        assert "y" in [
            trial.after.topology.devices[stop.device].name for stop in Asker(trial.after).ask(flow).forward.stops
        ]


def test_a_preference_leads_a_flow_by_the_routes_of_another_protocol():
    # r has the network of b by OSPF from x, and by RIP from y.
    text = """\
routrel: 1
name: two protocols
devices:
  a: {kind: host, gateway: 10.1.1.1, interfaces: {e: {addresses: [10.1.1.10/24]}}}
  r: {interfaces: {lan: {addresses: [10.1.1.1/24]}, x: {addresses: [10.9.1.1/30]}, y: {addresses: [10.9.2.1/30]}},
      routing: {ospf: {areas: {0: {interfaces: {lan: {}, x: {}}}}}, rip: {interfaces: {lan: {}, y: {}}}}}
  x: {interfaces: {r: {addresses: [10.9.1.2/30]}, b: {addresses: [10.9.3.1/30]}},
      routing: {ospf: {areas: {0: {interfaces: {r: {}, b: {}}}}}}}
  y: {interfaces: {r: {addresses: [10.9.2.2/30]}, b: {addresses: [10.9.4.1/30]}}, routing: {rip: {interfaces: {r: {}, b: {}}}}}
  b: {interfaces: {x: {addresses: [10.9.3.2/30]}, y: {addresses: [10.9.4.2/30]}, lo: {addresses: [10.7.0.1/32]}},
      routing: {ospf: {areas: {0: {interfaces: {x: {}, lo: {}}}}}, rip: {interfaces: {y: {}, lo: {}}}}}
links: [[a:e, r:lan], [r:x, x:r], [r:y, y:r], [x:b, b:x], [y:b, b:y]]
"""
    data = {"network.yaml": text.encode()}
    answer = wanted_way(data, solve(read_files(data)), parse_flow("a > 10.7.0.1 tcp/443"), ["y"], [])
    by_preference = [one for one in answer.proposals if one.by == "preference"]
    assert {(one.changes[0]["of"], one.changes[0]["to"]) for one in by_preference} == {("ospf", 121), ("rip", 109)}
    assert all(one.ways == [["a", "r", "y", "b"]] for one in by_preference)
