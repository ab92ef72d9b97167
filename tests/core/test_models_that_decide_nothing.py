"""Which statements of models are gaps: those that may decide where packets go, and are switched on."""

from typing import Any

import pytest

from routrel.formats.models import draft
from tests.core.model_documents import (
    config,
    gaps,
    ietf,
    ietf_interface,
    neighbor,
    network_of,
    openconfig,
    openconfig_bgp,
    openconfig_interface,
    refusals,
    solved_of,
)
from tests.core.networks import table


def off(**leaves: Any) -> dict[str, Any]:
    return {"config": {"enabled": False, **leaves}, "state": {"enabled": False, **leaves}}


def ospf(settings: dict[str, Any], **area: Any) -> dict[str, Any]:
    port = config("id", "et1", more=area.pop("port", {}), metric=10)
    found = {"identifier": "0.0.0.0", "interfaces": {"interface": [port]}, **area}
    return {"identifier": "OSPF", "name": "1", "ospfv2": {"global": settings, "areas": {"area": [found]}}}


def isis(settings: dict[str, Any], level: dict[str, Any], port: dict[str, Any], **interface: Any) -> dict[str, Any]:
    levels = {"level": [config("level-number", 2, **interface.pop("leaves", {})) | interface]}
    return {
        "identifier": "ISIS",
        "name": "core",
        "isis": {
            "global": {"config": {"net": ["49.0001.0000.0000.0001.00"], "level-capability": "LEVEL_2"}, **settings},
            "levels": {"level": [config("level-number", 2) | level]},
            "interfaces": {"interface": [config("interface-id", "et1", more={"levels": levels, **port})]},
        },
    }


def said_of(*protocols: dict[str, Any], **instance: Any) -> list[str]:
    """The gaps of a router with protocols, by the ends of their paths."""
    document = openconfig(openconfig_interface("et1", "10.0.0.1/30"), protocols=list(protocols), instance=instance)
    return [one.removesuffix(" is not represented") for one in gaps(network_of(r=document), "r")]


def test_what_is_switched_off_counts_its_state_or_names_itself_is_no_gap():
    assert said_of(
        ospf(
            {
                "config": {"log-adjacency-changes": True, "hide-transit-only-networks": False},
                "timers": {"spf": {"config": {"initial-delay": 50}}, "max-metric": {"config": {"set": False}}},
                "mpls": {"igp-ldp-sync": off()},
                "inter-area-propagation-policies": {},
            },
            lsdb={"lsa-types": {"lsa-type": [{"type": "ROUTER_LSA", "state": {"type": "ROUTER_LSA"}}]}},
            port={"lsa-filter": {"config": {"all": False}}},
        ),
        isis(
            {"lsp-bit": {"overload-bit": {"config": {"set-bit": False}}}, "nsr": off()},
            {"link-state-database": {"lsp": [{"lsp-id": "0000", "state": {"sequence-number": 4}}]}},
            {"circuit-counters": {"state": {"init-fails": 0}}, "authentication": off()},
            leaves={"priority": 64},
        ),
        openconfig_bgp(64500, neighbor("10.0.0.2", peer_as=64501, more={"add-paths": {"config": {"receive": False}}})),
        tables={"table": [{"protocol": "BGP", "address-family": "IPV4", "config": {"protocol": "BGP"}}]},
        vlans={"vlan": [config("vlan-id", 10, name="yard", status="ACTIVE")]},
        fdb={"config": {"mac-learning": True}},
    ) == []  # fmt: skip


PROXY = "DISABLE"
PREFERENCES = {"internal-route-preference": 115, "external-route-preference": 116}


@pytest.mark.parametrize(
    ("protocol", "says"),
    [
        (ospf({"timers": {"max-metric": {"config": {"set": True}}}}), "highest metric (RFC 6987)"),
        (ospf({"config": {"summary-route-cost-mode": "RFC1583_COMPATIBLE"}}), "compatibility with RFC 1583"),
        (ospf({}, port={"lsa-filter": {"config": {"all": True}}}), "/lsa-filter"),
        (isis({"lsp-bit": {"overload-bit": {"config": {"set-bit": True}}}}, {}, {}), "/lsp-bit"),
        (isis({"nsr": {"config": {"enabled": True}}}, {}, {}), "/nsr"),
        (
            isis({}, {}, {"afi-safi": {"af": [{"afi-name": "IPV6", "config": {"enabled": False}}]}}),
            "IS-IS without IPV6",
        ),
        (isis({}, {"route-preference": {"config": PREFERENCES}}, {}), "a preference for some routes of IS-IS"),
    ],
)
def test_what_is_switched_on_and_not_held_is_said(protocol, says):
    (said,) = said_of(protocol)
    assert says in said


