"""The contest: its winner is the table's, and each round says who lost and by how much."""

import json

import pytest
from hypothesis import HealthCheck, given, settings

from routrel.analysis.contest.explainer import Explainer
from routrel.analysis.contest.registry import CONTESTS
from routrel.analysis.contest.why import WhyAnswerer, WhyError, parse_prefix, why_lines
from routrel.cli import main
from routrel.routing.registry import PROTOCOLS
from routrel.solving import solve
from tests.core.mixed_networks import documents, read
from tests.core.networks import load, plain, router
from tests.core.test_isis import chain as isis_chain
from tests.core.test_ospf_external import STATIC, chain
from tests.core.test_redistribution import island
from tests.examples import examples


def disagreements(solved) -> list[tuple]:
    """Every (instance, prefix) at which the contest's winner is not what stands in the table."""
    explainer = Explainer(solved)
    found = []
    for instance in solved.topology.instances:
        table = solved.table(instance.index)
        for number, prefix in enumerate(solved.prefixes.prefixes):
            route = table.get(number)
            contest = explainer.contest(instance.index, prefix)
            winner = contest.candidates[contest.winners[0]] if contest.winners else None
            stands = (
                None
                if route is None
                else (route.protocol, route.preference, route.metric, route.action, route.next_hops)
            )
            explained = winner and (
                winner.protocol,
                winner.preference,
                winner.metric,
                winner.action,
                contest.next_hops,
            )
            if stands != explained:
                found.append((solved.topology.instance_name(instance.index), str(prefix), stands, explained))
    return found


@given(documents())
@settings(max_examples=examples(120), deadline=None, suppress_health_check=[HealthCheck.too_slow])
def test_the_explained_winner_is_the_computed_winner(document):
    assert disagreements(solve(read(document))) == []


TWO_FAMILIES = """
devices:
  r1:
    interfaces:
      a: {addresses: [172.16.0.1/30, "2001:db8:1::1/64"]}
      b: {addresses: [172.16.0.5/30, "2001:db8:2::1/64"]}
    routing: {isis: {net: 49.0001.0000.0000.0001.00, level: "2", interfaces: {a: {}, b: {metric: 20}}}}
  r2:
    interfaces: {a: {addresses: [172.16.0.2/30]}, lan: {addresses: ["2001:db8:9::1/64"]}}
    routing: {isis: {net: 49.0001.0000.0000.0002.00, level: "2", interfaces: {a: {}, lan: {}}}}
  r3:
    interfaces: {b: {addresses: [172.16.0.6/30, "2001:db8:2::2/64"]}, lan: {addresses: ["2001:db8:9::2/64"]}}
    routing: {isis: {net: 49.0001.0000.0000.0003.00, level: "2", interfaces: {b: {}, lan: {}}}}
links: [[r1:a, r2:a], [r1:b, r3:b]]
"""


def test_both_families_follow_one_shortest_way():
    """RFC 5308: one computation for both, so that a longer way with IPv6 does not stand in."""
    solved = load(TWO_FAMILIES)
    assert disagreements(solved) == []
    answer = why(solved, "r1", "2001:db8:9::/64")
    assert answer["winner"] is None
    nearer, farther = answer["candidates"]
    assert nearer["out"] == "no neighbour on the shortest way has an IPv6 address" and farther["lost_in"] is not None
    assert all("r2:a, which has no IPv6 address" in trail[-1]["message"] for trail in answer["trails"])


def test_what_a_router_says_better_itself_is_not_leaked():
    """RFC 5302: r1 has the prefix at level 2 from itself, so no level 2 route of others is its own to leak."""
    solved = load(LEAK)
    assert disagreements(solved) == []
    assert why(solved, "r3", "10.9.0.0/24")["winner"] is None


