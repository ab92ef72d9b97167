"""Policies, redistribution, RIP, install policies and routing instances: an example for each rule."""

import pytest

from routrel.analysis.contest.why import WhyAnswerer, parse_prefix
from tests.core.networks import errors, hops, load, plain, router, table, walk

LINKS = 'links:\n- ["a:e1", "b:e1"]\n- ["b:e2", "c:e1"]\n'


def island(policy: str = "", rule: str = "from: rip", rip: str = "", statics: str = "") -> str:
    """a speaks OSPF, c speaks RIP, b both and passes RIP's routes to OSPF."""
    policies = f"policies: {{p: {policy}}}" if policy else ""
    return (
        "devices:\n"
        + router("a", {"e1": "addresses: [10.1.0.1/30]"}, "ospf: {areas: {0: {interfaces: {e1: {}}}}}")
        + router(
            "b",
            {"e1": "addresses: [10.1.0.2/30]", "e2": "addresses: [10.2.0.1/30]"},
            f"ospf: {{areas: {{0: {{interfaces: {{e1: {{}}}}}}}}, redistribute: [{{{rule}}}]}}\n"
            "rip: {interfaces: {e2: {}}}",
            policies,
        )
        + router(
            "c",
            {"e1": "addresses: [10.2.0.2/30]", "lo": "addresses: [10.9.0.1/32]"},
            f"rip: {{interfaces: {{e1: {{}}, lo: {{passive: true}}}}, redistribute: [{{from: static{rip}}}]}}\n"
            f"static: [{{prefix: 192.0.2.0/25, action: discard}}, {{prefix: 192.0.2.128/25, action: discard}}{statics}]",
        )
        + LINKS
    )


def outside(text: str) -> dict[str, tuple[str, int, int | None]]:
    """a's external routes: origin, metric, tag."""
    routes = table(load(text), "a")
    return {p: (r.origin[-1], r.metric, r.tag) for p, r in routes.items() if r.origin.startswith("external")}


def test_only_routes_of_the_named_protocol_that_are_best_are_passed_on():
    found = outside(island())
    assert set(found) == {"10.9.0.1/32", "192.0.2.0/25", "192.0.2.128/25"}
    assert set(outside(island(rule="from: connected"))) == {"10.2.0.0/30"}
    beaten = island().replace(
        "rip: {interfaces: {e2", "static: [{prefix: 192.0.2.0/25, action: discard}]\n      rip: {interfaces: {e2"
    )
    assert "192.0.2.0/25" not in outside(beaten)


def test_what_no_statement_decides_is_rejected():
    policy = "[{match: {prefixes: [192.0.2.0/25]}, result: accept}]"
    assert set(outside(island(policy, "from: rip, policy: p"))) == {"192.0.2.0/25"}


def test_a_policys_sets_override_what_stands_beside_it():
    policy = "[{match: {prefixes: [192.0.2.0/25]}, set: {metric: 5, metric_type: 1, tag: 9}, result: accept}, {result: accept}]"
    found = outside(island(policy, "from: rip, policy: p, metric: 50, tag: 3"))
    assert found["192.0.2.0/25"] == ("1", 15, 9)
    assert found["192.0.2.128/25"] == ("2", 50, 3)


def test_continue_goes_on_and_later_statements_see_what_was_set():
    policy = "[{set: {tag: 7}, result: continue}, {match: {tag: 7}, set: {metric: 3}, result: accept}]"
    assert outside(island(policy, "from: rip, policy: p"))["192.0.2.0/25"] == ("2", 3, 7)


def test_a_prefix_match_has_lengths():
    for lengths, wanted in (
        ("min_length: 25, max_length: 25", 2),
        ("min_length: 26", 0),
        ("max_length: 32", 2),
        ("max_length: 24", 0),
    ):
        policy = f"[{{match: {{prefixes: [{{prefix: 192.0.2.0/24, {lengths}}}]}}, result: accept}}]"
        assert len(outside(island(policy, "from: rip, policy: p"))) == wanted, lengths


@pytest.mark.parametrize(
    ("match", "passes"),
    [
        ("tag: 33", True),
        ("tag: 0", False),
        ("metric: 4", True),
        ("metric: 3", False),
        ("protocol: rip", True),
        ("protocol: [ospf, static]", False),
        ("next_hop: 10.2.0.2", True),
        ("next_hop: [10.2.0.9]", False),
        ("prefixes: some", True),
    ],
)
def test_everything_a_statement_can_match(match, passes):
    text = island(f"[{{match: {{{match}}}, result: accept}}]", "from: rip, policy: p", ", metric: 3, tag: 33")
    text = text.replace("    policies:", "    prefix_sets: {some: [192.0.2.0/25]}\n    policies:")
    assert ("192.0.2.0/25" in outside(text)) == passes


