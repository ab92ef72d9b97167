"""What the IETF's models mean, a small example for each: the number of the RFC stands in the test's name."""

from typing import Any

import pytest

from routrel.analysis.check import check
from tests.core.model_documents import gaps, ietf, ietf_interface, network_of, ospf, refusals, solved_of, static
from tests.core.networks import answer, hops, table
from tests.core.rfc_documents import (
    RFC8343_CONFIGURED,
    RFC8343_TOLD,
    RFC8344_CONFIGURED,
    RFC8344_TOLD,
    RFC8349_ROUTER,
)


def lines(solved, device: str, protocol: str) -> dict[str, list[str]]:
    return {
        prefix: hops(solved, route) for prefix, route in table(solved, device).items() if route.protocol == protocol
    }


# RFC 8343, 8344, 8349


def test_rfc8349_appendix_a_router_with_static_routes_and_its_tables():
    """The device of the RFC's example: two interfaces, a default route in each family, and its tables as read."""
    solved = solved_of(r=RFC8349_ROUTER, isp=ietf(ietf_interface("ge0", "192.0.2.2/24", "2001:db8:0:1::2/64")))
    device = solved.network.devices["r"]
    assert gaps(solved.network, "r") == [] and device.kind == "router"
    assert device.interfaces["eth0"].mac == "00:0c:42:e5:b1:e9"
    assert lines(solved, "r", "static") == {
        "0.0.0.0/0": ["192.0.2.2@eth0"],
        "::/0": ["2001:db8:0:1::2@eth0"],
    }
    # Nothing configures the preference: it is what the device's own table shows.
    assert table(solved, "r")["0.0.0.0/0"].preference == 5
    assert [str(route.prefix) for route in device.observed][:1] == ["192.0.2.0/24"]


def test_rfc8343_appendices_the_device_as_configured_and_as_it_runs():
    network = network_of(r=RFC8343_CONFIGURED)
    assert {name: one.enabled for name, one in network.devices["r"].interfaces.items()} == {
        "eth0": False,
        "eth1": True,
        "eth1.10": True,
        "lo1": True,
    }
    assert network.devices["r"].interfaces["lo1"].is_loopback
    assert any("example-vlan" in one for one in gaps(network, "r"))
    running = network_of(r=RFC8343_TOLD).devices["r"].interfaces
    assert [name for name, one in running.items() if one.enabled] == ["eth1", "eth1.10", "lo1"]
    assert running["eth2"].mac == "00:01:02:03:04:07"


def test_rfc8344_appendices_the_interface_as_configured_and_as_it_runs():
    configured = network_of(r=RFC8344_CONFIGURED).devices["r"]
    assert [str(one) for one in configured.interfaces["eth0"].addresses] == ["192.0.2.1/24", "2001:db8::10/32"]
    assert (configured.interfaces["eth0"].mtu, configured.kind) == (1280, "host")
    running = network_of(r=RFC8344_TOLD).devices["r"]
    addresses = [str(one) for one in running.interfaces["eth0"].addresses]
    assert addresses == ["192.0.2.1/24", "2001:db8::10/32", "2001:db8::1:100/32"]
    assert ("eth0", "192.0.2.2") in [(name, str(address)) for name, address in running.neighbors]


def test_rfc8343_an_interface_that_is_off_or_down_carries_nothing():
    states = {
        "a": {"enabled": False},
        "b": {"oper_status": "down"},
        "c": {"admin_status": "down"},
        "d": {"oper_status": "up"},
    }
    network = network_of(
        r=ietf(*(ietf_interface(name, f"10.0.{n}.1/24", **more) for n, (name, more) in enumerate(states.items())))
    )
    assert [name for name, one in network.devices["r"].interfaces.items() if one.enabled] == ["d"]


