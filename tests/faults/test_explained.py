"""What an answer names: the thing to change, and remedies that were solved before they are shown."""

import re

import pytest

from routrel.formats.network_file import read_network
from routrel.solving import solve
from tests.faults.faults import ask, findings, solved, text_of, why

ABSENT = [
    ("ospf-across-vlans", "r1", "10.255.0.2/32", ("s:p1 is in VLAN 10", "s:p2 is in VLAN 20"), "access: 10"),
    ("ospf-across-vlans", "r2", "10.255.0.1/32", ("s:p1 is in VLAN 10", "s:p2 is in VLAN 20"), "access: 10"),
    ("ospf-passive-at-one-end", "r1", "10.255.0.2/32", ("r2:e is passive in OSPF",), "passive: true"),
    ("ospf-passive-at-one-end", "r2", "10.255.0.1/32", ("r2:e is passive in OSPF",), "passive: true"),
    ("ospf-on-one-end", "r1", "10.255.0.2/32", ("r2:e does not stand in OSPF",), "  r2:"),
    ("ospf-on-one-end", "r2", "10.255.0.1/32", ("r2:e does not stand in OSPF",), "  r2:"),
    ("ospf-areas-differ", "r1", "10.255.0.2/32", ("area 0.0.0.0 against area 0.0.0.1", "ospf-neighbours"), "  r2:"),
]


@pytest.mark.parametrize(("name", "device", "prefix", "texts", "line"), ABSENT)
def test_an_absent_link_state_route_names_the_interface_and_line_that_keep_two_routers_apart(
    name, device, prefix, texts, line
):
    stop = why(solved(name), device, prefix)["trails"][0][-1]
    assert stop["stopped"] and all(text in stop["message"] for text in texts)
    lines = text_of(name).splitlines()
    places = [stop["place"], *stop["other_places"]]
    assert any(line in lines[place["line"] - 1] for place in places)


@pytest.mark.parametrize(("device", "prefix"), [("x", "10.7.0.0/24"), ("t", "10.6.0.0/24")])
def test_every_protocol_names_the_disabled_link(device, prefix):
    stops = [trail[-1] for trail in why(solved("link-disabled"), device, prefix)["trails"]]
    assert sorted(stop["place"]["line"] for stop in stops) == [4, 5, 6, 7]
    assert all("is disabled" in stop["message"] for stop in stops)


def test_trails_do_not_contradict_a_candidate_that_the_install_policy_rejected():
    answer = why(solved("install-policy-trail"), "z1", "10.66.0.0/24")
    assert {one["protocol"] for one in answer["candidates"]} == {"ospf", "eigrp"}
    stops = [trail[-1]["message"] for trail in answer["trails"]]
    assert len(stops) == 2 and all("install policy inst rejects it" in stop for stop in stops)


def test_a_cause_of_no_route_leads_on_to_where_the_route_stopped():
    network = solved("ospf-passive-at-one-end")
    (cause,) = ask(network, "r1", "10.255.0.2")["forward"]["causes"]
    assert "r2:e is passive" in cause["trail"][0]["message"]


def test_a_remedy_names_the_instance_and_cures_as_printed():
    network = solved("remedy-without-instance")
    (cause,) = ask(network, "h2", "s2")["return"]["causes"]
    assert cause["remedy"]["message"] == "add to the static routes of q, instance blue"
    cured = solved(
        "remedy-without-instance",
        ("blue: {routing: {}}", f"blue: {{routing: {{static: [{cause['remedy']['text'][2:]}]}}}}"),
    )
    assert ask(cured, "h2", "s2")["return"]["verdict"] == "arrives"


def test_a_remedy_of_an_acl_adds_and_changes_nothing_that_passed():
    network = solved("remedy-that-breaks")
    (cause,) = ask(network, "h", "2001:db8:3::2")["forward"]["causes"]
    entry = int(re.search(r"after entry (\d+)|before entry (\d+)", cause["remedy"]["message"])[1])
    lines = text_of("remedy-that-breaks").splitlines()
    at = next(number for number, line in enumerate(lines) if "action: drop" in line) + entry
    cured = "\n".join([*lines[:at], " " * 6 + cause["remedy"]["text"], *lines[at:]])
    network = solve(read_network({"network.yaml": cured.encode()}))
    assert ask(network, "h", "2001:db8:3::2")["forward"]["verdict"] == "arrives"
    assert ask(network, "h", "10.3.0.2")["forward"]["verdict"] == "arrives"


