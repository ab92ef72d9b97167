"""Broken switching is not "beyond the model": what keeps two interfaces apart is named (IEEE 802.1Q)."""

import pytest

from tests.faults.faults import ask, findings, routes, solved, text_of


def lines_of(name: str, *texts: str) -> list[int]:
    lines = text_of(name).splitlines()
    return [next(number for number, line in enumerate(lines, 1) if text in line) for text in texts]


@pytest.mark.parametrize(
    ("name", "source", "destination", "texts"),
    [
        ("vlans-apart", "h1", "h2", ("s:p1 is in VLAN 10", "s:p2 is in VLAN 20")),
        ("trunk-pruned", "h4", "h1", ("s1:t carries VLAN 20", "s2:t does not")),
    ],
)
def test_a_next_hop_that_vlans_keep_apart_is_unresolved_with_both_places(name, source, destination, texts):
    network = solved(name)
    (cause,) = ask(network, source, destination)["forward"]["causes"]
    assert cause["verdict"] == "unresolved"
    assert all(text in cause["message"] for text in texts)
    (finding,) = findings(network, "subnet-split")
    assert all(text in finding.message for text in texts)
    assert cause["place"]["line"] == finding.places[0].line


def test_the_places_are_those_of_both_switch_ports():
    (finding,) = findings(solved("vlans-apart"), "subnet-split")
    assert [place.line for place in finding.places] == lines_of("vlans-apart", "p1: {switchport", "p2: {switchport")


def test_subnets_of_several_instances_on_one_cable_are_not_one_that_is_cut():
    assert not findings(solved("overlapping-instances"), "subnet-split")


def test_a_routing_protocol_across_the_break_is_found_too():
    network = solved("ospf-across-vlans")
    (finding,) = findings(network, "subnet-split")
    assert "r1:e and r2:e" in finding.message
    assert "10.255.0.2/32" not in routes(network, "r1")


def test_a_disabled_interface_behind_a_switch_is_named():
    network = solved(
        "vlans-apart",
        ("access: 20", "access: 10"),
        ("e: {addresses: [10.0.0.2/24]}", "e: {enabled: false, addresses: [10.0.0.2/24]}"),
    )
    (cause,) = ask(network, "h1", "h2")["forward"]["causes"]
    assert "r2:e is down: it is disabled" in cause["message"]