def test_rfc8343_speeds_types_and_sub_interfaces():
    sub = ietf_interface("e1.7", "10.0.7.1/24", kind="l2vlan") | {
        "ietf-if-extensions:parent-interface": "e1",
        "ietf-if-extensions:encapsulation": {
            "ietf-if-vlan-encapsulation:dot1q-vlan": {
                "outer-tag": {"tag-type": "ieee802-dot1q-types:c-vlan", "vlan-id": 7}
            }
        },
    }
    tunnel = ietf_interface("t0", "10.0.8.1/24", kind="tunnel")
    network = network_of(
        r=ietf(ietf_interface("e1", speed="10000000000"), sub, ietf_interface("x", kind="softwareLoopback"), tunnel)
    )
    interfaces = network.devices["r"].interfaces
    assert interfaces["e1"].bandwidth == 10_000_000_000
    assert (interfaces["e1.7"].parent, interfaces["e1.7"].vlan, interfaces["e1.7"].kind) == ("e1", 7, "vlan")
    assert interfaces["x"].is_loopback
    assert "an interface of type tunnel: how its packets are carried is not represented" in gaps(network, "r")


def test_rfc8344_netmasks_packet_sizes_and_neighbours():
    entry = {
        "name": "e1",
        "ietf-ip:ipv4": {
            "mtu": 1400,
            "address": [{"ip": "192.0.2.1", "netmask": "255.255.255.128"}],
            "neighbor": [{"ip": "192.0.2.9", "link-layer-address": "02:00:00:00:00:09", "origin": "dynamic"}],
        },
        "ietf-ip:ipv6": {"mtu": 1380, "address": [{"ip": "2001:db8::1", "prefix-length": 64}]},
    }
    device = network_of(r=ietf(entry)).devices["r"]
    assert str(device.interfaces["e1"].addresses[0]) == "192.0.2.1/25" and device.interfaces["e1"].mtu == 1380
    assert [(name, str(address)) for name, address in device.neighbors] == [("e1", "192.0.2.9")]
    entry["ietf-ip:ipv4"]["address"] = [{"ip": "192.0.2.1", "netmask": "255.0.255.0"}]
    assert "found '192.0.2.1/255.0.255.0'" in refusals(r=ietf(entry))[0]


def test_rfc8344_a_device_that_forwards_nowhere_is_a_host():
    def entry(name: str, address: str, forwarding: bool) -> dict[str, Any]:
        found = ietf_interface(name, address)
        found["ietf-ip:ipv4"]["forwarding"] = forwarding
        return found

    assert (
        network_of(r=ietf(entry("a", "10.0.0.1/24", False), entry("b", "10.0.1.1/24", False))).devices["r"].kind
        == "host"
    )
    network = network_of(r=ietf(entry("a", "10.0.0.1/24", True), entry("b", "10.0.1.1/24", False)))
    assert network.devices["r"].kind == "router"
    (gap,) = network.devices["r"].gaps
    assert gap.affects == "b" and "no packets for others pass" in gap.message


@pytest.mark.parametrize(
    ("hop", "action", "ways"),
    [
        ({"special-next-hop": "blackhole"}, "discard", 0),
        ({"special-next-hop": "unreachable"}, "reject", 0),
        ({"special-next-hop": "prohibit"}, "reject", 0),
        (
            {
                "next-hop-list": {
                    "next-hop": [
                        {"index": "1", "next-hop-address": "10.0.0.2"},
                        {"index": "2", "next-hop-address": "10.0.1.2"},
                    ]
                }
            },
            "forward",
            2,
        ),
        ({"outgoing-interface": "a"}, "forward", 1),
    ],
)
def test_rfc8349_next_hops_of_static_routes(hop, action, ways):
    router = ietf(
        ietf_interface("a", "10.0.0.1/24"),
        ietf_interface("b", "10.0.1.1/24"),
        protocols=[static(("203.0.113.0/24", hop))],
    )
    route = table(solved_of(r=router), "r")["203.0.113.0/24"]
    assert (route.action, len(route.next_hops)) == (action, ways)


