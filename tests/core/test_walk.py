"""The walk, check by check, and what it counts."""

import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from routrel.forwarding.flow_words import FlowError
from tests.core.networks import answer, load, router, walk
from tests.examples import examples


def lan(acls: str = "", interface: str = "", more: str = "", routing: str = "static: []") -> str:
    """h1 - r - h2, with an ACL list and interface settings for r's e1."""
    text = "devices:\n" + router(
        "r",
        {"e1": f"addresses: [10.0.1.1/24]{interface}", "e2": "addresses: [10.0.2.1/24]"},
        routing,
        (f"acls: {acls}\n" if acls else "") + more,
    )
    for host, number in (("h1", 1), ("h2", 2)):
        text += router(host, {"e1": f"addresses: [10.0.{number}.10/24]"}, "", f"kind: host\ngateway: 10.0.{number}.1")
    return text + "links: [[r:e1, h1:e1], [r:e2, h2:e1]]\n"


def verdicts(solved, *flow: str, **more) -> tuple[str, str | None]:
    walked = walk(solved, *flow, **more)
    return walked.forward.verdict, walked.reply.verdict if walked.reply else None


def test_a_packet_arrives_and_its_answer_comes_back():
    found = answer(load(lan()), "h1", "h2")
    assert found["forward"] == {
        "verdict": "arrives",
        "path_count": 1,
        "paths": [["h1", "r", "h2"]],
        "causes": [],
        "doubts": [],
        "not_represented": [],
    }
    assert found["return"]["paths"] == [["h2", "r", "h1"]]


def test_first_match_decides_and_no_match_drops():
    acls = "{edge: [{action: drop, protocol: tcp, destination_ports: [22]}, {action: accept, protocol: tcp}]}"
    solved = load(lan(acls, ", acl_in: edge"))
    assert verdicts(solved, "h1", "h2", "tcp/443") == ("arrives", "arrives")
    for service, entry in (("tcp/22", 1), ("udp/53", None)):
        (cause,) = answer(solved, "h1", "h2", service)["forward"]["causes"]
        assert (cause["device"], cause["interface"], cause["stage"]) == ("r", "e1", "acl_in")
        assert (cause["acl"], cause["entry"]) == ("edge", entry)
        assert cause["place"]["line"] > 0


def test_a_stateless_filter_needs_both_directions_a_stateful_one_does_not():
    out = "{out: [{action: accept, protocol: tcp, destination_ports: [443]STATE}]}"
    solved = load(lan(out.replace("STATE", ""), ", acl_in: out, acl_out: out"))
    assert verdicts(solved, "h1", "h2", "tcp/443") == ("arrives", "blocked")
    solved = load(lan(out.replace("STATE", ", stateful: true"), ", acl_in: out, acl_out: out"))
    assert verdicts(solved, "h1", "h2", "tcp/443") == ("arrives", "arrives")
    assert verdicts(solved, "h1", "h2", "tcp/80") == ("blocked", "blocked")


def test_what_a_device_sends_itself_meets_no_acl_in_but_acl_out():
    acls = "{none: []}"
    assert verdicts(load(lan(acls, ", acl_in: none")), "r", "h1")[0] == "arrives"
    assert verdicts(load(lan(acls, ", acl_out: none")), "r", "h1")[0] == "blocked"
    assert verdicts(load(lan(acls, ", acl_in: none")), "h1", "r")[0] == "blocked"


def test_icmp_of_the_right_family_is_asked():
    text = lan("{v6: [{action: accept, protocol: icmpv6}]}", ", acl_in: v6")
    text = text.replace("10.0.1.1/24", "'2001:db8:1::1/64'").replace("10.0.1.10/24", "'2001:db8:1::10/64'")
    text = text.replace("10.0.2.1/24", "'2001:db8:2::1/64'").replace("10.0.2.10/24", "'2001:db8:2::10/64'")
    text = text.replace("10.0.1.1\n", "'2001:db8:1::1'\n").replace("10.0.2.1\n", "'2001:db8:2::1'\n")
    assert verdicts(load(text), "h1", "h2") == ("arrives", "arrives")


