"""Why routes are others after changes: what is said holds, and names what was changed."""

import re

import pytest
from hypothesis import HealthCheck, given, settings
from hypothesis import strategies as st

from routrel.analysis.changed_routes import changed_routes
from routrel.analysis.route_reasons import with_reasons
from routrel.analysis.trial import Trial
from routrel.formats.changes.reading import changes_of, read_change
from routrel.formats.sources import read_files
from routrel.solving import solve
from tests.core.change_lists import LAYOUTS, change_lists
from tests.core.mixed_networks import documents
from tests.core.speaker_networks import speakers
from tests.core.test_offered_changes import DEMO, SOLVED
from tests.examples import examples


def reasons(files, solved, *changes) -> dict[tuple[str, str], str]:
    trial = Trial.of(files, solved, changes)
    found = with_reasons(solved, trial.after, list(changed_routes(solved, trial.after)))
    return {(one.device, one.prefix): one.reason for one in found}


@pytest.mark.parametrize(
    ("change", "route", "reason"),
    [
        (
            "set: cost, at: bw-core1:e3, to: 500",
            ("bw-core1", "10.40.0.36/30"),
            "cost by first hop 50 against 510; bw-core1:e3 costs 500, was 10",
        ),
        ("set: cost, at: bw-core1:e3, to: 500", ("gp-core", "10.40.0.0/30"), "bw-core1:e3 costs 500, was 10"),
        (
            "set: local_preference, at: bw-border 198.51.100.2, to: 300",
            ("bw-border", "172.20.0.0/24"),
            "local preference 300 against 200",
        ),
        ("set: preference, at: bw-border, of: ibgp, to: 1", ("bw-border", "172.21.0.0/24"), "preference 1, was 200"),
        (
            "disable: session, at: bw-border 203.0.113.2",
            ("bw-border", "172.20.32.0/24"),
            "no session with 203.0.113.2: it is disabled here",
        ),
        (
            "disable: session, at: bw-border 203.0.113.2",
            ("tq-border", "172.20.33.0/24"),
            "bw-border has no path any more",
        ),
        ("disable: device, at: ot-core", ("ot-core", "10.40.0.32/30"), "ot-core is off"),
        ("disable: interface, at: bw-core1:e3", ("bw-core1", "10.40.0.0/30"), "bw-core1:e3 is down: it is disabled"),
    ],
)
def test_the_deciding_round_and_what_moved_are_named(change, route, reason):
    assert reasons(DEMO, SOLVED, read_change(change, "c"))[route] == reason


SQUARE = """
routrel: 1
name: square
devices:
  a: {interfaces: {b: {addresses: [10.0.0.1/30]}, c: {addresses: [10.0.0.5/30]}}, routing: {router_id: 10.9.0.1, ospf: {areas: {0: {interfaces: {b: {cost: 10}, c: {cost: 20}}}}}}}
  b: {interfaces: {a: {addresses: [10.0.0.2/30]}, d: {addresses: [10.0.0.9/30]}}, routing: {router_id: 10.9.0.2, ospf: {areas: {0: {interfaces: {a: {cost: 10}, d: {cost: 10}}}}}}}
  c: {interfaces: {a: {addresses: [10.0.0.6/30]}, d: {addresses: [10.0.0.13/30]}}, routing: {router_id: 10.9.0.3, ospf: {areas: {0: {interfaces: {a: {cost: 20}, d: {cost: 10}}}}}}}
  d: {interfaces: {b: {addresses: [10.0.0.10/30]}, c: {addresses: [10.0.0.14/30]}, lan: {addresses: [10.1.0.1/24]}}, routing: {router_id: 10.9.0.4, ospf: {areas: {0: {interfaces: {b: {cost: 10}, c: {cost: 10}, lan: {cost: 5}}}}}}}
links: [[a:b, b:a], [a:c, c:a], [b:d, d:b], [c:d, d:c]]
"""


@pytest.mark.parametrize(
    ("change", "reason"),
    [
        ("set: cost, at: a:c, to: 5", "cost by first hop 20 against 25; a:c costs 5, was 20"),
        ("set: cost, at: a:c, to: 10", "as good as the others now; a:c costs 10, was 20; before it lost, cost by first hop 25 against 35"),
        ("set: cost, at: b:d, to: 30", "cost by first hop 35 against 45; b:d costs 30, was 10"),
        ("add: static, at: a, entry: {prefix: 10.1.0.0/24, next_hop: 10.0.0.6}", "preference 1 against 110"),
        ("add: static, at: a, entry: {prefix: 10.1.0.0/24, next_hop: 10.0.0.2}", "static with preference 1 before ospf with 110"),
        ("disable: interface, at: d:lan", "d:lan is down: it is disabled"),
        ("disable: link, at: b:d", "b:d is down: its link is disabled"),
    ],
)  # fmt: skip
def test_reasons_of_a_square_predicted(change, reason):
    files = {"network.yaml": SQUARE.encode()}
    assert reasons(files, solve(read_files(files)), read_change(change, "c"))["a", "10.1.0.0/24"] == reason


def claims_hold(after, reason: str) -> None:
    for name, now, was in re.findall(r"(\S+:\S+) costs (\d+), was (\d+)", reason):
        assert now != was, (name, reason)
    for name, why in re.findall(r"(\S+:\S+) is down: ([^;]*)", reason):
        device, _, interface = name.partition(":")
        index = next(port.index for port in after.topology.ports if port.name == (device, interface))
        assert why.startswith(after.topology.ports[index].down.split(";")[0]), reason


@given(st.data())
@settings(max_examples=examples(40), deadline=None, suppress_health_check=[HealthCheck.too_slow])
def test_every_reason_holds_on_random_networks(data):
    document = data.draw(st.one_of(documents(lans=1), speakers()))
    files = LAYOUTS["YAML in blocks"]({"routrel": 1, "name": "n", **document})
    solved = solve(read_files(files))
    trial = Trial.of(files, solved, changes_of(data.draw(change_lists(document))))
    for change in with_reasons(solved, trial.after, list(changed_routes(solved, trial.after))):
        claims_hold(trial.after, change.reason)
        is_other = change.before is None or change.after is None or change.before.next_hops != change.after.next_hops
        assert change.reason or not is_other, change