def test_rfc8349_a_device_known_by_its_table_alone_forwards_by_it():
    route = {
        "destination-prefix": "203.0.113.0/24",
        "next-hop": {"next-hop-address": "10.0.0.2"},
        "source-protocol": "ietf-ospf:ospfv2",
        "ietf-ospf:metric": 30,
        "active": [None],
    }
    lost = route | {"next-hop": {"next-hop-address": "10.0.0.9"}}
    lost.pop("active")
    ribs = {"rib": [{"name": "main", "routes": {"route": [lost, route]}}]}
    router = ietf(ietf_interface("a", "10.0.0.1/24"), routing={"router-id": "10.0.0.1", "ribs": ribs})
    other = ietf(ietf_interface("a", "10.0.0.2/24"), ietf_interface("lo", "203.0.113.1/32", kind="softwareLoopback"))
    solved = solved_of(r=router, s=other)
    found = table(solved, "r")["203.0.113.0/24"]
    assert (found.protocol, found.metric, hops(solved, found)) == ("ospf", 30, ["10.0.0.2@a"])
    assert answer(solved, "r", "203.0.113.1")["forward"]["verdict"] == "arrives"


def test_rfc8529_a_network_instance_is_a_vrf():
    inner = {
        "control-plane-protocols": {"control-plane-protocol": [static(("0.0.0.0/0", {"next-hop-address": "10.1.0.2"}))]}
    }
    instances = {"network-instance": [{"name": "blue", "vrf-root": {"ietf-routing:routing": inner}}]}
    blue = ietf_interface("b", "10.1.0.1/24") | {"ietf-network-instance:bind-ni-name": "blue"}
    router = ietf(
        ietf_interface("a", "10.1.0.1/24"), blue, trees={"ietf-network-instance:network-instances": instances}
    )
    device = network_of(r=router).devices["r"]
    assert device.interfaces["b"].vrf == "blue" and len(device.vrfs["blue"].static) == 1


# RFC 9129, 9130, 8695


def ring(**processes: dict[str, Any]) -> Any:
    """Two routers on one cable, each with a loopback of its own."""
    routers = {}
    for number, (name, process) in enumerate(processes.items(), 1):
        routers[name] = ietf(
            ietf_interface("e1", f"10.0.0.{number}/24"),
            ietf_interface("lo", f"10.255.0.{number}/32", kind="softwareLoopback"),
            ietf_interface("e2", f"10.1.{number}.1/24"),
            protocols=[process],
            routing={"router-id": f"10.255.0.{number}"},
        )
    return solved_of(**routers)


def test_rfc9129_costs_areas_and_passive_interfaces():
    a = ospf({"0.0.0.0": [{"name": "e1", "cost": 7, "interface-type": "point-to-point"}]})
    b = ospf(
        {
            "0.0.0.0": [
                {"name": "e1", "cost": 9, "interface-type": "point-to-point"},
                {"name": "e2", "cost": 4, "passive": True},
                {"name": "lo", "enabled": False, "cost": 1},
            ]
        }
    )
    solved = ring(a=a, b=b)
    assert {prefix: table(solved, "a")[prefix].metric for prefix in lines(solved, "a", "ospf")} == {"10.1.2.0/24": 11}


def test_rfc9129_a_reference_bandwidth_makes_costs():
    process = ospf(
        {"0.0.0.0": [{"name": "e1"}, {"name": "e2"}]}, auto_cost={"enabled": True, "reference-bandwidth": 40000}
    )
    solved = ring(a=process, b=process)
    network = solved.network.devices["a"].routing.ospf[0]
    assert network.reference_bandwidth == 40_000_000_000


