"""Networks that virtual routers track (RFC 8347): who is active hangs on the routes of tables."""

from copy import deepcopy

import pytest
from hypothesis import HealthCheck, given, settings
from hypothesis import strategies as st

from routrel.analysis.check import check
from routrel.analysis.evidence import Evidence
from routrel.analysis.expectations.failures import failed, failures_of
from routrel.analysis.expectations.flow_supports import FlowSupports
from routrel.analysis.expectations.moved import Asked, Moved
from routrel.analysis.virtual_routers import active_words
from routrel.analysis.walk_verdicts import Answerer
from routrel.forwarding.flow import Flow
from routrel.model.addresses import Prefix
from routrel.routing.solve import Solved
from routrel.solving import solve
from routrel.topology.virtual_routers import VirtualGroup
from tests.core.gateway_networks import gateway_of, lan, read, virtual
from tests.core.test_supports import KINDS, flows_hold
from tests.examples import examples

FAR = "10.9.0.0/24"


def far_off(*routers: dict) -> dict:
    """As ``lan``, but each router learns of the far subnet by OSPF from a router between."""
    document = lan(*routers)
    devices, links = document["devices"], document["links"][:2]
    ospf = {"lan": {}}
    for number in range(1, len(routers) + 1):
        own, between = devices[f"r{number}"], f"m{number}"
        own["routing"] = {"ospf": {"areas": {"0": {"interfaces": {"up": {}, "e": {"passive": True}}}}}}
        devices[between] = {
            "interfaces": {
                "down": {"addresses": [f"172.16.{number}.2/30"]},
                "up": {"addresses": [f"172.17.{number}.1/30"]},
            },
            "routing": {"ospf": {"areas": {"0": {"interfaces": {"down": {}, "up": {}}}}}},
        }
        devices["far"]["interfaces"][f"d{number}"] = {"addresses": [f"172.17.{number}.2/30"]}
        ospf[f"d{number}"] = {}
        links += [[f"r{number}:up", f"{between}:down"], [f"{between}:up", f"far:d{number}"]]
    devices["far"]["routing"] = {"ospf": {"areas": {"0": {"interfaces": ospf}}}}
    return document | {"links": links}


def without(document: dict, *interfaces: str) -> dict:
    """The same with some interfaces disabled."""
    document = deepcopy(document)
    for name in interfaces:
        device, interface = name.split(":")
        document["devices"][device]["interfaces"][interface]["enabled"] = False
    return document


def group_in(solved: Solved) -> VirtualGroup:
    (only,) = (group for groups in solved.topology.virtual_groups.values() for group in groups)
    return only


TRACKING = virtual(priority=120, track=[{"network": FAR, "decrement": 30}])


def test_a_network_without_a_route_takes_from_the_priority():
    document = far_off(TRACKING, virtual())
    assert gateway_of(solve(read(document))) == "r1"
    lost = solve(read(without(document, "m1:up")))  # its own uplink is up
    assert gateway_of(lost) == "r2"
    assert lost.topology.unreached == {(lost.topology.device_index["r1"], Prefix.parse(FAR))}
    lesser = far_off(virtual(priority=120, track=[{"network": FAR}]), virtual())  # 10 where nothing is said
    assert [one.priority for one in group_in(solve(read(without(lesser, "m1:up")))).contenders] == [110, 100]


def test_a_route_for_a_prefix_that_covers_it_does_not_count_and_a_discarding_one_does():
    document = without(far_off(TRACKING, virtual()), "m1:up")
    routing = document["devices"]["r1"]["routing"]
    routing["static"] = [{"prefix": "10.8.0.0/15", "next_hop": "172.16.1.2"}]
    assert gateway_of(solve(read(document))) == "r2"
    routing["static"] = [{"prefix": FAR, "action": "discard"}]
    assert gateway_of(solve(read(document))) == "r1"


def test_it_is_asked_in_the_table_of_the_interface():
    document = far_off(TRACKING, virtual())
    own = document["devices"]["r1"]
    own["interfaces"]["up"]["vrf"] = "out"
    own["vrfs"] = {"out": {"routing": {"ospf": {"areas": {"0": {"interfaces": {"up": {}}}}}}}}
    own["routing"] = {}
    assert gateway_of(solve(read(document))) == "r2"


def test_an_owner_gives_nothing_up():
    own = {"id": 10, "addresses": ["10.0.1.2"], "track": [{"network": "192.0.2.0/24", "decrement": 200}]}
    solved = solve(read(lan(own, {"id": 10, "addresses": ["10.0.1.2"]}, gateway="10.0.1.2")))
    assert [one.priority for one in group_in(solved).contenders] == [255, 100]


