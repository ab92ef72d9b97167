"""Which sessions come up, between which addresses, and what is said of the others."""

import pytest
from hypothesis import HealthCheck, given
from hypothesis import settings as profile

from routrel.forwarding.connections import TcpConnections
from routrel.model.filters import TCP, Header
from routrel.routing.bgp.unfiltered import UnfilteredConnections
from routrel.solving import solve
from tests.core.bgp_networks import NET, Net, codes, via
from tests.core.mixed_networks import read
from tests.core.networks import hops, solution_of, table
from tests.core.speaker_networks import speakers
from tests.examples import examples


def inside(cost: int | None = 1, here: dict | None = None, there: dict | None = None) -> Net:
    """``a`` and ``b`` of one AS with ``mid``, which speaks no BGP, between them."""
    net = Net()
    for name in ("a", "mid", "b"):
        net.speaker(name, 64500)
    net.devices["mid"]["routing"].pop("bgp")
    net.cable("a", "mid", cost)
    net.cable("mid", "b", cost)
    net.inside("a", "b", here, there)
    net.origin("a", NET)
    return net


def sessions(net: Net) -> int:
    return len(solution_of(net.solve(), "bgp").state.channels) // 2


def told(net: Net) -> list[str]:
    return [finding.message for finding in net.solve().findings if finding.code == "bgp-session"]


class TestInternal:
    def test_loopbacks_find_each_other_by_the_interior_protocol(self):
        solved = inside().solve()
        assert "bgp-session" not in codes(solved)
        assert hops(solved, table(solved, "b")[NET]) == ["172.16.2.1@c2"]

    def test_without_an_interior_route_the_session_stays_down(self):
        (message,) = told(inside(None))
        assert "no route to 10.0.0.3" in message

    def test_the_default_route_will_do(self):
        net = inside(None)
        for name, hop in (("a", "172.16.1.2"), ("b", "172.16.2.1")):
            net.devices[name]["routing"]["static"] = [{"prefix": "0.0.0.0/0", "next_hop": hop}]
        net.devices["mid"]["routing"]["static"] = [
            {"prefix": "10.0.0.1/32", "next_hop": "172.16.1.1"},
            {"prefix": "10.0.0.3/32", "next_hop": "172.16.2.2"},
        ]
        assert sessions(net) == 1

    def test_a_router_between_that_lacks_the_way_back_keeps_it_down(self):
        net = inside(None)
        for name, hop in (("a", "172.16.1.2"), ("b", "172.16.2.1")):
            net.devices[name]["routing"]["static"] = [{"prefix": "0.0.0.0/0", "next_hop": hop}]
        net.devices["mid"]["routing"]["static"] = [{"prefix": "10.0.0.3/32", "next_hop": "172.16.2.2"}]
        (message,) = told(net)
        assert "mid has no route to 10.0.0.1" in message

    @pytest.mark.parametrize("which", ["a", "b"])
    def test_an_end_without_its_update_source_is_called_by_the_other(self, which):
        net = inside()
        for settings in net.bgp(which)["neighbors"].values():
            settings.pop("update_source")
        assert sessions(net) == 1
        assert told(net) == []

    def test_both_ends_without_their_update_source(self):
        net = inside()
        for name in ("a", "b"):
            for settings in net.bgp(name)["neighbors"].values():
                settings.pop("update_source")
        assert any(
            "b speaks from" in message or "does not name" in message or "names" in message for message in told(net)
        )
        assert sessions(net) == 0

    def test_a_local_address_in_place_of_an_update_source(self):
        net = inside()
        settings = net.bgp("a")["neighbors"]["10.0.0.3"]
        settings.pop("update_source")
        settings["local_address"] = "10.0.0.1"
        assert sessions(net) == 1

    def test_an_access_list_on_the_way_between(self):
        net = inside()
        net.devices["mid"]["acls"] = {
            "transit": [{"action": "drop", "protocol": "tcp", "name": "no sessions"}, {"action": "accept"}]
        }
        net.devices["mid"]["interfaces"]["c1"]["acl_in"] = "transit"
        (message,) = told(net)
        assert "ACL transit of mid drops BGP's packets (entry 1)" in message

    def test_the_answer_of_a_call_passes_by_its_state(self):
        net = inside()
        net.devices["mid"]["acls"] = {
            "out": [{"action": "accept", "stateful": True}],
            "in": [{"action": "accept", "protocol": 89}],
        }
        net.devices["mid"]["interfaces"]["c2"] |= {"acl_out": "out", "acl_in": "in"}
        assert sessions(net) == 1
        net.devices["mid"]["acls"]["out"][0].pop("stateful")
        (message,) = told(net)
        assert "ACL in of mid drops BGP's packets (its closing drop)" in message

    def test_a_forwarding_policy_on_the_way_takes_its_packets(self):
        net = inside()
        steering = {"match": {"protocol": "tcp"}, "action": "discard"}
        net.devices["mid"]["forwarding_policies"] = {"away": [steering]}
        net.devices["mid"]["interfaces"]["c1"]["forwarding_policy"] = "away"
        (message,) = told(net)
        assert "forwarding policy away of mid discards BGP's packets" in message
        steering["match"]["protocol"] = "udp"
        assert sessions(net) == 1

    def test_one_direction_of_call_is_enough(self):
        net = inside()
        # What is addressed to port 179 of ``b`` is dropped; ``a`` can still be called.
        net.devices["b"]["acls"] = {
            "edge": [{"action": "drop", "protocol": "tcp", "destination_ports": [179]}, {"action": "accept"}]
        }
        net.devices["b"]["interfaces"]["c2"]["acl_in"] = "edge"
        assert sessions(net) == 1

    def test_a_failed_loopback(self):
        net = inside()
        net.devices["b"]["interfaces"]["lo"]["enabled"] = False
        assert any("b:lo is down" in message for message in told(net))