def test_rfc9129_stub_areas_take_the_types_and_ranges_of_the_model():
    border = ospf({"0.0.0.0": [{"name": "e2"}], "0.0.0.1": [{"name": "e1"}]})
    area = border["ietf-ospf:ospf"]["areas"]["area"][1]
    area |= {"area-type": "ietf-ospf:stub-area", "summary": False, "default-cost": 20}
    area["ranges"] = {"range": [{"prefix": "10.0.0.0/16", "advertise": False}]}
    inner = ospf({"0.0.0.1": [{"name": "e1", "cost": 5}]})
    inner["ietf-ospf:ospf"]["areas"]["area"][0]["area-type"] = "ietf-ospf:stub-area"
    solved = ring(a=border, b=inner)
    assert {prefix: table(solved, "b")[prefix].metric for prefix in lines(solved, "b", "ospf")} == {"0.0.0.0/0": 25}
    found = solved.network.devices["a"].routing.ospf[0].areas[1]
    assert (found.type, found.no_summary, found.ranges[0].advertise) == ("stub", True, False)


def test_rfc9129_what_is_not_held_is_said_at_the_interface():
    process = ospf({"0.0.0.0": [{"name": "e1", "interface-type": "non-broadcast"}]}, database={"x": 1})
    process["ietf-ospf:ospf"]["areas"]["area"][0]["virtual-links"] = {
        "virtual-link": [{"transit-area-id": "0.0.0.1", "router-id": "10.255.0.9"}]
    }
    solved = ring(a=process, b=ospf({"0.0.0.0": [{"name": "e1"}]}))
    said = gaps(solved.network, "a")
    assert any("network type non-broadcast" in one for one in said)
    assert any(one.endswith("/area/virtual-links (2 statements) is not represented") for one in said)


def test_rfc9129_two_router_ids_of_one_instance():
    solved = ring(
        a=ospf({"0.0.0.0": [{"name": "e1"}]}, explicit_router_id="10.9.9.9"), b=ospf({"0.0.0.0": [{"name": "e1"}]})
    )
    assert "a router id of a protocol's own beside 10.255.0.1 is not represented" in gaps(solved.network, "a")


def isis(system: str, *interfaces: dict[str, Any], **more: Any) -> dict[str, Any]:
    process = {"system-id": system, "area-address": ["49.0001"], "interfaces": {"interface": list(interfaces)}, **more}
    return {"type": "ietf-isis:isis", "name": "core", "ietf-isis:isis": process}


def test_rfc9130_metrics_levels_and_the_default_metric():
    a = isis("0000.0000.0001", {"name": "e1", "metric": {"value": 30}}, **{"level-type": "level-2"})
    b = isis(
        "0000.0000.0002",
        {"name": "e1"},
        {"name": "e2", "metric": {"level-2": {"value": 4}}, "passive": True},
        {"name": "lo"},
        **{"level-type": "level-2", "default-metric": {"value": 25}},
    )
    solved = ring(a=a, b=b)
    metrics = {prefix: table(solved, "a")[prefix].metric for prefix in lines(solved, "a", "isis")}
    assert metrics == {"10.1.2.0/24": 34, "10.255.0.2/32": 55}
    assert solved.network.devices["a"].routing.isis.levels == (2,)


def test_rfc9130_metrics_that_differ_by_level_are_said():
    both = {"name": "e1", "metric": {"level-1": {"value": 3}, "level-2": {"value": 5}}}
    solved = ring(a=isis("0000.0000.0001", both), b=isis("0000.0000.0002", {"name": "e1"}))
    assert gaps(solved.network, "a") == ["metrics of an interface that differ by level are not represented"]


def test_rfc8695_costs_passive_interfaces_and_redistribution():
    def rip(*interfaces: dict[str, Any], **more: Any) -> dict[str, Any]:
        return {
            "type": "ietf-rip:ripv2",
            "name": "r",
            "ietf-rip:rip": {"interfaces": {"interface": list(interfaces)}, **more},
        }

    a = rip({"interface": "e1", "cost": 3})
    b = rip({"interface": "e1"}, redistribute={"connected": {"metric": 5}}, **{"default-metric": 2})
    solved = ring(a=a, b=b)
    metrics = {prefix: table(solved, "a")[prefix].metric for prefix in lines(solved, "a", "rip")}
    assert metrics == {"10.1.2.0/24": 8, "10.255.0.2/32": 8}
    passive = rip({"interface": "e1", "passive": [None]})
    assert (
        solved_of(r=ietf(ietf_interface("e1", "10.0.0.1/24"), protocols=[passive]))
        .network.devices["r"]
        .routing.rip.interfaces[0]
        .passive
    )


