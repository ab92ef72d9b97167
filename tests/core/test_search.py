"""One search for everything that has a name."""

from routrel.analysis.search import find
from routrel.formats.network_file import read_network
from routrel.solving import solve

SEARCHED = """
routrel: 1
name: n
devices:
  a:
    interfaces: {e1: {addresses: [10.1.0.1/24]}, up: {addresses: [192.0.2.2/24]}}
    vrfs: {red: {}}
    routing:
      static: [{prefix: 10.0.0.0/8, action: discard}]
      bgp: {as: 64500, neighbors: {192.0.2.1: {as: 64600, description: the carrier, received: [{prefix: 10.1.0.0/24}]}}}
    acls:
      list:
      - {action: accept, protocol: tcp, source: 10.1.0.0/24, name: the desk}
      - {action: drop}
"""


def found(typed: str, text: str = SEARCHED) -> list[tuple[str, str, str]]:
    solved = solve(read_network({"n.yaml": text.encode()}))
    return [(one.word, one.kind, one.detail) for one in find(solved, typed)]


def test_an_address_finds_its_owner_what_covers_it_and_who_brings_that():
    assert found("10.1.0.9") == [
        ("a:e1", "on subnet", "10.1.0.1/24"),
        ("10.1.0.0/24", "prefix", "subnet of a:e1; said by 192.0.2.1 (AS 64600) to a"),
        ("10.0.0.0/8", "prefix", "static on a"),
        ("ACL list entry 1", "entry", "on a: {action: accept, protocol: tcp, source: 10.1.0.0/24, name: the desk}"),
    ]
    assert found("192.0.2.1")[:2] == [
        ("a:up", "on subnet", "192.0.2.2/24"),
        ("a 192.0.2.1", "session", "AS 64600, the carrier"),
    ]


def test_whatever_has_a_name_is_found_with_where_it_stands():
    assert found("carrier") == [("a 192.0.2.1", "session", "AS 64600, the carrier")]
    assert found("AS64600")[0][1] == "session" and found("red") == [("red", "routing instance", "on a")]
    assert [one[:2] for one in found("list")] == [("list", "ACL")]
    assert [one[0] for one in found("the desk")] == ["ACL list entry 1"] and found("nothing of this") == [] == found(
        " "
    )
    solved = solve(read_network({"n.yaml": SEARCHED.encode()}))
    assert {one.kind: one.place.line for one in find(solved, "desk") if one.place} == {"entry": 13}