def test_no_route_is_unrouted_a_discard_route_discards_and_a_longer_match_wins():
    solved = load(
        lan(routing="static: [{prefix: 10.9.0.0/16, next_hop: 10.0.2.10}, {prefix: 10.9.9.0/24, action: discard}]")
    )
    assert verdicts(solved, "h1", "192.0.2.1")[0] == "unrouted"
    assert verdicts(solved, "h1", "10.9.9.1")[0] == "discarded"
    # A host that is handed a packet for another does not forward it.
    found = answer(solved, "h1", "10.9.1.1")["forward"]
    assert (found["verdict"], found["paths"]) == ("discarded", [["h1", "r", "h2"]])
    assert found["causes"][0]["stage"] == "host"


def test_a_destination_that_nobody_on_the_segment_has_is_unresolved():
    assert verdicts(load(lan()), "h1", "10.0.2.99")[0] == "unresolved"


def test_where_table_and_acl_both_stop_a_packet_the_table_is_named():
    solved = load(lan("{none: []}", ", acl_in: none"))
    assert verdicts(solved, "h1", "192.0.2.1")[0] == "unrouted"
    assert verdicts(solved, "h1", "h2")[0] == "blocked"


STEERED = """forwarding_policies:
  p:
  - {match: {protocol: tcp, destination_ports: [25]}, action: discard}
  - {match: {protocol: tcp, destination_ports: [80]}, action: table}
  - {match: {protocol: tcp}, action: forward, next_hop: [192.0.2.1, 10.0.3.2]}
  - {match: {protocol: udp}, action: forward, next_hop: 192.0.2.1}
"""


def steered():
    text = lan("", ", forwarding_policy: p", STEERED).replace(
        "      e2: {addresses: [10.0.2.1/24]}",
        "      e2: {addresses: [10.0.2.1/24]}\n      e3: {addresses: [10.0.3.1/24]}",
        1,
    )
    other = router("x", {"e1": "addresses: [10.0.3.2/24]"}, "static: [{prefix: 0.0.0.0/0, next_hop: 10.0.3.1}]")
    return load(text.replace("  h1:", other + "  h1:").replace("links: [", "links: [[r:e3, x:e1], "))


@pytest.mark.parametrize(
    ("service", "verdict", "path"),
    [
        ("tcp/25", "discarded", ["h1", "r"]),
        ("tcp/80", "arrives", ["h1", "r", "h2"]),
        ("tcp/443", "arrives", ["h1", "r", "x", "r", "h2"]),
        ("udp/53", "arrives", ["h1", "r", "h2"]),
        ("icmp", "arrives", ["h1", "r", "h2"]),
    ],
)
def test_steering_is_asked_before_the_table(service, verdict, path):
    found = answer(steered(), "h1", "h2", service)["forward"]
    assert (found["verdict"], found["paths"]) == (verdict, [path])


def test_its_own_address_is_passed_over_as_a_steering_next_hop():
    policy = "forwarding_policies: {p: [{action: forward, next_hop: [10.0.2.1]}]}"
    assert answer(load(lan("", ", forwarding_policy: p", policy)), "h1", "h2")["forward"]["verdict"] == "arrives"


def test_a_packet_for_the_device_itself_is_delivered_before_steering():
    assert verdicts(steered(), "h1", "10.0.1.1", "tcp/25")[0] == "arrives"


def grid(layers: int, width: int) -> str:
    """Layers of routers, each fully cabled to the next, with statics for equal costs: width**layers ways."""
    names = [["s"], *[[f"n{i}_{j}" for j in range(width)] for i in range(layers)], ["t"]]
    devices: dict[str, dict[str, str]] = {name: {"lo": ""} for layer in names for name in layer}
    devices["t"]["lo"] = "addresses: [10.255.0.1/32]"
    devices["s"]["lo"] = "addresses: [10.255.0.2/32]"
    links, number = [], 0
    for upper, lower in zip(names, names[1:], strict=False):
        for a in upper:
            for b in lower:
                for name, host in ((a, 1), (b, 2)):
                    devices[name][f"c{number}"] = f"addresses: [172.16.{number // 64}.{number % 64 * 4 + host}/30]"
                links.append(f"[{a}:c{number}, {b}:c{number}]")
                number += 1
    text = "devices:\n" + "".join(
        router(
            name,
            interfaces,
            f"ospf: {{multipath: 64, areas: {{0: {{interfaces: {{{', '.join(f'{i}: {{}}' for i in interfaces if interfaces[i])}}}}}}}}}",
        )
        for name, interfaces in devices.items()
    )
    return text + f"links: [{', '.join(links)}]\n"


