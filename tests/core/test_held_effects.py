"""What a change does to all traffic, on networks small enough to say it beforehand."""

import pytest

from routrel.analysis.answers.held import Held
from routrel.analysis.held import conversations
from routrel.analysis.held.groups import comparing, held_lines
from routrel.analysis.held.services import Service, ServiceSpace
from routrel.analysis.trial import Trial
from routrel.formats.changes.reading import read_change
from routrel.formats.sources import read_files
from routrel.model.fields import replace
from routrel.model.filter_programs import FilterProgram
from routrel.model.filters import HeaderMatch, PortRange
from routrel.solving import solve

# Three routers in a triangle, each with a subnet; r1 and r2 with a way out, that by r1 preferred; r3 guarded.
NETWORK = """\
routrel: 1
name: triangle
sites: {left: {label: Left bank}, right: {}}
devices:
  r1:
    site: left
    interfaces:
      lo: {addresses: [10.0.0.1/32]}
      lan: {addresses: [10.1.1.1/24]}
      a: {addresses: [10.9.12.1/30]}
      b: {addresses: [10.9.13.1/30]}
      out: {addresses: [172.31.0.1/30]}
    routing:
      static: [{prefix: 0.0.0.0/0, next_hop: 172.31.0.2}]
      ospf:
        originate_default: {metric: 1}
        areas: {0: {interfaces: {lo: {}, lan: {passive: true}, a: {cost: 10}, b: {cost: 10}}}}
  r2:
    site: right
    interfaces:
      lo: {addresses: [10.0.0.2/32]}
      lan: {addresses: [10.1.2.1/24]}
      a: {addresses: [10.9.12.2/30]}
      b: {addresses: [10.9.23.2/30]}
      out: {addresses: [172.31.0.5/30]}
    routing:
      static: [{prefix: 0.0.0.0/0, next_hop: 172.31.0.6, preference: 200}]
      ospf:
        originate_default: {metric: 50}
        areas: {0: {interfaces: {lo: {}, lan: {passive: true}, a: {cost: 10}, b: {cost: 10}}}}
  r3:
    site: right
    interfaces:
      lo: {addresses: [10.0.0.3/32]}
      lan: {addresses: [10.1.3.1/24], acl_in: guard}
      a: {addresses: [10.9.13.2/30]}
      b: {addresses: [10.9.23.1/30]}
    routing:
      ospf: {areas: {0: {interfaces: {lo: {}, lan: {passive: true}, a: {cost: 10}, b: {cost: 10}}}}}
    acls:
      guard:
      - {action: drop, protocol: tcp, destination_ports: [25]}
      - {action: accept}
links: [[r1:a, r2:a], [r1:b, r3:a], [r2:b, r3:b]]
"""


def tried(*changes: str, network: str = NETWORK) -> Held:
    files = {"network.yaml": network.encode()}
    trial = Trial.of(files, solve(read_files(files)), [read_change(text, "a change") for text in changes])
    assert not trial.has_errors
    *_, last = comparing(trial.before, trial.after)
    assert last.held is not None and last.done == last.of
    return last.held


def said(found: Held) -> list[tuple[str, str, str, str]]:
    return [(one.effect, one.what, one.sources.words, one.destinations.words) for one in found.groups]


# Sources: 3 subnets, 3 routers, 2 ways in from outside; destinations: 3 subnets, 3 routers, outside. Less 6 that are
# both: from outside to outside is a pair, for it may pass through.
PAIRS = 8 * 7 - 6


def test_nothing_changes():
    found = tried("set: mtu, at: r1:out, to: 1400")
    assert (found.pairs, found.changed, found.groups, found.is_worse) == (PAIRS, 0, [], False)
    assert found.words == f"all traffic between {PAIRS} pairs of places goes as before"


