"""OpenConfig's access lists, policy forwarding and AFTs, and a document that holds something of most trees."""

from typing import Any

from tests.core.model_documents import (
    config,
    gaps,
    neighbor,
    openconfig,
    openconfig_bgp,
    openconfig_interface,
    solved_of,
    subinterface,
)
from tests.core.networks import answer, hops, table
from tests.core.test_openconfig_models import LOOPBACK, SETS, connection, ospf, policies, statement


def verdict(solved: Any, source: str, to: str, service: str = "icmp") -> str:
    return str(answer(solved, source, to, service)["forward"]["verdict"])


def line(trees: dict[str, Any], instance: dict[str, Any] | None = None) -> Any:
    """A desk, a router with what is given, and two servers behind it."""
    default = {
        "identifier": "STATIC",
        "name": "s",
        "static-routes": {
            "static": [
                config(
                    "prefix", "0.0.0.0/0", more={"next-hops": {"next-hop": [config("index", "0", next_hop="10.0.0.1")]}}
                )
            ]
        },
    }
    router = openconfig(
        openconfig_interface("eth1", "10.0.0.1/24"),
        openconfig_interface("eth2", "10.0.1.1/24"),
        openconfig_interface("eth3", "10.0.2.1/24"),
        trees=trees,
        instance=instance or {},
    )
    return solved_of(
        desk=openconfig(openconfig_interface("e", "10.0.0.2/24"), protocols=[default]),
        r=router,
        one=openconfig(openconfig_interface("e", "10.0.1.2/24")),
        two=openconfig(openconfig_interface("e", "10.0.2.2/24")),
    )


def acl(*entries: dict[str, Any], kind: str = "ACL_IPV4") -> dict[str, Any]:
    sets = {
        "acl-set": [
            {
                "name": "in",
                "type": kind,
                "config": {"name": "in", "type": kind},
                "acl-entries": {"acl-entry": list(entries)},
            }
        ]
    }
    bound = {"ingress-acl-set": [{"set-name": "in", "type": kind, "config": {"set-name": "in", "type": kind}}]}
    points = {"interface": [config("id", "eth1", more={"ingress-acl-sets": bound})]}
    return {"openconfig-acl:acl": {"acl-sets": sets, "interfaces": points}}


def entry(number: int, action: str, ipv4: dict[str, Any], transport: dict[str, Any] | None = None) -> dict[str, Any]:
    more: dict[str, Any] = {"ipv4": {"config": ipv4}, "actions": {"config": {"forwarding-action": action}}}
    if transport:
        more["transport"] = {"config": transport}
    return config("sequence-id", number, more=more)


def test_acl_entries_are_asked_by_sequence_not_as_they_are_listed():
    solved = line(
        acl(
            entry(20, "ACCEPT", {"destination-address": "10.0.1.0/24"}),
            entry(10, "DROP", {"protocol": "IP_TCP"}, {"destination-port": "20..30"}),
        )
    )
    assert verdict(solved, "desk", "10.0.1.2", "tcp/25") == "blocked"
    assert verdict(solved, "desk", "10.0.1.2", "tcp/80") == "arrives"
    assert verdict(solved, "desk", "10.0.2.2", "tcp/80") == "blocked"


def test_an_acl_entry_with_ports_of_no_protocol_is_left_out_and_said():
    solved = line(acl(entry(10, "ACCEPT", {}, {"destination-port": 80}), entry(20, "ACCEPT", {"protocol": 6})))
    assert gaps(solved.network, "r") == ["ports without a protocol are not represented, so its ACL entry is left out"]
    assert verdict(solved, "desk", "10.0.1.2", "tcp/80") == "arrives"


def test_policy_forwarding_steers():
    rule = config(
        "sequence-id",
        1,
        more={
            "ipv4": {"config": {"destination-address": "10.0.1.0/24", "protocol": 6}},
            "transport": {"config": {"destination-port": 443}},
            "action": {"config": {"next-hop": "10.0.2.2"}},
        },
    )
    forwarding = {
        "policy-forwarding": {
            "policies": {"policy": [config("policy-id", "web", more={"rules": {"rule": [rule]}}, type="PBR_POLICY")]},
            "interfaces": {"interface": [config("interface-id", "eth1", apply_forwarding_policy="web")]},
        }
    }
    solved = line({}, forwarding)
    assert answer(solved, "desk", "10.0.1.2", "tcp/443")["forward"]["paths"] == [["desk", "r", "two"]]
    assert verdict(solved, "desk", "10.0.1.2", "tcp/80") == "arrives"
    rule["action"] = {"config": {"decapsulate-gre": True}}
    assert gaps(line({}, forwarding).network, "r") == ["a rule of policy forwarding is not represented"]


def test_an_aft_is_a_table_read_off():
    afts = {
        "afts": {
            "ipv4-unicast": {
                "ipv4-entry": [
                    {
                        "prefix": "203.0.113.0/24",
                        "state": {
                            "prefix": "203.0.113.0/24",
                            "next-hop-group": "7",
                            "origin-protocol": "openconfig-policy-types:BGP",
                        },
                    }
                ]
            },
            "next-hop-groups": {
                "next-hop-group": [
                    {
                        "id": "7",
                        "state": {"id": "7"},
                        "next-hops": {
                            "next-hop": [
                                {"index": "1", "state": {"index": "1", "weight": "1"}},
                                {"index": "2", "state": {"index": "2"}},
                            ]
                        },
                    }
                ]
            },
            "next-hops": {
                "next-hop": [
                    {
                        "index": "1",
                        "state": {"index": "1", "ip-address": "10.0.1.2"},
                        "interface-ref": {"state": {"interface": "eth2", "subinterface": 0}},
                    },
                    {
                        "index": "2",
                        "state": {"index": "2", "ip-address": "10.0.2.2"},
                        "interface-ref": {"state": {"interface": "eth3"}},
                    },
                ]
            },
        }
    }
    solved = line({}, afts)
    route = table(solved, "r")["203.0.113.0/24"]
    assert (route.protocol, hops(solved, route)) == ("bgp", ["10.0.1.2@eth2", "10.0.2.2@eth3"])
    assert verdict(solved, "desk", "10.0.1.2") == "arrives"  # its own subnets are known by its interfaces


PARTS = [
    openconfig(
        openconfig_interface("eth1", "10.0.0.1/24", subs=(subinterface(20, "10.0.20.1/24", vlan=20),)),
        openconfig_interface("lo0", "10.255.0.1/32", **LOOPBACK),
        protocols=[
            ospf("0.0.0.0", config("id", "eth1", metric=7)),
            openconfig_bgp(
                65010, neighbor("10.0.0.2", peer_as=65011, more={"apply-policy": {"config": {"import-policy": ["P"]}}})
            ),
        ],
        instance=connection("OSPF", "BGP", default_import_policy="ACCEPT_ROUTE"),
        trees=policies(statement({"match-prefix-set": {"config": {"prefix-set": "NEAR"}}}, {}), **SETS)
        | acl(entry(10, "DROP", {"protocol": "IP_TCP"}, {"destination-port": "20..30"})),
    )
]
"""Documents that hold something of most trees."""