LEAK = """
devices:
  r0:
    interfaces: {a: {addresses: [172.16.0.1/30]}, lan: {addresses: [10.9.0.1/24]}}
    routing:
      isis: {net: 49.0000.0000.0000.0001.00, interfaces: {a: {}, lan: {}}}
  r1:
    interfaces: {a: {addresses: [172.16.0.2/30]}, b: {addresses: [172.16.0.5/30]}}
    routing:
      isis:
        net: 49.0001.0000.0000.0002.00
        interfaces: {a: {}, b: {}}
        leak: {}
        redistribute: [{from: static, metric: 1}]
      static: [{prefix: 10.9.0.0/24, next_hop: 172.16.0.1}]
  r3:
    interfaces: {b: {addresses: [172.16.0.6/30]}}
    routing: {isis: {net: 49.0001.0000.0000.0003.00, level: "1", interfaces: {b: {}}}}
links: [[r0:a, r1:a], [r1:b, r3:b]]
"""


def why(solved, device: str, prefix: str, **more) -> dict:
    instance = solved.topology.instance_index[device, more.pop("vrf", "default")]
    return plain(WhyAnswerer(solved).why(instance, parse_prefix(prefix), **more))


RING = (
    "devices:\n"
    + router(
        "a",
        {"e1": "addresses: [10.1.0.1/30]", "e2": "addresses: [10.2.0.1/30]"},
        "ospf: {areas: {0: {interfaces: {e1: {cost: 10}, e2: {cost: 17}}}}}\n"
        "static: [{prefix: 10.0.0.2/32, next_hop: 10.2.0.2, preference: 115}, {prefix: 10.0.0.9/32, next_hop: 10.9.9.9}]",
    )
    + router(
        "b",
        {"lo": "addresses: [10.0.0.2/32]", "e1": "addresses: [10.1.0.2/30]", "e2": "addresses: [10.2.0.2/30]"},
        "ospf: {areas: {0: {interfaces: {lo: {}, e1: {}, e2: {}}}}}",
    )
    + 'links:\n- ["a:e1", "b:e1"]\n- ["a:e2", "b:e2"]\n'
)


def test_each_round_says_who_lost_and_by_how_much():
    answer = why(load(RING), "a", "10.0.0.2/32")
    assert answer["winner"]["protocol"] == "ospf"
    states = [(c["protocol"], c["state"], c["lost_in"], c["margin"]) for c in answer["candidates"]]
    assert states == [("static", "lost", 1, "by 5"), ("ospf", "winner", None, None), ("ospf", "lost", 0, "by 7")]
    assert [one["name"] for one in answer["rounds"]] == ["cost by first hop", "preference"]
    assert answer["candidates"][1]["ways"] == [
        {
            "total": 10,
            "legs": [
                {"device": "a", "interface": "e1", "cost": 10, "what": ""},
                {"device": "b", "interface": "lo", "cost": 0, "what": ""},
            ],
        }
    ]


def test_the_preferences_at_which_another_would_be_believed():
    points = why(load(RING), "a", "10.0.0.2/32")["tipping"]
    assert {(p["what"], p["value"], p["direction"]) for p in points} == {
        ("cost of e1", 17, "above"),
        ("cost of e2", 10, "below"),
        ("preference of ospf", 115, "above"),
    }


def test_a_candidate_that_cannot_take_part_says_why():
    answer = why(load(RING), "a", "10.0.0.9/32")
    assert answer["winner"] is None
    assert answer["candidates"][0]["state"] == "out"
    assert "10.9.9.9" in answer["candidates"][0]["out"]


def test_a_tie_that_nobody_chose_is_marked():
    text = RING.replace("preference: 115", "preference: 110")
    answer = why(load(text), "a", "10.0.0.2/32")
    assert answer["winner"]["protocol"] == "static"
    assert [one["chosen"] for one in answer["rounds"]] == [True, False]


def stopped(answer: dict) -> list[str]:
    return [step["message"] for trail in answer["trails"] for step in trail if step["stopped"]]


