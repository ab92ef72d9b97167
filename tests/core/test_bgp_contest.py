"""BGP's contest: it agrees with the bulk solver, and its words and tipping points are right."""

from hypothesis import HealthCheck, given, settings

from routrel.analysis.contest.why import WhyAnswerer, parse_prefix, why_lines
from routrel.analysis.policy_view import PolicyView
from routrel.model.addresses import Address
from routrel.routing.solve import Solved
from routrel.solving import solve
from tests.core.bgp_networks import NET, Net, accept, chain_inside, exits_inside, two_exits, via, with_import
from tests.core.mixed_networks import read
from tests.core.networks import plain, solution_of
from tests.core.speaker_networks import speakers
from tests.core.test_contest import disagreements
from tests.examples import examples


@given(speakers())
@settings(max_examples=examples(80), deadline=None, suppress_health_check=[HealthCheck.too_slow])
def test_the_explained_winner_is_the_computed_winner(document):
    solved = solve(read(document))
    if solved.redistribution.unsettled is None and not solution_of(solved, "bgp").propagation.unstable.columns:
        assert disagreements(solved) == []


def why(solved: Solved, device: str, prefix: str = NET) -> dict:
    return plain(WhyAnswerer(solved).why(solved.topology.device_index[device], parse_prefix(prefix)))


def attributes(candidate: dict) -> dict[str, str]:
    return {one["name"]: one["value"] for one in candidate["attributes"]}


def lost_in(answer: dict) -> list[str | None]:
    """Per candidate the round it lost, None for the winner."""
    return [
        None if one["lost_in"] is None else answer["rounds"][one["lost_in"]]["name"] for one in answer["candidates"]
    ]


def test_rounds_name_what_decided_and_by_how_much():
    answer = why(with_import(two_exits(), 2, local_preference=150).solve(), "me")
    assert lost_in(answer) == ["local preference", None]
    assert answer["candidates"][0]["margin"] == "by 50"
    (one,) = answer["rounds"]
    assert one["chosen"]
    assert [value["value"] for value in one["values"]] == ["100", "150"]


def test_a_tie_by_router_id_is_nobodys_choice():
    answer = why(two_exits().solve(), "me")
    assert lost_in(answer) == [None, "router id"]
    assert not answer["rounds"][-1]["chosen"]


def test_meds_of_different_neighbors_are_shown_as_not_compared():
    answer = why(with_import(with_import(two_exits(), 1, med=10), 2, med=5).solve(), "me")
    assert lost_in(answer) == [None, "router id"]
    assert answer["rounds"][0]["name"] == "MED"
    assert answer["rounds"][0]["lost"] == []


def test_what_an_import_policy_changed_and_which_statement():
    answer = why(with_import(two_exits(), 2, local_preference=150, communities={"add": ["64500:7"]}).solve(), "me")
    shown = attributes(answer["candidates"][1])
    assert shown["policy"] == "import policy in2 accepts it: statement 1"
    assert (shown["local preference"], shown["local preference as sent"]) == ("150", "100")
    assert (shown["communities"], shown["communities as sent"]) == ("64500:7", "none")


def test_a_rejected_path_names_the_statement_or_the_closing_reject():
    net = two_exits()
    policy = net.policy("me", "in", {"match": {"prefixes": ["192.0.2.0/24"]}, "result": "accept"})
    net.bgp("me")["neighbors"]["172.16.1.2"]["import"] = policy
    answer = why(net.solve(), "me")
    assert "no statement decides" in answer["candidates"][0]["out"]


def test_paths_that_neighbors_never_sent_and_why():
    net = exits_inside(5, 1)
    net.bgp("left")["neighbors"]["10.0.0.1"]["export"] = net.policy("left", "out", {"result": "reject"})
    answer = why(net.solve(), "core")
    reasons = {one["device"]: one["reason"] for one in answer["unsent"]}
    assert "export policy out rejects it: statement 1" in reasons["left"]
    assert "the best path of right is that with AS path" in reasons["right"]


def test_an_absent_prefix_names_the_missing_reflection():
    answer = why(chain_inside().solve(), "far")
    stops = [step["message"] for trail in answer["trails"] for step in trail if step["stopped"]]
    assert any("mid is no route reflector" in stop for stop in stops)


def test_an_absent_prefix_names_a_session_that_is_down():
    net = two_exits()
    for neighbor in net.bgp("me")["neighbors"].values():
        neighbor["enabled"] = False
    answer = why(net.solve(), "me")
    stops = [step["message"] for trail in answer["trails"] for step in trail if step["stopped"]]
    assert any("me has no session with" in stop and stop.endswith("it is disabled here") for stop in stops)


def test_the_whole_answer_as_lines():
    solved = with_import(two_exits(), 2, med=5).solve()
    answer = WhyAnswerer(solved).why(solved.topology.device_index["me"], parse_prefix(NET))
    lines = "\n".join(why_lines(answer))
    assert "AS path 64501" in lines
    assert "round" in lines
    assert "local preference of the path from 172.16.2.2 (b, AS 64502) on me, now 100: moves at 101" in lines


def tip(answer: dict, what: str) -> dict:
    return next(one for one in answer["tipping"] if one["what"].startswith(what))