def test_evidence_says_what_takes_from_a_priority():
    both = virtual(priority=120, track=[{"network": FAR, "decrement": 30}, {"interface": "up", "decrement": 5}])
    document = without(far_off(both, virtual()), "r1:up")
    solved = solve(read(document))
    why = "85 (120 less 35: up is down, no route for 10.9.0.0/24)"
    assert active_words(solved.topology, group_in(solved)).endswith(f"by priority 100, before r1:e with {why}")
    walk = Evidence(Answerer(solved)).walk(Answerer(solved).asker.ask(Flow("h", "server")))
    assert walk.forward.stops[0].branches[0].checks[-1].message.endswith(f"before r1:e with {why}")


# Where sessions lead by the active router, tables hang on it in turn


def told_by_a_session(
    r1: dict,
    r2: dict,
    talking: tuple[str, ...],
) -> dict:
    """A speaker on the subnet calls the virtual address; some routers know it, and tell each other what they hear."""
    document = lan(r1, r2)
    devices = document["devices"]
    devices["x"] = {
        "interfaces": {"e": {"addresses": ["10.0.1.50/24"]}, "net": {"addresses": ["10.50.0.1/24"]}},
        "routing": {"bgp": {"as": 65050, "neighbors": {"10.0.1.1": {"as": 65001}}, "networks": ["10.50.0.0/24"]}},
    }
    document["links"][0].append("x:e")
    for number, other in ((1, 2), (2, 1)):
        neighbors: dict = {f"10.0.1.{other + 1}": {"as": 65001, "next_hop_self": True}}
        if f"r{number}" in talking:
            neighbors["10.0.1.50"] = {"as": 65050}
        devices[f"r{number}"]["routing"]["bgp"] = {"as": 65001, "neighbors": neighbors}
    return document


def accepting(**words) -> dict:
    return virtual(accept=True, **words)


def test_a_network_told_by_a_session_to_the_active_router_settles():
    tracked = {"track": [{"network": "10.50.0.0/24", "decrement": 30}]}
    solved = solve(read(told_by_a_session(accepting(priority=120, **tracked), accepting(), ("r1", "r2"))))
    assert (gateway_of(solved), solved.topology.unreached) == ("r1", frozenset())
    # The one of the higher priority does not know the speaker: the other is active, and tells it of nothing.
    document = told_by_a_session(accepting(priority=120, **tracked), accepting(), ("r2",))
    document["devices"]["r1"]["routing"]["bgp"]["neighbors"] = {}
    solved = solve(read(document))
    assert gateway_of(solved) == "r2"
    assert len(solved.topology.unreached) == 1 and solved.unsettled_tracking is None


def test_what_does_not_settle_is_a_finding_and_a_doubt_of_every_walk():
    """Active, it knows no session and loses the route; standing by, it is told of it and takes over."""
    tracked = {"track": [{"network": "10.50.0.0/24", "decrement": 30}]}
    solved = solve(read(told_by_a_session(accepting(priority=120, **tracked), accepting(), ("r2",))))
    said = [one.message for one in check(solved) if one.code == "virtual-router" and one.severity == "error"]
    assert said == [
        "virtual routers track 10.50.0.0/24 on r1, and whether there is a route hangs on who is active for them: that"
        " does not settle, and what is shown is one of its states"
    ]
    walk = Evidence(Answerer(solved)).walk(Answerer(solved).asker.ask(Flow("h", "server")))
    checks = [check for stop in walk.forward.stops for check in stop.checks]
    assert any(said[0] in check.message for check in checks)


@pytest.mark.parametrize("accept", [True, False])
def test_a_session_comes_and_goes_with_accepting_its_address_when_solved_again(accept):
    def document(accept: bool) -> dict:
        return told_by_a_session(virtual(priority=120, accept=accept), virtual(), ("r1", "r2"))

    again = solve(read(document(accept)), solve(read(document(not accept))))
    number = again.prefixes.number[Prefix.parse("10.50.0.0/24")]
    assert (again.table(again.topology.device_index["r1"]).get(number) is not None) == accept


# Against plainer ways


