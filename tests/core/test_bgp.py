"""BGP by small networks: each rule of the standards once."""

import pytest

from tests.core.bgp_networks import NET, Net, accept, chain_inside, exits_inside, two_exits, via, with_import
from tests.core.networks import hops, solution_of, table


class TestDecision:
    """RFC 4271 section 9.1 and the order of the network file's page: each step alone decides."""

    def test_all_equal_the_lowest_router_id_wins(self):
        assert via(two_exits().solve(), "me") == ["c1"]

    def test_the_highest_weight(self):
        assert via(two_exits(there={"weight": 10}).solve(), "me") == ["c2"]

    def test_weight_before_local_preference(self):
        net = with_import(two_exits(there={"weight": 10}), 1, local_preference=500)
        assert via(net.solve(), "me") == ["c2"]

    def test_the_highest_local_preference(self):
        assert via(with_import(two_exits(), 2, local_preference=101).solve(), "me") == ["c2"]

    def test_local_preference_before_as_path(self):
        net = with_import(two_exits(), 2, local_preference=101, as_path_prepend={"as": 64502, "times": 5})
        assert via(net.solve(), "me") == ["c2"]

    def test_what_the_router_says_itself(self):
        net = with_import(two_exits(), 1, as_path_prepend={"as": 64501})
        net.speaker("far", 64509)
        net.session("me", "far")
        net.origin("me", NET)
        solved = net.solve()
        assert table(solved, "me")[NET].protocol == "static"
        assert via(solved, "far") == ["c3"]

    def test_the_shortest_as_path(self):
        assert via(with_import(two_exits(), 1, as_path_prepend={"as": 64501}).solve(), "me") == ["c2"]

    def test_the_as_path_ignored_on_request(self):
        net = with_import(two_exits(decision={"ignore_as_path_length": True}), 1, as_path_prepend={"as": 64501})
        assert via(net.solve(), "me") == ["c1"]

    @pytest.mark.parametrize(("first", "second", "exit"), [("egp", "igp", "c2"), ("egp", "incomplete", "c1")])
    def test_the_lowest_origin(self, first, second, exit):
        net = with_import(with_import(two_exits(), 1, origin=first), 2, origin=second)
        assert via(net.solve(), "me") == [exit]

    def test_med_of_different_neighbors_is_not_compared(self):
        net = with_import(with_import(two_exits(), 1, med=10), 2, med=5)
        assert via(net.solve(), "me") == ["c1"]

    def test_med_of_different_neighbors_compared_on_request(self):
        net = with_import(with_import(two_exits(decision={"compare_med_between_as": True}), 1, med=10), 2, med=5)
        assert via(net.solve(), "me") == ["c2"]

    @pytest.mark.parametrize(("missing", "exit"), [("best", "c1"), ("worst", "c2")])
    def test_a_missing_med(self, missing, exit):
        net = two_exits(decision={"compare_med_between_as": True, "missing_med": missing})
        assert via(with_import(net, 2, med=5).solve(), "me") == [exit]

    def test_med_of_one_neighboring_as(self):
        net = Net()
        net.speaker("me", 64500)
        for name, med in (("a", 10), ("b", 5)):
            net.speaker(name, 64501)
            net.origin(name, NET)
            export = net.policy(name, "out", accept(med=med))
            net.session("me", name, None, {"export": export})
        assert via(net.solve(), "me") == ["c2"]

    def test_external_over_internal(self):
        solved = exits_inside(5, 1).solve()
        assert via(solved, "left") == ["c3"]
        assert via(solved, "right") == ["c4"]

    @pytest.mark.parametrize(("left", "right", "exit"), [(5, 1, "c2"), (1, 5, "c1")])
    def test_the_lowest_metric_to_the_next_hop(self, left, right, exit):
        """The nearest exit (section 9.1.2.2 e)."""
        assert via(exits_inside(left, right).solve(), "core") == [exit]

    def test_the_oldest_on_request(self):
        ages = [{"established_at": "2026-11-20T06:00:00Z"}, {"established_at": "2026-11-19T06:00:00Z"}]
        assert via(two_exits(*ages).solve(), "me") == ["c1"]
        assert via(two_exits(*ages, decision={"prefer_oldest": True}).solve(), "me") == ["c2"]

    def test_the_lowest_neighbor_address(self):
        net = Net()
        net.speaker("me", 64500)
        net.speaker("a", 64501)
        net.origin("a", NET)
        net.session("a", "me")
        net.session("me", "a")
        # c1: 172.16.1.1 at a; c2: 172.16.2.2 at a.
        assert via(net.solve(), "me") == ["c1"]

    def test_without_deterministic_med_the_order_of_arrival_decides(self):
        """Three paths of which the MED of two matters: pair by pair, the youngest first (RFC 4451 section 3.1)."""

        def exit_of(deterministic: bool, ages: tuple[int, int, int]) -> list[str] | None:
            net = Net()
            net.speaker("me", 64500, decision={"deterministic_med": deterministic})
            for name, number, med, age in zip("abc", (64501, 64502, 64501), (10, 0, 5), ages, strict=True):
                net.speaker(name, number)
                net.origin(name, NET)
                export = net.policy(name, "out", accept(med=med))
                established = {"established_at": f"2026-11-{age:02}T06:00:00Z"}
                net.session("me", name, established, {"export": export})
            return via(net.solve(), "me")

        # With it: c beats a by MED, b beats c by router id.
        assert exit_of(True, (1, 2, 3)) == exit_of(True, (3, 2, 1)) == ["c2"]
        # c, then b, then a: b beats c, a beats b by its router id, whatever c's MED.
        assert exit_of(False, (1, 2, 3)) == ["c1"]
        # a, then c, then b: c beats a, b beats c.
        assert exit_of(False, (3, 1, 2)) == ["c2"]


