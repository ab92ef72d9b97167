"""Maintenance: drained, then shut, in an order that breaks nothing expected; held against every order."""

import json
from itertools import permutations

import pytest
from hypothesis import HealthCheck, assume, given, settings
from hypothesis import strategies as st

from routrel.analysis.expectations.conditions import Conditions
from routrel.analysis.expectations.failures import NothingToFailError, failure_of
from routrel.analysis.expectations.words import flow_words
from routrel.analysis.maintenance.draining import drained_by, ports_over
from routrel.analysis.maintenance.plan import (
    MaintenanceError,
    maintenance_lines,
    plan,
    things_to_shut,
)
from routrel.formats.changes.applying import apply_changes
from routrel.formats.changes.reading import changes_of
from routrel.formats.sources import read_files
from routrel.forwarding.flow import Flow
from routrel.solving import solve
from tests.core.gateway_networks import lan, virtual_of
from tests.core.gateway_networks import read as read_gateways
from tests.core.mixed_networks import documents
from tests.core.test_expectations import SQUARE, flows_between
from tests.examples import examples

EXPECTED = """\
- {name: web, from: a, to: b, on: tcp/443}
- {name: own, from: r2, to: b, on: tcp/443}
"""


def made(text: str = SQUARE, expected: str = EXPECTED, *changes: tuple[str, str]):
    for old, new in changes:
        assert old in text
        text = text.replace(old, new)
    files = {"network.yaml": f"routrel: 1\nname: square\n{text}".encode(), "expectations.yaml": expected.encode()}
    return files, solve(read_files(files))


def test_a_router_is_drained_then_shut_and_its_traffic_goes_round():
    found = plan(*made(), [("devices", "r2")])
    drain, shut = found.steps
    assert found.is_sound and found.own_ends == ["r2 > b tcp/443"] and found.flow_count == 1
    assert (drain.kind, drain.moved, drain.passing) == ("drain", 1, [])  # by r3 from here on
    assert [(one["at"], one["to"]) for one in drain.changes] == [("r2:x", 65535), ("r2:y", 65535)]
    assert (shut.kind, shut.moved, shut.changes[-1]) == ("shut", 0, {"disable": "device", "at": "r2"})
    assert [(one.flow, one.before, one.then) for one in found.fewer_ways] == [("a > b tcp/443", 2, 1)]
    lines = list(maintenance_lines(found))
    assert (
        lines[0].startswith("this can be shut, and nothing expected breaks")
        and lines[-1] == "1 expected flow ends in what is shut"
    )


def test_what_cannot_be_had_is_said_at_its_step():
    found = plan(*made(), [("devices", "r2"), ("devices", "r3")])
    assert not found.is_sound and [len(step.breaks) for step in found.steps] == [0, 0, 0, 1]
    (broken,) = found.steps[-1].breaks
    assert (broken.expectation, broken.flow) == ("web", "a > b tcp/443") and "r1 has no route" in broken.reason
    assert any("- breaks a > b tcp/443 (web)" in line for line in maintenance_lines(found))


def test_another_order_is_found_where_the_written_one_breaks_something():
    # Without r2 the way leads by r3, whose filter lets nothing pass; without the cable r1-r3, and then r2, it is r1-r4.
    text = SQUARE + "- {ends: [r1:z, r4:z], name: spare}\n"
    changes = [
        ("y: {addresses: [10.9.13.1/30], mtu: 1400}}", "y: {addresses: [10.9.13.1/30], mtu: 1400}, z: {addresses: [10.9.14.1/30]}}"),
        ("y: {addresses: [10.9.34.2/30]}}", "y: {addresses: [10.9.34.2/30]}, z: {addresses: [10.9.14.2/30]}}"),
        ("x: {cost: 10}, y: {cost: 10}}}}}}}\n  r2", "x: {cost: 10}, y: {cost: 10}, z: {cost: 60000}}}}}}}\n  r2"),
        ("lan: {}, x: {cost: 10}, y: {cost: 20}", "lan: {}, x: {cost: 10}, y: {cost: 20}, z: {cost: 60000}"),
        ("r3: {interfaces: {x: {addresses: [10.9.13.2/30], mtu: 1400}", "r3: {acls: {none: [{action: drop, protocol: tcp}, {action: accept}]}, interfaces: {x: {addresses: [10.9.13.2/30], mtu: 1400, acl_in: none}"),
    ]  # fmt: skip
    found = plan(*made(text, EXPECTED, *changes), [("devices", "r2"), ("devices", "r3")])
    assert found.is_sound
    assert [step.words.split(":")[0] for step in found.steps] == ["drain device r3", "shut device r3", "drain device r2", "shut device r2"]  # fmt: skip