def test_a_remedy_for_a_range_of_ports_takes_all_of_them():
    text = """
routrel: 1
name: slip
devices:
  h: {kind: host, interfaces: {e: {addresses: [10.1.0.2/24]}}, gateway: [10.1.0.1]}
  r:
    interfaces: {a: {addresses: [10.1.0.1/24]}, b: {addresses: [10.2.0.1/24], acl_out: guard}}
    acls:
      guard:
      - {action: accept, protocol: udp, destination_ports: ["5000-5010"]}
      - {action: drop}
  s: {kind: host, interfaces: {e: {addresses: [10.2.0.2/24]}}, gateway: [10.2.0.1]}
links:
- {ends: ["h:e", "r:a"]}
- {ends: ["r:b", "s:e"]}
"""
    network = solve(read_network({"network.yaml": text.encode()}))
    (wide,) = ask(network, "h", "s", "tcp/5000-5020")["forward"]["causes"]
    assert wide["remedy"]["message"].endswith("before entry 2")
    assert 'destination_ports: ["5000-5020"]' in wide["remedy"]["text"]
    (inside,) = ask(network, "h", "s", "tcp/5000-5005")["forward"]["causes"]
    assert inside["remedy"]["text"] == '- {action: accept, protocol: tcp, destination_ports: ["5000-5010"]}'


def test_a_remedy_that_leaves_the_flow_unrouted_is_not_offered():
    network = solved("remedy-that-does-not-cure")
    (cause,) = ask(network, "a", "10.3.0.1")["forward"]["causes"]
    if cause["remedy"] is not None:
        text = cause["remedy"]["text"].removeprefix("- ")
        cured = solved("remedy-that-does-not-cure", ("{prefix: 10.3.0.1/32, action: discard}", text))
        assert ask(cured, "a", "10.3.0.1")["forward"]["verdict"] == "arrives"


def test_an_accepting_entry_behind_a_drop_is_a_near_miss():
    (cause,) = ask(solved("entry-behind-drop"), "h", "s", "udp/53")["forward"]["causes"]
    assert cause["entry"] == 1
    assert (cause["near_misses"][0]["entry"], cause["near_misses"][0]["field"]) == (3, "order")


def test_a_dead_next_hop_of_a_steering_entry_is_said_with_its_line():
    network = solved("steering-dead-next-hop")
    (cause,) = ask(network, "h1", "srv", "interferometer")["forward"]["causes"]
    line = next(n for n, text in enumerate(text_of("steering-dead-next-hop").splitlines(), 1) if "next_hop" in text)
    assert cause["place"]["line"] == line and "steers it there" in cause["message"]
    assert [finding.places[0].line for finding in findings(network, "next-hop")] == [line]


def test_an_order_warning_names_everything_at_stake():
    (finding,) = findings(solved("redistribution-both-ways"), "redistribution-order")
    for name in ("z1 into ospf", "z1 into eigrp", "z2 into ospf", "z2 into eigrp"):
        assert name in finding.message


def test_the_candidate_by_which_another_loses_is_shown():
    answer = why(solved("redistribution-both-ways"), "z2", "10.66.0.0/24")
    own = [one for one in answer["candidates"] if one["origin"] == "z2 puts it into EIGRP itself"]
    assert own and own[0]["state"] == "out"


def test_mtu_findings_speak_of_ospf_only_where_it_runs():
    text = "links: [[a:e, b:e]]\ndevices:\n  a: {interfaces: {e: {addresses: [10.0.0.1/30]}}}\n  b: {interfaces: {e: {mtu: 9000, addresses: [10.0.0.2/30]}}}\n"
    network = solve(read_network({"n.yaml": f"routrel: 1\nname: n\n{text}".encode()}))
    (finding,) = findings(network, "mtu-mismatch")
    assert "OSPF" not in finding.message
