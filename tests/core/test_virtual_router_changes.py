"""Virtual routers (VRRP) in trials: the priority as a change, and where it is offered."""

import json

import pytest

from routrel.analysis.check import check
from routrel.analysis.problem_offers import finding_answers
from routrel.analysis.stated import stated_parts
from routrel.analysis.statements import Span, statements_at
from routrel.analysis.trial import Trial
from routrel.analysis.virtual_routers import virtual_router_offers
from routrel.formats.changes.reading import read_change
from routrel.formats.sources import read_files
from routrel.model.virtual_routers import VirtualRouter
from routrel.solving import solve
from tests.core.gateway_networks import gateway_of, lan, read, virtual


def tried(document: dict, *changes: str) -> Trial:
    files = {"network.json": json.dumps(document).encode()}
    solved = solve(read_files(files))
    return Trial.of(files, solved, [read_change(text, "change") for text in changes])


def states_of(trial: Trial) -> list[tuple[str, str]]:
    return [(one.words, one.state) for one in trial.applied.outcomes]


def test_a_priority_is_set_by_a_change():
    document = lan(virtual(priority=120), virtual())
    trial = tried(document, "set: vrrp_priority, at: r1:e, to: 90")
    assert states_of(trial) == [("priority of r1:e in virtual router 10: 120 → 90", "applied")]
    assert (gateway_of(trial.before), gateway_of(trial.after)) == ("r1", "r2")
    trial = tried(
        document, "set: vrrp_priority, at: r1:e, to: null", "set: vrrp_priority, at: r2:e, router: 10, to: 100"
    )
    assert [one.state for one in trial.applied.outcomes] == ["applied", "nothing"]
    assert gateway_of(trial.after) == "r2"  # equal, and of the greater address


def test_of_several_virtual_routers_one_is_chosen_or_all_are_set():
    document = lan(None, None)
    document["devices"]["r1"]["interfaces"]["e"]["virtual_routers"] = [
        virtual(priority=120),
        virtual(id=11, addresses=["10.0.1.9"], priority=130),
    ]
    (all_of_them,) = states_of(tried(document, "set: vrrp_priority, at: r1:e, to: 90"))
    assert all_of_them == ("priority of r1:e in virtual router 10, virtual router 11: 120, 130 → 90", "applied")
    (one,) = states_of(tried(document, "set: vrrp_priority, at: r1:e, router: 11, to: 90"))
    assert one == ("priority of r1:e in virtual router 11: 130 → 90", "applied")


@pytest.mark.parametrize(
    ("change", "message", "allowed"),
    [
        ("set: vrrp_priority, at: r1:up, to: 90", "r1:up takes part in no virtual router", "with virtual_routers"),
        ("set: vrrp_priority, at: r1:e, router: 7, to: 90", "there is no virtual router on r1:e", "10"),
        ("set: vrrp_priority, at: r1:e, to: 255", "", "254"),
        ("set: vrrp_priority, at: r1:e, to: high", "", "254"),
    ],
)
def test_a_priority_that_cannot_be_set_is_an_error_of_its_change(change, message, allowed):
    (outcome,) = tried(lan(virtual(), virtual()), change).applied.outcomes
    (error,) = outcome.errors
    assert outcome.state == "error" and message in error.message and allowed in error.allowed


@pytest.mark.parametrize(
    ("first", "second", "offered"),
    [
        ({"priority": 120}, {}, {"r1": ("r2:e active", 99), "r2": ("r2:e active", 121)}),
        ({}, {}, {"r1": ("r1:e active", 101), "r2": ("r1:e active", 99)}),
        ({"priority": 120}, {"preempt": False}, {}),
        ({"priority": 254}, {"priority": 1}, {}),
        ({"addresses": ["10.0.1.2"]}, {"addresses": ["10.0.1.2"]}, {}),
        (
            {"priority": 120, "track": [{"interface": "up", "decrement": 30}]},
            {},
            {"r1": ("r1:e active", 131), "r2": ("r1:e active", 89)},
        ),
    ],
)
def test_at_its_statement_the_change_is_offered_by_which_another_is_active(first, second, offered):
    document = lan(virtual(**first), virtual(**second))
    if "track" in first:
        document["devices"]["r1"]["interfaces"]["up"]["enabled"] = False
    solved = solve(read(document))
    found = {}
    for one in stated_parts(solved.network):
        if isinstance(one.what, VirtualRouter) and one.device is not None:
            for offer in virtual_router_offers(solved.topology, one.device, one.what):
                found[one.device.name] = offer.label, offer.change["to"]
                (name, _, _) = offer.label.partition(":")
                trial = tried(document, json.dumps(offer.change))
                active = trial.after.topology.virtual_groups
                (group,) = (groups[0] for groups in active.values() if len(groups[0].contenders) > 1)
                assert trial.after.topology.ports[group.active.port].name.device == name
    assert found == offered


def test_a_line_says_what_is_active_by_it():
    solved = solve(read(lan(virtual(priority=120), virtual())))
    said = {
        one.device.name: statements_at(solved, [], one.place.file, Span(one.place.line, one.place.column, 10**6))[0]
        for one in stated_parts(solved.network)
        if one.kind == "virtual router" and one.device is not None
    }
    assert said["r1"].does == "active for virtual router 10 by priority 120, before r2:e with 100"
    assert said["r2"].does == "stands by with priority 100, behind r1:e with 120"
    assert [offer.label for offer in said["r2"].offers] == ["r2:e active"]


def test_against_a_tie_each_is_offered():
    solved = solve(read(lan(virtual(), virtual())))
    (answer,) = (one for one in finding_answers(solved, check(solved)) if one.code == "virtual-router")
    assert [(offer.label, offer.change["at"]) for offer in answer.offers] == [
        ("r1:e active", "r2:e"),
        ("r1:e active", "r1:e"),
    ]
