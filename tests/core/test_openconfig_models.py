"""What OpenConfig's models mean, a small example for each tree."""

import json
from typing import Any

import pytest

from routrel.analysis.check import check
from routrel.formats.sources import read_files
from tests.core.model_documents import (
    config,
    files_of,
    gaps,
    neighbor,
    network_of,
    openconfig,
    openconfig_bgp,
    openconfig_interface,
    refusals,
    solved_of,
    subinterface,
)
from tests.core.networks import table

LOOPBACK = {"type": "iana-if-type:softwareLoopback"}


# Interfaces


def test_sub_interfaces_take_their_index_and_vlan():
    router = openconfig(
        openconfig_interface(
            "eth1", subs=(subinterface(10, "10.0.10.1/24", vlan=10), subinterface(20, "10.0.20.1/24", vlan=20))
        ),
        openconfig_interface("eth2", "10.0.2.1/24", "2001:db8:2::1/64", mtu=9000),
    )
    host = openconfig(openconfig_interface("e", subs=(subinterface(20, "10.0.20.2/24", vlan=20),)))
    files_link = "routrel: 1\nname: x\nlinks: [[r:eth1, h:e]]\n"
    network = read_files(files_of({"r": router, "h": host}) | {"network.yaml": files_link.encode()})
    interfaces = network.devices["r"].interfaces
    assert list(interfaces) == ["eth1", "eth1.10", "eth1.20", "eth2"]
    assert (interfaces["eth1.20"].parent, interfaces["eth1.20"].vlan) == ("eth1", 20)
    assert len(interfaces["eth2"].addresses) == 2 and interfaces["eth2"].mtu == 9000


def test_state_tells_that_an_interface_is_down():
    entry = openconfig_interface("eth1", "10.0.0.1/24") | {
        "state": {"oper-status": "DOWN", "counters": {"in-pkts": "5"}}
    }
    network = network_of(r=openconfig(entry))
    assert not network.devices["r"].interfaces["eth1"].enabled
    assert gaps(network, "r") == [] and network.devices["r"].statements.idle == 1


def test_bundles_take_the_interfaces_that_name_them():
    member = {
        "openconfig-if-ethernet:ethernet": {
            "config": {"openconfig-if-aggregate:aggregate-id": "ae1", "port-speed": "SPEED_10GB"}
        }
    }
    router = openconfig(
        openconfig_interface("eth1", trees=member),
        openconfig_interface("eth2", trees=member),
        openconfig_interface("ae1", "10.0.0.1/24", type="iana-if-type:ieee8023adLag"),
    )
    interfaces = network_of(r=router).devices["r"].interfaces
    assert interfaces["ae1"].kind == "bundle" and interfaces["ae1"].members == ("eth1", "eth2")
    assert interfaces["eth1"].bandwidth == 10_000_000_000


def test_switched_and_routed_vlans_make_a_switch():
    def port(name: str, **leaves: Any) -> dict[str, Any]:
        vlan = {
            "openconfig-vlan:switched-vlan": config(
                "interface-mode", "TRUNK" if "trunk_vlans" in leaves else "ACCESS", **leaves
            )
        }
        return openconfig_interface(name, trees={"openconfig-if-ethernet:ethernet": vlan})

    routed = {
        "openconfig-vlan:routed-vlan": {
            "config": {"vlan": 10},
            "openconfig-if-ip:ipv4": subinterface(0, "10.0.10.1/24")["openconfig-if-ip:ipv4"],
        }
    }
    switch = openconfig(
        port("e1", access_vlan=10),
        port("e2", trunk_vlans=[10, "20..22"], native_vlan=99),
        openconfig_interface("vlan10", trees=routed),
    )
    device = network_of(s=switch).devices["s"]
    assert device.kind == "switch"
    assert device.interfaces["e1"].switchport.access == 10
    assert (
        device.interfaces["e2"].switchport.trunk == (10, 20, 21, 22) and device.interfaces["e2"].switchport.native == 99
    )
    assert device.interfaces["vlan10"].vlan == 10 and device.interfaces["vlan10"].parent is None


