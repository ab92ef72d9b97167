"""Two states of a network held against each other."""

import pytest
from hypothesis import HealthCheck, given, settings

from routrel.analysis.changed_routes import changed_routes, count_and_list
from routrel.analysis.comparison import compare, comparison_lines
from routrel.analysis.table_rows import table_rows
from routrel.forwarding.flow import Flow
from routrel.model.addresses import InterfaceAddress
from routrel.model.fields import replace
from routrel.model.places import NOWHERE
from routrel.solving import solve
from tests.core.mixed_networks import documents, read
from tests.core.networks import load
from tests.examples import examples

TWO = """
devices:
  h: {kind: host, interfaces: {e0: {addresses: [10.0.1.10/24]}}, gateway: 10.0.1.1}
  a:
    interfaces: {lan: {addresses: [10.0.1.1/24]}, e0: {addresses: [10.0.0.1/30]}}
    routing: {static: [{prefix: 10.0.2.0/24, next_hop: 10.0.0.2}]}
  b:
    interfaces: {e0: {addresses: [10.0.0.2/30]}, lan: {addresses: [10.0.2.1/24], acl_out: office}}
    routing: {static: [{prefix: 10.0.1.0/24, next_hop: 10.0.0.1}]}
    acls: {office: [{action: accept}]}
links: [[h:e0, a:lan], [a:e0, b:e0]]
"""


def lines(before: str, after: str, *flows: Flow) -> list[str]:
    return list(comparison_lines(compare(load(before), load(after), flows)))


def test_a_text_whose_lines_moved_is_the_same_network():
    moved = TWO.replace("  a:\n", "  # moved\n\n\n  a:\n")
    found = compare(load(TWO), load(moved), [Flow("h", "10.0.2.1")])
    assert found.is_same and found.flows[0].before == "arrives, answer arrives"
    assert list(comparison_lines(found))[-1] == "no difference"


def test_what_came_went_and_changed_is_named():
    after = (
        TWO.replace("action: accept", "action: drop")
        .replace("lan: {addresses: [10.0.1.1/24]}", "lan: {addresses: [10.0.1.1/24], mtu: 1400}, e9: {}")
        .replace("prefix: 10.0.1.0/24, next_hop: 10.0.0.1", "prefix: 10.0.1.0/24, action: discard")
    )
    said = lines(TWO, after, Flow("h", "10.0.2.9"), Flow("h", "10.0.0.2"), Flow("nobody", "h"))
    assert "~ interface a:lan: mtu" in said
    assert "+ interface a:e9" in said
    assert "~ device b: routing, acls" in said
    assert (
        "~ route b 10.0.1.0/24: static 1/0 10.0.0.1 by e0 (a) > static 1/0 discard (a static route to 10.0.0.1 is not there any more)"
        in said
    )
    assert any(line.startswith("~ flow h > 10.0.2.9 icmp: unresolved") and "> blocked" in line for line in said)
    assert any(
        line.startswith("~ flow h > 10.0.0.2 icmp: arrives, answer arrives > arrives, answer dis") for line in said
    )
    assert any(line.startswith("= flow nobody > h icmp: 'nobody' is no device") for line in said)


def test_a_device_and_a_link_that_went_take_their_routes_along():
    after = TWO.replace(", [a:e0, b:e0]", "").split("  b:\n")[0] + "links: [[h:e0, a:lan]]\n"
    said = lines(TWO, after)
    assert "- device b" in said and "- link a:e0 - b:e0" in said
    assert "~ route b 10.0.2.0/24: connected 0/0 by lan > none (b is gone)" in said


@given(documents(lans=1))
@settings(max_examples=examples(20), deadline=None, suppress_health_check=[HealthCheck.too_slow])
def test_routes_that_differ_are_those_whose_rows_do(document):
    network = read(document)
    name, device = next(iter(network.devices.items()))
    off = {name: replace(one, enabled=False) for name, one in device.interfaces.items()}
    changed = replace(network, devices=network.devices | {name: replace(device, interfaces=off)})
    before = solve(network)
    after = solve(changed, before)
    rows = [
        {(row.device, row.vrf, row.prefix): row for row in table_rows(solved, range(len(solved.topology.instances)))}
        for solved in (before, after)
    ]
    differing = {key for key in rows[0].keys() | rows[1].keys() if rows[0].get(key) != rows[1].get(key)}
    found = compare(before, after)
    assert {(one.device, one.vrf, one.prefix) for one in found.routes} >= {
        key for key in differing if (key in rows[0]) != (key in rows[1])
    }
    assert all((one.device, one.vrf, one.prefix) in differing for one in found.routes)
    assert found.routes_changed == len(found.routes)


def everything(solved):
    """Every route by device, VRF and prefix, ports by name: plain code over whole tables."""
    ports = solved.topology.ports
    return {
        (device, vrf, str(route.prefix)): (
            (route.protocol, route.origin, route.preference, route.metric, route.action, route.tag),
            {(ports[hop.port].name, hop.address) for hop in route.next_hops},
        )
        for (device, vrf), instance in solved.topology.instance_index.items()
        for route in solved.table(instance)
    }


def disabled(device):
    return replace(device, interfaces={name: replace(one, enabled=False) for name, one in device.interfaces.items()})


def preferred(device):
    if device.routing is None:
        return device
    told = {"ospf": 130, "isis": 20, "rip": 10, "static": 140, "ibgp": 9}
    return replace(device, routing=replace(device.routing, preferences=told))


def dearer(device):
    if device.routing is None:
        return device
    dear = [
        replace(
            ospf,
            areas=tuple(
                replace(area, interfaces=tuple(replace(one, cost=77) for one in area.interfaces)) for area in ospf.areas
            ),
        )
        for ospf in device.routing.ospf
    ]
    return replace(device, routing=replace(device.routing, ospf=tuple(dear), static=device.routing.static[1:]))


def readdressed(device):
    """Another subnet on the first interface: prefixes come and go."""
    name, first = next(iter(device.interfaces.items()))
    moved = replace(first, addresses=(InterfaceAddress.parse("172.31.9.1/24"),), address_places=(NOWHERE,))
    return replace(device, interfaces=device.interfaces | {name: moved})


@pytest.mark.parametrize("change", [disabled, preferred, dearer, readdressed])
@pytest.mark.parametrize("again", [True, False])
@given(documents(lans=1))
@settings(max_examples=examples(15), deadline=None, suppress_health_check=[HealthCheck.too_slow])
def test_tables_as_arrays_differ_where_their_routes_do(change, again, document):
    network = read(document)
    before = solve(network)
    for name in list(network.devices)[:2]:
        changed = replace(network, devices=network.devices | {name: change(network.devices[name])})
        after = solve(changed, before) if again else solve(changed)
        old, new = everything(before), everything(after)
        found = {(one.device, one.vrf, one.prefix) for one in changed_routes(before, after)}
        assert found == {key for key in old.keys() | new.keys() if old.get(key) != new.get(key)}
        assert count_and_list(before, after, 0) == (len(found), [])