def test_rip_adds_the_metric_of_the_interface_that_hears():
    solved = load(
        island(rip=", metric: 4").replace("rip: {interfaces: {e2: {}}}", "rip: {interfaces: {e2: {metric: 5}}}")
    )
    routes = table(solved, "b")
    assert routes["192.0.2.0/25"].metric == 9
    assert routes["10.9.0.1/32"].metric == 6
    assert hops(solved, routes["10.9.0.1/32"]) == ["10.2.0.2@e2"]


def test_rip_ends_at_16():
    text = island(rip=", metric: 4").replace("rip: {interfaces: {e2: {}}}", "rip: {interfaces: {e2: {metric: 12}}}")
    routes = table(load(text), "b")
    assert "192.0.2.0/25" not in routes
    assert routes["10.9.0.1/32"].metric == 13


def test_a_passive_interface_hears_and_does_not_speak():
    quiet = island().replace("rip: {interfaces: {e1: {}, lo", "rip: {interfaces: {e1: {passive: true}, lo")
    assert "10.9.0.1/32" not in table(load(quiet), "b")
    deaf = island().replace("rip: {interfaces: {e2: {}}}", "rip: {interfaces: {e2: {passive: true}}}")
    assert "10.9.0.1/32" in table(load(deaf), "b")


def test_an_acl_can_stop_rip_one_way():
    text = (
        island()
        .replace("e2: {addresses: [10.2.0.1/30]}", "e2: {addresses: [10.2.0.1/30], acl_in: quiet}")
        .replace("  c:\n", "    acls: {quiet: [{action: drop, protocol: udp}, {action: accept}]}\n  c:\n")
    )
    solved = load(text)
    assert "10.9.0.1/32" not in table(solved, "b")
    assert any("does not hear RIP" in finding.message for finding in solved.findings)


def test_equal_rip_metrics_keep_the_lowest_next_hop():
    text = (
        "devices:\n"
        + router("a", {"e1": "addresses: [10.1.0.1/24]"}, "rip: {interfaces: {e1: {}}}")
        + "".join(
            router(
                name,
                {"e1": f"addresses: [10.1.0.{n}/24]", "e2": f"addresses: [10.{n}.0.1/24]"},
                "rip: {interfaces: {e1: {}}, redistribute: [{from: static}]}\n"
                "static: [{prefix: 192.0.2.0/24, action: discard}]",
            )
            for name, n in (("c", 9), ("b", 5))
        )
        + 'links:\n- ["a:e1", "b:e1", "c:e1"]\n'
    )
    solved = load(text)
    assert hops(solved, table(solved, "a")["192.0.2.0/24"]) == ["10.1.0.5@e1"]


def test_ripng_carries_ipv6():
    text = (
        "devices:\n"
        + router(
            "a", {"e1": "addresses: ['2001:db8:1::1/64'], mac: '02:00:00:00:00:01'"}, "rip: {interfaces: {e1: {}}}"
        )
        + router(
            "b",
            {"e1": "addresses: ['2001:db8:1::2/64'], mac: '02:00:00:00:00:02'", "lo": "addresses: ['2001:db8::2/128']"},
            "rip: {interfaces: {e1: {}, lo: {}}}",
        )
        + 'links:\n- ["a:e1", "b:e1"]\n'
    )
    solved = load(text)
    route = table(solved, "a")["2001:db8::2/128"]
    assert (route.protocol, route.metric, hops(solved, route)) == ("rip", 2, ["fe80::ff:fe00:2@e1"])