def test_a_cable_is_drained_at_its_ends():
    files, solved = made()
    north = failure_of(solved, "links", "north")
    ports = ports_over(solved.topology, north)
    assert {str(solved.topology.ports[port].name) for port in ports} == {"r1:x", "r2:x"}
    assert [change["at"] for change in drained_by(solved, ports)] == ["r1:x", "r2:x"]
    found = plan(files, solved, [("links", "north")])
    assert found.is_sound and found.steps[0].passing == []


def test_what_to_shut_is_named_with_what_it_is():
    assert things_to_shut(["device r2", " link a, b ", "risk group duct"]) == [("devices", "r2"), ("links", "a, b"), ("risk_groups", "duct")]  # fmt: skip
    for text, said in (
        ("", "nothing is named"),
        ("r2", "'r2' does not say what it is"),
        ("device r2, device r2", "named twice"),
        (",".join(f"device r{one}" for one in range(9)), "at most 8"),
    ):
        with pytest.raises(MaintenanceError, match=said):
            things_to_shut(text.split(","))
    with pytest.raises(NothingToFailError, match="did you mean r2"):
        plan(*made(), [("devices", "r22")])


def test_without_anything_to_tell_by_nothing_is_said_to_be_well():
    files, solved = made(expected="- {name: own, from: r2, to: b, on: tcp/443}\n")
    found = plan(files, solved, [("devices", "r2")])
    assert not found.is_sound and "cannot be told" in found.words
    found = plan(files, solve(read_files({"network.yaml": files["network.yaml"]})), [("devices", "r2")])
    assert not found.is_sound and "cannot be told" in found.words and found.flow_count == 0


@given(documents(), st.data())
@settings(max_examples=examples(8), deadline=None, suppress_health_check=[HealthCheck.too_slow])
def test_a_plan_is_what_trying_every_order_gives(document, data):
    files = {"network.json": json.dumps(document).encode()}
    flows = [one.flow for one in flows_between(solve(read_files(files)))][:12]
    assume(flows)
    expected = [{"name": f"{one.source}-{one.destination}", "from": one.source, "to": one.destination} for one in flows]
    files["expectations.yaml"] = json.dumps(expected).encode()
    solved = solve(read_files(files))
    names = [("devices", name) for name in solved.network.devices]
    names += [("links", str(link.ends[0])) for link in solved.network.links]
    shut = data.draw(st.lists(st.sampled_from(names), min_size=1, max_size=2, unique=True))
    found = plan(files, solved, shut)
    failures = [failure_of(solved, *one) for one in shut]
    own = {name for one in failures for name in one.devices}
    looked = [one for one in flows if not {one.source, one.destination} & own]
    assert found.flow_count == len(looked) and len(found.own_ends) == len(flows) - len(looked)

    def broken(changes) -> set[str]:
        after = Conditions(solve(apply_changes(files, solved.network, changes_of(changes)).network))
        by_name = {one.name: one for one in solved.network.expectations}
        return {
            flow_words(flow)
            for flow in looked
            if not after.check(by_name[f"{flow.source}-{flow.destination}"], Flow(flow.source, flow.destination)).holds
        }

    seen = set()
    for step in found.steps:
        now = broken(step.changes)
        assert {one.flow for one in step.breaks} == now - seen
        seen = now
    drains = [drained_by(solved, ports_over(solved.topology, one)) for one in failures]

    def is_sound(order) -> bool:
        changes = []
        for at in order:
            for more in (drains[at], [failures[at].change]):
                changes += [one for one in more if one not in changes]
                if more and broken(changes):
                    return False
        return True

    assert found.is_sound == (bool(looked) and any(map(is_sound, permutations(range(len(failures))))))


RINGS = """
devices:
  r1: {interfaces: {x: {addresses: [10.0.12.1/30]}, lan: {addresses: [10.0.1.1/24]}}, routing: {ROUTING}}
  r2: {interfaces: {x: {addresses: [10.0.12.2/30]}, lan: {addresses: [10.0.1.2/24]}}, routing: {ROUTING}}
  sw: {kind: switch, interfaces: {p1: {switchport: {access: 1}}, p2: {switchport: {access: 1}}}}
links:
- {ends: [r1:x, r2:x], name: direct}
- [r1:lan, sw:p1]
- [r2:lan, sw:p2]
"""
ROUTING = {
    "wide": "isis: {net: 49.0001.0000.0000.000N.00, interfaces: {x: {}, lan: {}}}",
    "narrow": "isis: {net: 49.0001.0000.0000.000N.00, wide_metrics: false, interfaces: {x: {}, lan: {}}}",
    "passive": "ospf: {areas: {0: {interfaces: {x: {passive: true}, lan: {}}}}}",
    "rip": "rip: {interfaces: {x: {}, lan: {}}}",
}


