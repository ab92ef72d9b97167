"""The contract's keys: what is read, what is refused, and what is not supported yet."""

import json

import pytest
from jsonschema import Draft202012Validator

from routrel.formats.errors import LoadError
from routrel.formats.json_schema import network_schema
from routrel.formats.network_file import read_network
from routrel.forwarding.flow_words import FlowError
from routrel.model.times import rfc3339
from tests.core.networks import errors, load, router, walk


def test_scalars_follow_yaml_1_2():
    text = "sites: {no: {label: on}}\ndevices: {r1: {site: no, interfaces: {e1: {mtu: 0o2734, description: 1:30}}}}"
    network = load(text).network
    assert network.sites["no"].label == "on"
    assert network.devices["r1"].interfaces["e1"].mtu == 1500
    assert network.devices["r1"].interfaces["e1"].description == "1:30"
    assert "an integer is expected" in errors("devices: {r1: {interfaces: {e1: {mtu: '1500'}}}}")[0]
    assert "a switch is expected" in errors("devices: {r1: {interfaces: {e1: {enabled: yes}}}}")[0]


def test_defaults_are_the_contracts():
    interfaces = load("devices: {r1: {interfaces: {lo: {}, lo1: {}, e1: {}}}}").network.devices["r1"].interfaces
    assert [interface.kind for interface in interfaces.values()] == ["loopback", "loopback", "ethernet"]
    assert interfaces["e1"].enabled
    assert interfaces["e1"].mtu == 1500


def test_rates_and_times():
    network = load("devices: {r1: {interfaces: {e1: {bandwidth: 10G}, e2: {bandwidth: 1.5M}, e3: {bandwidth: 64}}}}")
    bandwidths = [i.bandwidth for i in network.network.devices["r1"].interfaces.values()]
    assert bandwidths == [10**10, 1_500_000, 64]
    assert "no RFC 3339 time" in errors("taken_at: yesterday")[0] or "RFC 3339" in errors("taken_at: yesterday")[0]
    assert errors("taken_at: 2026-13-40T00:00:00Z")
    assert rfc3339(load("taken_at: 2026-11-20T06:00:00+01:00").network.taken_at) == "2026-11-20T06:00:00+01:00"


@pytest.mark.parametrize(
    ("text", "said"),
    [
        ("interfaces: {t: {tunnel: {}}}", "tunnels"),
        ("interfaces: {t: {te: {}}}", "traffic engineering"),
    ],
)
def test_keys_of_later_capabilities_are_refused_by_name(text, said):
    (found,) = errors(f"devices:\n  r1: {{{text}}}\n")
    assert "not supported yet" in found
    assert said in found
    assert ":4:" in found


@pytest.mark.parametrize(
    ("text", "said"),
    [
        ("interfaces: {e1: {addresses: [10.0.0.0/24]}}", "network address"),
        ("interfaces: {e1: {addresses: [10.0.0.255/24]}}", "broadcast address"),
        ("interfaces: {e1: {addresses: [10.0.0.1]}}", "an address with its length"),
        ("interfaces: {e1: {addresses: [224.0.0.1/24]}}", "multicast"),
        ("interfaces: {e1: {acl_in: edge}}", "no ACL of this name"),
        ("interfaces: {e1: {parent: e2, vlan: 5}}", "no interface of this name"),
        ("interfaces: {e1: {parent: e1, vlan: 5}}", "its own parent"),
        ("interfaces: {e1: {}, e1.5: {parent: e1}}", "needs the key 'vlan'"),
        ("interfaces: {e1: {vlan: 5}}", "on switches only"),
        ("interfaces: {b: {members: [b]}}", "no other interface of this name"),
        ("interfaces: {e1: {switchport: {access: 1, trunk: [2]}}}", "either 'access' or 'trunk'"),
        ("site: nowhere", "no site of this name"),
        ("gateway: [10.0.0.1, 10.0.0.2]", "more than one gateway of one family"),
        ("routing: {static: [{prefix: 10.0.0.1/24, next_hop: 10.0.0.1}]}", "no host bits set"),
        ("routing: {static: [{prefix: 10.0.0.0/24}]}", "leads nowhere"),
        ("routing: {static: [{prefix: 10.0.0.0/24, next_hop: '::1'}]}", "different families"),
        ("routing: {static: [{prefix: 10.0.0.0/24, action: discard, next_hop: 10.0.0.1}]}", "takes no next hop"),
        ("interfaces: {e1: {}}, routing: {ospf: {areas: {0: {interfaces: {e1: {cost: 0}}}}}}", "only a loopback"),
        ("routing: {ospf: {areas: {0: {interfaces: {e7: {}}}}}}", "no interface of this name"),
        ("acls: {a: [{action: accept, destination_ports: [80]}]}", "ports need a protocol"),
        ("acls: {a: [{action: drop, stateful: true}]}", "only an accepting entry"),
        ("acls: {a: [{action: accept, source: 10.0.0.0/8, destination: '::/0'}]}", "different families"),
        ("acls: {a: [{action: accept, protocol: tcp, source_ports: [90-80]}]}", "not a port"),
        ("forwarding_policies: {p: [{action: forward}]}", "'next_hop' belongs"),
        ("observed: [{prefix: 10.0.0.0/8}]", "next hops exactly where"),
    ],
)
def test_impossible_values_and_dangling_names_are_errors(text, said):
    found = errors(f"devices:\n  r1: {{{text}}}\n")
    assert any(said in line for line in found), found


