"""The examples of the RFCs of protocols, lists, policies, instances and topologies: each reads and means what it says."""

import pytest

from tests.core.model_documents import gaps, ietf, ietf_interface, network_of, refusals, solved_of
from tests.core.networks import hops, table
from tests.core.rfc_protocol_documents import (
    RFC8346_TOPOLOGY,
    RFC8519_DNS,
    RFC8519_TCP,
    RFC8529_ROUTER,
    RFC8695_ROUTER,
    RFC9067_POLICY,
    RFC9130_ROUTER,
    rfc8519_lists,
    rfc8519_source_ports,
)


def test_rfc8519_section_4_3_lists_by_protocol_network_and_port():
    network = network_of(r=rfc8519_lists(RFC8519_TCP, RFC8519_DNS))
    assert gaps(network, "r") == []
    tcp, dns = network.devices["r"].acls.values()
    match = tcp.entries[0].match
    assert (tcp.name, tcp.entries[0].action, match.protocol) == ("sample-ipv4-acl", "drop", 6)
    assert (str(match.source), str(match.destination)) == ("192.0.2.0/24", "198.51.100.0/24")
    match = dns.entries[0].match
    assert (dns.entries[0].action, match.protocol, str(match.destination)) == ("accept", 17, "2001:db8::/32")
    assert [(ports.low, ports.high) for ports in match.destination_ports] == [(53, 53)]


@pytest.mark.parametrize(
    ("said", "ports"),
    [
        ("<lower-port>16384</lower-port><upper-port>65535</upper-port>", [(16384, 65535)]),
        ("<operator>lte</operator><port>21</port>", [(0, 21)]),
        ("<operator>neq</operator><port>21</port>", [(0, 20), (22, 65535)]),
    ],
)
def test_rfc8519_section_4_4_ranges_and_operators_of_ports(said, ports):
    network = network_of(r=rfc8519_lists(rfc8519_source_ports(said)))
    assert gaps(network, "r") == []
    match = network.devices["r"].acls["ports"].entries[0].match
    assert [(one.low, one.high) for one in match.source_ports] == ports


def test_rfc9067_a_policy_by_prefixes_and_a_tag():
    network = network_of(r=RFC9067_POLICY)
    assert gaps(network, "r") == []
    (statement,) = network.devices["r"].policies["export-tagged-BGP"].statements
    assert (statement.name, statement.result, statement.match.tag) == ("term-0", "accept", 10)
    assert [(str(one.prefix), one.low, one.high) for one in statement.match.prefixes] == [
        ("192.0.2.0/24", 24, 32),
        ("198.51.100.0/24", 24, 32),
    ]


def test_rfc9130_a_router_of_level_2():
    far = ietf(
        ietf_interface("lo", "192.0.2.2/32", "2001:db8::2/128", kind="softwareLoopback"),
        ietf_interface("e", "198.51.100.2/30", "2001:db8:0:0:ff::2/64"),
        protocols=[
            {
                "type": "ietf-isis:isis",
                "name": "x",
                "ietf-isis:isis": {
                    "level-type": "level-2",
                    "system-id": "0000.0000.0002",
                    "area-address": ["49.0001"],
                    "interfaces": {
                        "interface": [
                            {"name": "lo", "passive": True},
                            {"name": "e", "interface-type": "point-to-point"},
                        ]
                    },
                },
            }
        ],
    )
    solved = solved_of(r=RFC9130_ROUTER, far=far)
    assert gaps(solved.network, "r") == [
        "/routing/control-plane-protocols/control-plane-protocol/isis/interfaces/interface/tag is not represented"
    ]
    routes = table(solved, "r")
    found = {prefix: hops(solved, route) for prefix, route in routes.items() if route.protocol == "isis"}
    assert found["192.0.2.2/32"] == ["198.51.100.2@Eth1"]
    assert "2001:db8::2/128" in found
    # Eth1 has 167890 of its own; the loopback's metric behind it is the default.
    assert routes["192.0.2.2/32"].metric == 167890 + 10
    back = table(solved, "far")["192.0.2.1/32"]
    assert (back.protocol, back.metric) == ("isis", 10 + 0)


def test_rfc9130_a_family_that_isis_does_not_route_is_said():
    one_family = RFC9130_ROUTER.replace(
        "<address-family>ipv6</address-family><enabled>true", "<address-family>ipv6</address-family><enabled>false"
    )
    assert any("some address families" in one for one in gaps(network_of(r=one_family), "r"))


def test_rfc8695_a_router_with_its_neighbour_and_routes():
    far = ietf(
        ietf_interface("e0", "192.0.2.2/24"),
        ietf_interface("e1", "203.0.113.1/24"),
        protocols=[
            {
                "type": "ietf-rip:ripv2",
                "name": "x",
                "ietf-rip:rip": {"interfaces": {"interface": [{"interface": "e0"}, {"interface": "e1"}]}},
            }
        ],
    )
    solved = solved_of(r=RFC8695_ROUTER, far=far)
    assert gaps(solved.network, "r") == []
    # What the RFC's state tells of the route comes out: metric 2 by the neighbour.
    learned = table(solved, "r")["203.0.113.0/24"]
    assert (learned.protocol, learned.metric, hops(solved, learned)) == ("rip", 2, ["192.0.2.2@eth0"])
    assert table(solved, "far")["198.51.100.0/24"].protocol == "rip"


def test_rfc8529_two_vrfs_with_ospf_each():
    network = network_of(r=RFC8529_ROUTER)
    device = network.devices["r"]
    assert gaps(network, "r") == []
    assert {name: one.vrf for name, one in device.interfaces.items()} == {
        "eth0": "default",
        "eth1": "vrf-red",
        "eth2": "vrf-blue",
    }
    for vrf, interface in (("vrf-red", "eth1"), ("vrf-blue", "eth2")):
        (ospf,) = device.vrfs[vrf].ospf
        assert (ospf.version, [(one.name, one.cost) for one in ospf.areas[0].interfaces]) == (2, [(interface, 10)])


def test_rfc8346_links_of_a_topology_cable_its_nodes():
    devices = {
        f"D{number}": ietf(*(ietf_interface(name) for name in names))
        for number, names in enumerate(
            (["1-0-1", "1-2-1", "1-3-1"], ["2-0-1", "2-1-1", "2-3-1"], ["3-1-1", "3-2-1"]), 1
        )
    }
    network = network_of(**devices, topology=RFC8346_TOPOLOGY)
    assert sorted(sorted(map(str, link.ends)) for link in network.links) == [
        ["D1:1-2-1", "D2:2-1-1"],
        ["D1:1-3-1", "D3:3-1-1"],
        ["D2:2-3-1", "D3:3-2-1"],
    ]


def test_a_topology_without_its_nodes_is_no_network():
    assert refusals(topology=RFC8346_TOPOLOGY) == [
        ".:1:1: the folder holds no device; allowed: a document, a table or a capture for each"
    ]
