"""What neighbours outside the network say: sessions with them, the paths they bring, and who explains them."""

import json

from hypothesis import given
from hypothesis import settings as profile
from hypothesis import strategies as st

from routrel.analysis.check import check
from routrel.analysis.policy_view import PolicyView
from routrel.formats.network_file import read_network
from routrel.model.fields import replace
from routrel.model.observed import ObservedNeighbor
from routrel.routing.solve import Solved
from routrel.solving import solve
from tests.core.bgp_networks import NET, Net, via
from tests.core.networks import errors, hops, plain, solution_of, table, walk
from tests.core.speaker_networks import PREFIXES, speakers
from tests.core.test_bgp_contest import assert_policies_accept_what_is_held, why
from tests.core.test_contest import disagreements
from tests.examples import examples

OUTSIDE = {"as": 64600, "received": [{"prefix": NET, "as_path": [64600, 64601], "med": 5}]}


def border(more: dict | None = None, neighbor: str = "192.0.2.1") -> Net:
    """``a`` with a neighbour outside on interface ``up``, and ``b`` behind it in the same AS."""
    net = Net()
    for name in ("a", "b"):
        net.speaker(name, 64500)
    net.cable("a", "b", 1)
    net.inside("a", "b", {"next_hop_self": True}, {"next_hop_self": True})
    net.devices["a"]["interfaces"]["up"] = {"addresses": ["192.0.2.2/24", "2001:db8:9::2/64"]}
    net.bgp("a")["neighbors"][neighbor] = {**OUTSIDE, **(more or {})}
    return net


def reasons(solved: Solved) -> list[str]:
    return [one.message for one in solved.findings if one.code == "bgp-session"]


def test_a_path_comes_in_by_the_border_and_goes_on_inside():
    solved = border().solve()
    assert hops(solved, table(solved, "a")[NET]) == ["192.0.2.1@up"]
    assert hops(solved, table(solved, "b")[NET]) == ["172.16.1.1@c1"]
    assert table(solved, "a")[NET].metric == 5
    assert not reasons(solved)
    assert walk(solved, "b", "203.0.113.9").forward_verdict == "leaves"


def test_nothing_comes_in_where_the_session_cannot_be():
    for more, said in (
        ({"enabled": False}, "it is disabled here"),
        ({"local_address": "10.0.0.1"}, ""),  # it is for the neighbour to know whom it speaks with
    ):
        solved = border(more).solve()
        assert [said in one for one in reasons(solved)] == ([True] if said else [])
        assert (NET in table(solved, "b")) is not bool(said)
    net = border()
    net.devices["a"]["interfaces"]["up"]["enabled"] = False
    assert "a has no route to 192.0.2.1" in reasons(net.solve())[0]
    far = border(neighbor="198.51.100.1")
    far.devices["a"]["routing"]["static"] = [{"prefix": "198.51.100.0/24", "next_hop": "192.0.2.9"}]
    assert "needs multihop" in reasons(far.solve())[0]
    far.bgp("a")["neighbors"]["198.51.100.1"]["multihop"] = 2
    assert via(far.solve(), "b") == ["c1"]


def test_lists_on_the_way_keep_a_session_from_coming_up():
    for lists, is_up in (
        ([{"action": "drop", "protocol": "tcp", "destination_ports": [179]}, {"action": "accept"}], True),
        ([{"action": "drop", "protocol": "tcp"}, {"action": "accept"}], False),
    ):
        net = border()
        net.devices["a"]["acls"] = {"out": lists}
        net.devices["a"]["interfaces"]["up"]["acl_out"] = "out"
        solved = net.solve()
        # Where only calls to port 179 are dropped, the neighbour's own call comes in and is answered.
        assert (NET in table(solved, "a")) is is_up
        assert bool(reasons(solved)) is not is_up
    net = border()
    net.devices["a"]["acls"] = {"in": [{"action": "drop", "protocol": "tcp"}, {"action": "accept"}]}
    net.devices["a"]["interfaces"]["up"]["acl_in"] = "in"
    assert "ACL in of a drops BGP's packets" in reasons(net.solve())[0]


def test_an_own_as_in_the_path_is_a_loop_and_said():
    solved = border({"received": [{"prefix": NET, "as_path": [64600, 64500]}]}).solve()
    assert NET not in table(solved, "a")
    trails = [step["message"] for trail in why(solved, "b")["trails"] for step in trail]
    assert trails == [
        "a does not take it from the neighbor 192.0.2.1: its AS path has the own AS 64500: a loop",
    ]


