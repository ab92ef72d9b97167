"""Virtual routers (RFC 9568): who is active, by whom packets go, and what is said of it."""

import json

import pytest
from hypothesis import HealthCheck, given, settings
from hypothesis import strategies as st

from routrel.analysis.check import check
from routrel.analysis.comparison import compare
from routrel.analysis.evidence import Evidence
from routrel.analysis.expectations.failures import failed, failures_of
from routrel.analysis.search import find
from routrel.analysis.walk_verdicts import Answerer
from routrel.formats.errors import LoadError
from routrel.forwarding.flow import Flow
from routrel.solving import solve
from tests.core.gateway_networks import GATEWAY, gateway_of, lan, read, virtual
from tests.core.test_supports import KINDS, flows_hold
from tests.examples import examples


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
        (virtual(track=[{"decrement": 5}]), "is an interface or a network; found neither"),
        (virtual(track=[{"interface": "up", "network": "0.0.0.0/0"}]), "found both"),
        (virtual(track=[{"network": "::/0"}]), "of its own family; found '::/0'; allowed: a prefix of IPv4"),
        (virtual(track=[{"network": "10.9.0.1/24"}]), "10.9.0.1/24"),
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