def test_a_link_that_fails_makes_ways_longer_and_nothing_else():
    found = tried("disable: link, at: r1:a")
    assert {one.effect for one in found.groups} == {"longer"} and not found.is_worse
    # r1, its subnet and what comes in there, to r2 and its subnet; these to r1, its subnet and the outside. What comes
    # in at r2 goes by r1 to r1, its subnet and the outside, and so do answers to it of r2 and its subnet.
    assert found.changed == 3 * 2 + 2 * 3 + 3 + 2
    (only,) = found.groups
    assert only.what == "now through r3 too" and only.services == "every service"
    assert only.sources.words == "all of Left bank, 10.1.2.0/24, outside by r2:out, r2"


def test_another_way_out_is_said_with_both():
    found = tried("disable: interface, at: r1:out")
    assert ("moved", "leaves by r1:out → leaves by r2:out") in [one[:2] for one in said(found)] or (
        "longer",
        "leaves by r1:out → leaves by r2:out",
    ) in [one[:2] for one in said(found)]
    blocked = next(one for one in found.groups if one.effect == "blocked")
    assert blocked.what.endswith("the way in is down") and blocked.sources.names == ["outside by r1:out"]
    assert found.is_worse


def test_what_an_entry_closes_and_opens():
    found = tried("add: acl_entry, at: r3, acl: guard, before: 1, entry: {action: drop, protocol: udp}")
    asked = [one for one in found.groups if "answer" not in one.what.partition("→")[2]]
    assert {(one.effect, one.services) for one in found.groups} == {("blocked", "udp")}
    assert {name for one in asked for name in one.sources.names} == {"10.1.3.0/24"}
    # From r3's subnet to six places and outside, and from all of those and both ways in to it.
    assert found.changed == 6 + 7
    opened = tried("remove: acl_entry, at: r3, acl: guard, number: 1")
    assert {one.effect for one in opened.groups} == {"open"} and not opened.is_worse
    forward = next(one for one in opened.groups if one.sources.words == "10.1.3.0/24")
    assert (forward.services, forward.what) == ("tcp/25", "blocked at r3:lan → arrives")
    flow = forward.example.flow
    assert (flow.enter, flow.service, flow.source_port) == ("r3:lan", "tcp/25", None)


def test_answers_count_as_much_as_questions():
    # r3's subnet is asked from elsewhere: the answers come in by the guarded interface, from port 25.
    found = tried("remove: acl_entry, at: r3, acl: guard, number: 1")
    back = [one for one in found.groups if "answer" in one.what]
    assert all(one.services == "tcp from 25" for one in back) and back
    assert back[0].example.flow.source_port == 25


def test_ways_that_come_back_otherwise_or_are_fewer():
    found = tried("set: cost, at: r1:a, to: 100")
    assert {one.effect for one in found.groups} == {"asymmetry"}
    # r3 to r1: directly, and by r2.
    equal = NETWORK.replace(
        "{passive: true}, a: {cost: 10}, b: {cost: 10}}}}}\n    acls",
        "{passive: true}, a: {cost: 20}, b: {cost: 10}}}}}\n    acls",
    )
    fewer = tried("set: cost, at: r3:b, to: 5", network=equal)
    assert "redundancy" in {one.effect for one in fewer.groups}


def test_routers_that_point_at_each_other():
    found = tried(
        "add: static, at: r1, entry: {prefix: 10.1.3.0/24, next_hop: 10.9.12.2}",
        "add: static, at: r2, entry: {prefix: 10.1.3.0/24, next_hop: 10.9.12.1}",
    )
    loops = [one for one in found.groups if one.effect == "loops"]
    assert {one.what.partition(" → ")[2] for one in loops} == {
        "goes round",
        "arrives, answer goes round",
        "leaves by r1:out, answer goes round",
    }
    assert {name for one in loops for name in one.destinations.names if "answer" not in one.what} == {"10.1.3.0/24"}
    assert found.is_worse


def test_what_was_not_compared_is_said(monkeypatch):
    monkeypatch.setattr(conversations, "MOST_PAIRS", 5)
    found = tried("disable: link, at: r1:a")
    assert found.left_out and f"but for {found.left_out} pairs that were not compared" in found.words
    assert found.changed <= 6
    for limit in ("MOST_MADE", "MOST_KEPT"):
        with monkeypatch.context() as patch:
            patch.setattr(conversations, limit, 5)
            assert tried("disable: link, at: r1:a").left_out == PAIRS
    ports = [str(port) for port in range(1, 4000, 2)]
    many = NETWORK.replace("destination_ports: [25]", f"destination_ports: [{', '.join(ports)}]")
    found = tried("disable: link, at: r1:a", network=many)
    assert found.left_out == found.pairs and "none of 50 pairs" in found.words