def test_an_absent_prefix_names_the_range_that_hides_it():
    text = chain(area="1").replace(
        "1: {interfaces: {e2", "1: {ranges: [{prefix: 10.0.0.0/29, advertise: false}], interfaces: {e2"
    )
    answer = why(load(text), "a", "10.0.0.3/32")
    assert stopped(answer) == ["border router b hides it in range 10.0.0.0/29"]
    assert answer["trails"][0][-1]["place"]["line"] > 0


def test_an_absent_prefix_names_the_area_type_that_forbids_it():
    answer = why(load(chain(a=STATIC % "", area="1", kind="type: stub, ")), "c", "192.0.2.0/24")
    assert any("type stub" in text for text in stopped(answer))
    assert answer["covered_by"] == "0.0.0.0/0"
    answer = why(load(chain(area="1", kind="type: stub, no_summary: true, ")), "c", "10.0.0.1/32")
    assert stopped(answer) == ["border router b says no summaries in area 0.0.0.1: no_summary"]


def test_an_absent_prefix_names_the_policy_statement_that_rejects_it():
    policy = "[{name: not this, match: {prefixes: [192.0.2.0/25]}, result: reject}, {result: accept}]"
    answer = why(load(island(policy, "from: rip, policy: p")), "a", "192.0.2.0/25")
    (text,) = stopped(answer)
    assert text == "ospf on b does not announce it: policy p rejects it: statement 1 (not this)"
    closing = "[{match: {prefixes: [192.0.2.128/25]}, result: accept}]"
    answer = why(load(island(closing, "from: rip, policy: p")), "a", "192.0.2.0/25")
    assert "what none decides is rejected" in stopped(answer)[0]


def test_an_absent_prefix_names_the_redistribution_that_is_not_there():
    answer = why(load(island(rule="from: static")), "a", "192.0.2.0/25")
    assert any("'redistribute' says nothing from rip" in text for text in stopped(answer))


def test_an_absent_prefix_says_that_no_router_speaks_both_protocols():
    text = """
devices:
  a:
    interfaces: {e1: {addresses: [10.0.0.1/30]}, lan: {addresses: [192.0.2.1/24]}}
    routing: {ospf: {areas: {0: {interfaces: {e1: {}, lan: {passive: true}}}}}}
  b:
    interfaces: {e1: {addresses: [10.0.0.2/30]}, e2: {addresses: [10.0.0.5/30]}}
    routing: {ospf: {areas: {0: {interfaces: {e1: {}}}}}}
  c:
    interfaces: {e1: {addresses: [10.0.0.6/30]}}
    routing: {rip: {interfaces: {e1: {}}}}
links:
- {ends: ["a:e1", "b:e1"]}
- {ends: ["b:e2", "c:e1"]}
"""
    assert stopped(why(load(text), "c", "192.0.2.0/24")) == [
        "nothing carries it from a to here: ospf has it, and no router that has it by ospf runs rip as c does"
    ]
    assert why(load(text), "c", "192.0.2.1")["prefix"] == "192.0.2.0/24"
    assert why(load(text), "c", "192.0.2.9")["prefix"] == "192.0.2.0/24"


def test_an_absent_prefix_beyond_rips_reach():
    text = island(rip=", metric: 4").replace("rip: {interfaces: {e2: {}}}", "rip: {interfaces: {e2: {metric: 12}}}")
    answer = why(load(text), "b", "192.0.2.0/25")
    assert answer["candidates"][0]["out"].startswith("16 is 16 or more")


def test_a_prefix_nobody_has():
    answer = why(load(RING), "a", "203.0.113.0/24")
    assert answer["prefix"] is None
    assert "no device of this network has 203.0.113.0/24" in answer["note"]
    assert why(load(RING), "a", "10.0.0.2")["prefix"] == "10.0.0.2/32"
    with pytest.raises(WhyError):
        parse_prefix("10.0.0.1/24")


