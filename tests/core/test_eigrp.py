"""EIGRP: the standard's arithmetic as examples, and all routes held against routers that send updates."""

import json

from hypothesis import given, settings
from hypothesis import strategies as st

from routrel.formats.network_file import read_network
from routrel.solving import solve
from tests.core.networks import errors, hops, load, router, table
from tests.examples import examples


def square(a: str = "", b: str = "", c: str = "", d: str = "", extra: str = "", **more: str) -> str:
    """a - b - d and a - c - d; each text is further keys of that router's ``eigrp``."""
    keys = {"a": a, "b": b, "c": c, "d": d}
    cables = {"a": ["ab.1", "ac.1"], "b": ["ab.2", "bd.1"], "c": ["ac.2", "cd.1"], "d": ["bd.2", "cd.2"]}
    subnets = {"ab": 1, "ac": 2, "bd": 3, "cd": 4}
    text = "devices:\n"
    for number, name in enumerate("abcd", 1):
        interfaces = {"lo": f"addresses: [10.0.0.{number}/32]"}
        for cable in cables[name]:
            link, host = cable.split(".")
            interfaces[link] = f"addresses: [10.1.{subnets[link]}.{host}/30]"
        members = ", ".join(f"{i}: {{{more.get(f'{name}_{i}', '')}}}" for i in interfaces)
        text += router(
            name,
            interfaces,
            f"eigrp: {{as: 7, interfaces: {{{members}}}{keys[name] and ', '}{keys[name]}}}\n" + more.get(name * 2, ""),
        )
    links = ["[a:ab, b:ab]", "[a:ac, c:ac]", "[b:bd, d:bd]", "[c:cd, d:cd]"]
    return text + extra + "links:\n" + "".join(f"- {link}\n" for link in links)


def test_5_6_1_1_the_metric_is_256_times_bandwidth_plus_delay():
    """d's loopback from a: slowest link 100 Mbit/s (10^7/10^5 = 100), delays 10 + 10 + 10."""
    route = table(load(square()), "a")["10.0.0.4/32"]
    assert route.metric == 256 * (100 + 30)
    assert (route.origin, route.preference) == ("internal", 90)
    slow = table(load(square(a_ab="bandwidth: 10M", a_ac="bandwidth: 1M")), "a")["10.0.0.4/32"]
    assert slow.metric == 256 * (1000 + 30)


def test_the_receiving_interface_counts_not_the_sending_one():
    solved = load(square(a_ab="delay: 50"))
    assert hops(solved, table(solved, "a")["10.0.0.4/32"]) == ["10.1.2.2@ac"]
    solved = load(square(b_ab="delay: 50"))
    assert len(table(solved, "a")["10.0.0.4/32"].next_hops) == 2


def test_equal_metrics_are_merged():
    solved = load(square())
    assert hops(solved, table(solved, "a")["10.0.0.4/32"]) == ["10.1.1.2@ab", "10.1.2.2@ac"]


def test_4_1_variance_uses_feasible_successors_only():
    far = {"a_ac": "delay: 100"}
    assert len(table(load(square(**far)), "a")["10.0.0.4/32"].next_hops) == 1
    # 256 * 220 against 256 * 130: within twice the best, and c reports 256 * 120 < 256 * 130.
    assert len(table(load(square("variance: 2", **far)), "a")["10.0.0.4/32"].next_hops) == 2
    # c reports 256 * 150 of itself, no less than a's best: not feasible, whatever the variance.
    unfeasible = square("variance: 8", c_cd="delay: 40")
    assert len(table(load(unfeasible), "a")["10.0.0.4/32"].next_hops) == 1


def test_multipath_keeps_the_best():
    solved = load(square("variance: 4, multipath: 1", a_ac="delay: 11"))
    assert hops(solved, table(solved, "a")["10.0.0.4/32"]) == ["10.1.1.2@ab"]


STATIC = "static: [{prefix: 192.0.2.0/24, action: discard}]"


def test_external_routes_have_a_preference_of_their_own_and_lose_to_internal_ones():
    text = square(d="redistribute: [{from: static, metric: 512, tag: 9}]", dd=STATIC)
    route = table(load(text), "a")["192.0.2.0/24"]
    assert (route.origin, route.preference, route.tag) == ("external", 170, 9)
    assert route.metric == 256 * (100 + 20) + 512
    inside = text.replace(
        "lo: {addresses: [10.0.0.3/32]}", "lo: {addresses: [10.0.0.3/32]}\n      x: {addresses: [192.0.2.1/24]}"
    )
    inside = inside.replace("{lo: {}, ac: {}, cd: {}}", "{lo: {}, ac: {}, cd: {}, x: {delay: 9999}}")
    assert table(load(inside), "a")["192.0.2.0/24"].origin == "internal"


def test_distance_gives_routes_of_one_neighbour_a_preference_of_their_own():
    text = square("distance: [{neighbor: 10.1.2.2, prefixes: [10.0.0.0/8], preference: 80}]")
    solved = load(text)
    route = table(solved, "a")["10.0.0.4/32"]
    assert (route.preference, hops(solved, route)) == (80, ["10.1.2.2@ac"])
    text = square("distance: [{neighbor: 10.1.2.2, prefixes: [10.0.0.4/32], preference: 95}]")
    solved = load(text)
    routes = table(solved, "a")
    assert (routes["10.0.0.4/32"].preference, hops(solved, routes["10.0.0.4/32"])) == (90, ["10.1.1.2@ab"])