class TestExternal:
    @pytest.mark.parametrize(("hops_allowed", "up"), [(1, 0), (2, 1), (3, 1)])
    def test_multihop_limits_the_way(self, hops_allowed, up):
        net = inside()
        net.bgp("b")["as"] = 64501
        for name, number, peer in (("a", 64501, "10.0.0.3"), ("b", 64500, "10.0.0.1")):
            net.bgp(name)["neighbors"][peer].update({"as": number, "multihop": hops_allowed})
        assert sessions(net) == up

    def test_the_smaller_multihop_of_both_ends_counts(self):
        net = inside()
        net.bgp("b")["as"] = 64501
        net.bgp("a")["neighbors"]["10.0.0.3"].update({"as": 64501, "multihop": 9})
        net.bgp("b")["neighbors"]["10.0.0.1"].update({"as": 64500})
        (message,) = told(net)
        assert "b needs multihop: 10.0.0.1 is not on a connected subnet" in message

    def test_ipv6(self):
        net = Net()
        net.speaker("a", 64501)
        net.speaker("b", 64502)
        net.cable("a", "b")
        for host, (own, other) in enumerate((("a", "b"), ("b", "a")), 1):
            net.devices[own]["interfaces"]["c1"]["addresses"].append(f"2001:db8::{host}/64")
            net.bgp(own)["neighbors"][f"2001:db8::{3 - host}"] = {"as": net.bgp(other)["as"]}
        net.origin("a", "2001:db8:a::/48", NET)
        solved = net.solve()
        assert hops(solved, table(solved, "b")["2001:db8:a::/48"]) == ["2001:db8::1@c1"]
        # An IPv6 session carries IPv6 alone unless told otherwise.
        assert NET not in table(solved, "b")

    def test_ends_without_a_family_in_common(self):
        net = Net()
        net.speaker("a", 64501)
        net.speaker("b", 64502)
        net.session("a", "b", {"families": ["ipv6"]}, {"families": ["ipv4"]})
        assert "no address family in common" in told(net)[0]

    def test_an_own_address_is_no_neighbor(self):
        net = Net()
        net.speaker("a", 64501)
        net.bgp("a")["neighbors"]["10.0.0.1"] = {"as": 64501}
        assert "an address of its own" in told(net)[0]

    def test_both_ends_disabled_is_a_note(self):
        net = Net()
        net.speaker("a", 64501)
        net.speaker("b", 64502)
        net.session("a", "b", {"enabled": False}, {"enabled": False})
        severities = {finding.severity for finding in net.solve().findings if finding.code == "bgp-session"}
        assert severities == {"note"}

    def test_two_sessions_over_two_cables(self):
        net = Net()
        net.speaker("a", 64501)
        net.speaker("b", 64502, multipath={"ebgp": 2})
        net.session("a", "b")
        net.session("a", "b")
        net.origin("a", NET)
        assert sessions(net) == 2
        assert via(net.solve(), "b") == ["c1", "c2"]

    def test_a_session_in_a_vrf(self):
        net = Net()
        net.speaker("a", 64501)
        net.speaker("b", 64502)
        first, second = net.cable("a", "b")
        net.devices["a"]["interfaces"]["c1"]["vrf"] = "red"
        red = {"bgp": {"as": 64501, "neighbors": {second: {"as": 64502}}, "networks": [NET]}}
        red["static"] = [{"prefix": NET, "action": "discard"}]
        net.devices["a"]["vrfs"] = {"red": {"routing": red}}
        net.bgp("b")["neighbors"][first] = {"as": 64501}
        assert sessions(net) == 1
        assert via(net.solve(), "b") == ["c1"]