# Routing


def ospf(area: str, *interfaces: dict[str, Any]) -> dict[str, Any]:
    areas = {"area": [config("identifier", area, more={"interfaces": {"interface": list(interfaces)}})]}
    return {"identifier": "oc-pol-types:OSPF", "name": "1", "ospfv2": {"global": {"config": {}}, "areas": areas}}


def connection(source: str, target: str, **leaves: Any) -> dict[str, Any]:
    entry = {
        "src-protocol": source,
        "dst-protocol": target,
        "address-family": "IPV4",
        "config": {k.replace("_", "-"): v for k, v in leaves.items()},
    }
    return {"table-connections": {"table-connection": [entry]}}


def test_ospf_metrics_by_interface_ref():
    def named(own: str, name: str, sub: int, **leaves: Any) -> dict[str, Any]:
        return config("id", own, more={"interface-ref": {"config": {"interface": name, "subinterface": sub}}}, **leaves)

    a = openconfig(
        openconfig_interface("eth1", "10.0.0.1/24"), protocols=[ospf("0.0.0.0", named("x", "eth1", 0, metric=7))]
    )
    b = openconfig(
        openconfig_interface("eth1", "10.0.0.2/24"),
        openconfig_interface("eth2", subs=(subinterface(5, "10.0.5.1/24", vlan=5),)),
        protocols=[ospf("0.0.0.0", named("x", "eth1", 0), named("y", "eth2", 5, metric=3, passive=True))],
    )
    assert table(solved_of(a=a, b=b), "a")["10.0.5.0/24"].metric == 10


def test_isis_levels_metrics_and_titles():
    def isis(title: str, *ports: dict[str, Any]) -> dict[str, Any]:
        return {
            "identifier": "ISIS",
            "name": "core",
            "isis": {
                "global": {"config": {"net": [title], "level-capability": "LEVEL_2"}},
                "interfaces": {"interface": list(ports)},
            },
        }

    def port(name: str, metric: int, **leaves: Any) -> dict[str, Any]:
        family = {
            "afi-name": "IPV4",
            "safi-name": "UNICAST",
            "config": {"metric": metric, "afi-name": "IPV4", "safi-name": "UNICAST"},
        }
        levels = {"level": [config("level-number", 2, more={"afi-safi": {"af": [family]}})]}
        return config("interface-id", name, more={"levels": levels}, **leaves)

    a = openconfig(
        openconfig_interface("eth1", "10.0.0.1/24"), protocols=[isis("49.0001.0000.0000.0001.00", port("eth1", 30))]
    )
    b = openconfig(
        openconfig_interface("eth1", "10.0.0.2/24"),
        openconfig_interface("eth2", "10.0.5.1/24"),
        protocols=[isis("49.0001.0000.0000.0002.00", port("eth1", 30), port("eth2", 4, passive=True))],
    )
    solved = solved_of(a=a, b=b)
    assert table(solved, "a")["10.0.5.0/24"].metric == 34
    assert gaps(solved.network, "a") == []


def test_static_routes_with_their_preference_and_dropping():
    def route(prefix: str, *next_hops: dict[str, Any]) -> dict[str, Any]:
        return config("prefix", prefix, more={"next-hops": {"next-hop": list(next_hops)}})

    statics = {
        "identifier": "STATIC",
        "name": "s",
        "static-routes": {
            "static": [
                route("203.0.113.0/24", config("index", "0", next_hop="10.0.0.2", preference=9, metric=3)),
                route("198.51.100.0/24", config("index", "0", next_hop="openconfig-local-routing:DROP")),
            ]
        },
    }
    found = table(solved_of(r=openconfig(openconfig_interface("eth1", "10.0.0.1/24"), protocols=[statics])), "r")
    assert (found["203.0.113.0/24"].preference, found["203.0.113.0/24"].metric) == (9, 3)
    assert found["198.51.100.0/24"].action == "discard"


