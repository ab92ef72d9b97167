"""Virtual routers (RFC 9568): who is active, by whom packets go, and what is said of it."""

import json

import pytest
from hypothesis import HealthCheck, given, settings
from hypothesis import strategies as st

from routrel.analysis.check import check
from routrel.analysis.comparison import compare
from routrel.analysis.evidence import Evidence
from routrel.analysis.expectations.failures import failed, failures_of
from routrel.analysis.problem_offers import finding_answers
from routrel.analysis.search import find
from routrel.analysis.stated import stated_parts
from routrel.analysis.statements import Span, statements_at
from routrel.analysis.trial import Trial
from routrel.analysis.virtual_routers import virtual_router_offers
from routrel.analysis.walk_verdicts import Answerer
from routrel.formats.changes.reading import read_change
from routrel.formats.errors import LoadError
from routrel.formats.network_file import read_network
from routrel.formats.sources import read_files
from routrel.forwarding.flow import Flow
from routrel.model.virtual_routers import VirtualRouter
from routrel.routing.solve import Solved
from routrel.solving import solve
from tests.core.test_supports import KINDS, flows_hold
from tests.examples import examples

GATEWAY = "10.0.1.1"


def read(document: dict):
    return read_network({"n.json": json.dumps(document).encode()})


def lan(*routers: dict | None, gateway: str = GATEWAY, host: str = "10.0.1.200/24") -> dict:
    """Routers with a virtual router each, or none, on a subnet with a host, and a cable each to a far host's router."""
    devices: dict = {
        "h": {"kind": "host", "interfaces": {"e": {"addresses": [host]}}, "gateway": gateway},
        "far": {"interfaces": {"lan": {"addresses": ["10.9.0.1/24"]}}, "routing": {}},
        "server": {"kind": "host", "interfaces": {"e": {"addresses": ["10.9.0.9/24"]}}, "gateway": "10.9.0.1"},
    }
    links = [["h:e", *(f"r{number}:e" for number in range(1, len(routers) + 1))], ["far:lan", "server:e"]]
    statics = []
    for number, virtual in enumerate(routers, 1):
        up = {"up": {"addresses": [f"172.16.{number}.1/30"]}}
        own = {"addresses": [f"10.0.1.{number + 1}/24"]} | ({"virtual_routers": [virtual]} if virtual else {})
        to_far = {"prefix": "10.9.0.0/24", "next_hop": f"172.16.{number}.2"}
        devices[f"r{number}"] = {"interfaces": {"e": own, **up}, "routing": {"static": [to_far]}}
        devices["far"]["interfaces"][f"d{number}"] = {"addresses": [f"172.16.{number}.2/30"]}
        statics.append({"prefix": "10.0.1.0/24", "next_hop": f"172.16.{number}.1"})
        links.append([f"r{number}:up", f"far:d{number}"])
    devices["far"]["routing"]["static"] = statics
    return {"routrel": 1, "name": "gateways", "devices": devices, "links": links}


def virtual(**words) -> dict:
    return {"id": 10, "addresses": [GATEWAY], **words}


def virtual_of(words: dict) -> dict:
    return virtual(**words)


def gateway_of(solved: Solved) -> str | None:
    """The router by which the host's packets go."""
    stops = Answerer(solved).asker.ask(Flow("h", "server")).forward.stops
    return solved.topology.devices[stops[1].device].name if len(stops) > 1 else None


def gateway(*routers: dict | None, down: tuple[str, ...] = ()) -> str | None:
    document = lan(*routers)
    for name in down:
        device, interface = name.split(":")
        document["devices"][device]["interfaces"][interface]["enabled"] = False
    return gateway_of(solve(read(document)))


def said(*routers: dict | None) -> list[str]:
    found = check(solve(read(lan(*routers))))
    return [f"{one.severity}: {one.message}" for one in found if one.code == "virtual-router"]


# RFC 9568 section 6: who is active


def test_the_highest_priority_is_active():
    assert gateway(virtual(priority=90), virtual(), virtual(priority=120)) == "r3"
    assert gateway(virtual(), virtual(priority=99)) == "r1"


def test_of_equal_priorities_the_greater_address_is_active_and_that_is_a_warning():
    assert gateway(virtual(), virtual()) == "r2"
    assert said(virtual(), virtual()) == [
        "warning: r2:e and r1:e contend for virtual router 10: both have priority 100, and whichever was active first"
        " stays"
    ]


