"""Routing rules and tables of a Linux router: a small example for each selector and kind of route."""

import json
from pathlib import Path
from typing import Any

import pytest
from hypothesis import given
from hypothesis import strategies as st

from routrel.analysis.walk_verdicts import Answerer
from routrel.formats.routing_rules import read_rules
from routrel.formats.sources import read_files
from routrel.forwarding.flow import Flow, Walk
from routrel.forwarding.kernel_tables import Asked, KernelTables
from routrel.model.addresses import Address, Prefix
from routrel.model.filters import Header
from routrel.model.kernel_routing import KernelRoute, KernelRouting, RoutingRule
from routrel.model.observed import ObservedNextHop, ObservedRoute
from routrel.model.places import NOWHERE
from routrel.routing.solve import Solved
from routrel.solving import solve
from tests.core.networks import plain

PLAIN = Path(__file__).parent.parent / "kernel" / "cases" / "no-rules" / "captures"
FIRST = {"priority": 0, "src": "all", "table": "local"}
MAIN = {"priority": 32766, "src": "all", "table": "main"}
BY_WAN = {"dst": "default", "gateway": "10.0.3.2", "dev": "wan", "table": "100"}
"""What table 100 says: everything goes out by wan, where nobody forwards."""


def lab(rules: list[dict], *routes: dict, rules6: list[dict] | None = None, **more: Any) -> Solved:
    """Router r with hosts a, b and c; rules and more routes on r."""
    files = {f"{path.parent.name}/{path.name}": path.read_bytes() for path in PLAIN.glob("*/*.json")}
    known = json.loads(files["r/routes.json"])
    files["r/routes.json"] = json.dumps([*known, *routes]).encode()
    files["r/rules.json"] = json.dumps([FIRST, *rules]).encode()
    if rules6 is not None:
        files["r/rules6.json"] = json.dumps([FIRST, *rules6]).encode()
    return solve(read_files(files | {f"r/{name}.json": json.dumps(found).encode() for name, found in more.items()}))


def ask(network: Solved, source: str = "a", to: str = "10.0.2.2", service: str = "tcp/80", **more: Any) -> Walk:
    return Answerer(network).asker.ask(Flow(source, to, service, **more))


def leaves_by(network: Solved, **asked: Any) -> str:
    """The interface by which r sends a flow on."""
    for stop in ask(network, **asked).forward.stops:
        if network.topology.devices[stop.device].name == "r":
            return " ".join(network.topology.ports[b.port].name.interface for b in stop.branches) or str(stop.verdict)
    return ""


@pytest.mark.parametrize(
    ("selector", "holds"),
    [
        ({"src": "10.0.1.0", "srclen": 24}, True),
        ({"src": "10.0.2.0", "srclen": 24}, False),
        ({"src": "all", "dst": "10.0.2.2"}, True),
        ({"src": "all", "iif": "lan"}, True),
        ({"src": "all", "iif": "dmz"}, False),
        ({"src": "all", "iif": "lo"}, False),
        ({"src": "all", "oif": "wan"}, False),
        ({"src": "all", "fwmark": "0x1"}, False),
        ({"src": "all", "fwmark": "0x0", "fwmask": "0xff"}, True),
        ({"src": "all", "tos": "0x10"}, False),
        ({"src": "all", "ipproto": "tcp", "dport": 80}, True),
        ({"src": "all", "ipproto": "udp"}, False),
        ({"src": "all", "dport_start": 81, "dport_end": 90}, False),
        ({"src": "all", "sport": 49152}, True),
        ({"not": None, "src": "10.0.1.0", "srclen": 24}, False),
        ({"not": None, "src": "10.0.9.0", "srclen": 24}, True),
        ({"src": "all", "uid_start": 5, "uid_end": 9}, False),
        ({"src": "all", "uid_start": 0, "uid_end": 9}, True),
    ],
)
def test_a_rule_selects_by_each_of_its_words(selector, holds):
    network = lab([{"priority": 100, "table": "100", **selector}, MAIN], BY_WAN)
    assert leaves_by(network) == ("wan" if holds else "dmz")