def test_the_answer_as_lines():
    lines = list(held_lines(tried("disable: link, at: r1:a")))
    assert lines[0] == f"17 of {PAIRS} pairs of places change; nothing else does"
    assert lines[1] == "~ takes a longer way: now through r3 too"
    assert lines[2].startswith("    17 pairs: all of Left bank") and "such as" in lines[3]


@pytest.mark.parametrize(
    ("matches", "words"),
    [
        ([], "every service"),
        (
            [HeaderMatch(protocol=6, destination_ports=(PortRange(443, 443), PortRange(8000, 8099)))],
            "tcp/443 8000-8099",
        ),
        ([HeaderMatch(protocol=17, source_ports=(PortRange(53, 53),))], "udp from 53"),
        ([HeaderMatch(protocol=1)], "icmp"),
        ([HeaderMatch(protocol=89), HeaderMatch(protocol=6)], "ospf, tcp"),
    ],
)
def test_services_in_words(matches, words):
    space = ServiceSpace(matches)
    services = 0
    for match in matches or [HeaderMatch()]:
        services |= space.matched(match)
    assert space.words(services, 4) == words


def test_services_of_answers_are_those_of_their_questions():
    match = HeaderMatch(protocol=6, source_ports=(PortRange(443, 443),))
    space = ServiceSpace([match])
    asked = HeaderMatch(protocol=6, destination_ports=(PortRange(443, 443),))
    assert space.matched(match, is_answer=True) == space.matched(asked)
    assert space.example(space.matched(asked), 4) == Service(6, 49152, 443)


def test_traffic_by_a_device_with_rules_of_its_own_is_compared_up_to_it():
    network = read_files({"network.yaml": NETWORK.encode()})
    ruled = replace(network.devices["r2"], program=FilterProgram())
    before = replace(network, devices={**network.devices, "r2": ruled})
    after = replace(before, links=(replace(before.links[0], enabled=False), *before.links[1:]))
    *_, last = comparing(solve(before), solve(after))
    assert last.held is not None and last.held.not_followed
    assert "lead by devices whose own rules decide" in last.held.words
    assert any(
        "passes r2, which is not followed" in f"{one.example.before} {one.example.after}" for one in last.held.groups
    )
    # What lies behind it may differ, though nothing before it does.
    behind = replace(before, links=(*before.links[:2], replace(before.links[2], enabled=False)))
    *_, last = comparing(solve(before), solve(behind))
    assert last.held is not None and last.held.not_followed
    *_, same = comparing(solve(before), solve(replace(before, name="renamed")))
    assert same.held is not None and same.held.changed == 0
    assert same.held.not_followed and "compared up to there" in same.held.words


def test_a_subnet_of_two_routers_is_a_place_but_no_cable_between_them():
    text = """\
routrel: 1
name: places
devices:
  r1: {interfaces: {lan: {addresses: [10.1.1.2/24]}, x: {addresses: [10.9.0.1/24, "2001:db8:9::1/64"]}}}
  r2: {interfaces: {lan: {addresses: [10.1.1.3/24]}, x: {addresses: [10.9.0.2/24, "2001:db8:9::2/64"]}}}
links: [[r1:x, r2:x]]
"""
    solved = solve(read_files({"network.yaml": text.encode()}))
    places = conversations.Conversations(solved, solved).places
    assert {one.place.name for one in places.classes if one.place.kind == "subnet"} == {"10.1.1.0/24"}
    assert [one.port >= 0 for one in places.sources if one.place.kind == "subnet"] == [True, True]
    # One router's port goes down: whoever is there goes by the other, and is not cut off.
    found = tried("disable: interface, at: r1:lan", network=text)
    assert not any("the way in is down" in one.what for one in found.groups if "10.1.1.0/24" in one.sources.names)
