"""What is offered as a change does what it was offered for."""

import json
from pathlib import Path

import pytest
from hypothesis import HealthCheck, given, settings

from routrel.analysis.check import check
from routrel.analysis.contest.why import WhyAnswerer
from routrel.analysis.problem_offers import finding_answers
from routrel.analysis.statements import Span, statements_at
from routrel.analysis.trial import Trial
from routrel.analysis.walk_verdicts import Answerer
from routrel.formats.changes.applying import apply_changes
from routrel.formats.changes.reading import changes_of
from routrel.formats.sources import files_of, read_files
from routrel.forwarding.flow import Flow
from routrel.solving import solve
from tests.core.change_lists import LAYOUTS
from tests.core.mixed_networks import documents
from tests.core.speaker_networks import speakers
from tests.core.test_walk import lan
from tests.examples import examples

DEMO = files_of(Path(__file__).parents[2] / "examples" / "saltmarsh")
SOLVED = solve(read_files(DEMO))


def causes(solved, flow: Flow) -> list:
    walk = Answerer(solved).listed(flow)
    return [*walk.forward.causes, *(walk.reply.causes if walk.reply else [])]


@pytest.mark.parametrize(
    "flow",
    [
        Flow("ot-tracking", "bookings", "tracking"),
        Flow("tq-office", "resolver", "names"),
        Flow("booking-db", "resolver", "tcp/22"),
        Flow("booking-db", "gp-kiosk", "booking"),
        Flow("gp-kiosk", "card-payments", "cards"),
    ],
    ids=lambda flow: f"{flow.source} > {flow.destination}",
)
def test_each_remedy_tried_takes_its_cause_away(flow):
    found = causes(SOLVED, flow)
    tried = 0
    for cause in found:
        if cause.remedy is None or not cause.remedy.changes:
            continue
        trial = Trial.of(DEMO, SOLVED, changes_of(cause.remedy.changes))
        assert [outcome.state for outcome in trial.applied.outcomes] == ["applied"] * len(cause.remedy.changes)
        assert (cause.device, cause.message) not in [(one.device, one.message) for one in causes(trial.after, flow)]
        tried += 1
    assert tried


NEAR = """{e: [
 {action: accept, protocol: tcp, source: 10.0.9.0/24, destination_ports: [443]},
 {action: drop, protocol: udp},
 {action: accept, protocol: tcp, destination_ports: [80]},
 {action: accept, protocol: udp, destination_ports: [53]}]}"""


@pytest.mark.parametrize(("service", "entry", "field"), [("tcp/443", 1, "source"), ("tcp/81", 3, "destination_ports"), ("udp/53", 4, "order")])  # fmt: skip
def test_a_near_miss_mended_lets_the_flow_in(service, entry, field):
    files = {"network.yaml": ("routrel: 1\nname: n\n" + lan(NEAR, ", acl_in: e")).encode()}
    solved = solve(read_files(files))
    flow = Flow("h1", "h2", service)
    (cause,) = [one for one in causes(solved, flow) if one.acl == "e"]
    (miss,) = [one for one in cause.near_misses if (one.entry, one.field) == (entry, field)]
    trial = Trial.of(files, solved, changes_of([miss.change]))
    assert Answerer(trial.after).listed(flow).forward.verdict == "arrives"


def held_at_its_tipping_points(document: dict, protocols: tuple[str, ...]) -> None:
    files = LAYOUTS["YAML in blocks"]({"routrel": 1, "name": "n", **json.loads(json.dumps(document))})
    solved = solve(read_files(files))
    why = WhyAnswerer(solved)
    for prefix in solved.prefixes.prefixes[:4]:
        for point in why.tipping(0, prefix)[:3]:
            if point.change is None or point.what.split(" ")[0] not in protocols:
                continue
            trial = Trial.of(files, solved, changes_of([point.change]))
            (outcome,) = trial.applied.outcomes
            assert outcome.state == "applied", (point, outcome)
            winner = WhyAnswerer(trial.after).why(0, prefix, False).winner
            got = None if winner is None else (winner.protocol, winner.kind, winner.next_hops)
            becomes = point.becomes
            expected = None if becomes.protocol is None else (becomes.protocol, becomes.kind, becomes.next_hops)
            assert got == expected, point


@given(documents(protocols=("ospf", "isis")))
@settings(max_examples=examples(25), deadline=None, suppress_health_check=[HealthCheck.too_slow])
def test_a_tipping_point_tried_moves_the_route_as_it_says(document):
    for device in document["devices"].values():
        for protocol in ("ospf", "isis"):
            device.get("routing", {}).get(protocol, {}).pop("redistribute", None)
    held_at_its_tipping_points(document, ("cost", "metric"))


@given(speakers())
@settings(max_examples=examples(15), deadline=None, suppress_health_check=[HealthCheck.too_slow])
def test_a_tipping_point_of_a_path_can_be_tried(document):
    files = LAYOUTS["YAML in blocks"]({"routrel": 1, "name": "n", **json.loads(json.dumps(document))})
    solved = solve(read_files(files))
    why = WhyAnswerer(solved)
    for prefix in solved.prefixes.prefixes[:3]:
        for point in why.tipping(0, prefix):
            if point.change is not None and "of the path" in point.what:
                (outcome,) = Trial.of(files, solved, changes_of([point.change])).applied.outcomes
                assert outcome.state in ("applied", "error"), point
                assert outcome.state == "applied" or "lets nothing pass without one" in str(outcome.errors[0])