def test_equal_cost_ways_are_counted_exactly_and_listed_to_a_limit():
    found = answer(load(grid(4, 4)), "s", "10.255.0.1")
    assert found["forward"]["path_count"] == 256
    assert len(found["forward"]["paths"]) == 64
    assert all(path[0] == "s" and path[-1] == "t" and len(path) == 6 for path in found["forward"]["paths"])


def test_many_ways_are_counted_and_never_walked_one_by_one():
    assert walk(load(grid(9, 5)), "s", "10.255.0.1").forward.path_count == 5**9


def test_branches_that_disagree_are_mixed_and_each_bad_one_is_named():
    text = grid(1, 3).replace("  n0_1:\n", "  n0_1:\n    acls: {shut: [{action: accept, protocol: 89}]}\n")
    text = text.replace("c1: {addresses: [172.16.0.6/30]}", "c1: {addresses: [172.16.0.6/30], acl_in: shut}")
    found = answer(load(text), "s", "10.255.0.1", "tcp/80")["forward"]
    assert (found["verdict"], found["path_count"]) == ("mixed", 3)
    assert [cause["device"] for cause in found["causes"]] == ["n0_1"]
    assert ["s", "n0_1"] in found["paths"]


LOOP = "devices:\n" + "".join(
    router(
        name,
        {"e1": f"addresses: [10.0.{i}.1/30]", "e2": f"addresses: [10.0.{(i + 1) % 3}.2/30]"},
        f"static: [{{prefix: 10.9.0.0/16, next_hop: 10.0.{(i + 1) % 3}.1}}]",
    )
    for i, name in enumerate("abc")
)
LOOP += "links: [[a:e2, b:e1], [b:e2, c:e1], [c:e2, a:e1]]\n"


def test_a_loop_ends_with_the_first_device_met_again():
    found = answer(load(LOOP), "a", "10.9.0.1")["forward"]
    assert found["verdict"] == "loops"
    assert found["paths"] == [["a", "b", "c", "a"]]
    assert found["path_count"] == 1
    assert "goes round" in found["causes"][0]["message"]


BORDER = """
devices:
  r1:
    interfaces: {e1: {addresses: [192.0.2.1/30]}, e2: {addresses: [10.0.0.1/24]}}
    routing: {static: [{prefix: 0.0.0.0/0, next_hop: 192.0.2.2}]}
  r2:
    interfaces: {e1: {addresses: [192.0.2.5/30]}, e2: {addresses: [10.0.0.2/24]}}
    routing: {static: [{prefix: 0.0.0.0/0, next_hop: 192.0.2.6}]}
  h: {kind: host, gateway: 10.0.0.1, interfaces: {e1: {addresses: [10.0.0.10/24]}}}
links: [[r1:e2, r2:e2, h:e1]]
"""


def test_a_packet_handed_to_a_next_hop_beyond_the_model_leaves():
    solved = load(BORDER)
    walked = walk(solved, "h", "203.0.113.5")
    assert walked.forward.verdict == "leaves"
    assert walked.is_good
    # The answer comes in where the packet left.
    assert [stop.device for stop in walked.reply.stops][:1] == [solved.topology.device_index["r1"]]


def test_a_source_outside_enters_at_every_border_with_a_route_for_it():
    solved = load(BORDER)
    found = answer(solved, "203.0.113.5", "h")["forward"]
    assert (found["path_count"], found["paths"]) == (2, [["r1", "h"], ["r2", "h"]])
    one = answer(solved, "203.0.113.5", "h", enter="r2:e1")["forward"]
    assert one["paths"] == [["r2", "h"]]
    # An unknown neighbour on a LAN is heard by every router on it.
    paths = answer(solved, "10.0.0.77", "192.0.2.1")["forward"]["paths"]
    assert {path[0] for path in paths} == {"r1", "r2"}


def test_a_device_sends_from_the_interface_it_leaves_by_else_from_its_own_address():
    solved = load(lan())
    assert str(walk(solved, "r", "h2").forward.stops[0].header.source) == "10.0.2.1"
    assert str(walk(solved, "r", "h2", source_address="10.0.1.1").forward.stops[0].header.source) == "10.0.1.1"
    text = lan().replace(
        "e1: {addresses: [10.0.1.1/24]}", "e1: {addresses: [10.0.1.1/24]}\n      lo: {addresses: [10.7.7.7/32]}", 1
    )
    assert str(walk(load(text), "r", "192.0.2.1").forward.stops[0].header.source) == "10.7.7.7"


