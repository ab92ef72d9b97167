"""What an expectation leans on: what carries it, decides about it or stands by, and what leads its flows."""

import json

import pytest
from hypothesis import HealthCheck, given, settings
from hypothesis import strategies as st

from routrel.analysis.evidence import Evidence
from routrel.analysis.expectations.deciders import deciders
from routrel.analysis.expectations.endangered import Endangering
from routrel.analysis.expectations.failures import failed, failures_of
from routrel.analysis.expectations.leaning import leaning, leaning_lines, leaning_of
from routrel.analysis.expectations.passed import Passed
from routrel.analysis.expectations.stress import Stress, Watched
from routrel.analysis.walk_verdicts import Answerer
from routrel.formats.expectations_file import read_expectations
from routrel.formats.sources import read_path
from routrel.forwarding.flow import Asker, Flow
from routrel.model.expectations import Expectation
from routrel.solving import solve
from tests.core.mixed_networks import documents, read
from tests.core.networks import load
from tests.core.speaker_networks import speakers
from tests.core.test_demo import EXAMPLE
from tests.core.test_expectations import SQUARE, flows_between, outcome_counted_anew
from tests.examples import examples

# A default by one border, and the far prefix learned by BGP from the other, let in by a policy.
BORDERS = """
devices:
  r: {interfaces: {a: {addresses: [10.0.1.1/30]}, b: {addresses: [10.0.2.1/30]}}, acls: {out: [{action: reject, protocol: udp}, {action: accept}]},
    policies: {taken: [{match: {prefixes: [172.16.0.0/16]}, result: accept}]},
    routing: {static: [{prefix: 0.0.0.0/0, next_hop: 10.0.2.2}],
      bgp: {as: 65001, router_id: 10.0.1.1, neighbors: {10.0.1.2: {as: 65002, import: taken}}}}}
  s: {interfaces: {a: {addresses: [10.0.1.2/30], acl_in: web}, far: {addresses: [172.16.0.1/16]}}, acls: {web: [{action: accept, protocol: icmp}, {action: accept, protocol: tcp}]},
    routing: {bgp: {as: 65002, router_id: 10.0.1.2, neighbors: {10.0.1.1: {as: 65001}}, networks: [172.16.0.0/16]}}}
  t: {interfaces: {b: {addresses: [10.0.2.2/30]}}}
links: [['r:a', 's:a'], ['r:b', 't:b']]
"""


def leaned(network, text: str):
    (one,) = read_expectations(f"- {{name: one, {text}}}".encode())
    *_, last = leaning(network, one)
    return last.held


def test_what_carries_is_told_from_what_stands_by():
    found = leaned(load(SQUARE), "from: a, to: 10.1.4.1")
    of = {one.name: (one.role, one.outcome) for one in found.elements}
    # The way goes by r2; r3 with its cables is the other way.
    assert of["r2"] == of["north"] == of["r2:y – r4:x"] == ("carries", "single")
    assert of["r3"] == of["r1:y – r3:x"] == of["r3:y – r4:y"] == ("stands by", "single")
    assert of["r1"] == ("carries", "breaks")
    assert of["r4"] == of["a:e – r1:lan"] == ("carries", None)  # its ends
    # The address that is asked for is down with the host's cable, which no packet passes.
    assert of["b:e – r4:lan"] == ("decides", "breaks")
    assert found.words == "6 carry it, 1 decides about it, 3 stand by"