def two_points(b_policy: str = "", d_policy: str = "") -> str:
    """OSPF on a, RIP on c, both on b and on d, which pass routes both ways."""
    both = (
        "ospf: {{areas: {{0: {{interfaces: {{e1: {{}}}}}}}}, redistribute: [{{from: rip{policy}}}]}}\n"
        "rip: {{interfaces: {{e2: {{}}}}, redistribute: [{{from: ospf, metric: 1}}]}}"
    )
    policies = "policies: {p: [{match: {prefixes: [192.0.2.0/24]}, result: reject}, {result: accept}]}"
    return (
        "devices:\n"
        + router(
            "a",
            {"e1": "addresses: [10.1.0.1/30]", "e2": "addresses: [10.3.0.1/30]", "lo": "addresses: [10.0.0.1/32]"},
            "ospf: {areas: {0: {interfaces: {e1: {}, e2: {}, lo: {}}}}}",
        )
        + router(
            "b",
            {"e1": "addresses: [10.1.0.2/30]", "e2": "addresses: [10.2.0.1/30]"},
            both.format(policy=b_policy),
            policies,
        )
        + router(
            "c",
            {"e1": "addresses: [10.2.0.2/30]", "e2": "addresses: [10.4.0.2/30]"},
            "rip: {interfaces: {e1: {}, e2: {}}, redistribute: [{from: static, metric: 3}]}\n"
            "static: [{prefix: 192.0.2.0/24, action: discard}]",
        )
        + router(
            "d",
            {"e1": "addresses: [10.3.0.2/30]", "e2": "addresses: [10.4.0.1/30]"},
            both.format(policy=d_policy),
            policies,
        )
        + 'links:\n- ["a:e1", "b:e1"]\n- ["b:e2", "c:e1"]\n- ["a:e2", "d:e1"]\n- ["c:e2", "d:e2"]\n'
    )


def test_mutual_redistribution_at_two_points_that_keeps_changing_is_reported_with_its_cycle():
    """Each point prefers what the other put into OSPF, stops putting it in itself, and so on."""
    solved = load(two_points())
    assert table(solved, "c")["10.0.0.1/32"].metric == 2
    found = [finding for finding in solved.findings if finding.code == "redistribution-unsettled"]
    routes = {name: table(solved, name)["192.0.2.0/24"] for name in "bd"}
    if not found:
        # One of them is the only one that puts it in, and the other believes it.
        assert {route.protocol for route in routes.values()} == {"rip", "ospf"}


def test_a_policy_at_one_point_makes_the_outcome_definite():
    solved = load(two_points(b_policy=", policy: p"))
    assert table(solved, "d")["192.0.2.0/24"].protocol == "rip"
    assert table(solved, "b")["192.0.2.0/24"].protocol == "ospf"
    assert not solved.findings


def test_an_install_policy_keeps_routes_out_and_changes_preferences():
    policy = (
        "[{match: {prefixes: [10.0.0.1/32]}, result: reject},"
        " {match: {prefixes: [10.3.0.0/30]}, set: {preference: 7}, result: accept}, {result: accept}]"
    )
    text = two_points().replace(
        "    routing:\n      ospf: {areas: {0: {interfaces: {e1: {}}}}, redistribute",
        "    routing:\n      install_policy: i\n      ospf: {areas: {0: {interfaces: {e1: {}}}}, redistribute",
        1,
    )
    solved = load(text.replace("policies: {p:", f"policies: {{i: {policy}, p:", 1))
    routes = table(solved, "b")
    assert "10.0.0.1/32" not in routes
    assert routes["10.3.0.0/30"].preference == 7
    assert solved.table(solved.topology.device_index["b"]).source_route(
        0,
        solved.prefixes.number[
            routes["10.0.0.1/32"].prefix if "10.0.0.1/32" in routes else table(solved, "d")["10.0.0.1/32"].prefix
        ],
    )


def test_rip_does_not_announce_what_an_install_policy_keeps_out():
    text = island().replace(
        "rip: {interfaces: {e2: {}}}", "rip: {interfaces: {e1: {}, e2: {}}}\n      install_policy: none"
    )
    text = text.replace(
        "  c:\n",
        "    policies: {none: [{match: {prefixes: [192.0.2.0/25]}, result: reject}, {result: accept}]}\n  c:\n",
    )
    text = text.replace("ospf: {areas: {0: {interfaces: {e1: {}}}}}", "rip: {interfaces: {e1: {}}}")
    routes = table(load(text), "a")
    assert "192.0.2.0/25" not in routes
    assert "192.0.2.128/25" in routes


def vrfs() -> str:
    return (
        "devices:\n"
        + router(
            "a",
            {
                "e1": "addresses: [10.1.0.1/24]",
                "e2": "addresses: [10.2.0.1/24], vrf: red",
                "e3": "addresses: [10.3.0.1/30], vrf: red",
            },
            "ospf: {areas: {0: {interfaces: {e1: {}}}}}",
            "vrfs: {red: {routing: {ospf: {areas: {0: {interfaces: {e2: {passive: true}, e3: {}}}}}}}}",
        )
        + router(
            "b",
            {"e1": "addresses: [10.3.0.2/30]", "e2": "addresses: [10.4.0.1/24]"},
            "ospf: {areas: {0: {interfaces: {e1: {}, e2: {passive: true}}}}}",
        )
        + "  h: {kind: host, gateway: 10.2.0.1, interfaces: {e1: {addresses: [10.2.0.9/24]}}}\n"
        + "  g: {kind: host, gateway: 10.1.0.1, interfaces: {e1: {addresses: [10.1.0.9/24]}}}\n"
        + "  s: {kind: host, gateway: 10.4.0.1, interfaces: {e1: {addresses: [10.4.0.9/24]}}}\n"
        + 'links:\n- ["a:e1", "g:e1"]\n- ["a:e2", "h:e1"]\n- ["a:e3", "b:e1"]\n- ["b:e2", "s:e1"]\n'
    )


