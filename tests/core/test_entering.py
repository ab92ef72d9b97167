"""Where a flow from outside comes in: a switchport leads to its VLAN's interface, a layer-3 switch is an entry."""

import pytest

from routrel.forwarding.flow_words import FlowError
from tests.core.networks import load, walk

LAYER_3 = """
devices:
  s:
    kind: switch
    interfaces:
      p1: {switchport: {access: 10}}
      p2: {switchport: {access: 30}}
      v10: {vlan: 10, addresses: [10.0.1.1/24], acl_in: edge}
      up: {addresses: [10.0.2.1/30]}
    acls: {edge: [{action: drop, protocol: tcp}, {action: accept}]}
  r:
    interfaces: {e1: {addresses: [10.0.2.2/30]}, lan: {addresses: [10.0.3.1/24]}}
    routing: {static: [{prefix: 10.0.1.0/24, next_hop: 10.0.2.1}]}
links: [[s:up, r:e1]]
"""
ROUTED = LAYER_3.replace(
    "    acls: {edge", "    routing: {static: [{prefix: 10.0.3.0/24, next_hop: 10.0.2.2}]}\n    acls: {edge"
)


def test_a_flow_that_enters_by_a_switchport_meets_the_list_of_its_vlans_interface():
    found = walk(load(ROUTED), "10.0.1.50", "10.0.3.1", "tcp/80", enter="s:p1")
    assert found.forward.verdict == "blocked"
    assert walk(load(ROUTED), "10.0.1.50", "10.0.3.1", "icmp", enter="s:p1").forward.verdict == "arrives"


def test_a_switchport_of_a_vlan_that_nobody_routes_there_is_no_entry():
    with pytest.raises(FlowError, match="a switchport of VLAN 30, which s does not route"):
        walk(load(ROUTED), "10.0.1.50", "10.0.3.1", "icmp", enter="s:p2")


def test_a_source_behind_a_layer_3_switch_enters_there():
    found = walk(load(ROUTED), "10.0.1.50", "10.0.3.1", "tcp/80")
    assert [found.forward.stops[0].device, found.forward.verdict] == [0, "blocked"]