def test_a_level_that_is_passive_and_a_preference_of_both_kinds_are_held():
    routed = isis({}, {"route-preference": {"config": {"internal-route-preference": 99}}}, {}, leaves={"passive": True})
    network = network_of(r=openconfig(openconfig_interface("et1", "10.0.0.1/30"), protocols=[routed]))
    routing = network.devices["r"].routing
    assert gaps(network, "r") == []
    assert (routing.isis.interfaces[0].passive, routing.preferences["isis"]) == (True, 99)


# Families of BGP


def families(*names: str, **more: Any) -> dict[str, Any]:
    return {"afi-safis": {"afi-safi": [config("afi-safi-name", name, enabled=True, more=more) for name in names]}}


@pytest.mark.parametrize(
    ("names", "carried"),
    [((), (4,)), (("IPV4_UNICAST",), (4,)), (("IPV4_UNICAST", "IPV6_UNICAST"), (4, 6)), (("L2VPN_EVPN",), ())],
)
def test_a_session_carries_the_families_that_it_lists(names, carried):
    """One for other families alone brings no routes of these, though its addresses are IPv4."""
    ends = {}
    for number, (name, own, far) in enumerate((("a", "10.0.0.1", "10.0.0.2"), ("b", "10.0.0.2", "10.0.0.1"))):
        session = neighbor(far, peer_as=64501 - number, more=families(*names) if names else {})
        link = openconfig_interface("e", f"{own}/30")
        lan = openconfig_interface("lan", f"10.{number + 1}.0.1/24")
        connection = {
            "src-protocol": "DIRECTLY_CONNECTED",
            "dst-protocol": "BGP",
            "address-family": "IPV4",
            "config": {"default-import-policy": "ACCEPT_ROUTE"},
        }
        ends[name] = openconfig(
            link,
            lan,
            protocols=[openconfig_bgp(64500 + number, session)],
            instance={"table-connections": {"table-connection": [connection]}},
        )
    solved = solved_of(**ends)
    (said,) = solved.network.devices["a"].routing.bgp.neighbors
    assert said.carried == carried
    assert ("10.2.0.0/24" in table(solved, "a")) == (4 in carried)


def test_what_a_neighbour_says_of_a_family_goes_before_its_group():
    group = {"peer-group-name": "G", "config": {"peer-group-name": "G"}, **families("IPV4_UNICAST", "IPV6_UNICAST")}
    own = {"afi-safis": {"afi-safi": [config("afi-safi-name", "IPV4_UNICAST", enabled=False)]}}
    speaker = openconfig_bgp(64500, neighbor("10.0.0.2", peer_as=64501, peer_group="G", more=own), groups=(group,))
    network = network_of(r=openconfig(openconfig_interface("e", "10.0.0.1/30"), protocols=[speaker]))
    assert network.devices["r"].routing.bgp.neighbors[0].carried == (6,)


def test_multipath_of_a_family_is_that_of_the_speaker():
    speaker = openconfig_bgp(64500)
    paths = {"use-multiple-paths": {"ebgp": {"config": {"maximum-paths": 4}}, "ibgp": {"config": {"maximum-paths": 2}}}}
    speaker["bgp"]["global"] |= families("IPV4_UNICAST", **paths)
    network = network_of(r=openconfig(openconfig_interface("e", "10.0.0.1/30"), protocols=[speaker]))
    bgp = network.devices["r"].routing.bgp
    assert (bgp.external_paths, bgp.internal_paths, gaps(network, "r")) == (4, 2, [])
    more = {"use-multiple-paths": {"ebgp": {"config": {"maximum-paths": 8}}}}
    speaker["bgp"]["global"] |= more
    network = network_of(r=openconfig(openconfig_interface("e", "10.0.0.1/30"), protocols=[speaker]))
    assert [one for one in gaps(network, "r") if "second number of paths" in one]


# Interfaces, VLANs, cables


def switched(**leaves: Any) -> dict[str, Any]:
    return {"openconfig-if-ethernet:ethernet": {"openconfig-vlan:switched-vlan": config("interface-mode", **leaves)}}


def test_a_trunk_that_lists_no_vlans_carries_those_that_the_device_knows():
    switch = openconfig(
        openconfig_interface("p1", trees=switched(value="TRUNK")),
        openconfig_interface("p2", trees=switched(value="ACCESS", more={}, access_vlan=30)),
        instance={"vlans": {"vlan": [config("vlan-id", 20, name="yard"), config("vlan-id", 5)]}},
    )
    network = network_of(s=switch)
    port = network.devices["s"].interfaces["p1"].switchport
    assert gaps(network, "s") == []
    assert (port.trunk, port.native) == ((5, 20, 30), 1)