def test_the_command_says_it_in_lines_and_as_json(tmp_path, capsys):
    path = tmp_path / "n.yaml"
    path.write_text(f"routrel: 1\nname: ring\n{RING}")
    assert main(["why", str(path), "--device", "a", "--prefix", "10.0.0.2/32"]) == 0
    out = capsys.readouterr().out
    assert "lost in round 2, preference by 5" in out
    assert "10 (a:e1) + 0 (b:lo) = 10" in out
    assert main(["why", str(path), "--device", "a", "--prefix", "10.0.0.9/32", "--json"]) == 1
    assert json.loads(capsys.readouterr().out)["winner"] is None
    for arguments in (["--device", "x", "--prefix", "10.0.0.0/8"], ["--device", "a", "--prefix", "hello"]):
        assert main(["why", str(path), *arguments]) == 2
        assert capsys.readouterr().out == ""


def test_an_instance_without_protocols_says_so():
    text = RING.replace("ospf: {areas: {0: {interfaces: {e1: {cost: 10}, e2: {cost: 17}}}}}\n      ", "")
    idle, said = stopped(why(load(text), "a", "10.0.0.9/32"))
    assert idle == "the static route for it on a is not active: no route to the next hop 10.9.9.9"
    assert said.startswith("a runs no routing protocol for IPv4")


def test_a_route_read_off_a_device_shows_what_was_read():
    text = (
        "devices:\n  a:\n    interfaces: {e1: {addresses: [10.1.0.1/30]}}\n    observed:\n"
        "    - {prefix: 10.5.0.0/16, next_hops: [{interface: e1, address: 10.1.0.2}], metric: 7}\n"
    )
    answer = why(load(text), "a", "10.5.0.0/16")
    assert (answer["winner"]["preference"], answer["winner"]["metric"]) == (None, 7)


def test_an_isis_prefix_that_no_policy_leaks_names_the_statement():
    policy = "policies: {p: [{name: only c, match: {prefixes: [10.0.0.3/32]}, result: accept}]}"
    text = isis_chain(a="level: '1'", b="level: 1-2, leak: {policy: p}", c="level: '2'", areas="112", b_more=policy)
    text = text.replace("lo: {addresses: [10.0.0.3/32]}", "lo: {addresses: [10.0.0.3/32, 10.0.0.33/32]}")
    answer = why(load(text), "a", "10.0.0.33/32")
    assert stopped(answer) == [
        "b does not leak it into level 1: policy p rejects it: no statement decides, and what none decides is rejected"
    ]
    assert answer["covered_by"] == "0.0.0.0/0"


def test_a_rip_route_spells_out_the_metrics_it_adds_up():
    answer = why(load(island()), "b", "10.9.0.1/32")
    (candidate,) = answer["candidates"]
    assert [(leg["interface"], leg["cost"]) for leg in candidate["ways"][0]["legs"]] == [("e2", 1), (None, 1)]
    assert candidate["origin"] == "c says it at 1"


@given(documents())
@settings(max_examples=examples(6), deadline=None, suppress_health_check=[HealthCheck.too_slow])
def test_every_absence_has_an_explanation_that_ends_where_it_stopped(document):
    solved = solve(read(document))
    answerer = WhyAnswerer(solved)
    for instance in solved.topology.instances:
        for prefix in solved.prefixes.prefixes:
            typed = answerer.why(instance.index, prefix, with_tipping=False)
            assert list(why_lines(typed))
            answer = plain(typed)
            if answer["winner"] is None:
                offered = any(
                    candidate["out"] or candidate["lost_in"] is not None for candidate in answer["candidates"]
                )
                assert offered or answer["trails"], (instance, str(prefix))
            for trail in answer["trails"]:
                assert trail[-1]["stopped"]
                assert all("no" in step["message"] for step in trail[:-1] if step["stopped"])


def test_every_protocol_has_its_part_of_explanations():
    assert {protocol.solution.protocol for protocol in PROTOCOLS} == {*CONTESTS}