def test_a_session_that_is_down_is_named_where_its_prefix_is_missed():
    net = border()
    net.devices["a"]["interfaces"]["up"]["enabled"] = False
    trails = [step["message"] for trail in why(net.solve(), "b")["trails"] for step in trail]
    assert trails == ["a has no session with 192.0.2.1, which says it: a has no route to 192.0.2.1"]


def test_a_route_server_hands_on_the_next_hops_of_others():
    """RFC 7947 section 2.2: neither its AS nor its address stands in what it hands on."""
    more = {"received": [{"prefix": NET, "as_path": [64601], "next_hop": "192.0.2.77"}]}
    solved = border(more).solve()
    assert hops(solved, table(solved, "a")[NET]) == ["192.0.2.77@up"]
    more["received"][0]["next_hop"] = "198.51.100.7"  # RFC 4271 section 6.3: not on the shared subnet
    assert NET not in table(border(more).solve(), "a")


def test_the_local_preference_of_another_as_counts_for_nothing():
    """RFC 4271 section 5.1.5."""
    path = {"prefix": NET, "as_path": [64600, 64601, 64602], "local_preference": 300}
    net = border({"received": [path]})
    net.bgp("a")["neighbors"]["192.0.2.9"] = {"as": 64700, "received": [{"prefix": NET, "as_path": [64700]}]}
    solved = net.solve()
    assert hops(solved, table(solved, "a")[NET]) == ["192.0.2.9@up"]


def test_an_internal_neighbor_outside_the_network_is_believed():
    path = {"prefix": NET, "as_path": [64601], "local_preference": 300, "next_hop": "192.0.2.9"}
    net = border({"as": 64500, "received": [path]})
    net.bgp("a")["neighbors"]["192.0.2.9"] = {"as": 64700, "received": [{"prefix": NET}]}
    solved = net.solve()
    route = table(solved, "a")[NET]
    assert (route.origin, hops(solved, route)) == ("internal", ["192.0.2.9@up"])
    # What is from inside does not go on inside.
    assert NET not in table(solved, "b")


def test_a_neighbor_of_the_network_says_what_is_computed():
    net = border()
    net.speaker("c", 64600)
    net.devices["c"]["interfaces"]["in"] = {"addresses": ["192.0.2.1/24"]}
    net.links.append(["a:up", "c:in"])
    net.bgp("c")["neighbors"]["192.0.2.2"] = {"as": 64500}
    solved = net.solve()
    assert not reasons(solved)
    assert NET not in table(solved, "a")


def test_both_families_have_next_hops_of_their_own():
    six = {"prefix": "2001:db8:5::/48", "next_hop": "2001:db8:9::1"}
    solved = border({"families": ["ipv4", "ipv6"], "received": [{"prefix": NET}, six]}).solve()
    assert hops(solved, table(solved, "a")["2001:db8:5::/48"]) == ["2001:db8:9::1@up"]
    assert NET in table(solved, "a")


def test_what_cannot_be_a_received_path_is_refused_in_place():
    text = """devices:
  a:
    interfaces: {up: {addresses: [192.0.2.2/24]}}
    routing:
      bgp:
        as: 64500
        neighbors:
          192.0.2.1: {as: 64600, received: [RECEIVED]}
"""
    for received, said in (
        ("{prefix: 10.0.0.0/8}, {prefix: 10.0.0.0/8}", "has a path for this prefix already"),
        ("{prefix: '2001:db8::/32'}", "needs a next hop of its family"),
        ("{prefix: 10.0.0.0/8, as_path: [0]}", "as_path"),
        ("{as_path: [64600]}", "prefix"),
    ):
        found = errors(text.replace("RECEIVED", received))
        assert found and found[0].startswith("network.yaml:10:"), found
        assert said in found[0] or said in text.replace("RECEIVED", received)


