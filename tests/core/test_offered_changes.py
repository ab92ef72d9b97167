"""What is offered as a change does what it was offered for."""

from pathlib import Path

import pytest
from hypothesis import HealthCheck, given, settings

from routrel.analysis.contest.why import WhyAnswerer
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
    files = LAYOUTS["YAML in blocks"]({"routrel": 1, "name": "n", **document})
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
    files = LAYOUTS["YAML in blocks"]({"routrel": 1, "name": "n", **document})
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