def rings(routing: str) -> str:
    return RINGS.replace("ROUTING", ROUTING[routing].replace("000N", "0001"), 1).replace(
        "ROUTING", ROUTING[routing].replace("000N", "0002")
    )


def drains(routing: str, kind: str, at: str) -> list[tuple[str, int]]:
    _, solved = made(rings(routing), EXPECTED)
    ports = ports_over(solved.topology, failure_of(solved, kind, at))
    return [(change["at"], change["to"]) for change in drained_by(solved, ports)]


def test_what_is_raised_to_which_cost():
    assert drains("wide", "devices", "r1") == [("r1:x", 0xFFFFFE), ("r1:lan", 0xFFFFFE)]
    assert drains("narrow", "devices", "r1") == [("r1:x", 63), ("r1:lan", 63)]
    assert drains("narrow", "links", "direct") == [("r1:x", 63), ("r2:x", 63)]
    # A switch has no costs of its own: the routers around it have; an interface of a cable between two at both ends.
    assert drains("wide", "devices", "sw") == [("r1:lan", 0xFFFFFE), ("r2:lan", 0xFFFFFE)]
    assert drains("wide", "interfaces", "r1:x") == [("r1:x", 0xFFFFFE), ("r2:x", 0xFFFFFE)]
    # Where no neighbour is, the subnet is led to by the other router too.
    assert drains("passive", "devices", "r1") == [("r1:x", 65535), ("r1:lan", 65535)]
    assert drains("rip", "devices", "r1") == []


@pytest.mark.parametrize(
    ("first", "second", "drain"),
    [
        ({"priority": 120}, {}, [("r1:e", "vrrp_priority", 1)]),
        ({"priority": 120}, {"preempt": False}, []),
        ({"priority": 120}, {"priority": 1}, []),
        ({"addresses": ["10.0.1.2"]}, {"addresses": ["10.0.1.2"]}, []),
        ({"priority": 90}, {}, []),
    ],
)
def test_where_it_is_active_for_a_virtual_router_the_next_one_takes_over_first(first, second, drain):
    solved = solve(read_gateways(lan(virtual_of(first), virtual_of(second))))
    ports = ports_over(solved.topology, failure_of(solved, "devices", "r1"))
    assert [(one["at"], one["set"], one["to"]) for one in drained_by(solved, ports)] == drain


GATEWAYS = """
  a:
    interfaces:
      lan: {addresses: [10.20.1.2/24], virtual_routers: [{id: 10, addresses: [10.20.1.1], priority: 120}]}
      up: {addresses: [172.16.1.1/30]}
    routing: {ospf: {areas: {0: {interfaces: {lan: {passive: true}, up: {}}}}}}
  b:
    interfaces:
      lan: {addresses: [10.20.1.3/24], virtual_routers: [{id: 10, addresses: [10.20.1.1]}]}
      up: {addresses: [172.16.2.1/30]}
    routing: {ospf: {areas: {0: {interfaces: {lan: {passive: true}, up: {}}}}}}
  hub:
    interfaces: {a: {addresses: [172.16.1.2/30]}, b: {addresses: [172.16.2.2/30]}, srv: {addresses: [10.30.1.1/24]}}
    routing: {ospf: {areas: {0: {interfaces: {a: {cost: 5}, b: {}, srv: {passive: true}}}}}}
  kiosk: {kind: host, interfaces: {e: {addresses: [10.20.1.50/24]}}, gateway: 10.20.1.1}
  tickets: {kind: host, interfaces: {e: {addresses: [10.30.1.9/24]}}, gateway: 10.30.1.1}
"""


def test_a_gateway_is_drained_of_what_comes_from_hosts_and_of_what_goes_to_them():
    links = 'links: [["kiosk:e", "a:lan", "b:lan"], ["a:up", "hub:a"], ["b:up", "hub:b"], ["hub:srv", "tickets:e"]]'
    expected = "- {name: sells, from: kiosk, to: tickets, on: tcp/443}\n"
    found = plan(*made(f"devices:{GATEWAYS}{links}\n", expected), [("devices", "a")])
    drain, shut = found.steps
    assert drain.words == "drain device a: 2 costs raised, 1 VRRP priority lowered"
    assert (drain.moved, drain.passing, shut.moved, found.is_sound) == (1, [], 0, True)


def test_two_cables_of_a_name_are_told_apart_by_their_ends():
    text = rings("wide").replace("- [r1:lan, sw:p1]", "- {ends: [r1:lan, sw:p1], name: direct}")
    _, solved = made(text, EXPECTED)
    with pytest.raises(NothingToFailError, match="2 links are named 'direct': say which by one end, like r1:x, r1:lan"):
        failure_of(solved, "links", "direct")
    assert failure_of(solved, "links", "r1:lan").name == "direct"