def test_entries_routes_and_policies_are_named_with_what_is_without_them():
    network = load(BORDERS)
    found = leaned(network, "from: r, to: 172.16.0.1")
    led = {(one.kind, one.device): one for one in found.led_by if one.outcome}
    own, of_session = [one for one in found.led_by if (one.kind, one.device) == ("entry", "s")]
    assert own.outcome == of_session.outcome == "breaks"
    assert own.change == {"remove": "acl_entry", "at": "s", "acl": "web", "number": 1}
    # The echo meets the first entry, calls and answers of the session that brings the route the second.
    assert of_session.words == "session r 10.0.1.2: ACL web on a: entry 2 accepts"
    assert of_session.change == {"remove": "acl_entry", "at": "s", "acl": "web", "number": 2}
    policy = led["policy", "r"]
    assert "policy taken accepts it: statement 1" in policy.words and policy.outcome == "breaks"
    assert policy.change == {"remove": "statement", "at": "r", "policy": "taken", "number": 1}
    of = {one.name: (one.role, one.outcome) for one in found.elements}
    assert of["r 10.0.1.2"] == ("decides", "breaks")
    # The default is no route of this flow: without it nothing changes.
    assert not any("0.0.0.0/0" in one.words for one in found.led_by if one.device == "r")


def test_entries_that_a_session_can_do_without_are_not_named():
    # Either end may call: an entry that lets one call in is not needed where the other's call and answer have theirs.
    calls = BORDERS.replace(
        "web: [{action: accept, protocol: icmp}, {action: accept, protocol: tcp}]",
        "web: [{action: accept, protocol: icmp}, {action: accept, protocol: tcp, destination_ports: [179]},"
        " {action: accept, protocol: tcp, source_ports: [179]}]",
    )
    found = leaned(load(calls), "from: r, to: 172.16.0.1")
    assert [one.words for one in found.led_by if one.words.startswith("session")] == []


def test_entries_that_let_neighbours_hear_each_other_are_named():
    # No packet of the flow is OSPF's: it meets the second entry alone. A third that OSPF may meet decides nothing.
    network = load("""devices:
  r: {interfaces: {lo: {addresses: [10.9.0.1/32]}, a: {addresses: [10.0.1.1/30]}}, routing: {ospf: {areas: {0: {interfaces: {lo: {}, a: {}}}}}}}
  s: {interfaces: {lo: {addresses: [10.9.0.2/32]}, a: {addresses: [10.0.1.2/30], acl_in: edge}}, routing: {ospf: {areas: {0: {interfaces: {lo: {}, a: {}}}}}},
    acls: {edge: [{action: accept, protocol: ospf}, {action: accept, protocol: icmp}, {action: accept, source: 192.0.2.0/24}]}}
links: [['r:a', 's:a']]
""")
    found = leaned(network, "from: r, to: 10.9.0.2")
    named = [(one.words, one.outcome, one.change) for one in found.led_by if one.words.startswith("neighbours")]
    change = {"remove": "acl_entry", "at": "s", "acl": "edge", "number": 1}
    assert named == [("neighbours on s:a: ACL edge of s: entry 1 accepts ospf", "breaks", change)]


def test_a_static_route_is_taken_out():
    found = leaned(load(BORDERS), "from: r, to: 10.0.2.2")
    assert {one.outcome for one in found.led_by} == {None}  # connected
    found = leaned(load(BORDERS), "from: r, to: 192.0.2.1, expect: never arrives")
    (static,) = [one for one in found.led_by if one.change and one.change["remove"] == "static"]
    assert static.change == {"remove": "static", "at": "r", "number": 1}


def test_what_does_not_hold_leans_on_nothing_that_fails():
    found = leaned(load(SQUARE), "from: a, to: b, on: tcp/22")
    assert found.elements == [] and found.words.startswith("it does not hold")
    assert any("its closing drop" in line or "closing drop" in line for line in leaning_lines(found))


def test_what_is_left_out_is_said(monkeypatch):
    monkeypatch.setattr("routrel.analysis.expectations.leaning.MOST_FLOWS", 1)
    monkeypatch.setattr("routrel.analysis.expectations.deciders.MOST_POLICIES", 0)
    found = leaned(load(BORDERS), "from: r, to: [172.16.0.1, 10.0.2.2, 10.0.1.2]")
    assert found.words.endswith("; 2 more flows were not looked at; 1 more policies were not looked at")


