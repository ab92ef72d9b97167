from routrel.model.network import InterfaceName
from routrel.topology.segments import Topology
from routrel.topology.wiring import Wiring
from tests.core.networks import load


def segments(text: str) -> list[set[str]]:
    topology: Topology = load(text).topology
    return sorted(
        ({str(topology.ports[port].name) for port in segment.ports} for segment in topology.segments), key=sorted
    )


def down(text: str) -> dict[str, str]:
    return {str(port.name): port.down for port in load(text).topology.ports if port.down}


A, B, C = "10.0.0.1/24", "10.0.0.2/24", "10.0.0.3/24"


def test_links_make_segments_and_unlinked_interfaces_join_by_subnet():
    devices = (
        f"devices: {{a: {{interfaces: {{e1: {{addresses: [{A}]}}}}}}, b: {{interfaces: {{e1: {{addresses: [{B}]}}}}}}"
    )
    devices += f", c: {{interfaces: {{e1: {{addresses: [{C}]}}}}}}}}\n"
    assert segments(devices) == [{"a:e1", "b:e1", "c:e1"}]
    # An interface in a link is on that link only; the other two still find each other.
    devices += "links: [[a:e1, b:e1]]"
    assert segments(devices) == [{"a:e1", "b:e1"}, {"c:e1"}]


def test_host_length_addresses_join_nothing():
    text = "devices: {a: {interfaces: {e1: {addresses: [10.0.0.1/32]}}}, b: {interfaces: {e1: {addresses: [10.0.0.2/32]}}}}"
    assert segments(text) == [{"a:e1"}, {"b:e1"}]


VLANS = """
devices:
  r: {interfaces: {e1: {}, e1.10: {parent: e1, vlan: 10, addresses: [10.0.10.1/24]}, e1.20: {parent: e1, vlan: 20, addresses: [10.0.20.1/24]}}}
  s:
    kind: switch
    interfaces: {p1: {switchport: {trunk: [10, 20]}}, p2: {switchport: {access: 10}}, p3: {switchport: {access: 20}}, p4: {}, v10: {vlan: 10, addresses: [10.0.10.2/24]}}
  a: {kind: host, interfaces: {e1: {addresses: [10.0.10.10/24]}}}
  b: {kind: host, interfaces: {e1: {addresses: [10.0.20.10/24]}}}
  c: {kind: host, interfaces: {e1: {addresses: [10.0.1.10/24]}}}
links: [[r:e1, s:p1], [s:p2, a:e1], [s:p3, b:e1], [s:p4, c:e1]]
"""


def test_vlans_keep_apart_what_a_switch_joins():
    assert segments(VLANS) == [{"a:e1", "r:e1.10", "s:v10"}, {"b:e1", "r:e1.20"}, {"c:e1"}]


def test_a_trunk_joins_two_switches_and_the_native_vlan_is_untagged():
    text = """
devices:
  s1: {kind: switch, interfaces: {p1: {switchport: {trunk: [10], native: 7}}, p2: {switchport: {access: 7}}}}
  s2: {kind: switch, interfaces: {p1: {switchport: {access: 9}}, p2: {switchport: {access: 9}}}}
  a: {interfaces: {e1: {addresses: [10.0.0.1/24]}}}
  b: {interfaces: {e1: {addresses: [10.0.0.2/24]}}}
links: [[s1:p1, s2:p1], [s1:p2, a:e1], [s2:p2, b:e1]]
"""
    assert segments(text) == [{"a:e1", "b:e1"}]


def test_a_plain_switch_passes_every_tag():
    text = """
devices:
  s: {kind: switch, interfaces: {p1: {}, p2: {}}}
  a: {interfaces: {e1: {addresses: [10.0.0.1/24]}, e1.5: {parent: e1, vlan: 5, addresses: [10.0.5.1/24]}}}
  b: {interfaces: {e1: {addresses: [10.0.0.2/24]}, e1.5: {parent: e1, vlan: 5, addresses: [10.0.5.2/24]}}}
links: [[s:p1, a:e1], [s:p2, b:e1]]
"""
    assert segments(text) == [{"a:e1", "b:e1"}, {"a:e1.5", "b:e1.5"}]


def test_a_bundle_stands_on_its_members_links():
    text = """
devices:
  a: {interfaces: {e1: {}, e2: {}, b1: {members: [e1, e2], addresses: [10.0.0.1/24]}}}
  b: {interfaces: {e1: {}, e2: {}, b1: {members: [e1, e2], addresses: [10.0.0.2/24]}}}
links: [[a:e1, b:e1], [a:e2, b:e2]]
"""
    assert segments(text) == [{"a:b1", "b:b1"}]
    assert "b:b1" not in down(text.replace("a: {interfaces: {e1: {}", "a: {interfaces: {e1: {enabled: false}"))
    both = text.replace(
        "a: {interfaces: {e1: {}, e2: {}", "a: {interfaces: {e1: {enabled: false}, e2: {enabled: false}"
    )
    assert down(both)["b:b1"] == "all its members are down"


def test_a_member_that_is_down_joins_its_bundle_to_nothing():
    text = """
devices:
  a: {interfaces: {e1: {enabled: false}, e2: {}, b1: {members: [e1, e2], addresses: [10.0.0.1/24]}}}
  b: {interfaces: {e1: {addresses: [10.0.0.2/24]}}}
  c: {interfaces: {e1: {addresses: [10.0.0.3/24]}}}
  d: {interfaces: {e1: {addresses: [10.0.0.4/24]}}}
links: [[a:e1, b:e1, c:e1], [a:e2, d:e1]]
"""
    assert segments(text) == [{"a:b1", "d:e1"}, {"b:e1", "c:e1"}]
    wiring = Wiring(load(text).topology)
    ports = wiring.topology.port_index
    broken = wiring.apart(ports[InterfaceName("a", "b1")], ports[InterfaceName("b", "e1")])
    assert broken is not None
    assert broken.text == "a:e1 is down: it is disabled"


def test_a_two_ended_link_is_down_at_both_ends_a_longer_one_is_not():
    ends = "devices: {a: {interfaces: {e1: {enabled: false}}}, b: {interfaces: {e1: {}}}, c: {interfaces: {e1: {}}}}\n"
    assert down(ends + "links: [[a:e1, b:e1]]") == {
        "a:e1": "it is disabled",
        "b:e1": "no carrier: a:e1 is disabled",
    }
    assert down(ends + "links: [[a:e1, b:e1, c:e1]]") == {"a:e1": "it is disabled"}
    disabled = ends.replace("enabled: false", "") + "links: [{ends: [a:e1, b:e1], enabled: false}]"
    assert set(down(disabled)) == {"a:e1", "b:e1"}


def test_a_sub_interface_is_down_with_its_parent():
    text = "devices: {a: {interfaces: {e1: {enabled: false}, e1.5: {parent: e1, vlan: 5}}}}"
    assert down(text)["a:e1.5"] == "e1 is down: it is disabled"