def test_a_network_instance_is_a_vrf_of_its_interfaces():
    blue = config(
        "name",
        "blue",
        more={"interfaces": {"interface": [config("id", "eth2.0", interface="eth2", subinterface=0)]}},
        type="oc-ni-types:L3VRF",
    )
    router = openconfig(
        openconfig_interface("eth1", "10.0.0.1/24"), openconfig_interface("eth2", "10.0.0.1/24"), instances=[blue]
    )
    assert network_of(r=router).devices["r"].interfaces["eth2"].vrf == "blue"
    missing = json.loads(json.dumps(router).replace('"eth2.0", "interface": "eth2"', '"eth9.0", "interface": "eth9"'))
    assert "there is no interface of this name; found 'eth9'" in refusals(r=missing)[0]


# BGP and policies


def test_neighbours_take_from_their_group_what_they_do_not_say():
    group = config(
        "peer-group-name",
        "core",
        more={
            "transport": {"config": {"local-address": "lo0"}},
            "route-reflector": {"config": {"route-reflector-client": True}},
        },
        peer_as=65010,
    )
    router = openconfig(
        openconfig_interface("lo0", "10.255.0.1/32", **LOOPBACK),
        protocols=[
            openconfig_bgp(
                65010, neighbor("10.255.0.2", peer_group="core"), neighbor("10.255.0.3", peer_as=65011), groups=(group,)
            )
        ],
    )
    first, second = network_of(r=router).devices["r"].routing.bgp.neighbors
    assert (first.number, first.update_source, first.route_reflector_client) == (65010, "lo0", True)
    assert (second.number, second.update_source) == (65011, None)


def policies(*statements: dict[str, Any], **sets: Any) -> dict[str, Any]:
    definition = config("name", "P", more={"statements": {"statement": list(statements)}})
    return {
        "openconfig-routing-policy:routing-policy": {
            "defined-sets": sets,
            "policy-definitions": {"policy-definition": [definition]},
        }
    }


SETS: dict[str, Any] = {
    "prefix-sets": {
        "prefix-set": [
            config(
                "name",
                "NEAR",
                more={
                    "prefixes": {
                        "prefix": [
                            {
                                "ip-prefix": "203.0.113.0/24",
                                "masklength-range": "24..25",
                                "config": {"ip-prefix": "203.0.113.0/24", "masklength-range": "24..25"},
                            }
                        ]
                    }
                },
            )
        ]
    },
    "openconfig-bgp-policy:bgp-defined-sets": {
        "community-sets": {
            "community-set": [
                {
                    "community-set-name": "C",
                    "config": {
                        "community-set-name": "C",
                        "community-member": ["64502:7", "openconfig-bgp-types:NO_EXPORT"],
                    },
                }
            ]
        },
        "as-path-sets": {
            "as-path-set": [
                {
                    "as-path-set-name": "A",
                    "config": {"as-path-set-name": "A", "as-path-set-member": ["^64502$", "^64502 64503$"]},
                }
            ]
        },
    },
}


def taken(statement: dict[str, Any]) -> Any:
    """What a border believes of 203.0.113.0/24 and 198.51.100.0/24 that another AS says, by a policy P."""
    chain = {"apply-policy": {"config": {"import-policy": ["P"]}}}
    a = openconfig(
        openconfig_interface("eth1", "10.0.0.1/24"),
        protocols=[openconfig_bgp(64501, neighbor("10.0.0.2", peer_as=64502, more=chain))],
        trees=policies(statement, **SETS),
    )
    drops = [
        config("prefix", one, more={"next-hops": {"next-hop": [config("index", "0", next_hop="DROP")]}})
        for one in ("203.0.113.0/24", "198.51.100.0/24")
    ]
    statics = {"identifier": "STATIC", "name": "s", "static-routes": {"static": drops}}
    b = openconfig(
        openconfig_interface("eth1", "10.0.0.2/24"),
        protocols=[openconfig_bgp(64502, neighbor("10.0.0.1", peer_as=64501)), statics],
        instance=connection("STATIC", "BGP", default_import_policy="ACCEPT_ROUTE"),
    )
    return solved_of(a=a, b=b)


