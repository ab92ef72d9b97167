"""IS-IS: a worked example for each rule, and all routes held against a slow reference."""

import json

import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from routrel.analysis.contest.why import WhyAnswerer, parse_prefix
from routrel.formats.network_file import read_network
from routrel.solving import solve
from tests.core.networks import errors, hops, load, plain, router, table
from tests.core.test_areas_reference import shortest
from tests.examples import examples

LINKS = 'links:\n- ["a:e1", "b:e1"]\n- ["b:e2", "c:e1"]\n'
INTERFACES = {
    "a": {"lo": "addresses: [10.0.0.1/32]", "e1": "addresses: [10.1.0.1/30]"},
    "b": {"lo": "addresses: [10.0.0.2/32]", "e1": "addresses: [10.1.0.2/30]", "e2": "addresses: [10.2.0.1/30]"},
    "c": {"lo": "addresses: [10.0.0.3/32]", "e1": "addresses: [10.2.0.2/30]"},
}


def chain(a: str = "", b: str = "", c: str = "", areas: str = "111", **more: str) -> str:
    """Routers a - b - c with their areas; the texts are further keys of ``isis``."""
    text = "devices:\n"
    for number, (name, keys) in enumerate({"a": a, "b": b, "c": c}.items(), 1):
        members = ", ".join(f"{interface}: {{}}" for interface in INTERFACES[name])
        net = f"49.000{areas[number - 1]}.0000.0000.000{number}.00"
        text += router(
            name,
            INTERFACES[name],
            f"isis: {{net: {net}, interfaces: {{{members}}}{keys and ', '}{keys}}}\n" + more.get(f"{name}_routing", ""),
            more.get(f"{name}_more", ""),
        )
    return text + LINKS


def test_costs_are_the_sum_of_the_outgoing_interfaces_and_the_prefix():
    routes = table(load(chain(c="level: 1-2")), "a")
    assert (routes["10.0.0.3/32"].metric, routes["10.0.0.3/32"].origin) == (30, "level 1")
    assert (routes["10.0.0.3/32"].protocol, routes["10.0.0.3/32"].preference) == ("isis", 115)


def test_iso_10589_8_4_level_1_neighbours_share_their_area():
    solved = load(chain(a="level: '1'", b="level: '1'", c="level: '1'", areas="112"))
    assert "10.0.0.2/32" in table(solved, "a")
    assert "10.0.0.3/32" not in table(solved, "b")
    assert any("area 490001 against area 490002" in finding.message for finding in solved.findings)


def test_rfc_1195_3_2_level_1_is_passed_up_into_level_2():
    solved = load(chain(a="level: '1'", b="level: 1-2", c="level: '2'", areas="112"))
    route = table(solved, "c")["10.0.0.1/32"]
    assert (route.origin, route.metric) == ("level 2", 30)


def test_iso_10589_7_2_9_2_a_level_1_router_follows_the_attached_bit():
    solved = load(chain(a="level: '1'", b="level: 1-2", c="level: '2'", areas="112"))
    routes = table(solved, "a")
    assert "10.0.0.3/32" not in routes
    assert (routes["0.0.0.0/0"].origin, routes["0.0.0.0/0"].metric) == ("attached default", 10)
    # Without another area beyond, nobody is attached.
    assert "0.0.0.0/0" not in table(load(chain(a="level: '1'", b="level: 1-2", c="level: '2'")), "a")


def test_rfc_5302_3_1_level_2_routes_leak_into_level_1_by_policy():
    policy = "policies: {p: [{match: {prefixes: [10.0.0.3/32]}, set: {metric: 4}, result: accept}]}"
    solved = load(chain(a="level: '1'", b="level: 1-2, leak: {policy: p}", c="level: '2'", areas="112", b_more=policy))
    routes = table(solved, "a")
    assert (routes["10.0.0.3/32"].origin, routes["10.0.0.3/32"].metric) == ("leaked", 14)
    assert "10.2.0.0/30" not in routes or routes["10.2.0.0/30"].origin == "level 1"


def test_rfc_5302_3_2_level_1_goes_before_level_2_whatever_the_cost():
    solved = load(chain(a="level: 1-2", b="level: 1-2").replace("e1: {}}", "e1: {metric: 60}}", 1))
    assert table(solved, "a")["10.0.0.2/32"].origin == "level 1"


def test_rfc_5305_wide_and_narrow_metrics_do_not_read_each_other():
    solved = load(chain(c="wide_metrics: false"))
    assert "10.0.0.3/32" not in table(solved, "a")
    assert any("narrow" in finding.message for finding in solved.findings)


def test_rfc_1195_5_3_1_a_narrow_path_is_at_most_1023():
    text = chain(*["wide_metrics: false"] * 3).replace("e1: {}", "e1: {metric: 63}")
    assert table(load(text), "a")["10.0.0.3/32"].metric == 83
    (found,) = errors(chain("wide_metrics: false").replace("e1: {}", "e1: {metric: 64}", 1))
    assert "wide metrics" in found