# RFC 9067, and BGP as published so far


def bgp(number: int, *neighbors: dict[str, Any], **more: Any) -> dict[str, Any]:
    inner = {
        "global": {"as": number, "identifier": f"10.255.0.{number % 10}"},
        "neighbors": {"neighbor": list(neighbors)},
    }
    return {"type": "ietf-bgp:bgp", "name": "bgp", "ietf-bgp:bgp": inner | more}


def policy(*statements: dict[str, Any], sets: dict[str, Any] | None = None) -> dict[str, Any]:
    definition = {"name": "P", "statements": {"statement": list(statements)}}
    return {
        "ietf-routing-policy:routing-policy": {
            "defined-sets": sets or {},
            "policy-definitions": {"policy-definition": [definition]},
        }
    }


PREFIXES = {
    "prefix-sets": {
        "prefix-set": [
            {
                "name": "NEAR",
                "mode": "ipv4",
                "prefixes": {
                    "prefix-list": [{"ip-prefix": "203.0.113.0/24", "mask-length-lower": 25, "mask-length-upper": 26}]
                },
            }
        ]
    }
}


def session(trees: dict[str, Any], **more: Any) -> Any:
    """A border that takes what another AS says, by a policy P or what is given instead."""
    took = {"remote-address": "10.0.0.2", "peer-as": 64502, "apply-policy": {"import-policy": ["P"], **more}}
    a = ietf(ietf_interface("e1", "10.0.0.1/24"), protocols=[bgp(64501, took)], trees=trees)
    statics = static(*((prefix, {"special-next-hop": "blackhole"}) for prefix in ("203.0.113.0/25", "198.51.100.0/24")))
    b = ietf(
        ietf_interface("e1", "10.0.0.2/24"),
        protocols=[bgp(64502, {"remote-address": "10.0.0.1", "peer-as": 64501}), statics],
    )
    b |= {
        "routrel-device:not-in-models": {"network-file": '{"routing": {"bgp": {"redistribute": [{"from": "static"}]}}}'}
    }
    return solved_of(a=a, b=b)


def test_rfc9067_statements_match_prefix_sets_and_an_undecided_route_is_rejected():
    accept = {
        "name": "10",
        "conditions": {"match-prefix-set": {"prefix-set": "NEAR", "match-set-options": "any"}},
        "actions": {"policy-result": "accept-route", "set-metric": {"metric": 9}},
    }
    solved = session(policy(accept, sets=PREFIXES))
    assert list(lines(solved, "a", "bgp")) == ["203.0.113.0/25"]
    assert table(solved, "a")["203.0.113.0/25"].metric == 9


def test_rfc9067_the_default_policy_decides_what_the_chain_does_not():
    reject = {
        "name": "10",
        "conditions": {"match-prefix-set": {"prefix-set": "NEAR"}},
        "actions": {"policy-result": "reject-route"},
    }
    trees = policy(reject, sets=PREFIXES)
    assert list(lines(session(trees), "a", "bgp")) == []
    solved = session(trees, **{"default-import-policy": "accept-route"})
    assert list(lines(solved, "a", "bgp")) == ["198.51.100.0/24"]
    assert "P" not in solved.network.devices["a"].policies  # nothing asks it by itself


def test_rfc9067_a_policy_that_no_document_has():
    asked = {"remote-address": "10.0.0.2", "peer-as": 64502, "apply-policy": {"import-policy": ["GONE"]}}
    device = ietf(ietf_interface("e1", "10.0.0.1/24"), protocols=[bgp(64501, asked)])
    assert "there is no policy of this name; found 'GONE'" in refusals(a=device | policy())[0]
    # A device that tells no policy at all may not have the model.
    assert gaps(network_of(a=device), "a") == ["policy GONE stands in no document: taken to accept everything"]