def test_a_name_that_is_none_is_said():
    (only,) = leaning_of(load(SQUARE), "nothing")
    assert only.held.words == "there is no such expectation"


def test_policies_on_the_way_into_a_protocol_are_followed():
    solved = solve(read_path(EXAMPLE))
    (one,) = (one for one in solved.network.expectations if one.name.startswith("the ticket exchange"))
    answerer = Answerer(solved)
    walk = answerer.asker.ask(Flow(one.sources[0], one.destinations[0], one.services[0]))
    found = {(led.device, led.words.split(":")[0]): led for led in deciders(Evidence(answerer), [walk])}
    redistributed = found["bellbuoy", "static redistributed into bgp, 172.22.40.0/24"]
    stress = Stress(solved, [Watched(walk.flow, one.expect, walk)])
    assert [hurt.outcome for hurt in stress.changed(redistributed.without, "bellbuoy")] == ["exit"]
    # Of what goes into a protocol that none of its routes is learned by, nothing is said.
    assert not any("into rip" in words for _, words in found)


@given(st.one_of(documents(), speakers()))
@settings(max_examples=examples(8), deadline=None, suppress_health_check=[HealthCheck.too_slow])
def test_elements_are_all_whose_failure_alters_a_flow(document):
    solved = solve(read(document))
    for watched in flows_between(solved)[:2]:
        one = Expectation("one", (watched.flow.source,), (watched.flow.destination,))
        *_, last = leaning(solved, one)
        of = {(one.kind, one.name): one.outcome for one in last.held.elements}
        passed = Passed(solved, [watched.walk])
        for failure in failures_of(solved, ["devices", "links", "sessions"]):
            if {watched.flow.source, watched.flow.destination} & (failure.devices | failure.hosts):
                continue
            outcome = outcome_counted_anew(watched, solved, Asker(solve(failed(solved.network, failure))))
            key = failure.kind, failure.name
            assert of.get(key) == outcome and (key in of) == (outcome is not None or passed.has(failure)), failure


SAID = [
    {"action": "accept", "protocol": "ospf"},
    {"action": "accept", "protocol": "udp", "destination_ports": [520, 521]},
    {"action": "accept", "protocol": 88},
    {"action": "accept", "protocol": "icmp"},
    {"action": "accept", "protocol": "tcp"},
    {"action": "accept", "protocol": "udp", "source": "172.16.0.0/12"},
]


@given(
    st.one_of(documents(protocols=("ospf", "rip", "eigrp")), speakers()), st.lists(st.permutations(SAID), min_size=3)
)
@settings(max_examples=examples(4), deadline=None, suppress_health_check=[HealthCheck.too_slow])
def test_entries_are_all_without_which_flows_go_otherwise(document, lists):
    for number, device in enumerate(document["devices"].values()):
        device["acls"] = {"said": lists[number % len(lists)][: 5 + number % 2]}
        cables = [one for name, one in device["interfaces"].items() if name != "lo"]
        for at, interface in enumerate(cables):
            interface["acl_in" if (number + at) % 3 else "acl_out"] = "said"
    solved = solve(read(document))
    for watched in flows_between(solved)[:1]:
        *_, last = leaning(solved, Expectation("one", (watched.flow.source,), (watched.flow.destination,)))
        named = {(led.device, led.change["number"]): led.outcome for led in last.held.led_by if led.kind == "entry"}
        for name, device in solved.network.devices.items():
            for index in range(len(device.acls["said"].entries) if device.acls else 0):
                without = json.loads(json.dumps(document))
                del without["devices"][name]["acls"]["said"][index]
                outcome = outcome_counted_anew(watched, solved, Asker(solve(read(without))))
                assert named.get((name, index + 1)) == outcome, (watched.flow, name, index + 1)


@pytest.mark.parametrize("source", ["r1", "a"])
def test_ends_are_passed(source):
    solved = load(SQUARE)
    walk = Asker(solved).ask(Flow(source, "r4"))
    assert Passed(solved, [walk]).devices >= {source, "r4"}