def test_redistributed_routes_enter_level_2_with_metric_and_tag():
    text = chain(
        c="redistribute: [{from: static, metric: 7, tag: 5}]",
        c_routing="static: [{prefix: 192.0.2.0/24, action: discard}]",
    )
    route = table(load(text), "a")["192.0.2.0/24"]
    assert (route.origin, route.metric, route.tag) == ("level 2", 27, 5)


def test_equal_ways_are_merged_up_to_the_limit():
    text = (
        "devices:\n"
        + "".join(
            router(
                name,
                {
                    "lo": f"addresses: [10.0.0.{n}/32]",
                    "e1": f"addresses: [10.1.0.{n}/30]",
                    "e2": f"addresses: [10.2.0.{n}/30]",
                },
                f"isis: {{net: 49.0001.0000.0000.000{n}.00, interfaces: {{lo: {{}}, e1: {{}}, e2: {{}}}}%s}}",
            )
            for n, name in enumerate("ab", 1)
        )
        + 'links:\n- ["a:e1", "b:e1"]\n- ["a:e2", "b:e2"]\n'
    )
    solved = load(text % ("", ""))
    assert hops(solved, table(solved, "a")["10.0.0.2/32"]) == ["10.1.0.2@e1", "10.2.0.2@e2"]
    solved = load(text % (", multipath: 1", ""))
    assert len(table(solved, "a")["10.0.0.2/32"].next_hops) == 1


def test_rfc_5308_one_topology_serves_both_families():
    text = (
        "devices:\n"
        + router(
            "a",
            {"e1": "addresses: [10.1.0.1/30, '2001:db8:1::1/64']"},
            "isis: {net: 49.0001.0000.0000.0001.00, interfaces: {e1: {}}}",
        )
        + router(
            "b",
            {
                "lo": "addresses: [10.0.0.2/32, '2001:db8::2/128']",
                "e1": "addresses: [10.1.0.2/30, '2001:db8:1::2/64'], mac: '02:00:00:00:00:02'",
            },
            "isis: {net: 49.0001.0000.0000.0002.00, interfaces: {lo: {}, e1: {}}}",
        )
        + 'links:\n- ["a:e1", "b:e1"]\n'
    )
    solved = load(text)
    routes = table(solved, "a")
    assert hops(solved, routes["10.0.0.2/32"]) == ["10.1.0.2@e1"]
    assert hops(solved, routes["2001:db8::2/128"]) == ["fe80::ff:fe00:2@e1"]
    # b's far side has no IPv6 address: the path is there, the next hop is not.
    solved = load(text.replace(", '2001:db8:1::2/64'", ""))
    assert "2001:db8::2/128" not in table(solved, "a")
    assert "10.0.0.2/32" in table(solved, "a")


def test_rfc_1195_3_1_an_interface_without_an_address_of_a_family_carries_none_of_its_routes():
    text = chain(a="level: '1'", b="level: 1-2", c="level: '2'", areas="112")
    assert {"0.0.0.0/0", "10.0.0.2/32"} <= table(load(text), "a").keys()
    solved = load(
        text.replace("10.1.0.1/30", "2001:db8:1::1/64").replace("10.1.0.2/30", "10.1.0.2/30, '2001:db8:1::2/64'")
    )
    assert [str(prefix) for prefix in table(solved, "a") if "." in str(prefix)] == ["10.0.0.1/32"]
    answer = plain(WhyAnswerer(solved).why(solved.topology.device_index["a"], parse_prefix("0.0.0.0/0")))
    assert answer["winner"] is None


@pytest.mark.parametrize(
    ("text", "said"),
    [
        ("isis: {}", "net"),
        ("isis: {net: 49.0001.0000.0000.0001.01}", "selector"),
        ("isis: {net: hello}", "network entity title"),
        ("isis: {net: 49.0001.0000.0000.0001.00, level: '1', leak: {}}", "level 1-2"),
        ("isis: {net: 49.0001.0000.0000.0001.00, redistribute: [{from: static, metric_type: 2}]}", "not supported yet"),
        ("isis: {net: 49.0001.0000.0000.0001.00, interfaces: {e1: {}}}", "interface of this name"),
    ],
)
def test_what_cannot_be_is_refused(text, said):
    found = errors(f"devices:\n  r1: {{routing: {{{text}}}}}\n")
    assert any(said in error and ":4:" in error for error in found), found


@st.composite
def labs(draw):
    """Routers of levels and areas at random, loopbacks, cables of random metrics."""
    count = draw(st.integers(2, 7))
    levels = [draw(st.sampled_from(["1", "2", "1-2", "1-2"])) for _ in range(count)]
    areas = [draw(st.sampled_from("12")) for _ in range(count)]
    pairs = [(a, b) for a in range(count) for b in range(a + 1, count)]
    cables = draw(st.lists(st.tuples(st.sampled_from(pairs), st.integers(1, 4), st.integers(1, 4)), max_size=12))
    return levels, areas, cables