def test_neighbours_need_the_same_as_and_a_common_subnet():
    solved = load(square().replace("as: 7", "as: 8", 1))
    assert "10.0.0.4/32" not in table(solved, "a")
    assert any("AS 8 against AS 7" in finding.message for finding in solved.findings)


def test_an_acl_that_cuts_eigrp_is_reported():
    text = square().replace("ab: {addresses: [10.1.1.1/30]}", "ab: {addresses: [10.1.1.1/30], acl_in: x}")
    text = text.replace("  b:\n", "    acls: {x: [{action: accept, protocol: icmp}]}\n  b:\n", 1)
    (finding,) = load(text).findings
    assert "ACL x of a drops EIGRP packets" in finding.message


def test_an_as_is_needed():
    (found,) = errors("devices:\n  a: {routing: {eigrp: {}}}\n")
    assert "'as'" in found


@st.composite
def labs(draw):
    count = draw(st.integers(2, 6))
    pairs = [(a, b) for a in range(count) for b in range(a + 1, count)]
    bandwidths = st.sampled_from([10, 100, 1000])
    delays = st.integers(1, 40)
    ends = st.tuples(bandwidths, delays)
    cables = draw(st.lists(st.tuples(st.sampled_from(pairs), ends, ends), max_size=10))
    variance = draw(st.integers(1, 3))
    external = draw(st.lists(st.integers(0, count - 1), max_size=2, unique=True))
    return count, cables, variance, external


def reference(count, cables, variance, external):
    """Routers send each other their best vector for one prefix after the other, until nobody changes."""
    neighbours = [[] for _ in range(count)]  # (neighbour, own interface, slowness, delay)
    for number, ((a, b), (bw_a, delay_a), (bw_b, delay_b)) in enumerate(cables):
        neighbours[a].append((b, number, 10_000 // bw_a, delay_a))
        neighbours[b].append((a, number, 10_000 // bw_b, delay_b))

    def metric(vector):
        return (vector[2], 256 * (vector[0] + vector[1]))

    found = {}
    for target in range(count + 1):
        own = {target: (100, 10, 0)} if target < count else dict.fromkeys(external, (0, 0, 1))

        best = dict(own)
        changed = True
        while changed:
            changed = False
            for me in range(count):
                offers = [own[me]] if me in own else []
                for other, _, slow, delay in sorted(neighbours[me], key=lambda n: n[1]):
                    if other in best:
                        vector = best[other]
                        offers.append((max(vector[0], slow), vector[1] + delay, vector[2]))
                if offers:
                    chosen = min(offers, key=metric)
                    if best.get(me) != chosen:
                        best[me], changed = chosen, True
        for me in range(count):
            if me in own or me not in best:
                continue
            feasible = metric(best[me])
            ways = set()
            for other, number, slow, delay in neighbours[me]:
                if other not in best or metric(best[other]) >= feasible:
                    continue
                vector = best[other]
                via = metric((max(vector[0], slow), vector[1] + delay, vector[2]))
                if via[0] == feasible[0] and via[1] <= variance * feasible[1]:
                    ways.add(f"c{number}")
            found[me, target] = (feasible[1], ways)
    return found


@given(labs())
@settings(max_examples=examples(150))
def test_every_route_is_that_of_routers_that_send_updates(lab):
    count, cables, variance, external = lab
    devices = {}
    for i in range(count):
        eigrp = {"as": 1, "variance": variance, "multipath": 32, "interfaces": {"lo": {}}}
        if i in external:
            eigrp["redistribute"] = [{"from": "static"}]
        devices[f"r{i}"] = {
            "interfaces": {"lo": {"addresses": [f"10.0.0.{i + 1}/32"]}},
            "routing": {
                "eigrp": eigrp,
                "static": [{"prefix": "192.0.2.0/24", "action": "discard"}] if i in external else [],
            },
        }
    links = []
    for number, ((a, b), end_a, end_b) in enumerate(cables):
        for end, (bandwidth, delay), host in ((a, end_a, 1), (b, end_b, 2)):
            devices[f"r{end}"]["interfaces"][f"c{number}"] = {"addresses": [f"172.16.{number}.{host}/30"]}
            devices[f"r{end}"]["routing"]["eigrp"]["interfaces"][f"c{number}"] = {
                "bandwidth": f"{bandwidth}M",
                "delay": delay,
            }
        links.append([f"r{a}:c{number}", f"r{b}:c{number}"])
    document = {"routrel": 1, "name": "random", "devices": devices, "links": links}
    solved = solve(read_network({"n.json": json.dumps(document).encode()}))
    ports = solved.topology.ports
    found = {}
    for i in range(count):
        for route in solved.table(i):
            name = str(route.prefix)
            if route.protocol == "eigrp" and not name.startswith("172."):
                target = count if name.startswith("192.") else int(name.split(".")[3].split("/")[0]) - 1
                found[i, target] = (route.metric, {ports[hop.port].name.interface for hop in route.next_hops})
    assert found == reference(count, cables, variance, external)
