"""Remedies in the order of how little else they move."""

from pathlib import Path

import pytest

from routrel.analysis import ranked_remedies as ranked
from routrel.analysis.ranked_remedies import ranked_remedies, remedy_lines
from routrel.analysis.trial import Trial
from routrel.formats.changes.reading import read_change
from routrel.formats.sources import files_of, read_files
from routrel.forwarding.flow import parse_flow
from routrel.solving import solve

# Two hosts ask a server behind a list; one of them by the wrong port.
NETWORK = """\
routrel: 1
name: remedies
devices:
  h1: {kind: host, gateway: 10.1.1.1, interfaces: {e: {addresses: [10.1.1.10/24]}}}
  h2: {kind: host, gateway: 10.1.1.1, interfaces: {e: {addresses: [10.1.1.20/24]}}}
  server: {kind: host, gateway: 10.1.2.1, interfaces: {e: {addresses: [10.1.2.10/24]}}}
  r:
    interfaces:
      clients: {addresses: [10.1.1.1/24]}
      servers: {addresses: [10.1.2.1/24], acl_out: door}
    acls:
      door:
      - {action: accept, protocol: tcp, source: 10.1.1.0/24, destination: 10.1.2.10/32, destination_ports: [443]}
      - {action: accept, protocol: udp, source: 10.1.1.10/32, destination: 10.1.2.10/32, destination_ports: [53]}
links: [[h1:e, r:clients], [r:servers, server:e]]
"""
FILES = {"network.yaml": NETWORK.replace("[h1:e, r:clients]", "[h1:e, h2:e, r:clients]").encode()}


@pytest.fixture(autouse=True)
def time_enough(monkeypatch):
    monkeypatch.setattr(ranked, "SECONDS", 600.0)


def test_the_narrowest_comes_first_and_what_opens_more_says_what():
    found = ranked_remedies(FILES, solve(read_files(FILES)), parse_flow("h1 > server tcp/80"))
    messages = [one.message for one in found]
    assert messages[0] == "r: add to ACL door, at the end" and found[0].is_cured
    assert found[0].beyond is not None and found[0].beyond.changed == 0 and found[0].moves == "nothing else moves"
    mended = next(one for one in found if one.message == "r: mend entry 1 of ACL door")
    assert "→" in mended.text and "destination_ports: [443, 80]" in mended.text
    # Port 80 for the whole subnet: h2 and whoever else is there, and the router, too.
    assert "opens more than asked: tcp/80" in mended.moves
    off = next(one for one in found if one.message == "take ACL door off r:servers")
    assert off.text == "ACL out of r servers: door → none" and "opens more than asked" in off.moves
    changed = [one.beyond.changed for one in found if one.beyond is not None]
    assert changed == sorted(changed) and messages.index(off.message) > messages.index(mended.message)
    assert list(remedy_lines(found))[1] == "   cures it; nothing else moves"


def test_what_was_tried_already_is_there_when_remedies_are_tried():
    before = solve(read_files(FILES))
    made = Trial.of(FILES, before, [read_change("set: acl_in, at: r:clients, to: door", "a change")])
    found = ranked_remedies(FILES, before, parse_flow("h1 > server tcp/80"), made)
    assert all("no entry of ACL door matches" in one.causes[0] for one in found)
    # Two lists stand in the way, and they are one: an entry put into it cures both.
    assert found[0].message == "r: add to ACL door, at the end" and found[0].is_cured
    off = next(one for one in found if one.message == "take ACL door off r:clients")
    assert not off.is_cured and off.outcome.startswith("blocked")


def test_without_time_remedies_are_tried_and_not_compared(monkeypatch):
    monkeypatch.setattr(ranked, "SECONDS", -1.0)
    found = ranked_remedies(FILES, solve(read_files(FILES)), parse_flow("h1 > server tcp/80"))
    assert found and all(one.beyond is None for one in found)
    assert "there was no time" in found[0].moves


def test_nothing_is_offered_for_what_works():
    assert ranked_remedies(FILES, solve(read_files(FILES)), parse_flow("h1 > server tcp/443")) == []


def test_every_remedy_of_the_example_takes_away_its_cause():
    files = files_of(Path("examples/saltmarsh"))
    solved = solve(read_files(files))
    for flow in ("gp-kiosk > bookings booking", "gp-gates > bookings tcp/22"):
        found = ranked_remedies(files, solved, parse_flow(flow))
        assert found and found[0].is_cured and found[0].beyond is not None
        assert [one.beyond.changed for one in found if one.is_cured and not one.beyond.is_worse] == sorted(
            one.beyond.changed for one in found if one.is_cured and not one.beyond.is_worse
        )


def test_remedies_are_put_together_where_none_cures_alone():
    files = files_of(Path("examples/saltmarsh"))
    found = ranked_remedies(files, solve(read_files(files)), parse_flow("ot-tracking > bookings tracking"))
    whole, *others = found
    assert whole.is_cured and whole.message == "3 remedies together" and len(set(whole.causes)) >= 2
    assert not any(one.is_cured for one in others) and "opens more than asked" in whole.moves
