"""A change at what the trail of a missing route names is offered, once the flow passes with it."""

import pytest

from routrel.analysis.trial import Trial
from routrel.formats.changes.reading import changes_of
from routrel.formats.sources import read_files
from routrel.solving import solve
from tests.core.networks import answer, walk

TEXT = """routrel: 1
name: off
devices:
  a:
    interfaces: {l: {addresses: [10.1.0.1/24]}, x: {addresses: [10.0.0.1/30]}}
    routing: {ospf: {areas: {0: {interfaces: {x: {}, l: {passive: true}}}}}}
  b:
    interfaces: {y: {addresses: [10.0.0.2/30]}, z: {addresses: [10.0.1.1/30]}}
    routing:
      ospf: {areas: {0: {interfaces: {y: {}}}}, redistribute: [{from: bgp}]}
      bgp: {as: 64500, networks: [10.0.0.0/30], redistribute: [{from: ospf}], neighbors: {10.0.1.2: {as: 64501}}}
  c:
    interfaces: {w: {addresses: [10.0.1.2/30]}, l: {addresses: [10.2.0.1/24]}}
    routing: {bgp: {as: 64501, networks: [10.2.0.0/24], neighbors: {10.0.1.1: {as: 64500}}}}
  p: {kind: host, interfaces: {e: {addresses: [10.1.0.9/24]}}, gateway: 10.1.0.1}
  q: {kind: host, interfaces: {e: {addresses: [10.2.0.9/24]}}, gateway: 10.2.0.1}
links:
- {ends: [a:x, b:y], name: quay}
- [b:z, c:w]
- [p:e, a:l]
- [q:e, c:l]
"""


def remedies(text: str) -> list[dict]:
    found = answer(solve(read_files({"network.yaml": text.encode()})), "p", "q")
    strands = [found["forward"], found["return"]]
    return [cause["remedy"] for strand in strands if strand for cause in strand["causes"]]


@pytest.mark.parametrize(
    ("was", "off", "message", "change"),
    [
        (
            "x: {addresses: [10.0.0.1/30]}",
            "x: {addresses: [10.0.0.1/30], enabled: false}",
            "switch on interface a:x",
            {"enable": "interface", "at": "a:x"},
        ),
        ("name: quay", "name: quay, enabled: false", "switch on link quay", {"enable": "link", "at": "a:x"}),
        (
            "{10.0.1.1: {as: 64500}}",
            "{10.0.1.1: {as: 64500, enabled: false}}",
            "switch on session c 10.0.1.1",
            {"enable": "session", "at": "c 10.0.1.1"},
        ),
    ],
)
def test_what_is_off_on_the_way_is_offered_and_cures(was, off, message, change):
    assert walk(solve(read_files({"network.yaml": TEXT.encode()})), "p", "q").is_good
    text = TEXT.replace(was, off)
    first = next(one for one in remedies(text) if one)
    assert (first["message"], first["changes"]) == (message, [change])
    files = {"network.yaml": text.encode()}
    trial = Trial.of(files, solve(read_files(files)), changes_of([change]))
    assert walk(trial.after, "p", "q").is_good


@pytest.mark.parametrize(
    ("changed", "message", "changes"),
    [
        (
            [("interfaces: {y: {}}", "interfaces: {y: {passive: true}}")],
            "let b:y form adjacencies",
            [{"enable": "adjacency", "at": "b:y"}],
        ),
        (
            [
                (
                    "interfaces: {y: {a",
                    "acls: {cut: [{action: drop, protocol: ospf}, {action: accept}]}\n    interfaces: {y: {acl_in: cut, a",
                )
            ],
            "add to ACL cut of b, before entry 1",
            [
                {
                    "add": "acl_entry",
                    "at": "b",
                    "acl": "cut",
                    "before": 1,
                    "entry": {"action": "accept", "protocol": "ospf"},
                }
            ],
        ),
        (
            [
                (
                    "interfaces: {w: {a",
                    "acls: {cut: [{action: drop, protocol: tcp}, {action: accept}]}\n    interfaces: {w: {acl_in: cut, a",
                )
            ],
            "add to ACL cut of c, before entry 1",
            [
                {"add": "acl_entry", "at": "c", "acl": "cut", "before": 1, "entry": entry}
                for entry in ({"action": "accept", "protocol": "tcp", "destination_ports": [179]},)
            ]
            + [
                {
                    "add": "acl_entry",
                    "at": "c",
                    "acl": "cut",
                    "before": 2,
                    "entry": {"action": "accept", "protocol": "tcp", "source_ports": [179]},
                }
            ],
        ),
        (
            [
                ("[{from: bgp}]", "[{from: bgp, policy: none}]"),
                ("  b:\n", "  b:\n    policies: {none: [{match: {tag: 7}, result: accept}]}\n"),
            ],
            "add to policy none of b, at the end",
            [
                {
                    "add": "statement",
                    "at": "b",
                    "policy": "none",
                    "entry": {"match": {"prefixes": ["10.2.0.0/24"]}, "result": "accept"},
                }
            ],
        ),
        (
            [
                ("neighbors: {10.0.1.1: {as: 64500}}", "neighbors: {10.0.1.1: {as: 64500, import: none}}"),
                ("  c:\n", "  c:\n    policies: {none: [{result: reject}]}\n"),
            ],
            "add to policy none of c, before statement 1",
            [
                {
                    "add": "statement",
                    "at": "c",
                    "policy": "none",
                    "before": 1,
                    "entry": {"match": {"prefixes": ["10.1.0.0/24"]}, "result": "accept"},
                }
            ],
        ),
    ],
)
def test_what_refuses_on_the_way_is_told_to_let_through(changed, message, changes):
    text = TEXT
    for was, now in changed:
        assert was in text
        text = text.replace(was, now)
    first = next(one for one in remedies(text) if one)
    assert (first["message"], first["changes"]) == (message, changes)
    files = {"network.yaml": text.encode()}
    trial = Trial.of(files, solve(read_files(files)), changes_of(changes))
    assert walk(trial.after, "p", "q").is_good


def test_what_is_off_and_does_not_help_is_not_offered():
    two = TEXT.replace("x: {addresses: [10.0.0.1/30]}", "x: {addresses: [10.0.0.1/30], enabled: false}")
    two = two.replace("y: {addresses: [10.0.0.2/30]}", "y: {addresses: [10.0.0.2/30], enabled: false}")
    assert not [one for one in remedies(two) if one and one["message"].startswith("switch on")]
