"""What RFC 8519 means: entries, their ports and families, and what of them the model cannot hold."""

import json
from typing import Any

import pytest

from tests.core.model_documents import ietf, ietf_interface, refusals, solved_of, static
from tests.core.networks import answer


def acl(*aces: dict[str, Any], kind: str = "ipv4-acl-type", direction: str = "ingress") -> dict[str, Any]:
    lists = [{"name": "in", "type": f"ietf-access-control-list:{kind}", "aces": {"ace": list(aces)}}]
    point = {"interface-id": "e1", direction: {"acl-sets": {"acl-set": [{"name": "in"}]}}}
    return {"ietf-access-control-list:acls": {"acl": lists, "attachment-points": {"interface": [point]}}}


def ace(name: str, matches: dict[str, Any], action: str = "accept") -> dict[str, Any]:
    return {"name": name, "matches": matches, "actions": {"forwarding": f"ietf-access-control-list:{action}"}}


def behind(trees: dict[str, Any]) -> Any:
    """A desk, a router whose list stands on ``e1`` towards the desk, and a server behind it."""
    desk = ietf(
        ietf_interface("e1", "10.0.0.2/24", "2001:db8:1::2/64"),
        protocols=[
            static(("0.0.0.0/0", {"next-hop-address": "10.0.0.1"})),
        ],
    )
    six = {"route": [{"destination-prefix": "::/0", "next-hop": {"next-hop-address": "2001:db8:1::1"}}]}
    desk["ietf-routing:routing"]["control-plane-protocols"]["control-plane-protocol"][0]["static-routes"][
        "ietf-ipv6-unicast-routing:ipv6"
    ] = six
    router = ietf(
        ietf_interface("e1", "10.0.0.1/24", "2001:db8:1::1/64"),
        ietf_interface("e2", "10.0.1.1/24", "2001:db8:2::1/64"),
        trees=trees,
    )
    return solved_of(desk=desk, r=router, server=ietf(ietf_interface("e1", "10.0.1.2/24", "2001:db8:2::2/64")))


def outcome(solved: Any, to: str, service: str) -> str:
    return str(answer(solved, "desk", to, service)["forward"]["verdict"])


@pytest.mark.parametrize(
    ("port", "passing", "stopped"),
    [
        ({"lower-port": 80, "upper-port": 90}, 85, 91),
        ({"operator": "eq", "port": 80}, 80, 81),
        ({"operator": "lte", "port": 80}, 1, 81),
        ({"operator": "gte", "port": 80}, 65535, 79),
        ({"operator": "neq", "port": 80}, 81, 80),
    ],
)
def test_rfc8519_ports_by_range_and_operator(port, passing, stopped):
    web = ace(
        "web", {"ipv4": {"protocol": 6, "destination-ipv4-network": "10.0.1.0/24"}, "tcp": {"destination-port": port}}
    )
    solved = behind(acl(web))
    assert outcome(solved, "10.0.1.2", f"tcp/{passing}") == "arrives"
    assert outcome(solved, "10.0.1.2", f"tcp/{stopped}") == "blocked"
    assert outcome(solved, "10.0.1.2", f"udp/{passing}") == "blocked"


def test_rfc8519_a_list_of_one_family_is_not_asked_of_the_other():
    solved = behind(acl(ace("none", {"ipv4": {"source-ipv4-network": "192.0.2.0/24"}})))
    assert outcome(solved, "10.0.1.2", "icmp") == "blocked"
    assert outcome(solved, "2001:db8:2::2", "icmp") == "arrives"
    both = behind(
        acl(ace("none", {"ipv4": {"source-ipv4-network": "192.0.2.0/24"}}), kind="mixed-eth-ipv4-ipv6-acl-type")
    )
    assert outcome(both, "2001:db8:2::2", "icmp") == "blocked"


@pytest.mark.parametrize(
    ("matches", "says"),
    [
        ({"ipv4": {"dscp": 46}}, "the condition dscp"),
        ({"tcp": {"flags": "ack"}}, "the condition flags"),
        ({"ipv4": {"protocol": 1}, "icmp": {"type": 8}}, "the condition type"),
        ({"eth": {"ethertype": 2048}}, "the condition ethertype"),
    ],
)
def test_rfc8519_an_entry_that_cannot_be_held_is_left_out_and_said_where_its_list_stands(matches, says):
    solved = behind(acl(ace("odd", matches, "drop"), ace("rest", {})))
    assert outcome(solved, "10.0.1.2", "icmp") == "arrives"
    (gap,) = solved.network.devices["r"].gaps
    assert gap.message.startswith(says) and gap.message.endswith("so its ACL entry is left out") and gap.affects == "e1"
    assert gap.message in json.dumps(answer(solved, "desk", "10.0.1.2"))


def test_rfc8519_an_interface_that_no_device_has_is_refused():
    document = ietf(ietf_interface("e9", "10.0.0.1/24"), trees=acl(ace("rest", {})))
    assert "there is no interface of this name; found 'e1'" in refusals(r=document)[0]


def test_rfc8519_a_list_of_frames_is_said_where_it_stands():
    solved = behind(acl(ace("arp", {"eth": {"ethertype": 2054}}), kind="eth-acl-type"))
    assert outcome(solved, "10.0.1.2", "icmp") == "arrives"
    (gap,) = solved.network.devices["r"].gaps
    assert (gap.message, gap.affects) == ("an access list of frames is not represented", "e1")