class TestPropagation:
    """RFC 4271 sections 5.1 and 9.2."""

    def test_an_as_path_with_the_own_as_is_dropped_unless_allowed(self):
        def reached(**settings):
            net = Net()
            net.speaker("one", 64500)
            net.speaker("transit", 64501)
            net.speaker("two", 64500)
            net.origin("one", NET)
            net.session("one", "transit")
            net.session("transit", "two", None, settings)
            return via(net.solve(), "two")

        assert reached() is None
        assert reached(allow_own_as=1) == ["c2"]

    def test_private_as_numbers_are_removed(self):
        def path_length(**settings):
            net = Net()
            for name, number in (("one", 64512), ("two", 65000), ("three", 64500), ("four", 64496)):
                net.speaker(name, number)
            net.origin("one", NET)
            net.session("one", "two")
            net.session("two", "three")
            net.session("three", "four", settings)
            solved = net.solve()
            held = solution_of(solved, "bgp").propagation
            row = solution_of(solved, "bgp").paths.rows[
                held.best[3, solved.prefix_classes.column_of(table(solved, "four")[NET].prefix)]
            ]
            return solution_of(solved, "bgp").paths.as_paths.values[row[0]]

        assert path_length() == (64500, 65000, 64512)
        assert path_length(remove_private_as=True) == (64500,)

    def test_a_med_does_not_go_on_to_another_as(self):
        """Section 5.1.4."""
        net = Net()
        for name, number in (("one", 64501), ("two", 64502), ("three", 64503)):
            net.speaker(name, number)
        net.origin("one", NET)
        net.session("one", "two", {"export": net.policy("one", "out", accept(med=7))})
        net.session("two", "three")
        solved = net.solve()
        assert table(solved, "two")[NET].metric == 7
        assert table(solved, "three")[NET].metric == 0

    def test_internal_paths_do_not_go_to_internal_neighbors(self):
        """Section 9.2: without a full mesh ``far`` hears nothing."""
        assert via(chain_inside().solve(), "far") is None

    def test_a_next_hop_that_nobody_inside_knows_does_not_resolve(self):
        """Section 9.1.2: ``next_hop_self`` or the outer subnet in the interior protocol mends it."""
        net = exits_inside(1, 1)
        net.bgp("left")["neighbors"]["10.0.0.1"].pop("next_hop_self")
        net.bgp("right")["neighbors"]["10.0.0.1"].pop("next_hop_self")
        assert via(net.solve(), "core") is None

    def test_a_next_hop_never_resolves_through_its_own_path(self):
        net = Net()
        net.speaker("me", 64500)
        net.speaker("a", 64501)
        net.origin("a", "10.9.0.0/16")
        net.session("me", "a", {"import": net.policy("me", "in", accept(next_hop="10.9.9.9"))})
        assert via(net.solve(), "me", "10.9.0.0/16") is None

    def test_a_next_hop_resolves_through_another_bgp_route(self):
        net = Net()
        net.speaker("me", 64500)
        net.speaker("a", 64501)
        net.origin("a", NET, "10.9.0.0/16")
        change = {"match": {"prefixes": [NET]}, "set": {"next_hop": "10.9.9.9"}, "result": "accept"}
        net.session("me", "a", {"import": net.policy("me", "in", change, accept())})
        solved = net.solve()
        assert hops(solved, table(solved, "me")[NET]) == ["172.16.1.2@c1"]

    def test_what_the_table_does_not_use_is_not_announced(self):
        net = Net()
        for name, number in (("one", 64501), ("two", 64502), ("three", 64503)):
            net.speaker(name, number)
        net.origin("one", NET)
        net.session("one", "two")
        net.session("two", "three")
        net.devices["two"]["routing"]["static"] = [{"prefix": NET, "action": "discard"}]
        assert via(net.solve(), "three") is None
        net.bgp("two")["announce_unused"] = True
        assert via(net.solve(), "three") == ["c2"]

    @pytest.mark.parametrize(
        ("community", "inside", "outside"), [("no-export", ["c2"], None), ("no-advertise", None, None)]
    )
    def test_well_known_communities(self, community, inside, outside):
        """RFC 1997."""
        net = Net()
        for name, number in (("origin", 64501), ("border", 64500), ("core", 64500), ("other", 64502)):
            net.speaker(name, number)
        net.origin("origin", NET)
        net.session(
            "origin", "border", {"export": net.policy("origin", "out", accept(communities={"add": [community]}))}
        )
        net.cable("border", "core", 1)
        net.inside("border", "core", {"next_hop_self": True})
        net.session("border", "other")
        solved = net.solve()
        assert via(solved, "core") == inside
        assert via(solved, "other") == outside

    def test_a_shared_subnet_keeps_the_third_partys_next_hop(self):
        """Section 5.1.3: between external neighbors on one subnet."""
        net = Net()
        for host, (name, number) in enumerate((("a", 64501), ("b", 64502), ("c", 64503)), 1):
            net.speaker(name, number)["interfaces"]["lan"] = {"addresses": [f"192.168.0.{host}/24"]}
        net.links.append(["a:lan", "b:lan", "c:lan"])
        for one, other in (("a", "b"), ("b", "c")):
            for own, peer in ((one, other), (other, one)):
                address = f"192.168.0.{'abc'.index(peer) + 1}"
                net.bgp(own)["neighbors"][address] = {"as": net.bgp(peer)["as"]}
        net.origin("a", NET)
        solved = net.solve()
        assert hops(solved, table(solved, "c")[NET]) == ["192.168.0.1@lan"]

    def test_a_default_for_one_neighbor(self):
        net = Net()
        net.speaker("one", 64501)
        net.speaker("two", 64502)
        net.speaker("three", 64503)
        net.session("one", "two", {"originate_default": True})
        net.session("one", "three")
        solved = net.solve()
        assert via(solved, "two", "0.0.0.0/0") == ["c1"]
        assert via(solved, "three", "0.0.0.0/0") is None

    def test_policies_required(self):
        """RFC 8212: without them nothing goes over an external session."""
        assert via(two_exits(require_policies=True).solve(), "me") is None
        assert via(with_import(two_exits(require_policies=True), 2).solve(), "me") == ["c2"]

    def test_what_no_statement_accepts_is_rejected(self):
        """RFC 9067: the closing reject of a policy written for one prefix."""
        net = two_exits()
        net.bgp("me")["neighbors"]["172.16.1.2"]["import"] = net.policy(
            "me", "in", {"match": {"prefixes": ["192.0.2.0/24"]}, "result": "accept"}
        )
        assert via(net.solve(), "me") == ["c2"]

    def test_multipath_takes_equal_external_paths(self):
        assert via(two_exits(multipath={"ebgp": 2}).solve(), "me") == ["c1", "c2"]
        longer = with_import(two_exits(multipath={"ebgp": 2}), 2, as_path_prepend={"as": 64502})
        assert via(longer.solve(), "me") == ["c1"]

    def test_multipath_takes_equal_internal_paths(self):
        net = exits_inside(1, 1)
        net.bgp("core")["multipath"] = {"ibgp": 2}
        assert via(net.solve(), "core") == ["c1", "c2"]

    def test_ipv6_over_an_ipv4_session(self):
        """RFC 4760: the next hop is an IPv6 address of the interface spoken from."""
        net = Net()
        net.speaker("one", 64501)
        net.speaker("two", 64502)
        families = {"families": ["ipv4", "ipv6"]}
        net.session("one", "two", families, families)
        net.devices["one"]["interfaces"]["c1"]["addresses"].append("2001:db8::1/64")
        net.devices["two"]["interfaces"]["c1"]["addresses"].append("2001:db8::2/64")
        net.origin("one", "2001:db8:f::/48")
        solved = net.solve()
        assert hops(solved, table(solved, "two")["2001:db8:f::/48"]) == ["2001:db8::1@c1"]