def test_whoever_has_an_address_of_it_owns_it_and_has_the_highest_priority():
    owned = {"id": 10, "addresses": ["10.0.1.2"], "priority": 1}
    other = {"id": 10, "addresses": ["10.0.1.2"], "priority": 254}
    document = lan(owned, other, gateway="10.0.1.2")
    solved = solve(read(document))
    assert gateway_of(solved) == "r1"
    (group,) = (group for groups in solved.topology.virtual_groups.values() for group in groups)
    assert [one.priority for one in group.contenders] == [255, 254]
    document["devices"]["r1"]["interfaces"]["e"]["enabled"] = False
    assert gateway_of(solve(read(document))) == "r2"  # it answers for the owner's address


def test_one_that_is_down_takes_no_part():
    assert gateway(virtual(priority=120), virtual(), down=("r1:e",)) == "r2"
    assert gateway(virtual(priority=120), virtual(), down=("r1:e", "r2:e")) is None


def test_a_tracked_interface_that_is_down_takes_from_the_priority():
    tracking = virtual(priority=120, track=[{"interface": "up", "decrement": 30}])
    assert gateway(tracking, virtual()) == "r1"
    assert gateway(tracking, virtual(), down=("r1:up",)) == "r2"
    assert gateway(tracking, virtual(priority=80), down=("r1:up",)) == "r1"
    by_default = virtual(priority=105, track=[{"interface": "up"}])  # 10, RFC 8347
    assert gateway(by_default, virtual(), down=("r1:up",)) == "r2"


def test_no_decrement_takes_a_priority_below_one():
    tracking = virtual(priority=5, track=[{"interface": "up", "decrement": 200}])
    solved = solve(read(lan(tracking, virtual(priority=1))))
    (group,) = next(iter(solved.topology.virtual_groups.values()))
    assert group.active.priority == 5
    document = lan(tracking, virtual(priority=2))
    document["devices"]["r1"]["interfaces"]["up"]["enabled"] = False
    (group,) = next(iter(solve(read(document)).topology.virtual_groups.values()))
    assert [one.priority for one in group.contenders] == [2, 1]


def test_virtual_routers_of_other_numbers_do_not_contend():
    assert gateway(virtual(priority=90), {"id": 11, "addresses": ["10.0.1.99"], "priority": 200}) == "r1"


def test_routers_that_do_not_hear_each_other_are_both_active():
    document = lan(virtual(priority=120), virtual())
    document["links"][0] = ["h:e", "r2:e"]  # r1 stands alone
    document["links"].append(["r1:e", "alone:e"])
    document["devices"]["alone"] = {"kind": "switch", "interfaces": {"e": {}}}
    assert gateway_of(solve(read(document))) == "r2"


def test_ipv6_hosts_find_it_by_its_link_local_address():
    routers = [{"id": 6, "addresses": ["fe80::1", "2001:db8:1::1"], "priority": priority} for priority in (100, 110)]
    document = lan(*routers)
    devices = document["devices"]
    for number in (1, 2):
        devices[f"r{number}"]["interfaces"]["e"]["addresses"].append(f"2001:db8:1::{number + 1}/64")
        devices[f"r{number}"]["interfaces"]["up"]["addresses"].append(f"2001:db8:{number}0::1/64")
        devices["far"]["interfaces"][f"d{number}"]["addresses"].append(f"2001:db8:{number}0::2/64")
        devices[f"r{number}"]["routing"]["static"].append(
            {"prefix": "2001:db8:9::/64", "next_hop": f"2001:db8:{number}0::2"}
        )
    devices["far"]["interfaces"]["lan"]["addresses"].append("2001:db8:9::1/64")
    devices["server"]["interfaces"]["e"]["addresses"].append("2001:db8:9::9/64")
    devices["h"]["interfaces"]["e"]["addresses"].append("2001:db8:1::200/64")
    devices["h"].pop("gateway")
    devices["h"]["routing"] = {"static": [{"prefix": "::/0", "next_hop": "fe80::1", "interface": "e"}]}
    solved = solve(read(document))
    stops = Answerer(solved).asker.ask(Flow("h", "2001:db8:9::9")).forward.stops
    assert solved.topology.devices[stops[1].device].name == "r2"


# Packets to its addresses, section 6.4.3


