"""BGP as the standards and two real daemons have it."""

from tests.core.networks import solution_of
from tests.faults.faults import ask, assert_routes_of_real_routers, findings, gateways, routes, solved, why


def test_rfc_4271_9_2_2_2_the_origin_of_an_aggregate_is_the_worst_of_its_parts():
    network = solved("aggregate-origin/network")
    assert_routes_of_real_routers(network, "aggregate-origin")
    answer = why(network, "r", "10.60.0.0/16")
    origins = [[one["value"] for one in c["attributes"] if one["name"] == "origin"] for c in answer["candidates"]]
    assert origins == [["incomplete"], ["igp"]]
    assert [one["state"] for one in answer["candidates"]] == ["lost", "winner"]


def test_a_next_hop_that_resolves_by_a_discarding_route_makes_a_discard():
    network = solved("bgp-next-hop-by-discard")
    route = routes(network, "f")["10.53.0.0/16"]
    assert (route["protocol"], route["kind"], route["action"]) == ("bgp", "internal", "discard")
    assert routes(network, "h")["10.53.0.0/16"]["action"] == "forward"
    answer = why(network, "f", "10.53.0.0/16")
    assert answer["winner"]["action"] == "discard"


def test_a_next_hop_that_resolves_by_a_rejecting_route_does_not_resolve():
    network = solved(
        "bgp-next-hop-by-discard", ("{prefix: 10.77.0.0/16, action: discard}", "{prefix: 10.77.0.0/16, action: reject}")
    )
    assert "10.53.0.0/16" not in routes(network, "f")
    assert "does not resolve" in why(network, "f", "10.53.0.0/16")["candidates"][0]["out"]


def test_rfc_5635_3_a_triggered_black_hole_discards_at_the_edge():
    network = solved("triggered-black-hole")
    route = routes(network, "edge")["10.20.0.5/32"]
    assert (route["protocol"], route["action"]) == ("bgp", "discard")
    assert ask(network, "edge", "10.20.0.5")["forward"]["verdict"] == "discarded"
    assert ask(network, "up", "10.20.0.6")["forward"]["verdict"] == "arrives"


def test_rfc_4271_6_3_a_neighbor_one_hop_away_names_next_hops_on_the_shared_subnet():
    network = solved("external-next-hop-off-the-subnet")
    assert "10.3.0.0/16" not in routes(network, "b")
    (candidate,) = why(network, "b", "10.3.0.0/16")["candidates"]
    assert "198.51.100.9 is not on the subnet" in candidate["out"]


def test_rfc_4271_6_3_a_neighbor_farther_away_names_any_next_hop():
    network = solved(
        "external-next-hop-off-the-subnet",
        ("{as: 65002, export: o}", "{as: 65002, export: o, multihop: 2}"),
        ("192.0.2.1: {as: 65001}", "192.0.2.1: {as: 65001, multihop: 2}"),
    )
    assert gateways(routes(network, "b")["10.3.0.0/16"]) == ["192.0.2.1"]


def test_rfc_4271_4_3_a_missing_med_taken_for_the_worst_ties_with_the_highest():
    network = solved("missing-med-worst")
    assert gateways(routes(network, "r")["10.2.0.0/16"]) == ["192.0.2.1"]
    assert why(network, "r", "10.2.0.0/16")["rounds"][-1]["name"] == "router id"


def test_the_margin_of_a_med_is_that_within_its_own_neighboring_as():
    answer = why(solved("med-margin"), "r", "10.1.0.0/16")
    lost = next(one for one in answer["candidates"] if "192.0.2.5" in one["origin"])
    assert lost["margin"] == "by 10"
    med = next(one for one in answer["rounds"] if one["name"] == "MED")
    assert [one["value"] for one in med["values"]] == ["10 of AS 65001", "20 of AS 65001", "5 of AS 65002"]
    assert "of one neighboring AS" in med["rule"]


def test_meds_compared_between_ases_are_not_said_to_be_of_one():
    network = solved("med-margin", ("decision: {missing_med: worst}", "decision: {compare_med_between_as: true}"))
    answer = why(network, "r", "10.1.0.0/16")
    med = next(one for one in answer["rounds"] if one["name"] == "MED")
    assert "one neighboring AS" not in med["rule"] and "whatever AS" in med["rule"]
    lost = next(one for one in answer["candidates"] if "192.0.2.5" in one["origin"])
    assert lost["margin"] == "by 15"


def test_rfc_6286_2_2_a_session_inside_an_as_between_equal_identifiers_is_refused():
    network = solved("bgp-identifier-twice")
    assert "10.1.0.0/24" not in routes(network, "b")
    (refused,) = findings(network, "bgp-session")
    assert "BGP identifier 9.9.9.9" in refused.message and {place.line for place in refused.places} == {5, 6}


def test_rfc_6286_2_2_a_session_between_ases_comes_up_whatever_the_identifiers():
    network = solved("one-router-id-three-speakers")
    assert "10.2.0.0/16" not in routes(network, "a")
    assert "10.1.0.0/16" not in routes(network, "b") and "10.1.0.0/16" not in routes(network, "c")
    assert routes(network, "c")["10.2.0.0/16"]["protocol"] == "bgp"


def test_a_session_that_comes_up_in_turns_carries_paths():
    """It was shown as up, and nothing was sent by it."""
    network = solved("session-by-turns")
    bgp = solution_of(network, "bgp")
    assert bgp.messages.channels == bgp.state.channels
    assert {str(one.neighbor) for one in bgp.sessions() if one.is_up} >= {"10.0.0.1", "10.0.0.4"}
    assert "0.0.0.0/0" in routes(network, "r3")