def long(operator: str, value: int) -> dict[str, Any]:
    """The condition that an AS path has so many numbers."""
    return {"bgp-conditions": {"as-path-length": {"config": {"operator": operator, "value": value}}}}


def statement(conditions: dict[str, Any], actions: dict[str, Any], result: str = "ACCEPT_ROUTE") -> dict[str, Any]:
    return config(
        "name", "10", more={"conditions": conditions, "actions": {"config": {"policy-result": result}, **actions}}
    )


@pytest.mark.parametrize(
    ("conditions", "believed"),
    [
        ({}, ["198.51.100.0/24", "203.0.113.0/24"]),
        ({"match-prefix-set": {"config": {"prefix-set": "NEAR", "match-set-options": "ANY"}}}, ["203.0.113.0/24"]),
        (
            {"bgp-conditions": {"match-as-path-set": {"config": {"as-path-set": "A", "match-set-options": "ANY"}}}},
            ["198.51.100.0/24", "203.0.113.0/24"],
        ),
        ({"bgp-conditions": {"match-community-set": {"config": {"community-set": "C"}}}}, []),
        ({"config": {"install-protocol-eq": "STATIC"}}, []),
        (long("ATTRIBUTE_LE", 1), ["198.51.100.0/24", "203.0.113.0/24"]),
        (long("ATTRIBUTE_LE", 0), []),
        (long("ATTRIBUTE_EQ", 1), ["198.51.100.0/24", "203.0.113.0/24"]),
        (long("ATTRIBUTE_EQ", 2), []),
        (long("ATTRIBUTE_GE", 0), ["198.51.100.0/24", "203.0.113.0/24"]),
        (long("ATTRIBUTE_GE", 2), []),
    ],
)
def test_conditions_of_policy_statements(conditions, believed):
    solved = taken(statement(conditions, {}))
    assert sorted(one for one, route in table(solved, "a").items() if route.protocol == "bgp") == believed
    assert gaps(solved.network, "a") == []


def test_actions_of_policy_statements():
    actions = {
        "bgp-actions": {
            "config": {"set-local-pref": 300, "set-med": 7, "set-route-origin": "EGP"},
            "set-as-path-prepend": {"config": {"repeat-n": 2}},
            "set-community": {
                "config": {"method": "INLINE", "options": "ADD"},
                "inline": {"config": {"communities": ["64501:9"]}},
            },
        }
    }
    device = taken(statement({}, actions)).network.devices["a"]
    (one,) = device.policies["P"].statements
    assert (one.set.local_preference, one.set.med, one.set.origin) == (300, 7, "egp")
    assert (one.set.as_path_prepend.number, one.set.as_path_prepend.times) == (64501, 2)
    assert one.set.communities.added == ("64501:9",) and device.gaps == ()


def test_a_next_hop_set_to_the_routers_own_address():
    device = taken(statement({}, {"bgp-actions": {"config": {"set-next-hop": "SELF"}}})).network.devices["a"]
    assert device.policies["P"].statements[0].set.next_hop_self is True and device.gaps == ()


def test_such_a_next_hop_of_what_comes_in_is_a_problem():
    solved = taken(statement({}, {"bgp-actions": {"config": {"set-next-hop": "SELF"}}}))
    (found,) = [one for one in check(solved) if one.code == "policy-next-hop"]
    assert "policy P sets the next hop of what 10.0.0.2 says" in found.message and len(found.places) == 2


def test_communities_by_reference_to_several_sets():
    change = {"config": {"method": "REFERENCE", "options": "REPLACE"}}
    actions = {"bgp-actions": {"set-community": change | {"reference": {"config": {"community-set-refs": ["C"]}}}}}
    device = taken(statement({}, actions)).network.devices["a"]
    assert device.policies["P"].statements[0].set.communities.replaced == ("64502:7", "no-export")


