"""Causes name the entry; remedies, applied as they are written, cure."""

import re

from routrel.analysis.remedies import near_misses
from routrel.model.addresses import Address, Prefix
from routrel.model.filters import TCP, UDP, Acl, AclEntry, Header, HeaderMatch, PortRange
from tests.core.networks import answer, load
from tests.core.test_walk import lan

HEADER = Header(TCP, Address.parse("10.0.1.10"), Address.parse("10.0.2.10"), 50000, 443)
WEB = (PortRange(443, 443),)


def entry(**match) -> AclEntry:
    return AclEntry("accept", HeaderMatch(**match))


def test_near_misses_are_accepting_entries_off_by_one_field_the_protocol_first():
    acl = Acl(
        "x",
        (
            entry(protocol=TCP, destination_ports=(PortRange(80, 80),)),
            entry(protocol=UDP, destination_ports=WEB),
            entry(protocol=UDP, source=Prefix.parse("10.9.0.0/16"), destination_ports=WEB),
            AclEntry("drop", HeaderMatch(UDP, destination_ports=WEB)),
            entry(protocol=TCP, source=Prefix.parse("10.9.0.0/16")),
            entry(protocol=1),
        ),
    )
    assert [(m.entry, m.field, m.has, m.needs) for m in near_misses("fw", acl, HEADER)] == [
        (2, "protocol", "udp", "tcp"),
        (5, "source", "10.9.0.0/16", "10.0.1.10"),
        (1, "destination_ports", "80", "443"),
    ]


def test_the_missing_entry_put_where_the_remedy_says_lets_the_packet_pass():
    text = lan("{edge: [{action: drop, protocol: tcp}, {action: accept}]}", ", acl_in: edge")
    (cause,) = answer(load(text), "h1", "h2", "tcp/443")["forward"]["causes"]
    assert cause["remedy"]["message"] == "add to ACL edge, before entry 1"
    cured = text.replace("{edge: [", "{edge: [" + cause["remedy"]["text"].removeprefix("- ") + ", ")
    assert answer(load(cured), "h1", "h2", "tcp/443")["forward"]["verdict"] == "arrives"


def test_an_entry_with_the_wrong_protocol_gets_one_like_it_with_the_right_one():
    text = lan("{edge: [{action: accept, protocol: udp, destination_ports: [443]}]}", ", acl_in: edge")
    (cause,) = answer(load(text), "h1", "h2", "tcp/443")["forward"]["causes"]
    assert cause["remedy"]["message"] == "add to ACL edge, after entry 1"
    cured = re.sub(
        r"(\{action: accept, protocol: udp[^}]*\})", rf"\1, {cause['remedy']['text'].removeprefix('- ')}", text
    )
    assert answer(load(cured), "h1", "h2", "tcp/443")["forward"]["verdict"] == "arrives"


def test_the_answers_remedy_matches_the_servers_port():
    text = lan("{out: [{action: accept, protocol: tcp, source_ports: [80]}]}", ", acl_out: out")
    (cause,) = answer(load(text), "h1", "h2", "tcp/443")["return"]["causes"]
    assert "source_ports: [443]" in cause["remedy"]["text"]
    cured = text.replace("{out: [", "{out: [" + cause["remedy"]["text"].removeprefix("- ") + ", ")
    assert answer(load(cured), "h1", "h2", "tcp/443")["return"]["verdict"] == "arrives"


CHAIN = """
devices:
  a: {interfaces: {e1: {addresses: [10.0.0.1/30]}, e2: {addresses: [10.0.1.1/24]}}, routing: {static: [STATIC]}}
  b: {interfaces: {e1: {addresses: [10.0.0.2/30]}, e2: {addresses: [10.0.2.1/24]}}, routing: {static: [{prefix: 10.0.1.0/24, next_hop: 10.0.0.1}]}}
  h1: {kind: host, gateway: 10.0.1.1, interfaces: {e1: {addresses: [10.0.1.10/24]}}}
  h2: {kind: host, gateway: 10.0.2.1, interfaces: {e1: {addresses: [10.0.2.10/24]}}}
links: [[a:e1, b:e1], [a:e2, h1:e1], [b:e2, h2:e1]]
"""


def test_a_missing_route_is_offered_by_the_neighbour_that_leads_on():
    (cause,) = answer(load(CHAIN.replace("STATIC", "")), "h1", "h2")["forward"]["causes"]
    assert cause["remedy"]["text"] == "- {prefix: 10.0.2.0/24, next_hop: 10.0.0.2}"
    cured = CHAIN.replace("STATIC", cause["remedy"]["text"].removeprefix("- "))
    assert answer(load(cured), "h1", "h2")["return"]["verdict"] == "arrives"


def test_past_a_discarding_route_a_longer_one_is_offered():
    text = CHAIN.replace("STATIC", "{prefix: 10.0.0.0/8, action: discard}")
    (cause,) = answer(load(text), "h1", "h2")["forward"]["causes"]
    assert "the longest match for 10.0.2.10 is 10.0.0.0/8" in cause["message"]
    cured = text.replace(
        "[{prefix: 10.0.0.0/8", "[" + cause["remedy"]["text"].removeprefix("- ") + ", {prefix: 10.0.0.0/8"
    )
    assert answer(load(cured), "h1", "h2")["forward"]["verdict"] == "arrives"


def test_no_remedy_is_invented_where_none_leads_on():
    (cause,) = answer(load(CHAIN.replace("STATIC", "")), "h1", "192.0.2.1")["forward"]["causes"]
    assert cause["remedy"] is None


IDLE = """
devices:
  a:
    interfaces: {{e1: {{addresses: [10.0.0.1/30]}}, e2: {{addresses: [10.8.0.1/16]{e2}}}}}
    routing: {{static: [{{prefix: 10.9.0.0/16, next_hop: 10.0.0.6}}]}}
  b: {{interfaces: {{e1: {{addresses: [10.0.0.2/30, 10.9.0.1/16, 10.8.0.2/16]}}}}}}
links: [[a:e1, b:e1]]
"""


def test_a_missing_route_names_the_route_that_would_lead_there_and_is_idle():
    network = load(IDLE.format(e2=""))
    first = answer(network, "a", "10.9.0.1")["forward"]["causes"][0]["trail"][0]
    assert first["message"] == "10.9.0.0/16 is stated here and not active: no route to the next hop 10.0.0.6"
    assert first["place"]["line"] == 7


def test_a_missing_route_names_the_interface_that_has_the_subnet_and_is_down():
    network = load(IDLE.format(e2=", enabled: false"))
    steps = answer(network, "a", "10.8.0.2")["forward"]["causes"][0]["trail"]
    assert steps[0]["message"] == "a:e2 has 10.8.0.0/16 and is down: it is disabled"