@st.composite
def with_stubs(draw) -> tuple[dict, dict]:
    """A random network whose routers have neighbours in ASes of their own: with these as devices, and without."""
    inside = draw(speakers())
    outside = json.loads(json.dumps(inside))
    names = sorted(inside["devices"])
    for stub in range(draw(st.integers(1, 3))):
        name, number = draw(st.sampled_from(names)), 65000 + stub
        own, far = f"172.31.{stub}.1", f"172.31.{stub}.2"
        said = draw(st.lists(st.sampled_from(PREFIXES[:4]), min_size=1, max_size=3, unique=True))
        med, times = draw(st.sampled_from([None, 0, 5])), draw(st.integers(0, 2))
        communities = draw(st.lists(st.sampled_from(["64500:1", "64501:2"]), max_size=2, unique=True))
        neighbor = {"as": number, **draw(st.sampled_from([{}, {"import": "p"}, {"import": "q"}, {"weight": 3}]))}
        for document in (inside, outside):
            device = document["devices"][name]
            device["interfaces"][f"x{stub}"] = {"addresses": [f"{own}/30"]}
            device["routing"]["bgp"]["neighbors"][far] = dict(neighbor)
        sets = {"as_path_prepend": {"as": number, "times": times}} if times else {}
        sets |= {"med": med} if med is not None else {}
        sets |= {"communities": {"add": communities}} if communities else {}
        inside["devices"][f"s{stub}"] = {
            "interfaces": {"up": {"addresses": [f"{far}/30"]}},
            "policies": {"out": [{"set": sets, "result": "accept"}]},
            "routing": {
                "router_id": far,
                "static": [{"prefix": one, "action": "discard"} for one in said],
                "bgp": {
                    "as": number,
                    "networks": said,
                    "neighbors": {own: {"as": inside["devices"][name]["routing"]["bgp"]["as"], "export": "out"}},
                },
            },
        }
        inside["links"].append([f"{name}:x{stub}", f"s{stub}:up"])
        path = {"as_path": [number] * (times + 1), "communities": communities} | (
            {"med": med} if med is not None else {}
        )
        outside["devices"][name]["routing"]["bgp"]["neighbors"][far]["received"] = [{"prefix": p, **path} for p in said]
    return inside, outside


@given(with_stubs())
@profile(max_examples=examples(40), deadline=None)
def test_a_neighbor_outside_is_heard_like_one_inside(documents):
    """The tables of everybody else are the same, and so is what explains them.

    What never settles, or hangs on who speaks first, is left out: of that only one moment is shown.
    """
    inside, outside = (solve(read_network({"n.json": json.dumps(one).encode()})) for one in documents)
    for solved in (inside, outside):
        held = solution_of(solved, "bgp").propagation
        if solved.redistribution.unsettled is not None or held.unstable.columns or held.ordered:
            return
    for name in documents[1]["devices"]:
        rows = [
            {
                prefix: (route.protocol, route.preference, route.metric, route.action, tuple(hops(solved, route)))
                for prefix, route in table(solved, name).items()
                if "172.31." not in prefix and not prefix.startswith("fe80")
            }
            for solved in (inside, outside)
        ]
        assert rows[0] == rows[1], name
    assert disagreements(outside) == []
    assert_policies_accept_what_is_held(outside)
    held = solution_of(outside, "bgp")
    assert len(held.database.outside) == len(documents[0]["devices"]) - len(documents[1]["devices"])


def test_the_policy_view_shows_what_comes_in_and_would_go_out():
    net = border({"import": "keep", "export": "tell"})
    net.policy("a", "keep", {"match": {"prefixes": [NET]}, "result": "accept"})
    net.policy("a", "tell", {"match": {"prefixes": ["198.51.100.0/24"]}, "result": "accept"})
    net.origin("b", "198.51.100.0/24")
    solved = net.solve()
    views = {name: plain(PolicyView(solved, "a", name).report())["uses"][0] for name in ("keep", "tell")}
    assert [(one["prefix"], one["accepted"]) for one in views["keep"]["routes"]] == [(NET, True)]
    # What the neighbour itself said does not go back to it.
    assert [(one["prefix"], one["accepted"]) for one in views["tell"]["routes"]] == [("198.51.100.0/24", True)]


def test_what_a_device_tells_of_the_session_is_held_against_it():
    """Neighbours outside have no routing instance to be looked for by: nobody else's is taken for theirs."""
    for is_up, said in ((True, []), (False, ["neighbour-drift"])):
        document = border().document()
        network = read_network({"n.json": json.dumps(document).encode()})
        seen = ObservedNeighbor("bgp", "established" if is_up else "idle", is_up, "192.0.2.1")
        told = replace(network.devices["a"], observed_neighbors=(seen,))
        solved = solve(replace(network, devices={**network.devices, "a": told}))
        assert [one.code for one in check(solved) if one.code == "neighbour-drift"] == said