EXITS = """
devices:
  edge:
    interfaces: {up: {addresses: [198.51.100.2/30]}, other: {addresses: [198.51.100.6/30]}, third: {addresses: [198.51.100.10/30]}, lan: {addresses: [10.1.0.1/24]}}
    routing: {bgp: {as: 64500, router_id: 10.1.0.1, networks: [10.1.0.0/24], neighbors: {
      198.51.100.1: {as: 64501, received: [{prefix: 203.0.113.0/24}]},
      198.51.100.5: {as: 64502, received: [{prefix: 203.0.113.0/24, as_path: [64502, 64501]}]},
      198.51.100.9: {as: 64503, received: [{prefix: 192.0.2.0/24}]}}}}
  pc: {kind: host, gateway: 10.1.0.1, interfaces: {e: {addresses: [10.1.0.5/24]}}}
links: [["edge:lan", "pc:e"]]
"""


def test_a_second_exit_stands_by():
    found = leaned(load(EXITS), "from: pc, to: 203.0.113.9")
    of = {one.name: (one.role, one.outcome, one.instead_of and one.instead_of.name) for one in found.elements}
    assert of["edge 198.51.100.1"] == ("decides", "exit", None)
    assert of["edge 198.51.100.5"] == ("stands by", None, "edge 198.51.100.1")
    # An interface that is down takes the session along: what is found first is named.
    assert of["edge:up"] == ("carries", "exit", None)
    assert of["edge:other"] == ("stands by", None, "edge 198.51.100.1")
    assert not {"edge 198.51.100.9", "edge:third"} & of.keys()
    said = "stands by: session edge 198.51.100.5: takes over without session edge 198.51.100.1"
    assert said in list(leaning_lines(found))


def test_an_interface_that_matters_alone_does_not_stand_by():
    # The first session is spoken from the second exit's interface: without that, neither is there.
    spoken = EXITS.replace("198.51.100.1: {as: 64501,", "198.51.100.1: {as: 64501, multihop: 2, update_source: other,")
    found = leaned(load(spoken), "from: pc, to: 203.0.113.9")
    of = {one.name: (one.role, one.outcome, one.instead_of) for one in found.elements}
    assert of["edge:other"] == ("decides", "breaks", None)
    assert of["edge 198.51.100.1"] == ("decides", "exit", None)


def test_without_a_second_exit_a_single_one_is_left():
    text = (
        b"- {name: one, from: pc, to: 203.0.113.9}\n- {name: other, from: pc, to: 203.0.113.9, expect: never arrives}"
    )
    endangering = Endangering(load(EXITS), read_expectations(text))

    def hurt(kind: str, at: str) -> list[tuple[str, str]]:
        return [(one.name, one.outcome) for one in endangering.by(kind, at).expectations]

    assert hurt("sessions", "edge 198.51.100.5") == hurt("interfaces", "edge:other") == [("one", "single")]
    assert hurt("sessions", "edge 198.51.100.1") == hurt("interfaces", "edge:up") == [("one", "exit")]
    assert hurt("sessions", "edge 198.51.100.9") == hurt("interfaces", "edge:third") == []
    assert hurt("devices", "edge") == [("one", "breaks")]
    # Where it has no other exit as it is, what fails beside it takes none away.
    one = EXITS.replace("{prefix: 203.0.113.0/24, as_path: [64502, 64501]}", "{prefix: 192.0.2.0/24}")
    alone = Endangering(load(one), read_expectations(text)).by("sessions", "edge 198.51.100.5")
    assert alone.expectations == []


def test_with_a_third_exit_none_of_the_others_stands_by_alone():
    third = EXITS.replace("192.0.2.0/24", "203.0.113.0/24, as_path: [64503, 64501]")
    found = leaned(load(third), "from: pc, to: 203.0.113.9")
    assert [one.name for one in found.elements if one.role == "stands by"] == []