@pytest.mark.parametrize(("accept", "verdict"), [(False, "unresolved"), (True, "arrives")])
def test_packets_to_its_addresses_are_taken_in_accept_mode_alone(accept, verdict):
    solved = solve(read(lan(virtual(priority=120, accept=accept), virtual())))
    for source in ("h", "server"):
        walk = Evidence(Answerer(solved)).walk(Answerer(solved).asker.ask(Flow(source, GATEWAY)))
        assert walk.forward.verdict == verdict
    if accept:
        assert walk.reply is not None and walk.reply.verdict == "arrives"
        stop = next(stop for stop in walk.forward.stops if stop.verdict == "arrives")
        assert (stop.device, stop.checks[0].message) == (
            "r1",
            "10.0.1.1 is taken by r1, active for virtual router 10 by priority 120, before r2:e with 100",
        )
    else:
        assert "takes no packets to it itself" in walk.forward.causes[0].message
        stop = next(stop for stop in walk.forward.stops if stop.device == "r1")
        assert stop.decided == "10.0.1.0/24 connected; takes no packets to 10.0.1.1"
        failed_check = next(check for check in stop.branches[0].checks if check.state == "fail")
        assert failed_check.message.endswith("r1 is active for it and takes no packets to it")


def test_where_all_are_down_it_is_said_that_nobody_is_active():
    document = lan(virtual(priority=120), virtual())
    for name in ("r1", "r2"):
        document["devices"][name]["interfaces"]["e"]["enabled"] = False
    solved = solve(read(document))
    walk = Evidence(Answerer(solved)).walk(Answerer(solved).asker.ask(Flow("h", "server")))
    assert walk.forward.causes[0].message == (
        "no router is active for 10.0.1.1, an address of virtual router 10: r1:e is down: it is disabled; r2:e is down:"
        " it is disabled"
    )


def test_evidence_says_who_is_active_and_before_whom():
    solved = solve(read(lan(virtual(priority=120), virtual())))
    walk = Evidence(Answerer(solved)).walk(Answerer(solved).asker.ask(Flow("h", "server")))
    assert walk.forward.stops[0].branches[0].checks[-1].message == (
        "next hop 10.0.1.1 out of e, reached at r1:e, active for virtual router 10 by priority 120, before r2:e with 100"
    )


def test_an_address_of_it_is_found():
    solved = solve(read(lan(virtual(priority=120), virtual())))
    found = [(one.word, one.detail) for one in find(solved, GATEWAY) if one.kind == "virtual router"]
    assert found == [("r1:e", "10, active"), ("r2:e", "10, standby with priority 100")]


# What is wrong


@pytest.mark.parametrize(
    ("routers", "words"),
    [
        ((virtual(priority=120), virtual()), []),
        (
            (virtual(priority=120, version=2), virtual()),
            ["error: the routers of virtual router 10 have other versions"],
        ),
        (
            (virtual(priority=120), {"id": 10, "addresses": ["10.0.1.9"]}),
            ["error: the routers of virtual router 10 have other addresses: r1:e 10.0.1.1; r2:e 10.0.1.9"],
        ),
        ((virtual(priority=120, preempt=False), virtual()), ["note: r1:e does not preempt: once r2:e is active"]),
        (({"id": 10, "addresses": ["10.7.1.1"]},), ["warning: 10.7.1.1 of virtual router 10 is in no subnet of r1:e"]),
        (
            ({"id": 10, "addresses": ["10.0.1.3"]}, None),
            ["error: 10.0.1.3 of virtual router 10 is an address of r2:e, which takes no part in it"],
        ),
        ((virtual(), {**virtual(), "id": 11}), ["error: 10.0.1.1 is an address of virtual routers 10 and 11"]),
    ],
)
def test_what_routers_were_told_differently_is_a_problem(routers, words):
    found = said(*routers)
    assert len(found) == len(words)
    assert all(one.startswith(word) for one, word in zip(found, words, strict=True)), found


@pytest.mark.parametrize(
    ("wrong", "message"),
    [
        ({"id": 0, "addresses": [GATEWAY]}, "1 to 255"),
        ({"id": 10}, "addresses"),
        (virtual(priority=255), "1 to 254"),
        (virtual(version=4), "2 to 3"),
        ({"id": 10, "addresses": [GATEWAY, "fe80::1"]}, "of one family"),
        ({"id": 10, "addresses": ["fe80::1"]}, "without an IPv6 address"),
        (virtual(track=[{"interface": "pu"}]), "pu"),
        (virtual(masters=1), "unknown key"),
        ({"id": 10, "addresses": ["10.0.1.1/24"]}, "10.0.1.1/24"),
        ({"id": 10, "addresses": []}, "too short"),
        (virtual(track=[{"decrement": 5}]), "interface"),
        (virtual(track=["up"]), "a tracked interface"),
        (7, "a virtual router"),
    ],
)
def test_what_cannot_be_is_refused_in_its_place(wrong, message):
    with pytest.raises(LoadError) as refused:
        read(lan(wrong))
    assert any(message in str(one) for one in refused.value.errors), refused.value.errors