@pytest.mark.parametrize(
    ("conditions", "actions", "says"),
    [
        ({"call-policy": "OTHER"}, {}, "the condition call-policy is not represented"),
        (
            {"match-prefix-set": {"prefix-set": "NEAR", "match-set-options": "invert"}},
            {},
            "match-prefix-set with the option",
        ),
        ({"acme:phase": "moon"}, {}, "the condition phase is not represented"),
        ({"match-prefix-set": {"prefix-set": "GONE"}}, {}, ""),
        ({}, {"set-metric": {"metric-modification": "add-metric", "metric": 3}}, "a metric changed by add-metric"),
    ],
)
def test_rfc9067_a_statement_that_cannot_be_held_is_left_out_and_said(conditions, actions, says):
    statement = {"name": "10", "conditions": conditions, "actions": {"policy-result": "accept-route", **actions}}
    document = ietf(ietf_interface("e1", "10.0.0.1/24"), trees=policy(statement, sets=PREFIXES))
    if not says:
        assert "there is no prefix set of this name; found 'GONE'" in refusals(r=document)[0]
        return
    network = network_of(r=document)
    (gap,) = gaps(network, "r")
    assert gap.startswith(says) and gap.endswith("so its policy statement is left out")
    assert network.devices["r"].policies["P"].statements == ()


# What devices tell of their neighbours


def told(a: dict[str, Any], b: dict[str, Any]) -> list[str]:
    return [finding.message for finding in check(ring(a=a, b=b)) if finding.code == "neighbour-drift"]


@pytest.mark.parametrize(
    ("state", "area", "says"),
    [
        ("full", "0.0.0.0", ""),
        ("2-way", "0.0.0.0", ""),
        (
            "init",
            "0.0.0.0",
            "a:e1: OSPF neighbour 10.255.0.2 is init on the device, and should be up by what is configured",
        ),
        ("full", "0.0.0.9", "a:e1: OSPF neighbour 10.255.0.2 is full on the device, and not up in the model: "),
        ("down", "0.0.0.9", ""),
    ],
)
def test_rfc9129_neighbours_are_held_against_the_model(state, area, says):
    heard = {"neighbors": {"neighbor": [{"neighbor-router-id": "10.255.0.2", "address": "10.0.0.2", "state": state}]}}
    found = told(ospf({"0.0.0.0": [{"name": "e1", **heard}]}), ospf({area: [{"name": "e1"}]}))
    assert [one.startswith(says) for one in found] == ([True] if says else [])


@pytest.mark.parametrize(
    ("state", "says"),
    [("established", ""), ("idle", "a: BGP session 10.0.0.2 is idle on the device, and should be up")],
)
def test_sessions_are_held_against_the_model(state, says):
    ours = {"remote-address": "10.0.0.2", "peer-as": 64502, "session-state": state}
    found = told(bgp(64501, ours), bgp(64502, {"remote-address": "10.0.0.1", "peer-as": 64501}))
    assert [one.startswith(says) for one in found] == ([True] if says else [])


def test_rfc9130_adjacencies_are_held_against_the_model():
    heard = {"adjacencies": {"adjacency": [{"neighbor-sysid": "0000.0000.0002", "state": "down", "usage": "level-2"}]}}
    found = told(isis("0000.0000.0001", {"name": "e1", **heard}), isis("0000.0000.0002", {"name": "e1"}))
    assert found == [
        "a:e1: IS-IS neighbour 0000.0000.0002 is down on the device, and should be up by what is configured"
    ]


def test_rfc8343_names_of_interfaces_may_have_slashes_and_colons():
    solved = solved_of(a=ietf(ietf_interface("et-0/0/1:2", "10.0.0.1/24")), b=ietf(ietf_interface("e1", "10.0.0.2/24")))
    assert answer(solved, "a:et-0/0/1:2", "b")["forward"]["verdict"] == "arrives"
