"""What keeps two interfaces apart that are cabled together, each kind by itself (IEEE 802.1Q)."""

import pytest

from tests.core.networks import load

TEXT = """
devices:
  a: {{interfaces: {{e: {{addresses: [10.0.0.1/24]}}}}}}
  b: {{interfaces: {{e: {{addresses: [10.0.0.2/24]}}}}}}
  s: {{kind: switch, interfaces: {{p: {{switchport: {p}}}, t: {{{t_more}switchport: {t}}}}}}}
  u: {{kind: switch, interfaces: {{t: {{switchport: {ut}}}, p: {{{p_more}switchport: {up}}}}}}}
links: [[a:e, s:p], [s:t, u:t], {{ends: [u:p, b:e], enabled: {link}}}]
"""
WELL = {
    "p": "{access: 10}",
    "t": "{trunk: [10, 20]}",
    "ut": "{trunk: [10, 20]}",
    "up": "{access: 10}",
    "t_more": "",
    "p_more": "",
    "link": "true",
}


def apart(**changes: str):
    solved = load(TEXT.format(**{**WELL, **changes}))
    ports = [solved.topology.port(device, "e").index for device in ("a", "b")]
    assert solved.wiring.cabled_with(ports[0]) == sorted(ports)
    return solved.wiring.apart(*ports)


def test_nothing_keeps_apart_what_hears_each_other():
    assert apart() is None


@pytest.mark.parametrize(
    ("changes", "texts", "count"),
    [
        ({"up": "{access: 20}"}, ("s:p is in VLAN 10 and u:p is in VLAN 20",), 2),
        ({"ut": "{trunk: [20]}"}, ("s:t carries VLAN 10 and u:t does not",), 2),
        ({"t": "{trunk: [20], native: 30}"}, ("VLAN 10", "s:t"), 2),
        ({"t_more": "enabled: false, "}, ("s:t is down: it is disabled",), 1),
        ({"link": "false"}, ("b:e is down: its link is disabled",), 1),
        ({"p_more": "enabled: false, "}, ("b:e is down: no carrier: u:p is disabled",), 1),
    ],
)
def test_the_break_is_named_with_its_places(changes, texts, count):
    found = apart(**changes)
    assert all(text in found.text for text in texts), found.text
    assert len(found.places) >= 1 and len(found.places) <= count


def test_tags_that_a_cable_carries_and_its_other_end_does_not_take():
    solved = load(
        """
devices:
  a: {interfaces: {e: {}, e.10: {parent: e, vlan: 10, addresses: [10.0.0.1/24]}}}
  b: {interfaces: {e: {}, e.20: {parent: e, vlan: 20, addresses: [10.0.0.2/24]}}}
links: [[a:e, b:e]]
"""
    )
    found = solved.wiring.apart(solved.topology.port("a", "e.10").index, solved.topology.port("b", "e.20").index)
    assert "VLAN 10" in found.text and "VLAN 20" in found.text


def test_interfaces_of_different_cables_have_nothing_to_do_with_each_other():
    solved = load(
        """
devices:
  a: {interfaces: {e: {addresses: [10.0.0.1/24]}, f: {addresses: [10.1.0.1/24]}}}
  b: {interfaces: {e: {addresses: [10.0.0.2/24]}}}
  c: {interfaces: {e: {addresses: [10.0.0.3/24]}}}
links: [[a:e, b:e], [a:f, c:e]]
"""
    )
    ports = [solved.topology.port(*name).index for name in (("b", "e"), ("c", "e"))]
    assert solved.wiring.apart(*ports) is None
    assert solved.wiring.holder(ports[0], solved.topology.ports[ports[1]].addresses[0]) is None
