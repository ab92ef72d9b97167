"""Flows that were said to arrive and did not: ranges of ports, and addresses that are owned more than once."""

import json

import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from routrel.formats.network_file import read_network
from routrel.forwarding.flow_words import FlowError
from routrel.solving import solve
from tests.examples import examples
from tests.faults.faults import NETWORKS, ask, findings, solved


def test_rfc_8519_a_range_is_answered_for_every_port_of_it():
    answer = ask(solved("port-range"), "h1", "h2", "udp/16384-32767")
    assert answer["forward"]["verdict"] == "mixed"
    found = {part["verdict"]: (part["ports"], part["decided_by"][0]["entry"]) for part in answer["parts"]}
    assert found == {"arrives": (["16384"], 1), "blocked": (["16385-32767"], None)}


def test_a_flow_asked_by_protocol_alone_is_answered_for_all_ports():
    answer = ask(solved("port-range"), "h1", "h2", "udp")
    found = {part["verdict"]: part["ports"] for part in answer["parts"]}
    assert found == {"blocked": ["0-16383", "16385-65535"], "arrives": ["16384"]}


def test_a_range_that_nothing_tells_apart_is_one_answer():
    network = solved("port-range", ("destination_ports: [16384]", "destination_ports: ['16000-40000']"))
    answer = ask(network, "h1", "h2", "udp/16384-32767")
    assert answer["forward"]["verdict"] == "arrives" and not answer["parts"]


PORTS = st.lists(st.tuples(st.integers(1, 40), st.integers(0, 12)), min_size=1, max_size=3)
ENTRIES = st.lists(
    st.tuples(st.sampled_from(["accept", "drop"]), st.sampled_from(["udp", "tcp", "any"]), PORTS, st.booleans()),
    max_size=5,
)


def _entries(drawn) -> list[dict]:
    return [
        {"action": action, "stateful": stateful and action == "accept"}
        | (
            {"protocol": protocol, "destination_ports": [f"{low}-{low + more}" for low, more in ports]}
            if protocol != "any"
            else {}
        )
        for action, protocol, ports, stateful in drawn
    ]


@given(ENTRIES, ENTRIES, ENTRIES, st.integers(1, 50), st.integers(0, 20))
@settings(max_examples=examples(120), deadline=None)
def test_the_parts_of_a_range_are_those_of_its_ports_one_by_one(inward, outward, back, low, more):
    steering = [{"match": {"protocol": "udp", "destination_ports": [f"{low + 2}-{low + 4}"]}, "action": "discard"}]
    document = {
        "routrel": 1,
        "name": "range",
        "links": [["h1:e", "r:a"], ["r:b", "h2:e"]],
        "devices": {
            "h1": {"kind": "host", "interfaces": {"e": {"addresses": ["10.0.1.2/24"]}}, "gateway": "10.0.1.1"},
            "h2": {"kind": "host", "interfaces": {"e": {"addresses": ["10.0.2.2/24"]}}, "gateway": "10.0.2.1"},
            "r": {
                "interfaces": {
                    "a": {"addresses": ["10.0.1.1/24"], "acl_in": "in", "forwarding_policy": "p", "acl_out": "back"},
                    "b": {"addresses": ["10.0.2.1/24"], "acl_out": "out"},
                },
                "forwarding_policies": {"p": steering},
                "acls": {
                    "in": _entries(inward),
                    "out": _entries(outward),
                    "back": [*_entries(back), {"action": "accept"}],
                },
            },
        },
    }
    network = solve(read_network({"n.json": json.dumps(document).encode()}))
    high = low + more + 1
    whole = ask(network, "h1", "h2", f"udp/{low}-{high}")
    found = {}
    parts = whole["parts"] or [
        {
            "ports": [f"{low}-{high}"],
            "verdict": whole["forward"]["verdict"],
            "return_verdict": whole["return"]["verdict"],
        }
    ]
    for part in parts:
        for ports in part["ports"]:
            first, _, last = ports.partition("-")
            for port in range(int(first), int(last or first) + 1):
                assert port not in found
                found[port] = part["verdict"], part["return_verdict"]
    assert set(found) == set(range(low, high + 1))
    for port, verdicts in found.items():
        alone = ask(network, "h1", "h2", f"udp/{port}")
        assert verdicts == (alone["forward"]["verdict"], alone["return"]["verdict"]), port


def test_rfc_8349_a_flow_to_a_device_does_not_arrive_at_another_instance():
    network = solved("overlapping-instances")
    answer = ask(network, "h1", "s2")
    (cause,) = answer["forward"]["causes"]
    assert answer["forward"]["verdict"] == "unresolved" and "s1:e" in cause["message"] and "s2:e" in cause["message"]


def test_an_address_with_two_owners_is_refused_as_source_with_both_named():
    network = solved("overlapping-instances")
    with pytest.raises(FlowError, match=r"h1:e, h2:e"):
        ask(network, "10.1.0.2", "s1")
    assert ask(network, "h1:e", "s1")["forward"]["verdict"] == "arrives"


def test_a_vrf_chooses_the_owner_of_an_ambiguous_source():
    network = solved("overlapping-instances")
    assert ask(network, "10.1.0.1", "10.2.0.2", vrf="red")["forward"]["paths"] == [["p", "q", "s1"]]
    assert ask(network, "p", "10.2.0.2", vrf="blue")["forward"]["paths"] == [["p", "q", "s2"]]
    with pytest.raises(FlowError, match="green"):
        ask(network, "p", "10.2.0.2", vrf="green")


def test_rfc_8349_instances_keep_their_addresses_apart():
    assert not findings(solved("overlapping-instances"), "duplicate-address")
    assert not findings(solved("answer-to-another-host/network"), "duplicate-address")


def test_an_answer_that_ends_at_another_owner_of_the_address_does_not_arrive():
    network = solved("answer-to-another-host/network")
    for walk in json.loads((NETWORKS / "answer-to-another-host" / "expected-walks.json").read_text())["walks"]:
        answer = ask(network, walk["from"], walk["to"], walk["service"], source_port=walk["source_port"])
        assert answer["forward"]["verdict"] == "arrives"
        assert answer["return"]["verdict"] == "unresolved"
        assert "red-host" in answer["return"]["causes"][0]["message"]


def test_an_address_within_reach_of_itself_is_a_finding_unless_it_is_shared():
    assert findings(solved("shared-loopback"), "duplicate-address")
    any_ = "any: {kind: loopback, addresses: [10.9.9.9/32]}"
    assert not findings(
        solved("shared-loopback", (any_, any_.replace("loopback,", "loopback, shared: true,"))), "duplicate-address"
    )


def test_a_remedy_for_a_part_of_a_range_is_for_all_its_ports():
    answer = ask(solved("port-range"), "h1", "h2", "udp/16384-32767")
    text = answer["forward"]["causes"][0]["remedy"]["text"].removeprefix("- ")
    cured = solved("port-range", ("destination_ports: [16384]}", f"destination_ports: [16384]}}, {text}"))
    assert ask(cured, "h1", "h2", "udp/16384-32767")["forward"]["verdict"] == "arrives"
