"""Problems of the model: one small network for each kind."""

from routrel.analysis.check import check
from tests.core.networks import load, router


def codes(text: str) -> list[tuple[str, str, str]]:
    return [(f.code, f.severity, f.message) for f in check(load(text))]


def only(text: str) -> tuple[str, str, str]:
    (found,) = codes(text)
    return found


def two(first: str, second: str, more: str = "") -> str:
    return "devices:\n" + router("a", {"e1": first}, "", more) + router("b", {"e1": second}) + "links: [[a:e1, b:e1]]\n"


def test_a_sound_network_has_no_problems():
    assert codes(two("addresses: [10.0.0.1/30]", "addresses: [10.0.0.2/30]")) == []


def test_duplicate_addresses():
    code, severity, message = only(two("addresses: [10.0.0.1/30]", "addresses: [10.0.0.1/30]"))
    assert (code, severity) == ("duplicate-address", "error")
    assert "a:e1, b:e1" in message


def test_addresses_of_routers_apart_are_no_duplicates_however_many():
    text = "devices:\n" + "".join(router(f"r{one}", {"lo": "addresses: [10.0.0.1/32]"}) for one in range(3000))
    assert "duplicate-address" not in {code for code, _, _ in codes(text)}


def test_subnets_that_differ_on_a_segment_are_said_once():
    code, _, message = only(two("addresses: [10.0.0.1/30]", "addresses: [10.0.0.2/29]"))
    assert code == "subnet-mismatch"
    assert "10.0.0.0/30" in message
    assert "10.0.0.0/29" in message


def test_different_packet_sizes_on_a_segment():
    code, _, message = only(two("addresses: [10.0.0.1/30], mtu: 1400", "addresses: [10.0.0.2/30]"))
    assert code == "mtu-mismatch"
    assert "MTU 1400 on a:e1 against 1500 on b:e1" in message


def test_a_link_without_carrier_is_a_note():
    assert only(two("enabled: false", "addresses: [10.0.0.2/30]"))[:2] == ("no-carrier", "note")


def test_next_hops_that_cannot_resolve():
    text = "devices:\n" + router(
        "a", {"e1": "addresses: [10.0.0.1/30]"}, "static: [{prefix: 10.9.0.0/16, next_hop: 192.0.2.1}]"
    )
    assert only(text)[0] == "next-hop"
    steering = "forwarding_policies: {p: [{action: forward, next_hop: 192.0.2.1}]}"
    text = "devices:\n" + router("a", {"e1": "addresses: [10.0.0.1/30], forwarding_policy: p"}, "", steering)
    assert "the table decides" in only(text)[2]


def test_lists_and_policies_attached_nowhere():
    more = "acls: {edge: []}\nforwarding_policies: {p: []}"
    found = codes(two("addresses: [10.0.0.1/30]", "addresses: [10.0.0.2/30]", more))
    assert [code for code, _, _ in found] == ["unattached", "unattached"]


def test_shadowed_entries_that_would_do_the_opposite_are_worse():
    entries = "{action: accept, protocol: tcp}, {action: ACTION, protocol: tcp, destination_ports: [80]}"
    more = "acls: {edge: [" + entries + "]}"
    text = two("addresses: [10.0.0.1/30], acl_in: edge", "addresses: [10.0.0.2/30]", more)
    assert only(text.replace("ACTION", "drop"))[:2] == ("shadowed", "warning")
    assert only(text.replace("ACTION", "accept"))[:2] == ("shadowed", "note")


def test_every_finding_has_a_place_in_the_text():
    text = two("addresses: [10.0.0.1/30], mtu: 1400", "addresses: [10.0.0.1/29]", "acls: {x: []}")
    found = check(load(text))
    assert len(found) >= 4
    assert all(finding.places and all(place.line for place in finding.places) for finding in found)


def test_a_policy_that_nothing_asks():
    more = "policies: {idle: [{result: accept}], busy: [{result: accept}]}"
    text = "devices:\n" + router("a", {"e1": "addresses: [10.0.0.1/30]"}, "install_policy: busy", more)
    code, severity, message = only(text)
    assert (code, severity) == ("unattached", "warning")
    assert message == "policy idle of a is asked by nothing"


def test_neighbours_of_every_protocol_that_should_be_and_are_not():
    for protocol, first, second, said in (
        (
            "isis",
            "net: 49.0001.0000.0000.0001.00, level: '1'",
            "net: 49.0001.0000.0000.0002.00, level: '2'",
            "level 1 against level 2",
        ),
        ("isis", "net: 49.0001.0000.0000.0001.00", "net: 49.0001.0000.0000.0001.00", "both have the system id"),
        ("eigrp", "as: 1", "as: 2", "AS 1 against AS 2"),
    ):
        text = (
            "devices:\n"
            + router("a", {"e1": "addresses: [10.0.0.1/30]"}, f"{protocol}: {{{first}, interfaces: {{e1: {{}}}}}}")
            + router("b", {"e1": "addresses: [10.0.0.2/30]"}, f"{protocol}: {{{second}, interfaces: {{e1: {{}}}}}}")
            + "links: [[a:e1, b:e1]]\n"
        )
        code, severity, message = only(text)
        assert (code, severity) == (f"{protocol}-neighbours", "error")
        assert said in message