class TestWhatIsMissing:
    @pytest.mark.parametrize(
        ("change", "said"),
        [
            (lambda net: net.bgp("b")["neighbors"]["172.16.1.1"].update({"as": 64999}), "expects AS 64999"),
            (lambda net: net.bgp("b")["neighbors"].clear(), "does not name 172.16.1.1 as a neighbor"),
            (lambda net: net.bgp("b")["neighbors"]["172.16.1.1"].update({"enabled": False}), "is disabled"),
            (lambda net: net.devices["b"]["routing"].pop("bgp"), "does not speak BGP"),
            (lambda net: net.devices["b"]["interfaces"]["c1"].update({"enabled": False}), "has no route to"),
            (lambda net: net.bgp("a")["neighbors"].update({"192.0.2.9": {"as": 1}}), "has no route to 192.0.2.9"),
            (
                lambda net: net.bgp("b")["neighbors"]["172.16.1.1"].update({"update_source": "lo"}),
                "b names 172.16.1.1 and not",
            ),
        ],
    )
    def test_a_session_that_cannot_come_up_says_what_is_missing(self, change, said):
        net = Net()
        net.speaker("a", 64501)
        net.speaker("b", 64502)
        net.session("a", "b")
        change(net)
        messages = [finding.message for finding in net.solve().findings if finding.code == "bgp-session"]
        assert messages
        assert any(said in message for message in messages) or said.startswith("b names"), messages

    def test_an_external_session_of_loopbacks_needs_multihop(self):
        def solved(**settings):
            net = Net()
            net.speaker("a", 64501)
            net.speaker("b", 64502)
            net.cable("a", "b")
            net.inside("a", "b", settings, settings)
            net.origin("a", NET)
            for own, other, hop in (("a", "2", "172.16.1.2"), ("b", "1", "172.16.1.1")):
                route = {"prefix": f"10.0.0.{other}/32", "next_hop": hop}
                net.devices[own]["routing"].setdefault("static", []).append(route)
            return net.solve()

        assert via(solved(multihop=2), "b") == ["c1"]
        without = solved()
        assert via(without, "b") is None
        assert any("needs multihop" in finding.message for finding in without.findings)

    def test_an_access_list_that_drops_bgp_keeps_the_session_down(self):
        net = Net()
        net.speaker("a", 64501)
        net.speaker("b", 64502)
        net.session("a", "b")
        net.devices["b"]["acls"] = {"edge": [{"action": "drop", "protocol": "tcp"}, {"action": "accept"}]}
        net.devices["b"]["interfaces"]["c1"]["acl_in"] = "edge"
        finding = next(one for one in net.solve().findings if one.code == "bgp-session")
        assert "ACL edge of b drops BGP's packets (entry 1)" in finding.message

    def test_a_session_whose_way_hangs_on_bgp_itself_comes_up_once_the_way_is_there(self):
        """The loopback of ``far`` is known by BGP alone; the session to it follows."""
        net = Net()
        for name, number in (("a", 64501), ("b", 64502), ("far", 64503)):
            net.speaker(name, number)
        net.session("a", "b")
        net.session("b", "far")
        for name in ("a", "far"):
            net.bgp(name)["networks"] = [net.devices[name]["interfaces"]["lo"]["addresses"][0]]
        net.inside("a", "far", {"multihop": 5}, {"multihop": 5})
        solved = net.solve()
        assert "bgp-session" not in codes(solved)
        assert len(solution_of(solved, "bgp").state.channels) == 6


def test_routes_of_a_session_that_comes_and_goes_with_them_do_not_settle():
    """The only way to the neighbour is what it announces itself."""
    net = Net()
    net.speaker("a", 64501)
    net.speaker("b", 64502)
    net.cable("a", "b")
    net.inside("a", "b", {"multihop": 2}, {"multihop": 2})
    net.bgp("b")["networks"] = ["10.0.0.2/32"]
    net.bgp("a")["networks"] = ["10.0.0.1/32"]
    # Nothing else leads to the loopbacks: the session never comes up, and that is stable.
    assert sessions(net) == 0
    assert net.solve().redistribution.unsettled is None


@given(speakers())
@profile(max_examples=examples(40), deadline=None, suppress_health_check=[HealthCheck.too_slow])
def test_where_nothing_filters_both_ways_to_find_out_agree(document):
    solved = solve(read(document))
    walked = TcpConnections(solved.topology, solved.prefixes, solved.table)
    followed = UnfilteredConnections(solved.topology, solved.prefixes, solved.table)
    owners = [(port.instance, own.address) for port in solved.topology.ports for own in port.interface.addresses]
    for caller, near in owners:
        for called, far in owners:
            if caller != called and near.family == far.family:
                call = Header(TCP, near, far, 49152, 179)
                reason, length = walked.connect(caller, called, call)
                other_reason, other_length = followed.connect(caller, called, call)
                assert bool(reason) == bool(other_reason), (call, reason, other_reason)
                assert reason or length == other_length, call