def test_a_statement_about_several_tags_is_one_for_each():
    several = {"tag-sets": {"tag-set": [config("name", "T", tag_value=[7, 9])]}}
    match = {"match-tag-set": {"config": {"tag-set": "T"}}}
    document = openconfig(openconfig_interface("e"), trees=policies(statement(match, {}), **several))
    network = network_of(r=document)
    statements = network.devices["r"].policies["P"].statements
    assert [(one.match.tag, one.result) for one in statements] == [(7, "accept"), (9, "accept")]
    assert gaps(network, "r") == []
    several["tag-sets"]["tag-set"][0]["config"]["tag-value"] = list(range(51))
    document = openconfig(openconfig_interface("e"), trees=policies(statement(match, {}), **several))
    assert "a set of more than 50 tags" in gaps(network_of(r=document), "r")[0]


def test_prefix_sets_of_two_families_and_one_name_are_one():
    def prefixes(mode: str, prefix: str) -> dict[str, Any]:
        entry = {"ip-prefix": prefix, "masklength-range": "exact"}
        return config("name", "N", mode=mode, more={"prefixes": {"prefix": [entry]}}) | {"mode": mode}

    both = {"prefix-sets": {"prefix-set": [prefixes("IPV4", "192.0.2.0/24"), prefixes("IPV6", "2001:db8::/32")]}}
    match = {"match-prefix-set": {"config": {"prefix-set": "N"}}}
    document = openconfig(openconfig_interface("e"), trees=policies(statement(match, {}), **both))
    (one,) = network_of(r=document).devices["r"].policies["P"].statements
    assert [str(prefix.prefix) for prefix in one.match.prefixes] == ["192.0.2.0/24", "2001:db8::/32"]


@pytest.mark.parametrize(
    ("conditions", "actions", "says"),
    [
        ({"bgp-conditions": {"config": {"local-pref-eq": 5}}}, {}, "the condition local-pref-eq"),
        ({}, {"bgp-actions": {"config": {"set-med": "+5"}}}, "a MED set to +5"),
        (
            {"match-prefix-set": {"config": {"prefix-set": "NEAR", "match-set-options": "INVERT"}}},
            {},
            "match-prefix-set with the option INVERT",
        ),
    ],
)
def test_what_a_statement_cannot_say_here_leaves_it_out(conditions, actions, says):
    solved = taken(statement(conditions, actions))
    (gap,) = gaps(solved.network, "a")
    assert gap.startswith(says) and gap.endswith("so its policy statement is left out")
    assert not [one for one, route in table(solved, "a").items() if route.protocol == "bgp"]


@pytest.mark.parametrize(
    ("leaves", "taken_over"),
    [
        ({}, False),
        ({"default_import_policy": "REJECT_ROUTE"}, False),
        ({"default_import_policy": "ACCEPT_ROUTE"}, True),
        ({"import_policy": ["P"]}, True),
    ],
)
def test_a_table_connection_takes_over_what_its_policies_or_its_default_accept(leaves, taken_over):
    drop = config("prefix", "203.0.113.0/24", more={"next-hops": {"next-hop": [config("index", "0", next_hop="DROP")]}})
    b = openconfig(
        openconfig_interface("eth1", "10.0.0.2/24"),
        protocols=[
            openconfig_bgp(64502, neighbor("10.0.0.1", peer_as=64501)),
            {"identifier": "STATIC", "name": "s", "static-routes": {"static": [drop]}},
        ],
        instance=connection("STATIC", "BGP", **leaves),
        trees=policies(statement({}, {})),
    )
    a = openconfig(
        openconfig_interface("eth1", "10.0.0.1/24"),
        protocols=[openconfig_bgp(64501, neighbor("10.0.0.2", peer_as=64502))],
    )
    assert ("203.0.113.0/24" in table(solved_of(a=a, b=b), "a")) == taken_over
