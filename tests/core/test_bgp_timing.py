"""BGP networks that never settle, or whose outcome hangs on who starts first or on what failed before."""

from hypothesis import HealthCheck, given, settings

from routrel.analysis.check import check
from routrel.solving import solve
from tests.core.bgp_networks import NET, Net, accept, chain_inside, codes, two_exits, via
from tests.core.networks import solution_of
from tests.core.speaker_networks import speakers
from tests.core.test_stages import read
from tests.examples import examples


def each_prefers_the_others() -> Net:
    """``far`` and ``near`` both say a network; ``mid`` prefers what ``near`` says, who prefers what ``mid`` says."""
    net = Net()
    for name, number in (("far", 64500), ("mid", 64501), ("near", 64503)):
        net.speaker(name, number, announce_unused=True)
    net.origin("far", NET)
    net.origin("near", NET)
    net.session("far", "mid")
    net.session("far", "near")
    prefers = net.policy("near", "in", accept(local_preference=150))
    net.session("mid", "near", {"weight": 10}, {"import": prefers})
    return net


def test_a_state_that_another_order_of_starts_leads_to_is_said():
    solved = each_prefers_the_others().solve()
    assert via(solved, "mid") == ["c3"]
    (finding,) = solution_of(solved, "bgp").costly_findings()
    assert finding.code == "bgp-order"
    assert finding.message == (
        f"where {NET} leads depends on timing: where routers start one after the other BGP stays with another choice on"
        " mid, near. It has several stable states"
    )
    assert (finding.device, len(finding.places)) == ("mid", 2)


def test_where_one_prefers_its_own_nothing_hangs_on_who_starts():
    net = each_prefers_the_others()
    del net.bgp("near")["neighbors"]["172.16.3.1"]["import"]
    assert solution_of(net.solve(), "bgp").costly_findings() == []
    for plain in (two_exits(), chain_inside()):
        assert solution_of(plain.solve(), "bgp").costly_findings() == []


@given(speakers())
@settings(max_examples=examples(30), deadline=None, suppress_health_check=[HealthCheck.too_slow])
def test_trying_other_orders_changes_nothing(document):
    """The state shown, and what is found of it a second time."""
    solved = solve(read(document))
    bgp = solution_of(solved, "bgp")
    held = bgp.propagation
    before = held.best.copy(), held.via.copy(), [one.copy() for one in held.received], set(held.unstable.speakers)
    found = bgp.costly_findings()
    after = held.best, held.via, held.received, held.unstable.speakers
    assert all((one == other).all() for one, other in zip(before[:2], after[:2], strict=True))
    assert all((one == other).all() for one, other in zip(before[2], after[2], strict=True))
    assert before[3] == after[3]
    assert bgp.costly_findings() == found


class TestConvergence:
    def test_three_routers_each_preferring_the_next_ones_path_never_settle(self):
        """RFC 4264's bad gadget: each prefers the way over its neighbour to its own."""
        net = Net()
        net.speaker("origin", 64500)
        net.origin("origin", NET)
        names = ("one", "two", "three")
        for number, name in enumerate(names, 1):
            net.speaker(name, 64500 + number)
            net.session("origin", name)
        for number, name in enumerate(names):
            peer = names[(number + 1) % 3]
            # The way over the next one is preferred only where that goes straight to the origin.
            liked = {
                "match": {"as_path": {"max_length": 2}},
                "set": {"local_preference": 200},
                "result": "accept",
            }
            net.session(name, peer, {"import": net.policy(name, "in", liked)}, None)
        solved = net.solve()
        finding = next(one for one in solved.findings if one.code == "bgp-unstable")
        assert all(name in finding.message for name in names)
        assert NET in finding.message

    def test_two_routers_each_preferring_the_others_path_depend_on_who_speaks_first(self):
        net = Net()
        net.speaker("origin", 64500)
        net.origin("origin", NET)
        for number, name in enumerate(("one", "two"), 1):
            net.speaker(name, 64500 + number)
            net.session("origin", name)
        liked = accept(local_preference=200)
        net.session(
            "one", "two", {"import": net.policy("one", "in", liked)}, {"import": net.policy("two", "in", liked)}
        )
        solved = net.solve()
        assert "bgp-order" in codes(solved)
        assert "bgp-unstable" not in codes(solved)
        assert sorted((via(solved, "one"), via(solved, "two"))) == [["c1"], ["c3"]] or sorted(
            (via(solved, "one"), via(solved, "two"))
        ) == [["c2"], ["c3"]]

    def test_a_backup_by_community_does_not_go_back_by_itself(self):
        """RFC 4264 section 3: all started at once, traffic stays with the backup until its session fails."""
        net = Net()
        for name, number in (("customer", 64501), ("backup", 64502), ("upper", 64503), ("primary", 64504)):
            net.speaker(name, number)
        net.origin("customer", NET)
        mark = net.policy("customer", "spare", accept(communities={"add": ["64502:50"]}))
        low = net.policy(
            "backup",
            "in",
            {"match": {"communities": "64502:50"}, "set": {"local_preference": 50}, "result": "accept"},
            accept(),
        )
        net.session("customer", "backup", {"export": mark}, {"import": low})
        net.session("customer", "primary")
        # ``upper`` prefers its customer ``backup`` over its peer; ``backup`` hears the primary by way of it.
        likes = net.policy("upper", "customers", accept(local_preference=200))
        net.session("backup", "upper", None, {"import": likes})
        net.session("upper", "primary")
        solved = net.solve()
        assert via(solved, "backup") == ["c1"]
        assert "bgp-order" not in codes(solved)
        (finding,) = solution_of(solved, "bgp").costly_findings()
        assert "customer and backup" in finding.message
        assert finding in check(solved)

    def test_med_with_reflection_never_settles(self):
        """RFC 3345 section 2.1: two clusters, three exits, MEDs of one neighbouring AS."""
        net = Net()
        for name in ("ra", "rb", "rc", "rd", "re"):
            net.speaker(name, 64500)
        client = {"route_reflector_client": True}
        # Cluster 1: reflector A with clients B and C; cluster 2: reflector D with client E.
        net.cable("ra", "rb", 5)
        net.cable("ra", "rc", 4)
        net.cable("ra", "rd", 1)
        net.cable("rd", "re", 12)
        own = {"next_hop_self": True}
        net.inside("ra", "rb", client, own)
        net.inside("ra", "rc", client, own)
        net.inside("ra", "rd")
        net.inside("rd", "re", client, own)
        # One AS over B, which is further off than C; another over C with MED 1 and over E with MED 0.
        for name, number, inner, med in (("x", 64506, "rb", 0), ("y", 64510, "rc", 1), ("z", 64510, "re", 0)):
            net.speaker(name, number)
            net.origin(name, NET)
            net.session(name, inner, {"export": net.policy(name, "out", accept(med=med))})
        finding = next(one for one in net.solve().findings if one.code == "bgp-unstable")
        assert "ra" in finding.message
        assert "rd" in finding.message
