"""RIP as RFC 2453 and real routers have it."""

from tests.faults.faults import ask, assert_routes_of_real_routers, findings, gateways, routes, solved


def test_rfc_2453_3_4_3_a_route_is_not_said_back_to_where_it_was_heard():
    network = solved("rip-split-horizon/network")
    assert_routes_of_real_routers(network, "rip-split-horizon")
    assert not findings(network, "redistribution-unsettled") and not findings(network, "redistribution-order")
    answer = ask(network, "10.255.0.1", "p1")
    assert answer["forward"]["paths"] == [["o1", "b1", "p1"]]
    assert answer["return"]["paths"] == [["p1", "b1", "o1"]]


def test_rfc_2453_3_4_3_a_static_route_put_into_rip_does_not_come_back():
    network = solved("rip-split-horizon/floating-static")
    assert routes(network, "b1")["203.0.113.0/24"]["protocol"] == "static"
    assert gateways(routes(network, "p1")["203.0.113.0/24"]) == ["10.10.0.9"]