@st.composite
def tracking(draw) -> dict:
    """Routers on a subnet that know of the far one by OSPF, of each other too or not; interfaces up or down."""
    track = st.lists(
        st.fixed_dictionaries(
            {"network": st.sampled_from([FAR, "0.0.0.0/0", "172.17.1.0/30", "172.17.2.0/30", "192.0.2.0/24"])},
            optional={"decrement": st.sampled_from([5, 25, 45])},
        ),
        max_size=2,
    )
    routers = [
        virtual(priority=draw(st.integers(1, 4)) * 20, accept=draw(st.booleans()), track=draw(track))
        for _ in range(draw(st.integers(1, 3)))
    ]
    document = far_off(*routers)
    devices = document["devices"]
    for number in range(1, len(routers) + 1):
        own = devices[f"r{number}"]["routing"]
        own["ospf"]["areas"]["0"]["interfaces"]["e"]["passive"] = draw(st.booleans())
        if draw(st.booleans()):
            own["static"] = [{"prefix": "0.0.0.0/0", "next_hop": f"172.17.{draw(st.integers(1, 2))}.2"}]
        for name in (f"r{number}:up", f"m{number}:up", f"r{number}:e"):
            if draw(st.integers(0, 4)) == 0:
                document = without(document, name)
                devices = document["devices"]
    return document


def by_hand(document: dict) -> Solved:
    """Without anything tracked, priorities lowered in the text where tables lack a route; these do not hang on them."""
    document = deepcopy(document)
    interfaces = {
        name: device["interfaces"]["e"]
        for name, device in document["devices"].items()
        if "virtual_routers" in device["interfaces"].get("e", {})
    }
    tracked = {name: one["virtual_routers"][0].pop("track") for name, one in interfaces.items()}
    solved = solve(read(document))
    for name, networks in tracked.items():
        told = interfaces[name]["virtual_routers"][0]
        for one in networks:
            number = solved.prefixes.number.get(Prefix.parse(one["network"]))
            if number is None or solved.table(solved.topology.device_index[name]).get(number) is None:
                told["priority"] -= one.get("decrement", 10)
        told["priority"] = max(1, told["priority"])
    return solve(read(document))


@given(tracking())
@settings(max_examples=examples(60), deadline=None, suppress_health_check=list(HealthCheck))
def test_packets_go_as_with_priorities_lowered_by_hand(document):
    ways = []
    for solved in (solve(read(document)), by_hand(document)):
        priorities = [[one.priority for one in group_in(solved).contenders] if solved.topology.virtual_groups else []]
        walks = [Answerer(solved).asker.ask(flow).forward for flow in (Flow("h", "server"), Flow("server", "h"))]
        stops = [
            [(stop.device, [one.target for one in stop.branches], stop.verdict) for stop in w.stops] for w in walks
        ]
        ways.append((priorities, stops))
    assert ways[0] == ways[1]


def test_a_flow_rests_on_what_the_tracked_route_rests_on():
    """The cable that fails is on no way of the flow, and on none of the route that leads it."""
    document = far_off(virtual(priority=120, track=[{"network": "172.17.2.0/30", "decrement": 30}]), virtual())
    document["devices"]["far"]["routing"]["ospf"]["areas"]["0"]["interfaces"]["d2"]["cost"] = 50  # no way back
    solved = solve(read(document))
    walk = Answerer(solved).asker.ask(Flow("h", "server"))
    assert gateway_of(solved) == "r1"
    supports = FlowSupports(solved)
    moving = {}
    for failure in failures_of(solved, ("links",)):
        gone, rests_on = supports.moved(failure), supports.of(walk)
        assert rests_on is not None
        moving[max(failure.links)] = (
            gone is None or not gone.isdisjoint(rests_on),
            gateway_of(solve(failed(solved.network, failure))),
        )
    assert moving[len(document["links"]) - 1] == (True, "r2"), moving


def test_devices_beside_another_active_router_are_moved():
    document = far_off(TRACKING, virtual())
    before, after = solve(read(document)), solve(read(without(document, "m1:up")))
    moved = Moved(before, solve(after.network, before), Asked(before, ()))
    assert {before.topology.devices[number].name for number in moved.devices} >= {"h", "r1", "r2"}


@given(tracking(), st.data())
@settings(max_examples=examples(60), deadline=None, suppress_health_check=list(HealthCheck))
def test_what_is_told_not_to_matter_does_not(document, data):
    flows_hold(solve(read(document)), data)


@given(tracking())
@settings(max_examples=examples(30), deadline=None, suppress_health_check=list(HealthCheck))
def test_failures_are_solved_again_as_from_nothing_one_after_another(document):
    solved = base = solve(read(document))
    for failure in failures_of(solved, KINDS):
        network = failed(solved.network, failure)
        base, cold = solve(network, base), solve(network)
        assert base.topology.virtual_groups == cold.topology.virtual_groups
        assert (base.topology.owners, base.topology.unreached) == (cold.topology.owners, cold.topology.unreached)
        assert gateway_of(base) == gateway_of(cold)