def test_what_is_offered_at_a_line_of_the_source_can_be_made():
    kinds = set()
    steering = next(file for file in DEMO if b"forwarding_policies" in DEMO[file])
    for file in ("devices/bw-border.yaml", "devices/bw-core1.yaml", steering):
        for number in range(1, DEMO[file].count(b"\n") + 1):
            for statement in statements_at(SOLVED, [], file, Span(number, 1, 10_000)):
                if statement.line != number:
                    continue
                for offer in statement.offers:
                    (outcome,) = apply_changes(DEMO, SOLVED.network, changes_of([offer.change])).outcomes
                    assert outcome.state == "applied", outcome
                    kinds.add((statement.kind, offer.label))
    assert {
        ("device", "off"),
        ("interface", "off"),
        ("session", "off"),
        ("route", "take it out"),
        ("entry", "one up"),
        ("steering", "take it out"),
        ("policy", "one up"),
    } <= kinds
    line = next(
        n for n, text in enumerate(DEMO["network.yaml"].split(b"\n"), 1) if text.startswith(b"- {ends: [bw-core1:e3")
    )
    (link,) = statements_at(SOLVED, [], "network.yaml", Span(line, 1, 10_000))
    assert [offer.change for offer in link.offers] == [{"disable": "link", "at": "bw-core1:e3"}]


def made(files, solved, change: dict) -> Trial:
    trial = Trial.of(files, solved, changes_of([change]))
    assert [outcome.state for outcome in trial.applied.outcomes] == ["applied"], trial.applied.outcomes
    return trial


@given(documents())
@settings(max_examples=examples(20), deadline=None, suppress_health_check=[HealthCheck.too_slow])
def test_what_is_offered_of_a_candidate_takes_it_out(document):
    files = LAYOUTS["YAML in blocks"]({"routrel": 1, "name": "n", **json.loads(json.dumps(document))})
    solved = solve(read_files(files))
    why = WhyAnswerer(solved)
    for prefix in solved.prefixes.prefixes[:5]:
        for candidate in why.why(0, prefix, False).candidates:
            for offer in candidate.offers:
                trial = made(files, solved, offer.change)
                if "remove" in offer.change:
                    after = [
                        one.place and one.origin for one in WhyAnswerer(trial.after).why(0, prefix, False).candidates
                    ]
                    before = [one.place and one.origin for one in why.why(0, prefix, False).candidates]
                    assert after.count(candidate.origin) == before.count(candidate.origin) - 1
                else:
                    (name,) = {
                        hop.interface for hop in candidate.next_hops if offer.label.startswith(f"{hop.interface} ")
                    }
                    winner = WhyAnswerer(trial.after).why(0, prefix, False).winner
                    hops = [] if winner is None else [hop.interface for hop in winner.next_hops]
                    assert offer.label.endswith("on") or name not in hops


def test_what_is_offered_of_a_path_ends_its_session():
    instance = SOLVED.topology.instance_index["bw-border", "default"]
    offered = [
        (prefix, one, offer)
        for prefix in SOLVED.prefixes.prefixes
        for one in WhyAnswerer(SOLVED).why(instance, prefix, False).candidates
        for offer in one.offers
        if one.protocol == "bgp"
    ]
    assert len(offered) > 3
    for prefix, one, offer in offered[:4]:
        after = WhyAnswerer(made(DEMO, SOLVED, offer.change).after).why(instance, prefix, False)
        assert one.origin not in [other.origin for other in after.candidates]


def test_what_is_offered_against_a_problem_can_be_made_and_mends_what_it_says():
    findings = check(SOLVED)
    mended = set()
    for finding in finding_answers(SOLVED, findings):
        for offer in finding.offers:
            trial = made(DEMO, SOLVED, offer.change)
            if finding.code in ("ospf-neighbours", "mtu-mismatch", "shadowed"):
                assert finding.message not in [one.message for one in check(trial.after)]
                mended.add(finding.code)
    assert mended == {"ospf-neighbours", "mtu-mismatch", "shadowed"}


CUT = b"""
routrel: 1
name: cut
devices:
  a: {kind: router, interfaces: {e1: {addresses: [10.0.0.1/30]}, e2: {addresses: [10.0.1.1/30]}, e3: {addresses: [10.0.2.1/30]}},
      routing: {static: [{prefix: 10.9.0.0/16, next_hop: 10.7.7.7}], bgp: {as: 64500, neighbors: {10.0.0.2: {as: 64501, enabled: false}}}}}
  b: {kind: router, interfaces: {e1: {addresses: [10.0.0.2/30]}, e2: {addresses: [10.0.1.2/30], enabled: false}},
      routing: {bgp: {as: 64501, neighbors: {10.0.0.1: {as: 64500}}}}}
  c: {kind: router, enabled: false, interfaces: {e3: {addresses: [10.0.2.2/30]}}}
links: [{ends: [a:e1, b:e1], enabled: false}, {ends: [a:e2, b:e2]}, {ends: [a:e3, c:e3]}]
"""


def test_what_is_off_is_offered_on_where_it_is_a_problem():
    files = {"network.yaml": CUT}
    solved = solve(read_files(files))
    offered = {
        (finding.code, offer.label) for finding in finding_answers(solved, check(solved)) for offer in finding.offers
    }
    assert offered >= {
        ("next-hop", "take it out"),
        ("no-carrier", "b:e2 on"),
        ("bgp-session", "a 10.0.0.2 on"),
        ("bgp-session", "b 10.0.0.1 off"),
    }
    for finding in finding_answers(solved, check(solved)):
        for offer in finding.offers:
            made(files, solved, offer.change)