class TestTipping:
    """Each value is applied to the file: one short of it nothing moves, at it the other path wins."""

    def test_local_preference(self):
        net = with_import(two_exits(), 1, local_preference=130)
        value = tip(why(net.solve(), "me"), "local preference of the path from 172.16.2.2")["value"]
        assert value == 131
        assert via(with_import(net, 2, local_preference=value - 1).solve(), "me") == ["c1"]
        assert via(with_import(net, 2, local_preference=value).solve(), "me") == ["c2"]

    def test_weight(self):
        net = two_exits(here={"weight": 7})
        value = tip(why(net.solve(), "me"), "weight of the path from 172.16.2.2")["value"]
        assert via(two_exits(here={"weight": 7}, there={"weight": value - 1}).solve(), "me") == ["c1"]
        assert via(two_exits(here={"weight": 7}, there={"weight": value}).solve(), "me") == ["c2"]

    def test_med(self):
        switch = {"decision": {"compare_med_between_as": True}}
        net = with_import(with_import(two_exits(**switch), 1, med=10), 2, med=50)
        value = tip(why(net.solve(), "me"), "MED of the path from 172.16.2.2")["value"]
        assert via(with_import(net, 2, med=value + 1).solve(), "me") == ["c1"]
        assert via(with_import(net, 2, med=value).solve(), "me") == ["c2"]

    def test_prepends_where_it_is_announced(self):
        net = with_import(two_exits(), 2, as_path_prepend={"as": 64502, "times": 3})
        point = tip(why(net.solve(), "me"), "AS path length of the path from 172.16.1.2")
        times = point["value"] - point["now"]

        def with_export(count: int) -> Net:
            prepend = accept(as_path_prepend={"as": 64501, "times": count})
            net.bgp("a")["neighbors"]["172.16.1.1"]["export"] = net.policy("a", "out", prepend)
            return net

        assert via(with_export(times - 1).solve(), "me") == ["c1"]
        assert via(with_export(times).solve(), "me") == ["c2"]

    def test_the_metric_to_the_next_hop(self):
        value = tip(why(exits_inside(5, 1).solve(), "core"), "metric to the next hop of the path from 10.0.0.3")[
            "value"
        ]
        assert via(exits_inside(5, value - 1).solve(), "core") == ["c2"]
        assert via(exits_inside(5, value).solve(), "core") == ["c1"]

    def test_the_preference_of_internal_routes(self):
        net = exits_inside(5, 1)
        net.devices["core"]["routing"]["static"] = [{"prefix": NET, "action": "discard", "preference": 210}]
        answer = why(net.solve(), "core")
        assert answer["winner"]["protocol"] == "bgp"
        assert tip(answer, "preference of ibgp")["value"] == 210


def test_next_hops_given_by_a_policy_are_the_addresses_meant():
    net = with_import(two_exits(), 2, next_hop="172.16.1.2", local_preference=200)
    route = net.solve().lookup(0, Address.parse("203.0.113.9"))
    assert str(route.next_hops[0].address) == "172.16.1.2"


@given(speakers())
@settings(max_examples=examples(40), deadline=None, suppress_health_check=[HealthCheck.too_slow])
def test_every_answer_is_whole(document):
    """Whatever is asked, an absence has its reason, and policies and restarts are reported without fail."""
    solved = solve(read(document))
    answerer = WhyAnswerer(solved)
    for instance in solved.topology.instances:
        for prefix in solved.prefixes.prefixes:
            typed = answerer.why(instance.index, prefix)
            assert list(why_lines(typed))
            answer = plain(typed)
            if answer["winner"] is None:
                offered = any(one["out"] or one["lost_in"] is not None for one in answer["candidates"])
                assert offered or answer["trails"], (instance.index, str(prefix))
        device = solved.topology.devices[instance.device]
        for name in device.policies:
            for use in plain(PolicyView(solved, device.name, name).report())["uses"]:
                accepted = sum(route["accepted"] for route in use["routes"])
                assert (accepted, len(use["routes"])) == (use["accepted"], use["total"])
    solution_of(solved, "bgp").costly_findings()


@given(speakers())
@settings(max_examples=examples(25), deadline=None, suppress_health_check=[HealthCheck.too_slow])
def test_the_policy_view_accepts_what_neighbors_hold(document):
    solved = solve(read(document))
    held = solution_of(solved, "bgp").propagation
    if solved.redistribution.unsettled is None and not held.unstable.columns:
        assert_policies_accept_what_is_held(solved)


def assert_policies_accept_what_is_held(solved: Solved) -> None:
    held = solution_of(solved, "bgp").propagation
    for channel in held.channels:
        name = channel.receiving.neighbor.import_policy
        if name is None:
            continue
        device = solved.topology.devices[
            solved.topology.instances[held.speakers[channel.receiver].instance].device
        ].name
        what = f"import from neighbor {channel.receiving.neighbor.address}"
        use = next(one for one in plain(PolicyView(solved, device, name).report())["uses"] if one["what"] == what)
        columns = [column for column, number in enumerate(held.received[channel.index].tolist()) if number >= 0]
        accepted = {route["prefix"] for route in use["routes"] if route["accepted"]}
        assert accepted == {str(prefix) for prefix in solved.prefix_classes.members(columns)}