def test_rules_are_asked_by_priority_and_a_table_without_a_match_leads_on():
    first, second = {"priority": 200, "src": "all", "table": "100"}, {"priority": 100, "src": "all", "table": "200"}
    assert leaves_by(lab([first, second, MAIN], BY_WAN, {**BY_WAN, "table": "200", "dst": "10.9.0.0/16"})) == "wan"


def test_a_throw_leads_on_to_the_next_rule():
    thrown = {"type": "throw", "dst": "10.0.2.0/24", "table": "100"}
    assert leaves_by(lab([{"priority": 100, "src": "all", "table": "100"}, MAIN], BY_WAN, thrown)) == "dmz"


def test_a_suppressed_length_leaves_short_matches_aside():
    default = {"dst": "default", "gateway": "10.0.2.2", "dev": "dmz"}
    suppressed = {"priority": 100, "src": "all", "table": "main", "suppress_prefixlen": 0}
    rules = [suppressed, {"priority": 200, "src": "all", "table": "100"}, MAIN]
    network = lab(rules, BY_WAN, default)
    assert leaves_by(network) == "dmz"
    assert leaves_by(network, to="192.0.2.1") == "wan"


def test_goto_goes_on_at_its_target_and_nop_does_nothing():
    rules = [
        {"priority": 100, "src": "all", "goto": 300},
        {"priority": 200, "src": "all", "action": "blackhole"},
        {"priority": 300, "src": "all", "nop": None},
    ]
    assert leaves_by(lab([*rules, MAIN])) == "dmz"


@pytest.mark.parametrize("action", ["blackhole", "prohibit", "unreachable"])
def test_a_rule_may_end_a_packet_and_is_the_cause(action):
    network = lab([{"priority": 100, "src": "10.0.1.2", "action": action}, MAIN])
    answerer = Answerer(network)
    answer = plain(answerer.verdict(answerer.asker.ask(Flow("a", "10.0.2.2", "tcp/80"))))
    assert answer["forward"]["verdict"] == "discarded"
    cause = answer["forward"]["causes"][0]
    assert cause["message"].startswith(f"routing rule 100 (from 10.0.1.2 {action}) ends tcp 10.0.1.2 > 10.0.2.2")
    assert cause["place"]["file"] == "r/rules.json"


def test_without_the_rule_for_main_nothing_is_routed():
    assert leaves_by(lab([])) == "unrouted"


def test_rules_of_users_are_answered_both_ways_for_packets_of_the_device_itself():
    network = lab([{"priority": 100, "src": "all", "uid_start": 5, "uid_end": 9, "table": "100"}, MAIN], BY_WAN)
    assert leaves_by(network, source="r", source_address="10.0.2.1") == "wan dmz"


def test_the_rules_of_ipv6_are_its_own():
    block = {"priority": 100, "src": "all", "action": "unreachable"}
    network = lab([MAIN], rules6=[block, MAIN])
    assert ask(network).is_good
    assert ask(network, to="fd02::2").forward.verdict == "discarded"


def test_routes_of_a_service_type_are_for_its_packets_alone():
    assert leaves_by(lab([MAIN], {"dst": "10.0.2.0/24", "gateway": "10.0.3.2", "dev": "wan", "tos": "0x10"})) == "dmz"


def test_the_preferred_source_of_a_route_is_that_of_own_packets():
    route = {"dst": "192.0.2.0/24", "gateway": "10.0.3.2", "dev": "wan", "prefsrc": "10.0.1.1"}
    assert str(ask(lab([MAIN], route), source="r", to="192.0.2.1").forward.stops[0].header.source) == "10.0.1.1"


def test_a_source_that_is_chosen_is_asked_of_the_rules_again():
    rules = [{"priority": 100, "src": "10.0.2.1", "table": "100"}, MAIN]
    network = lab(rules, BY_WAN)
    walk = ask(network, source="r")
    assert str(walk.forward.stops[0].header.source) == "10.0.2.1"
    assert leaves_by(network, source="r") == "wan"