def reference(levels, areas, cables):
    """Every router's loopback routes: {(router, target): (kind, metric, interfaces)}, rule by rule."""
    count = len(levels)
    edges: dict[int, dict[str, list]] = {1: {}, 2: {}}
    for number, ((a, b), there, back) in enumerate(cables):
        for level in (1, 2):
            both = all(str(level) in levels[end] for end in (a, b))
            if both and (level == 2 or areas[a] == areas[b]):
                edges[level].setdefault(f"r{a}", []).append((f"r{b}", there, f"c{number}"))
                edges[level].setdefault(f"r{b}", []).append((f"r{a}", back, f"c{number}"))
    trees = {(level, i): shortest(edges[level], f"r{i}") for level in (1, 2) for i in range(count)}
    # What each router says of each loopback (metric 10) at level 2: its own, and its level 1 routes.
    said = {}
    for border in range(count):
        if "2" not in levels[border]:
            continue
        said[border, border] = 10
        if "1" in levels[border]:
            for target in range(count):
                if "1" in levels[target] and f"r{target}" in trees[1, border][0]:
                    said[border, target] = trees[1, border][0][f"r{target}"] + 10
    found = {}
    for i in range(count):
        for target in range(count):
            if i == target:
                continue
            cost, first = trees[1, i]
            if "1" in levels[i] and "1" in levels[target] and f"r{target}" in cost:
                found[i, target] = ("level 1", cost[f"r{target}"] + 10, first[f"r{target}"])
                continue
            if "2" not in levels[i]:
                continue
            cost, first = trees[2, i]
            ways = [
                (cost[f"r{b}"] + metric, first[f"r{b}"])
                for (b, t), metric in said.items()
                if t == target and f"r{b}" in cost
            ]
            if ways:
                best = min(metric for metric, _ in ways)
                interfaces = set().union(*(first for metric, first in ways if metric == best))
                found[i, target] = ("level 2", best, interfaces)
    attached = [
        b for b in range(count) if levels[b] == "1-2" and any(areas[int(r[1:])] != areas[b] for r in trees[2, b][0])
    ]
    for i in range(count):
        if levels[i] == "1":
            cost, first = trees[1, i]
            near = [(cost[f"r{b}"], first[f"r{b}"]) for b in attached if f"r{b}" in cost and areas[b] == areas[i]]
            if near:
                best = min(near, key=lambda one: one[0])[0]
                found[i, "default"] = ("attached default", best, set().union(*(f for c, f in near if c == best)))
    return found


@given(labs())
@settings(max_examples=examples(150))
def test_every_route_is_that_of_the_reference(lab):
    levels, areas, cables = lab
    devices = {
        f"r{i}": {
            "interfaces": {"lo": {"addresses": [f"10.0.0.{i + 1}/32"]}},
            "routing": {
                "isis": {
                    "net": f"49.000{areas[i]}.0000.0000.000{i + 1}.00",
                    "level": levels[i],
                    "interfaces": {"lo": {}},
                }
            },
        }
        for i in range(len(levels))
    }
    links = []
    for number, ((a, b), there, back) in enumerate(cables):
        for end, metric, host in ((a, there, 1), (b, back, 2)):
            devices[f"r{end}"]["interfaces"][f"c{number}"] = {"addresses": [f"172.16.{number}.{host}/30"]}
            devices[f"r{end}"]["routing"]["isis"]["interfaces"][f"c{number}"] = {"metric": metric}
        links.append([f"r{a}:c{number}", f"r{b}:c{number}"])
    document = {"routrel": 1, "name": "random", "devices": devices, "links": links}
    solved = solve(read_network({"n.json": json.dumps(document).encode()}))
    expected = reference(levels, areas, cables)
    ports = solved.topology.ports
    found = {}
    for i in range(len(levels)):
        for route in solved.table(i):
            name = str(route.prefix)
            if route.protocol == "isis" and (name.startswith("10.0.0.") or route.prefix.is_default):
                target = "default" if route.prefix.is_default else int(name.split(".")[3].split("/")[0]) - 1
                interfaces = {ports[hop.port].name.interface for hop in route.next_hops}
                found[i, target] = (route.origin, route.metric, interfaces)
    expected = {key: value for key, value in expected.items() if value[2]}
    assert found == expected


def test_a_leak_policy_sees_the_next_hop_and_the_explanation_does_too():
    policy = "policies: {p: [{match: {next_hop: 10.2.0.2}, result: reject}, {result: accept}]}"
    solved = load(chain(a="level: '1'", b="level: 1-2, leak: {policy: p}", c="level: '2'", areas="112", b_more=policy))
    assert "10.0.0.3/32" not in table(solved, "a")
    answer = plain(WhyAnswerer(solved).why(solved.topology.device_index["a"], parse_prefix("10.0.0.3/32")))
    assert "b does not leak it into level 1" in answer["trails"][0][-1]["message"]
