"""From a line of the source text to what it does."""

import json

from hypothesis import HealthCheck, given, settings
from hypothesis import strategies as st

from routrel.analysis.check import check
from routrel.analysis.statements import Span, outline, statements_at
from routrel.formats.network_file import read_network
from routrel.formats.sources import files_of, read_files
from routrel.solving import solve
from tests.core.mixed_networks import documents
from tests.core.speaker_networks import speakers
from tests.core.test_demo import EXAMPLE
from tests.examples import examples

TEXT = """routrel: 1
name: two routers
devices:
  a:
    interfaces:
      e1: {addresses: [10.0.0.1/30], acl_in: keep}
      e2: {addresses: [10.1.0.1/24]}
      e3: {addresses: [10.3.0.1/24], enabled: false}
    acls:
      keep: [{action: accept, protocol: 89}, {action: accept, protocol: icmp}, {action: drop}]
      idle: [{action: drop}]
    policies:
      all: [{result: accept}]
    routing:
      static:
        - {prefix: 192.0.2.0/24, next_hop: 10.0.0.2}
        - {prefix: 198.51.100.0/24, next_hop: 10.9.0.9}
        - {prefix: 10.2.0.0/24, next_hop: 10.1.0.9, preference: 200}
      ospf:
        areas:
          0:
            interfaces:
              e1: {}
              e2: {passive: true}
  b:
    interfaces:
      e1: {addresses: [10.0.0.2/30]}
      e2: {addresses: [10.2.0.1/24]}
    routing:
      ospf: {areas: {0: {interfaces: {e1: {}, e2: {passive: true}}}}}
links:
  - [a:e1, b:e1]
endpoints:
  shop: {address: 10.2.0.80}
"""
LINES = TEXT.splitlines()
SOLVED = solve(read_network({"n.yaml": TEXT.encode()}))
FINDINGS = check(SOLVED)


def at(text: str) -> list[tuple[str, str, str]]:
    """What stands in the first line that holds a text."""
    line = next(number for number, one in enumerate(LINES, 1) if text in one)
    found = statements_at(SOLVED, FINDINGS, "n.yaml", Span(line, 1, 1000))
    assert all(one.line == line for one in found)
    return [(one.kind, one.name, one.does) for one in found]


def test_the_outline_lists_the_devices_of_a_file_in_its_order():
    found = outline(SOLVED, "n.yaml")
    assert [one.device for one in found] == ["a", "b"]
    assert [LINES[one.line - 1].strip() for one in found] == ["a:", "b:"]
    assert outline(SOLVED, "elsewhere.yaml") == []


def test_interfaces_say_whether_they_are_up_and_what_they_are_cabled_to():
    assert at("e1: {addresses: [10.0.0.1/30]") == [("interface", "e1", "up, cabled to b:e1")]
    assert at("e3:") == [("interface", "e3", "down: it is disabled")]


def test_a_static_route_says_whether_it_stands_in_the_table():
    assert at("192.0.2.0/24") == [("route", "192.0.2.0/24", "in the table of a: 10.0.0.2 by e1 (b)")]
    assert at("198.51.100.0/24") == [("route", "198.51.100.0/24", "198.51.100.0/24 is not in the table of a")]
    ((_, _, does),) = at("preference: 200")
    assert does == "in the table of a 10.2.0.0/24 is by ospf: 10.0.0.2 by e1 (b)"


def test_entries_say_where_their_acl_is_asked():
    kinds = at("keep: [")
    assert ("entry", "keep", "entry 2, asked in at e1") in kinds
    assert all("asked nowhere" in does for _, _, does in at("idle:"))


def test_a_protocol_says_what_it_brings_and_by_which_interface():
    assert ("protocol", "ospf on e1", "brings a 1 route, out of e1") in at("e1: {}")


def test_policies_links_and_endpoints():
    assert ("policy", "all", "statement 1 of 1") in at("all: [")
    assert at("[a:e1, b:e1]") == [("link", "a:e1 - b:e1", "joins a:e1 and b:e1")]
    assert at("shop:") == [("endpoint", "shop", "can be asked about as shop")]


def test_a_line_without_a_statement_shows_the_one_it_belongs_to():
    line = next(number for number, one in enumerate(LINES, 1) if "areas:" in one)
    (found, *_) = statements_at(SOLVED, FINDINGS, "n.yaml", Span(line, 30, 1000))
    assert found.line <= line
    assert statements_at(SOLVED, FINDINGS, "n.yaml", Span(1, 1, 2)) == []


def test_problems_of_a_statement_stand_with_it():
    (unreachable,) = [finding for finding in FINDINGS if "10.9.0.9" in finding.message]
    (place,) = unreachable.places
    (found,) = statements_at(SOLVED, FINDINGS, "n.yaml", Span(place.line, 1, 1000))
    assert found.problems == [unreachable.message]


def test_every_line_of_the_demo_can_be_asked():
    files = files_of(EXAMPLE)
    solved = solve(read_files(files))
    findings = check(solved)
    asked = 0
    for name, data in files.items():
        for number, line in enumerate(data.decode().splitlines(), 1):
            found = statements_at(solved, findings, name, Span(number, 1, len(line) + 1))
            assert all(one.does for one in found)
            asked += bool(found)
    assert asked > 500


@given(st.one_of(documents(), speakers()))
@settings(max_examples=examples(25), deadline=None, suppress_health_check=[HealthCheck.too_slow])
def test_every_statement_of_any_network_says_what_it_does(document):
    text = json.dumps(document, indent=0)
    solved = solve(read_network({"n.json": text.encode()}))
    for number, line in enumerate(text.splitlines(), 1):
        for one in statements_at(solved, [], "n.json", Span(number, 1, len(line) + 1)):
            assert one.does
            assert one.line <= number
