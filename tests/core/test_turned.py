"""What made an expectation fail between two states: named as small as it is, and only where it mends."""

import pytest

from routrel.analysis.expectations.turned import turned
from routrel.formats.sources import read_files
from routrel.solving import solve
from tests.core.test_expectations import SQUARE

EXPECTED = """\
- {name: web, from: a, to: b, on: tcp/443}
- {name: by r2, from: a, to: b, on: tcp/443, passes: r2}
- {name: no mail, from: a, to: b, on: tcp/25, expect: never arrives}
"""
UNRELATED = SQUARE.replace("sites: {west: {}", "sites: {hill: {}, west: {}").replace(
    "r3: {interfaces", "r3: {site: hill, interfaces"
)


def state(*changes: tuple[str, str], text: str = SQUARE, expected: str = EXPECTED):
    for old, new in changes:
        assert old in text
        text = text.replace(old, new)
    files = {"network.yaml": f"routrel: 1\nname: square\n{text}".encode(), "expectations.yaml": expected.encode()}
    return solve(read_files(files))


ENTRY = ("{action: accept, protocol: tcp, destination_ports: [443]}", "{action: accept, protocol: udp}")
CUT = ("- {ends: [r1:x, r2:x], name: north}", "- {ends: [r1:x, r2:x], name: north, enabled: false}")


@pytest.mark.parametrize(
    ("name", "changes", "by"),
    [
        ("web", [ENTRY], ["device r4 acls https entries 1 is another"]),
        ("by r2", [CUT], ["link north enabled: true > false"]),
        ("no mail", [("destination_ports: [443]", "destination_ports: [443, 25]")], ["device r4 acls https entries 1 is another"]),
        ("no mail", [(", acl_out: https", "")], ["device r4 interfaces lan acl out: https > none"]),
        ("by r2", [("y: {addresses: [10.9.24.1/30]}", "y: {addresses: [10.9.24.1/30], enabled: false}")], ["device r2 interfaces y enabled: true > false"]),
    ],
)  # fmt: skip
def test_what_made_it_fail_is_named_as_small_as_it_is(name, changes, by):
    found = turned(state(), state(*changes, text=UNRELATED), name)
    assert [one.words for one in found.by] == by, found
    assert found.flow.source == "a" and found.reasons


def test_a_difference_stands_where_it_is_written():
    (by,) = turned(state(), state(ENTRY, text="\n" + SQUARE), "web").by
    line = 1 + next(number for number, line in enumerate(SQUARE.splitlines(), 3) if "https: [" in line)
    assert (by.before.line, by.after.line) == (line - 1, line)


def test_what_only_fails_by_several_differences_is_not_blamed_on_one():
    both = [
        CUT,
        ("- {ends: [r1:y, r3:x], risk_groups: [duct]}", "- {ends: [r1:y, r3:x], risk_groups: [duct], enabled: false}"),
    ]
    one_cable = state(*both)
    found = turned(state(), one_cable, "web")
    assert sorted(one.words for one in found.by) == [
        "link north enabled: true > false",
        "link r1:y – r3:x enabled: true > false",
    ]  # either mends it
    found = turned(state(), state(*both, ENTRY), "web")
    assert found.by == [] and "none of" in found.words and found.tried >= 3


def test_what_did_not_turn_is_said():
    assert "holds in the later revision" in turned(state(), state(), "web").words
    assert "did not do so in the earlier one either" in turned(state(ENTRY), state(ENTRY), "web").words
    assert "there is no expectation 'mail'" in turned(state(), state(), "mail").words