def test_an_interface_stands_in_one_area_and_one_link_only():
    two = "interfaces: {e1: {}}, routing: {ospf: {areas: {0: {interfaces: {e1: {}}}, 1: {interfaces: {e1: {}}}}}}"
    assert "already stands in another area" in errors(f"devices: {{r1: {{{two}}}}}")[0]
    devices = "devices: {a: {interfaces: {e1: {}}}, b: {interfaces: {e1: {}, e2: {}}}}\n"
    assert "already stands in a link" in errors(devices + "links: [[a:e1, b:e1], [a:e1, b:e2]]")[0]
    assert "did you mean e2?" in errors(devices + "links: [[a:e1, b:e22]]")[0]


def test_area_ids_are_integers_or_dotted_and_the_same_either_way():
    text = "devices: {r1: {interfaces: {e1: {}}, routing: {ospf: {areas: {0.0.1.0: {}, 256: {}}}}}}"
    assert "same as an earlier key" in errors(text)[0]


def test_aliases_are_allowed_within_bounds():
    solved = load("devices: {r1: {interfaces: {e1: &e {mtu: 9000}, e2: *e}}}")
    assert solved.network.devices["r1"].interfaces["e2"].mtu == 9000


def test_places_point_into_the_text():
    solved = load("devices:\n" + router("r1", {"e1": "addresses: [10.0.0.1/24]"}))
    interface = solved.network.devices["r1"].interfaces["e1"]
    assert (interface.place.line, interface.place.column) == (6, 7)
    assert interface.address_places[0].line == 6


def test_the_json_schema_agrees_with_the_reader():
    schema = network_schema()
    Draft202012Validator.check_schema(schema)
    validator = Draft202012Validator(schema)
    good = {
        "routrel": 1,
        "name": "x",
        "devices": {"r1": {"interfaces": {"e1": {"addresses": ["10.0.0.1/24"], "bandwidth": "10G"}}}},
        "services": {"web": "tcp/443"},
    }
    bad = [{"name": "x"}, {**good, "devices": {"r1": {"vrfs": []}}}, {**good, "oops": 1}, {**good, "links": [["a:b"]]}]
    assert validator.is_valid(good)
    assert read_network({"n.json": json.dumps(good).encode()})
    for document in bad:
        assert not validator.is_valid(document)
        with pytest.raises(LoadError):
            read_network({"n.json": json.dumps(document).encode()})


@pytest.mark.parametrize(
    ("interfaces", "what"),
    [
        ("{p: {switchport: {access: 5}, acl_in: x}}", "a switchport"),
        ("{p: {acl_out: x}, b: {members: [p], addresses: [10.0.0.1/24]}}", "a member of a bundle"),
        ("{lo: {kind: loopback, addresses: [10.0.0.1/32], acl_in: x}}", "a loopback"),
        ("{p: {acl_in: x}, p.5: {parent: p, vlan: 5, addresses: [10.0.0.1/24]}}", "a parent of VLANs"),
    ],
)
def test_a_list_where_nothing_is_routed_is_an_error(interfaces, what):
    text = f"devices: {{s: {{kind: switch, interfaces: {interfaces}, acls: {{x: []}}}}}}"
    assert any(what in error and "never be asked" in error for error in errors(text))


def test_a_device_that_is_off_has_no_interface_that_is_on():
    solved = load(
        "devices:\n"
        "  a: {enabled: false, interfaces: {e: {addresses: [10.0.0.1/30]}}}\n"
        "  b: {interfaces: {e: {addresses: [10.0.0.2/30]}, f: {addresses: [10.1.0.1/24]}}}\n"
        "links:\n- {ends: [a:e, b:e], risk_groups: [duct, mast]}\n"
    )
    network = solved.network
    assert not network.devices["a"].interfaces["e"].enabled and network.devices["b"].interfaces["e"].enabled
    assert network.links[0].risk_groups == ("duct", "mast")
    for source, destination in (("a", "b"), ("b", "a")):
        with pytest.raises(FlowError, match="a is disabled: none of its addresses is up"):
            walk(solved, source, destination)