class TestReflection:
    """RFC 4456 sections 6, 8 and 9."""

    def test_a_clients_path_goes_to_all(self):
        assert via(chain_inside(route_reflector_client=True).solve(), "far") == ["c2"]

    def test_anothers_path_goes_to_clients(self):
        net = chain_inside()
        net.bgp("mid")["neighbors"]["10.0.0.3"]["route_reflector_client"] = True
        assert via(net.solve(), "far") == ["c2"]

    def test_the_originators_router_id_and_the_shorter_cluster_list_decide(self):
        """Section 9: by ``r1`` and by ``r2`` over ``r3`` comes the same path; fewer clusters win."""
        net = Net()
        for name in ("near", "r3", "r2", "r1", "far"):
            net.speaker(name, 64500)
        for one, other in (("near", "r3"), ("near", "r1"), ("r3", "r2"), ("r2", "far"), ("r1", "far")):
            net.cable(one, other, 1)
        client = {"route_reflector_client": True}
        net.inside("near", "r3", {"next_hop_self": True}, client)
        net.inside("near", "r1", {"next_hop_self": True}, client)
        net.inside("r3", "r2", client, client)
        net.inside("r2", "far", client)
        net.inside("r1", "far", client)
        net.speaker("outside", 64501)
        net.origin("outside", NET)
        net.session("near", "outside")
        solved = net.solve()
        held = solution_of(solved, "bgp").propagation
        column = solved.prefix_classes.column_of(table(solved, "far")[NET].prefix)
        chosen = held.channels[held.via[4, column]]
        assert (
            solution_of(solved, "bgp").database.speakers[chosen.sender].identifier & 0xFF == 4
        )  # r1, not r2 of the lower id

    def test_a_reflected_path_does_not_come_back(self):
        """Section 8: two reflectors of one cluster drop what the other reflected."""
        net = Net()
        for name in ("client", "one", "two"):
            net.speaker(name, 64500)
        for one, other in (("client", "one"), ("client", "two"), ("one", "two")):
            net.cable(one, other, 1)
        for name in ("one", "two"):
            net.bgp(name)["cluster_id"] = "10.9.9.9"
            net.inside(name, "client", {"route_reflector_client": True})
        net.inside("one", "two")
        net.origin("client", NET)
        solved = net.solve()
        column = solved.prefix_classes.column_of(table(solved, "one")[NET].prefix)
        held = solution_of(solved, "bgp").propagation
        senders = [
            solution_of(solved, "bgp").database.speakers[channel.sender].identifier & 0xFF
            for channel in held.inward[1]
            if held.received[channel.index][column] >= 0
        ]
        assert senders == [1]