def test_few_words_that_state_too_many_vlans_are_refused(monkeypatch):
    monkeypatch.setattr(draft, "MOST_STATED", 5000)
    for trunk in ({"trunk_vlans": ["1..4094"]}, {}):
        ports = [openconfig_interface(f"p{n}", trees=switched(value="TRUNK", **trunk)) for n in range(2)]
        known = {"vlans": {"vlan": [config("vlan-id", number) for number in range(1, 3001)]}}
        (refusal,) = refusals(s=openconfig(*ports, instance=known))
        assert "the trunks of this device carry too much" in refusal and refusal.startswith("s.json:")


def test_what_cables_and_addresses_say_of_themselves_is_no_gap():
    address = {"ip": "10.0.0.1", "config": {"ip": "10.0.0.1", "prefix-length": 30, "addr-type": "PRIMARY"}}
    families = {
        "openconfig-if-ip:ipv4": {"addresses": {"address": [address]}, "proxy-arp": {"config": {"mode": PROXY}}}
    }
    entry = openconfig_interface("e", subs=({"index": 0, **families},))
    lldp = {"config": {"enabled": True, "system-name": "r"}, "interfaces": {"interface": [config("name", "e")]}}
    router = openconfig(entry, trees={"openconfig-lldp:lldp": lldp})
    assert gaps(network_of(r=router), "r") == []
    families["openconfig-if-ip:ipv4"]["proxy-arp"]["config"]["mode"] = "ALL"
    assert gaps(network_of(r=router), "r") == ["an interface that answers ARP for others is not represented"]


@pytest.mark.parametrize("recurse", [True, False])
def test_a_static_route_whose_next_hop_is_not_looked_up_is_said(recurse):
    hop = config("index", "1", next_hop="10.0.0.2", recurse=recurse)
    static = config("prefix", "0.0.0.0/0", more={"next-hops": {"next-hop": [hop]}})
    said = said_of({"identifier": "STATIC", "name": "s", "static-routes": {"static": [static]}})
    assert said == ([] if recurse else ["a static route whose next hop is not looked up"])


# The IETF's


def of_ietf(kind: str, **tree: Any) -> list[str]:
    port = ietf_interface("e", "10.0.0.1/30", "2001:db8::1/64")
    protocol = {"type": f"ietf-{kind}:{'ospfv2' if kind == 'ospf' else kind}", "name": "1", f"ietf-{kind}:{kind}": tree}
    return [
        one.removesuffix(" is not represented") for one in gaps(network_of(r=ietf(port, protocols=[protocol])), "r")
    ]


def test_what_ospf_tells_of_itself_is_no_gap():
    port = {"name": "e", "state": "dr", "dr-ip-addr": "10.0.0.1", "wait-timer": 0, "lls": True, "authentication": {}}
    area = {"area-id": "0.0.0.0", "database": {"area-scope-lsa-type": []}, "interfaces": {"interface": [port]}}
    assert of_ietf("ospf", **{"router-id": "10.0.0.1", "nsr": {"enabled": False}, "areas": {"area": [area]}}) == []
    assert of_ietf("ospf", **{"stub-router": {"always": {}}}) != []


def test_what_isis_tells_of_itself_is_no_gap_but_families_that_it_leaves_out():
    port = {"name": "e", "priority": {"value": 64}, "event-counters": {"adjacency-changes": 1}, "tag": []}
    tree = {"system-id": "0000.0000.0001", "area-address": ["49.0001"], "overload": {"status": False}}
    tree |= {"metric-type": {"value": "wide-only", "level-1": {"value": "wide-only"}}}
    assert of_ietf("isis", **tree, interfaces={"interface": [port]}) == []
    port["address-families"] = {"address-family-list": [{"address-family": "ietf-routing:ipv4"}]}
    (said,) = of_ietf("isis", **tree, interfaces={"interface": [port]})
    assert "some address families" in said
    tree["overload"]["status"] = True
    assert any("RFC 3787" in one for one in of_ietf("isis", **tree, interfaces={"interface": [{"name": "e"}]}))


def test_a_reference_bandwidth_that_is_off_makes_no_costs():
    port = ietf_interface("e", "10.0.0.1/30", speed="1000000000")
    for is_on in (True, False):
        tree = {"auto-cost": {"enabled": is_on, "reference-bandwidth": 100_000}}
        protocol = {"type": "ietf-ospf:ospfv2", "name": "1", "ietf-ospf:ospf": tree}
        (process,) = network_of(r=ietf(port, protocols=[protocol])).devices["r"].routing.ospf
        assert process.reference_bandwidth == (100_000_000_000 if is_on else None)