def test_tables_belong_to_instances():
    solved = load(vrfs())
    assert "10.4.0.0/24" not in table(solved, "a")
    red = solved.topology.instance_index["a", "red"]
    assert {str(route.prefix) for route in solved.table(red)} >= {"10.2.0.0/24", "10.3.0.0/30", "10.4.0.0/24"}
    assert "10.1.0.0/24" not in table(solved, "b")


def test_a_walk_goes_through_the_instance_it_came_in_by():
    solved = load(vrfs())
    assert walk(solved, "h", "s").forward.verdict == "arrives"
    assert walk(solved, "g", "s").forward.verdict == "unrouted"
    assert walk(solved, "h", "10.1.0.9").forward.verdict == "unrouted"


def test_an_interface_of_another_instance_cannot_stand_in_a_protocol():
    found = errors(vrfs().replace("interfaces: {e1: {}}}}}\n    vrfs", "interfaces: {e2: {}}}}}\n    vrfs"))
    assert any("belongs to VRF red" in error for error in found)


@pytest.mark.parametrize(
    ("text", "said"),
    [
        ("policies: {p: [{match: {prefixes: nope}, result: accept}]}", "prefix set"),
        ("routing: {install_policy: nope}", "policy of this name"),
        ("routing: {rip: {redistribute: [{from: static, policy: nope}]}}", "policy of this name"),
        ("routing: {rip: {redistribute: [{from: rip}]}}", "its own routes"),
        ("routing: {rip: {redistribute: [{from: static}, {from: static}]}}", "twice"),
        ("policies: {p: [{match: {prefixes: [{prefix: 10.0.0.0/8, min_length: 4}]}, result: accept}]}", "lengths"),
        ("policies: {p: [{match: {tag: 4}}]}", "result"),
        ("vrfs: {default: {}}", "default routing instance"),
        ("interfaces: {e1: {vrf: blue}}", "VRF"),
        ("routing: {ospf: [{}, {}]}", "one name"),
        ("routing: {ospf: {areas: {1: {no_summary: true}}}}", "stub and nssa"),
        ("routing: {ospf: {version: 3, areas: {0: {ranges: [{prefix: 10.0.0.0/8}]}}}}", "IPv6 ranges"),
    ],
)
def test_what_cannot_be_is_refused_with_its_place(text, said):
    found = errors(f"devices:\n  r1: {{{text}}}\n")
    assert any(said in error and ":4:" in error for error in found), found


def test_what_never_settles_is_reported_with_those_who_keep_changing():
    """a says a default in OSPF while RIP tells it one; b tells it in RIP while OSPF says none."""
    text = (
        "devices:\n"
        + router(
            "a",
            {"e1": "addresses: [10.1.0.1/30]", "e2": "addresses: [10.2.0.1/30]"},
            "ospf: {areas: {0: {interfaces: {e1: {}}}}, originate_default: {}}\nrip: {interfaces: {e2: {}}}",
        )
        + router(
            "b",
            {"e1": "addresses: [10.1.0.2/30]", "e2": "addresses: [10.2.0.2/30]"},
            "ospf: {areas: {0: {interfaces: {e1: {}}}}}\n"
            "rip: {interfaces: {e2: {}}, redistribute: [{from: static}]}\n"
            "static: [{prefix: 0.0.0.0/0, action: discard, preference: 115}]",
        )
        + 'links:\n- ["a:e1", "b:e1"]\n- ["a:e2", "b:e2"]\n'
    )
    solved = load(text)
    (finding,) = solved.findings
    assert (finding.code, finding.severity) == ("redistribution-unsettled", "error")
    assert "0.0.0.0/0" in finding.message
    assert "a into ospf" in finding.message
    assert "b into rip" in finding.message
    assert finding.places[0].line > 0
    answer = plain(WhyAnswerer(solved).why(0, parse_prefix("0.0.0.0/0"), with_tipping=False))
    assert any("never settles" in note for note in answer["notes"])