class TestOrigination:
    def test_a_network_is_said_while_the_table_has_it(self):
        net = two_exits()
        net.devices["a"]["routing"]["static"] = []
        assert via(net.solve(), "me") == ["c2"]

    def test_an_aggregate_stands_while_something_inside_it_does(self):
        """RFC 4271 section 9.2.2.2."""

        def far(summary_only, *inside):
            net = Net()
            for name, number in (("one", 64501), ("two", 64502), ("three", 64503)):
                net.speaker(name, number)
            net.origin("one", *inside)
            net.session("one", "two")
            net.session("two", "three")
            net.bgp("two")["aggregates"] = [{"prefix": "203.0.112.0/22", "summary_only": summary_only}]
            solved = net.solve()
            return solved, {p for p, route in table(solved, "three").items() if route.protocol == "bgp"}

        solved, heard = far(False, NET)
        assert heard == {"203.0.112.0/22", NET}
        assert table(solved, "two")["203.0.112.0/22"].action == "discard"
        assert far(True, NET)[1] == {"203.0.112.0/22"}
        assert far(True, "192.0.2.0/24")[1] == {"192.0.2.0/24"}

    def test_redistribution_into_bgp_and_out(self):
        net = Net()
        net.speaker("one", 64501)
        net.speaker("two", 64502)
        net.speaker("inner", 64502)
        net.devices["inner"]["routing"].pop("bgp")
        net.devices["one"]["routing"]["static"] = [{"prefix": NET, "action": "discard", "tag": 5}]
        policy = net.policy("one", "tagged", {"match": {"tag": 5}, "set": {"med": 9}, "result": "accept"})
        net.bgp("one")["redistribute"] = [{"from": "static", "policy": policy}]
        net.session("one", "two")
        net.cable("two", "inner", 1)
        out = net.policy(
            "two", "nine", {"match": {"med": 9, "as_path": "^64501$"}, "set": {"tag": 3}, "result": "accept"}
        )
        net.devices["two"]["routing"]["ospf"]["redistribute"] = [{"from": "bgp", "policy": out}]
        solved = net.solve()
        assert table(solved, "two")[NET].metric == 9
        assert (table(solved, "inner")[NET].protocol, table(solved, "inner")[NET].tag) == ("ospf", 3)
