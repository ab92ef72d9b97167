"""What a policy does to every route that meets it, and where each site's traffic leaves."""

from pathlib import Path

import pytest

from routrel.analysis.policy_view import PolicyView, all_policies, policy_lines
from routrel.analysis.routes_to import routes_to
from routrel.cli import main
from routrel.formats.sources import read_path
from routrel.model.addresses import Address
from routrel.solving import solve
from tests.core.bgp_networks import NET, Net, accept, two_exits
from tests.core.networks import load, plain, router

EXAMPLE = Path(__file__).parents[2] / "examples" / "saltmarsh"


def report(net: Net, device: str, policy: str) -> dict:
    return plain(PolicyView(net.solve(), device, policy).report())


def rows(use: dict) -> dict[str, tuple]:
    return {
        route["prefix"]: (
            route["accepted"],
            route["statement"],
            [(one["name"], one["before"], one["after"]) for one in route["changes"]],
        )
        for route in use["routes"]
    }


def importing(*statements: dict) -> Net:
    net = two_exits()
    net.origin("a", NET, "192.0.2.0/24")
    net.bgp("me")["neighbors"]["172.16.1.2"]["import"] = net.policy("me", "in", *statements)
    return net


class TestUses:
    def test_an_import_policy_and_its_closing_reject(self):
        change = {"match": {"prefixes": [NET]}, "set": {"local_preference": 150, "med": 4}, "result": "accept"}
        (use,) = report(importing(change), "me", "in")["uses"]
        assert use["what"] == "import from neighbor 172.16.1.2"
        assert rows(use) == {
            NET: (True, 1, [("MED", None, "4"), ("local preference", "100", "150")]),
            "192.0.2.0/24": (False, None, []),
        }
        assert (use["total"], use["accepted"], use["changed"], use["closing"]) == (2, 1, 1, 1)

    def test_a_statement_that_never_matches(self):
        net = importing({"match": {"med": 99}, "result": "reject"}, accept())
        found = PolicyView(net.solve(), "me", "in").report()
        assert [one.matched for one in found.statements] == [0, 2]
        assert "statement 1, reject: 0 routes: never matches" in "\n".join(policy_lines(found))

    def test_statements_that_go_on_are_counted_too(self):
        going_on = {"set": {"communities": {"add": ["64500:1"]}}, "result": "continue"}
        found = report(importing(going_on, accept(as_path_prepend={"as": 64501})), "me", "in")
        assert [one["matched"] for one in found["statements"]] == [2, 2]
        assert rows(found["uses"][0])[NET][2] == [
            ("AS path", "64501", "64501 64501"),
            ("communities", None, "64500:1"),
        ]

    def test_an_export_policy(self):
        net = two_exits()
        net.bgp("a")["neighbors"]["172.16.1.1"]["export"] = net.policy("a", "out", accept(origin="egp"))
        (use,) = report(net, "a", "out")["uses"]
        # Its own path, not the one that ``me`` prefers no other to.
        assert rows(use) == {NET: (True, 1, [("origin", "igp", "egp")])}

    def test_what_is_not_sent_is_no_change(self):
        net = two_exits()
        sets = accept(local_preference=150, weight=5, tag=3, origin="egp")
        net.bgp("a")["neighbors"]["172.16.1.1"]["export"] = net.policy("a", "out", sets)
        (use,) = report(net, "a", "out")["uses"]
        assert rows(use) == {NET: (True, 1, [("origin", "igp", "egp")])}

    def test_a_default_said_in_any_case_meets_the_import_policy(self):
        net = importing(accept())
        net.bgp("a")["neighbors"]["172.16.1.1"]["originate_default"] = True
        (use,) = report(net, "me", "in")["uses"]
        assert set(rows(use)) == {NET, "192.0.2.0/24", "0.0.0.0/0"}

    def test_a_session_that_is_down_meets_no_routes(self):
        net = importing(accept())
        net.bgp("a")["neighbors"]["172.16.1.1"]["as"] = 1
        (use,) = report(net, "me", "in")["uses"]
        assert use["what"].endswith("whose session is down")
        assert use["total"] == 0

    def test_redistribution_and_the_table(self):
        solved = load(
            "devices:\n"
            + router(
                "a",
                {"e1": "addresses: [10.1.0.1/30]"},
                "install_policy: p\nstatic:\n- {prefix: 10.9.0.0/16, action: discard, tag: 4}\n"
                "- {prefix: 10.8.0.0/16, action: discard}\n"
                "rip: {interfaces: {e1: {}}, redistribute: [{from: static, policy: p}]}",
                "policies:\n  p:\n  - {match: {tag: 4}, set: {metric: 5, preference: 7}, result: accept}\n"
                "  - {match: {protocol: static}, result: accept}",
            )
        )
        table, redistribution = plain(PolicyView(solved, "a", "p").report())["uses"]
        assert table["what"] == "what may enter the table"
        assert rows(table)["10.9.0.0/16"][2] == [("metric", "0", "5"), ("preference", None, "7")]
        assert redistribution["what"] == "static redistributed into rip"
        assert set(rows(redistribution)) == {"10.9.0.0/16", "10.8.0.0/16"}

    def test_a_policy_that_nothing_asks(self):
        net = two_exits()
        net.policy("me", "idle", accept())
        found = PolicyView(net.solve(), "me", "idle").report()
        assert found.uses == []
        assert list(policy_lines(found))[-1] == "nothing asks this policy"
        assert {"device": "me", "policy": "idle"}.items() <= plain(all_policies(net.solve()))[0].items()


class TestCommandLine:
    def test_a_policy_as_text(self, capsys):
        assert main(["policy", str(EXAMPLE), "--device", "tq-border", "--policy", "weather-by-south"]) == 0
        printed = capsys.readouterr().out
        assert "120 routes, 32 accepted, 32 changed, 88 dropped by the closing reject alone" in printed

    def test_a_policy_that_is_not_there(self, capsys):
        assert main(["policy", str(EXAMPLE), "--device", "tq-border", "--policy", "weather"]) == 2
        assert "it has: weather-by-south, own-only" in capsys.readouterr().err


@pytest.fixture(scope="module")
def solved():
    return solve(read_path(EXAMPLE))


class TestSites:
    def test_each_sites_way_into_another_as(self, solved):
        sites = {one["site"]: one for one in plain(routes_to(solved, Address.parse("172.21.7.9")))["sites"]}
        border = {"device": "tq-border", "interface": "e2", "onward": "bellbuoy-south", "as": 64502}
        for name in ("Brackwater", "Tarnquay"):
            assert len(sites[name]["borders"]) == 1
            assert border.items() <= sites[name]["borders"][0].items()
        assert sites["Gullpoint"]["borders"] == []
        assert sites["Gullpoint"]["ends"] == ["no route at nf-radio"]

    def test_a_destination_inside_has_none(self, solved):
        assert plain(routes_to(solved, Address.parse("10.40.48.10")))["sites"] == []
