"""The evidence shown is the decision made: held against the walk on random networks."""

from hypothesis import given, settings
from hypothesis import strategies as st

from bench.generator import Shape, network
from routrel.analysis.evidence import Evidence
from routrel.analysis.walk_verdicts import Answerer
from routrel.forwarding.flow import Flow
from routrel.solving import solve
from tests.core.networks import load, plain
from tests.core.test_walk import grid, lan
from tests.examples import examples


@given(st.integers(0, 10_000), st.integers(2, 25), st.integers(1, 3), st.data())
@settings(max_examples=examples(40))
def test_a_stop_that_ends_a_way_shows_a_failed_check_and_only_such_a_stop_does(seed, routers, areas, data):
    model = network(Shape(routers, min(areas, routers // 2), prefixes=routers, hosts=routers, acl_share=0.6, seed=seed))
    answerer = Answerer(solve(model))
    names = sorted(model.devices)
    service = data.draw(st.sampled_from(("icmp", "tcp/443", "tcp/25", "udp/53")))
    flow = Flow(data.draw(st.sampled_from(names)), data.draw(st.sampled_from(names)), service)
    answer = plain(Evidence(answerer).walk(answerer.asker.ask(flow)))
    for strand in (answer["forward"], answer["return"]):
        for stop in strand["stops"]:
            decisive = [check for check in stop["checks"] if check["kind"] != "back"]
            failed = [check["kind"] for check in decisive if check["state"] == "fail"]
            assert bool(failed) == (stop["verdict"] not in (None, "arrives", "leaves"))
            for branch in stop["branches"]:
                bad = any(check["state"] == "fail" for check in branch["checks"])
                assert bad == (branch["verdict"] not in (None, "leaves"))
        assert bool(strand["causes"]) == (strand["verdict"] not in ("arrives", "leaves"))


def evidence(text: str, *flow: str) -> dict:
    answerer = Answerer(load(text))
    return plain(Evidence(answerer).walk(answerer.asker.ask(Flow(*flow))))


def test_checks_stand_in_the_order_a_packet_meets_them_with_their_places():
    text = lan("{edge: [{action: accept, name: all}]}", ", acl_in: edge")
    stop = evidence(text, "h1", "h2", "tcp/80")["forward"]["stops"][1]
    assert [check["kind"] for check in stop["checks"]] == ["acl_in", "route", "back"]
    assert stop["checks"][0]["written"] == "{action: accept, name: all}"
    assert all(check["place"]["line"] for check in stop["checks"])
    assert stop["branches"][0]["target_interface"] == "h2:e1"


def test_the_largest_packet_and_where_it_shrinks():
    text = lan().replace("addresses: [10.0.2.10/24]", "addresses: [10.0.2.10/24], mtu: 1300")
    mtu = evidence(text, "h1", "h2")["forward"]["mtu"]
    assert mtu["largest_packet"] == 1300
    assert [(place["device"], place["interface"]) for place in mtu["shrinks_at"]] == [("r", "e2")]
    assert evidence(lan(), "h1", "h2")["forward"]["mtu"]["shrinks_at"] == []


def test_only_a_default_route_is_remarked_on_a_router_and_not_on_a_host():
    text = lan(routing="static: [{prefix: 0.0.0.0/0, next_hop: 10.0.2.10}]")
    host, router = evidence(text, "h1", "192.0.2.1")["forward"]["stops"][:2]
    assert not host["by_default"]
    assert router["by_default"]
    assert "only the default route" in router["checks"][0]["message"]


def test_a_stop_says_whether_it_could_send_back():
    text = lan().replace("    gateway: 10.0.2.1\n", "")
    stop = evidence(text, "h1", "h2")["forward"]["stops"][-1]
    back = next(check for check in stop["checks"] if check["kind"] == "back")
    assert (back["state"], back["message"]) == ("fail", "no route back to 10.0.1.10")


def test_an_ospf_route_points_to_where_it_runs():
    stop = evidence(grid(1, 2), "s", "t")["forward"]["stops"][0]
    assert stop["checks"][0]["place"]["line"] > 0
    assert stop["checks"][0]["route"]["origin"] == "intra-area"