def test_all_ways_of_a_multipath_route_in_any_table_are_walked():
    hops = [{"gateway": "10.0.2.2", "dev": "dmz", "weight": 3}, {"gateway": "10.0.3.2", "dev": "wan", "weight": 1}]
    route = {"dst": "192.0.2.0/24", "table": "100", "nexthops": hops}
    assert leaves_by(lab([{"priority": 100, "src": "all", "table": "100"}, MAIN], route), to="192.0.2.1") == "dmz wan"


def test_what_netconf_says_of_forwarding_counts():
    off = [{"family": "inet", "interface": name, "forwarding": False} for name in ("lan", "dmz", "wan", "all")]
    assert ask(lab([MAIN], netconf=off)).forward.verdict == "discarded"


def test_forwarding_is_of_each_family_and_interface():
    said = [
        {"family": family, "interface": name, "forwarding": (family, name) not in (("inet", "lan"), ("inet6", "dmz"))}
        for family in ("inet", "inet6")
        for name in ("lan", "dmz", "wan")
    ]
    network = lab([MAIN], netconf=said)
    assert ask(network).forward.verdict == "discarded"
    assert ask(network, to="fd02::2").forward.verdict == "arrives"
    assert ask(network, to="fd02::2").reply.verdict == "discarded"
    assert ask(network, source="b", to="10.0.3.2").is_good
    assert ask(network, to="10.0.1.1").is_good


def test_a_route_without_carrier_stays_unless_the_kernel_is_told_to_leave_it_aside():
    route = {"dst": "192.0.2.0/24", "gateway": "10.0.3.2", "dev": "wan", "flags": ["linkdown"]}
    assert leaves_by(lab([MAIN], route), to="192.0.2.1") == "wan"
    told = [{"family": "inet", "interface": "all", "forwarding": True, "ignore_routes_with_linkdown": True}]
    on = {"family": "inet", "interface": "lan", "forwarding": True}
    assert leaves_by(lab([MAIN], route, netconf=[*told, on]), to="192.0.2.1") == "unrouted"


class TestReference:
    """The tables against the longest match looked for one route after the other."""

    @given(
        st.lists(
            st.tuples(
                st.integers(0, 8),
                st.integers(0, 255),
                st.integers(0, 3),
                st.sampled_from(["forward", "throw", "discard"]),
            ),
            max_size=20,
        ),
        st.integers(0, 255),
        st.integers(0, 8),
    )
    def test_the_longest_match_of_a_table(self, drawn, low, suppressed):
        routes = {}
        for length, value, metric, action in drawn:
            prefix = Prefix.of(4, (10 << 24) + value, 24 + length)
            routes.setdefault((prefix, metric), (prefix, metric, action))
        rule = RoutingRule(10, 4, table="t", suppressed_length=24 + suppressed)
        made = tuple(
            KernelRoute(ObservedRoute(prefix, "static", (ObservedNextHop(None, "lan"),), metric=metric), action)
            for prefix, metric, action in routes.values()
        )
        network = NETWORK.setdefault("it", lab([MAIN]))
        tables = KernelTables(
            network.topology, network.topology.device_index["r"], KernelRouting((rule,), {(4, "t"): made})
        )
        destination = Address(4, (10 << 24) + low)
        found = tables.look_up(Asked(Header(6, destination, destination, 1, 2), "lan"))[0].route
        matching = [one for one in routes.values() if one[0].contains(destination)]
        best = max(matching, key=lambda one: (one[0].length, -one[1]), default=None)
        if best is None or best[2] == "throw" or best[0].length <= 24 + suppressed:
            assert found is None
        else:
            assert found is not None
            assert (found.prefix, found.metric, found.action) == best


NETWORK: dict[str, Solved] = {}