def test_one_number_stands_once_on_an_interface_and_never_where_nothing_is_routed():
    document = lan(virtual())
    document["devices"]["r1"]["interfaces"]["e"]["virtual_routers"].append(virtual())
    document["devices"]["r1"]["interfaces"]["lo"] = {"addresses": ["10.5.5.5/32"], "virtual_routers": [virtual()]}
    with pytest.raises(LoadError) as refused:
        read(document)
    messages = [one.message for one in refused.value.errors]
    assert "this interface has a virtual router 10 of IPv4 already" in messages
    assert "'virtual_routers' of a loopback would never be asked" in messages


# Against plainer ways


@st.composite
def contested(draw) -> dict:
    """A subnet with some routers, their interfaces up or down."""
    routers = draw(
        st.lists(
            st.builds(
                lambda priority, track, accept: virtual(
                    priority=priority,
                    accept=accept,
                    **({"track": [{"interface": "up", "decrement": 25}]} if track else {}),
                ),
                st.integers(1, 4).map(lambda one: one * 20),
                st.booleans(),
                st.booleans(),
            ),
            min_size=1,
            max_size=4,
        )
    )
    document = lan(*routers)
    for number in range(1, len(routers) + 1):
        for interface in ("e", "up"):
            if draw(st.integers(0, 3)) == 0:
                document["devices"][f"r{number}"]["interfaces"][interface]["enabled"] = False
    return document


def elected(document: dict) -> int | None:
    """The number of the router that is to be active, by reading the rules off one by one."""
    best: tuple[int, int] | None = None
    for number in range(1, len(document["devices"]) - 2):
        interfaces = document["devices"][f"r{number}"]["interfaces"]
        if interfaces["e"].get("enabled") is False:
            continue
        told = interfaces["e"]["virtual_routers"][0]
        priority = told["priority"]
        if "track" in told and interfaces["up"].get("enabled") is False:
            priority = max(1, priority - 25)
        best = max(best or (0, 0), (priority, number))
    return None if best is None else best[1]


@given(contested())
@settings(max_examples=examples(60), deadline=None, suppress_health_check=list(HealthCheck))
def test_packets_go_as_if_the_active_routers_own_address_were_the_gateway(document):
    active = elected(document)
    solved = solve(read(document))
    plain = json.loads(json.dumps(document))
    plain["devices"]["h"]["gateway"] = "10.0.1.77" if active is None else f"10.0.1.{active + 1}"
    for device in plain["devices"].values():
        device["interfaces"].get("e", {}).pop("virtual_routers", None)
    other = solve(read(plain))
    for flow in (Flow("h", "server"), Flow("server", "h")):
        ways = [
            [
                (one.topology.devices[stop.device].name, [branch.target for branch in stop.branches], stop.verdict)
                for stop in Answerer(one).asker.ask(flow).forward.stops
            ]
            for one in (solved, other)
        ]
        assert ways[0] == ways[1]


@given(contested(), st.data())
@settings(max_examples=examples(60), deadline=None, suppress_health_check=list(HealthCheck))
def test_what_is_told_not_to_matter_does_not(document, data):
    flows_hold(solve(read(document)), data)


@given(contested())
@settings(max_examples=examples(40), deadline=None, suppress_health_check=list(HealthCheck))
def test_failures_are_solved_again_as_from_nothing(document):
    solved = solve(read(document))
    for failure in failures_of(solved, KINDS):
        network = failed(solved.network, failure)
        again, cold = solve(network, solved), solve(network)
        assert again.topology.virtual_groups == cold.topology.virtual_groups
        assert gateway_of(again) == gateway_of(cold)


def test_another_active_router_moves_a_flow_and_no_route():
    before, after = (solve(read(lan(virtual(priority=priority), virtual()))) for priority in (120, 90))
    found = compare(before, after, [Flow("h", "server")], 10)
    assert len(found.flows) == 1 and not found.routes


# Changes


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