@pytest.mark.parametrize(
    ("flow", "said"),
    [
        (("h33", "h2"), "is no device"),
        (("h1", "r:e9"), "r has no interface 'e9'"),
        (("h1", "h2", "tcp/"), "no service of this network"),
        (("h1", "h2", "web"), "no service of this network"),
        (("h1", "h2", "tcp/70000"), "no service"),
        (("h1", "2001:db8::1"), "no IPv6 address to send from"),
        (("10.77.0.1", "h1"), "no device has a route for it that leaves"),
    ],
)
def test_a_flow_that_cannot_be_asked_says_why(flow, said):
    with pytest.raises(FlowError, match=said):
        walk(load(lan()), *flow)


def test_bad_extras_of_a_flow_say_why():
    solved = load(lan())
    for more, said in (
        ({"enter": "r"}, "no device:interface"),
        ({"enter": "r:e1"}, "needs an address as its source"),
        ({"source_address": "10.9.9.9"}, "does not own"),
        ({"source_address": "x"}, "no IPv4 or IPv6"),
        ({"source_port": 70000}, "out of range"),
    ):
        with pytest.raises(FlowError, match=said):
            walk(solved, "h1", "h2", "tcp/80", **more)


@given(st.lists(st.tuples(st.integers(0, 5), st.integers(0, 5)), max_size=12), st.integers(1, 5))
@settings(max_examples=examples(60))
def test_whatever_the_statics_say_a_walk_ends_and_its_paths_are_consistent(arcs, target):
    """Random next hops between six routers on one segment: loops, dead ends and equal-cost ways."""
    text = "devices:\n"
    for i in range(6):
        entries = "".join(
            f"\n- {{prefix: 10.9.0.0/16, next_hop: 10.0.0.{b + 1}}}" for a, b in sorted(set(arcs)) if a == i and a != b
        )
        owned = {"lo": "addresses: [10.9.0.1/32]"} if i == target else {}
        text += router(f"r{i}", {"e1": f"addresses: [10.0.0.{i + 1}/24]", **owned}, f"static:{entries or ' []'}")
    strand = walk(load(text), "r0", "10.9.0.1", source_address="10.0.0.1").forward
    paths = strand.paths(10_000)
    assert strand.path_count == len(paths)
    reached = {path[-1] for path in paths}
    assert (target in reached) == any(ending.verdict == "arrives" for ending in strand.endings)
    for path in paths:
        assert all((a, b) in set(arcs) for a, b in zip(path, path[1:], strict=False))
        repeated = len(path) - len(set(path))
        assert repeated == 0 or (repeated == 1 and path[-1] in path[:-1])


def test_ways_that_join_before_a_loop_are_counted_exactly():
    """Sixteen diamonds in a row make 2^16 ways, all into one loop of two routers."""
    text = "devices:\n"
    links = []
    for n in range(17):
        onward = [f"10.{n}.{side}.2" for side in (1, 2)]
        static = ", ".join(f"{{prefix: 192.0.2.0/24, next_hop: {hop}}}" for hop in onward)
        back = f"[{static}]" if n < 16 else "[{prefix: 192.0.2.0/24, next_hop: 10.99.0.2}]"
        interfaces = {f"e{side}": f"addresses: [10.{n}.{side}.1/30]" for side in (1, 2) if n < 16}
        interfaces |= {f"b{side}": f"addresses: [10.{n - 1}.{side}.2/30]" for side in (1, 2) if n}
        if n == 16:
            interfaces["l"] = "addresses: [10.99.0.1/30]"
        text += router(f"r{n}", interfaces, f"static: {back}")
        links += [f"[r{n}:e{side}, r{n + 1}:b{side}]" for side in (1, 2) if n < 16]
    text += router("z", {"l": "addresses: [10.99.0.2/30]"}, "static: [{prefix: 192.0.2.0/24, next_hop: 10.99.0.1}]")
    walked = walk(load(text + "links: [" + ", ".join([*links, "[r16:l, z:l]"]) + "]\n"), "r0", "192.0.2.1")
    assert walked.forward.verdict == "loops"
    assert walked.forward.path_count == 2**16