def test_a_key_of_a_rule_that_nobody_reads_is_said():
    _, gaps = read_rules([({**FIRST}, NOWHERE), ({"priority": 9, "src": "all", "surprise": 1}, NOWHERE)], 4)
    assert "surprise" in gaps[0].message


def two(addresses: dict[str, list[dict]], routes: dict[str, list[dict]], lldp: dict[str, list[dict]]) -> Solved:
    files = {}
    for name in ("p", "q"):
        up = {"flags": ["UP", "LOWER_UP"], "mtu": 1500, "link_type": "ether"}
        lo = {
            "ifname": "lo",
            "flags": ["UP", "LOOPBACK"],
            "addr_info": [{"local": f"10.0.0.{'pq'.index(name) + 1}", "prefixlen": 32}],
        }
        files[f"{name}/addresses.json"] = [lo, {"ifname": "e0", **up, "addr_info": addresses[name]}]
        files[f"{name}/routes.json"] = routes[name]
        if lldp:
            files[f"{name}/lldp.json"] = lldp[name]
    return solve(read_files({name: json.dumps(found).encode() for name, found in files.items()}))


def test_unnumbered_links_lead_to_any_address_of_the_neighbour():
    """Linux answers for all its addresses on every interface (arp_ignore 0)."""
    lldp = {
        name: [{"interface": "e0", "device": far, "remote_interface": "e0"}] for name, far in (("p", "q"), ("q", "p"))
    }
    routes = {name: [{"dst": f"10.0.0.{far}", "dev": "e0"}] for name, far in (("p", 2), ("q", 1))}
    walk = ask(two({"p": [], "q": []}, routes, lldp), source="p", to="10.0.0.2", service="icmp")
    assert walk.is_good


def test_interfaces_that_name_each_other_as_peers_are_cabled():
    addresses = {
        name: [{"local": f"10.9.9.{own}", "address": f"10.9.9.{far}", "prefixlen": 32}]
        for name, own, far in (("p", 1, 2), ("q", 2, 1))
    }
    routes = {name: [{"dst": f"10.9.9.{far}", "dev": "e0"}] for name, far in (("p", 2), ("q", 1))}
    assert ask(two(addresses, routes, {}), source="p", to="10.9.9.2", service="icmp").is_good


def test_addresses_of_169_254_are_ordinary():
    addresses = {name: [{"local": f"169.254.1.{own}", "prefixlen": 24}] for name, own in (("p", 1), ("q", 2))}
    routes = {name: [{"dst": "169.254.1.0/24", "dev": "e0"}] for name in "pq"}
    assert ask(two(addresses, routes, {}), source="p", to="169.254.1.2", service="icmp").is_good


def test_ipv6_asks_again_with_a_source_where_the_first_answer_leads_nowhere():
    block = {"not": None, "priority": 100, "src": "fd02::", "srclen": 64, "action": "blackhole"}
    assert ask(lab([MAIN], rules6=[block, MAIN]), source="r", to="fd02::2").forward.verdict == "arrives"


@pytest.mark.parametrize(("kind", "out"), [("route", "wan"), ("filter", "dmz")])
def test_a_mark_leads_own_packets_anew_where_a_chain_of_type_route_sets_it(kind, out):
    chain = {"family": "inet", "table": "f", "name": "out", "type": kind, "hook": "output", "prio": -150}
    mark = {"mangle": {"key": {"meta": {"key": "mark"}}, "value": 1}}
    filters = [
        {"chain": {**chain, "policy": "accept"}},
        {"rule": {"family": "inet", "table": "f", "chain": "out", "expr": [mark]}},
    ]
    by_mark = {"priority": 100, "src": "all", "fwmark": "0x1", "table": "100"}
    assert leaves_by(lab([by_mark, MAIN], BY_WAN, filters={"nftables": filters}), source="r") == out


def test_ipv4_does_not():
    block = {"not": None, "priority": 100, "src": "10.0.2.0", "srclen": 24, "action": "blackhole"}
    assert ask(lab([block, MAIN]), source="r").forward.verdict == "discarded"
