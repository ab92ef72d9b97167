"""Filter programs: a small example for each thing that rules can say, as nft lists them."""

import json
from pathlib import Path
from typing import Any

import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from routrel.analysis.evidence import Evidence
from routrel.analysis.walk_verdicts import Answerer
from routrel.formats.errors import LoadError
from routrel.formats.sources import read_files
from routrel.forwarding.flow import Flow, Walk
from routrel.routing.solve import Solved
from routrel.solving import solve
from tests.core.networks import plain
from tests.examples import examples

PLAIN = Path(__file__).parent.parent / "kernel" / "cases" / "no-rules" / "captures"
ACCEPT, DROP, RETURN = {"accept": None}, {"drop": None}, {"return": None}
ESTABLISHED = {"match": {"op": "in", "left": {"ct": {"key": "state"}}, "right": ["established", "related"]}}
NEW = {"match": {"op": "==", "left": {"ct": {"key": "state"}}, "right": "new"}}
A, B, C = "10.0.1.2", "10.0.2.2", "10.0.3.2"


def rule(chain: str, *expressions: dict, family: str = "inet", table: str = "f", **more: Any) -> dict:
    return {"rule": {"family": family, "table": table, "chain": chain, "expr": list(expressions), **more}}


def base(name: str, hook: str, policy: str = "accept", family: str = "inet", table: str = "f", **more: Any) -> dict:
    chain = {"family": family, "table": table, "name": name, "type": "filter", "hook": hook, "prio": 0}
    return {"chain": {**chain, "policy": policy, **more}}


def regular(name: str, family: str = "inet", table: str = "f") -> dict:
    return {"chain": {"family": family, "table": table, "name": name}}


def meta(key: str, right: Any, op: str = "==") -> dict:
    return {"match": {"op": op, "left": {"meta": {"key": key}}, "right": right}}


def payload(protocol: str, field: str, right: Any, op: str = "==") -> dict:
    return {"match": {"op": op, "left": {"payload": {"protocol": protocol, "field": field}}, "right": right}}


def state(*names: str) -> dict:
    return {"match": {"op": "in", "left": {"ct": {"key": "state"}}, "right": list(names)}}


def jump(kind: str, target: str) -> dict:
    return {kind: {"target": target}}


def files(*items: dict, **more: bytes) -> dict[str, bytes]:
    """Router r with three hosts, and a ruleset on r; ``more`` stands in place of r's other files."""
    found = {f"{path.parent.name}/{path.name}": path.read_bytes() for path in PLAIN.glob("*/*.json")}
    found["r/filters.json"] = json.dumps({"nftables": list(items)}, indent=0).encode()
    return found | {f"r/{name}.json": data for name, data in more.items()}


def lab(*items: dict, **more: bytes) -> Solved:
    return solve(read_files(files(*items, **more)))


def ask(network: Solved, source: str = "a", to: str = B, service: str = "tcp/80", **more: Any) -> Walk:
    return Answerer(network).asker.ask(Flow(source, to, service, **more))


def verdicts(*items: dict, source: str = "a", to: str = B, service: str = "tcp/80") -> tuple[str, str]:
    walk = ask(lab(*items), source, to, service)
    assert walk.reply is not None
    return walk.forward.verdict, walk.reply.verdict


PASSES, ONE_WAY = ("arrives", "arrives"), ("arrives", "blocked")


class TestChains:
    def test_the_first_verdict_counts_and_the_policy_where_none_falls(self):
        assert verdicts(base("fw", "forward", "drop")) == ("blocked", "blocked")
        assert verdicts(base("fw", "forward"), rule("fw", ACCEPT), rule("fw", DROP)) == PASSES

    def test_accept_ends_a_base_chain_and_the_next_is_asked(self):
        early, late = base("early", "forward", prio=-10), base("late", "forward", "drop", prio=10)
        assert verdicts(early, late, rule("early", ACCEPT)) == ("blocked", "blocked")

    def test_a_jump_comes_back_and_a_goto_does_not(self):
        items = [base("fw", "forward", "drop"), regular("sub"), rule("sub", meta("l4proto", "udp"), ACCEPT)]
        after = rule("fw", ACCEPT)
        assert verdicts(*items, rule("fw", jump("jump", "sub")), after) == PASSES
        assert verdicts(*items, rule("fw", jump("goto", "sub")), after)[0] == "blocked"

    def test_return_in_a_base_chain_leads_to_its_policy(self):
        assert verdicts(base("fw", "forward"), rule("fw", RETURN), rule("fw", DROP)) == PASSES

    def test_chains_of_one_name_in_two_tables_are_two(self):
        items = [
            *(regular("sub", table=table) for table in ("f", "g")),
            base("fw", "forward", "drop"),
            rule("sub", ACCEPT, table="f"),
            rule("sub", DROP, table="g"),
            rule("fw", jump("jump", "sub")),
        ]
        assert verdicts(*items) == PASSES

    def test_a_table_of_one_family_says_nothing_of_the_other(self):
        items = base("fw", "forward", "drop", family="ip"), base("fw", "forward", "drop", family="bridge", table="b")
        assert verdicts(*items)[0] == "blocked"
        assert verdicts(*items, to="fd02::2") == PASSES

    def test_a_dormant_table_is_not_asked_and_that_is_said(self):
        table = {"table": {"family": "inet", "name": "f", "flags": ["dormant"]}}
        network = lab(table, base("fw", "forward", "drop"))
        assert ask(network).is_good
        assert "dormant" in network.network.devices["r"].gaps[0].message


class TestMatches:
    @pytest.mark.parametrize(
        ("match", "holds"),
        [
            (meta("iifname", "lan"), True),
            (meta("iifname", "wan"), False),
            (meta("iifname", "l*"), True),
            (meta("oifname", {"set": ["wan", "dm*"]}), True),
            (meta("oifname", "dmz", "!="), False),
            (payload("ip", "saddr", {"prefix": {"addr": "10.0.1.0", "len": 24}}), True),
            (payload("ip", "saddr", {"range": ["10.0.1.3", "10.0.1.9"]}), False),
            (payload("ip", "daddr", {"set": [A, {"range": [B, C]}]}), True),
            (payload("ip6", "saddr", "fd01::2", "!="), False),
            (payload("tcp", "dport", {"range": [80, 90]}), True),
            (payload("tcp", "dport", 80, ">"), False),
            (payload("udp", "dport", 22, "!="), False),
            (payload("th", "dport", 80), True),
            (payload("tcp", "flags", "syn"), True),
            (payload("icmp", "type", "echo-request"), False),
            (payload("ip", "dscp", "ef", "!="), True),
            (payload("ip", "protocol", {"set": ["tcp", "udp"]}), True),
            (meta("l4proto", "tcp"), True),
            (meta("nfproto", "ipv6"), False),
            (meta("mark", 0), True),
            (meta("length", 1500, "<"), True),
            (
                {
                    "match": {
                        "op": "!=",
                        "left": {"&": [{"payload": {"protocol": "ip", "field": "frag-off"}}, 8191]},
                        "right": 0,
                    }
                },
                False,
            ),
            (payload("ip", "ttl", 1, ">"), True),
            ({"match": {"op": "==", "left": {"ct": {"key": "direction"}}, "right": "original"}}, True),
            ({"match": {"op": "in", "left": {"ct": {"key": "status"}}, "right": "dnat"}}, False),
            ({"match": {"op": "==", "left": {"ct": {"key": "ip saddr", "dir": "original"}}, "right": A}}, True),
            ({"match": {"op": "==", "left": {"&": [{"meta": {"key": "mark"}}, 255]}, "right": 0}}, True),
            ({"match": {"op": "==", "left": {"fib": {"result": "type", "flags": "daddr"}}, "right": "local"}}, False),
            (
                {"match": {"op": "==", "left": {"fib": {"result": "oif", "flags": ["saddr", "iif"]}}, "right": False}},
                False,
            ),
        ],
    )
    def test_a_condition_holds_or_not(self, match, holds):
        walk = ask(lab(base("fw", "forward"), rule("fw", NEW, match, DROP)))
        assert (walk.forward.verdict == "blocked") == holds

    def test_named_sets_and_concatenations(self):
        kinds = ["ipv4_addr", "inet_service"]
        elements = [{"concat": [{"prefix": {"addr": "10.0.1.0", "len": 24}}, {"range": [1, 80]}]}]
        named = {"set": {"family": "inet", "table": "f", "name": "s", "type": kinds, "elem": elements}}
        left = {
            "concat": [
                {"payload": {"protocol": "ip", "field": "saddr"}},
                {"payload": {"protocol": "tcp", "field": "dport"}},
            ]
        }
        asked = rule("fw", {"match": {"op": "==", "left": left, "right": "@s"}}, DROP)
        assert verdicts(named, base("fw", "forward"), asked)[0] == "blocked"
        assert verdicts(named, base("fw", "forward"), asked, service="tcp/81") == PASSES

    def test_a_verdict_map_gives_the_verdict_of_its_key(self):
        key = {"payload": {"protocol": "tcp", "field": "dport"}}
        vmap = {"vmap": {"key": key, "data": {"set": [[{"range": [1, 79]}, ACCEPT], [80, jump("goto", "sub")]]}}}
        items = [base("fw", "forward"), regular("sub"), rule("sub", DROP), rule("fw", vmap)]
        assert verdicts(*items)[0] == "blocked"
        assert verdicts(*items, service="tcp/22") == PASSES

    def test_a_mark_is_set_and_matched_within_the_device(self):
        set_mark = {"mangle": {"key": {"meta": {"key": "mark"}}, "value": 7}}
        items = [base("pre", "prerouting"), rule("pre", NEW, set_mark), base("fw", "forward")]
        assert verdicts(*items, rule("fw", meta("mark", 7), DROP))[0] == "blocked"


class TestState:
    def test_an_answer_is_established_and_only_rules_that_ask_let_it_pass(self):
        first = rule("fw", meta("iifname", "lan"), ACCEPT)
        assert verdicts(base("fw", "forward", "drop"), first) == ONE_WAY
        assert verdicts(base("fw", "forward", "drop"), rule("fw", ESTABLISHED, ACCEPT), first) == PASSES

    def test_what_follows_the_first_packet_of_tcp_must_pass_too(self):
        only_new = [rule("fw", meta("iifname", "lan"), NEW, ACCEPT), rule("fw", meta("iifname", "dmz"), ACCEPT)]
        walk = ask(lab(base("fw", "forward", "drop"), *only_new))
        assert walk.forward.verdict == "blocked"
        assert "those that follow" in walk.forward_note
        walk = ask(lab(base("fw", "forward", "drop"), *only_new), service="udp/53")
        assert walk.is_good
        assert "later packets" in walk.forward_note

    def test_flows_of_the_device_itself_are_tracked(self):
        items = [base("in", "input", "drop"), rule("in", ESTABLISHED, ACCEPT)]
        assert verdicts(*items, source="r") == PASSES
        assert verdicts(*items, to="10.0.1.1")[0] == "blocked"

    def test_a_packet_that_was_never_tracked_is_invalid(self):
        raw = [base("raw", "prerouting", prio=-300), rule("raw", meta("iifname", "lan"), {"notrack": None})]
        assert verdicts(*raw, base("fw", "forward"), rule("fw", state("invalid"), DROP)) == ONE_WAY
        assert verdicts(*raw, base("fw", "forward"), rule("fw", state("untracked"), DROP))[0] == "blocked"


class TestTranslation:
    def test_a_destination_is_translated_and_its_answer_back(self):
        nat = base("nat", "prerouting", type="nat", prio=-100)
        dnat = rule("nat", payload("tcp", "dport", 443), {"dnat": {"family": "ip", "addr": C, "port": 80}})
        network = lab(nat, dnat)
        walk = ask(network, to="10.0.1.1", service="tcp/443")
        assert walk.is_good
        assert str(walk.forward.stops[-1].header.destination) == C
        assert walk.forward.stops[-1].header.destination_port == 80
        answer = plain(Evidence(Answerer(network)).walk(walk))
        texts = [check["message"] for stop in answer["forward"]["stops"] for check in stop["checks"]]
        assert any("10.0.1.1 port 443 becomes tcp 10.0.1.2 > 10.0.3.2 port 80" in text for text in texts)

    def test_a_flow_to_a_device_that_rules_lead_elsewhere_does_not_arrive_there(self):
        nat = base("nat", "prerouting", type="nat", prio=-100)
        answerer = Answerer(lab(nat, rule("nat", payload("tcp", "dport", 443), {"dnat": {"family": "ip", "addr": C}})))
        answer = plain(answerer.verdict(answerer.asker.ask(Flow("a", "r", "tcp/443"))))
        assert answer["forward"]["verdict"] == "unresolved"
        assert "gave it the destination 10.0.3.2, an address of c:e0" in answer["forward"]["causes"][0]["message"]

    def test_masquerade_takes_the_address_of_the_way_out(self):
        nat = base("nat", "postrouting", type="nat", prio=100)
        walk = ask(lab(nat, rule("nat", meta("oifname", "dmz"), {"masquerade": None})))
        assert walk.is_good
        assert str(walk.forward.stops[-1].header.source) == "10.0.2.1"
        assert str(walk.reply.stops[-1].header.destination) == A

    def test_redirect_brings_a_packet_to_the_device_itself(self):
        nat = base("nat", "prerouting", type="nat", prio=-100)
        network = lab(nat, rule("nat", payload("tcp", "dport", 80), {"redirect": {"port": 22}}))
        walk = ask(network)
        assert walk.is_good
        assert network.topology.devices[walk.forward.stops[-1].device].name == "r"

    def test_an_answer_that_goes_by_without_being_translated_back_is_not_one(self):
        """The sender of a hairpin gets its own packet: nobody believes it (RFC 1812 section 5.3.7)."""
        nat = base("nat", "prerouting", type="nat", prio=-100)
        walk = ask(lab(nat, rule("nat", {"dnat": {"family": "ip", "addr": A}})))
        assert walk.forward.verdict == "discarded"


class TestUnsaid:
    LIMIT = {"limit": {"rate": 5, "per": "second"}}

    def test_a_rate_is_answered_both_ways_with_the_rule(self):
        network = lab(base("fw", "forward"), rule("fw", NEW, self.LIMIT, ACCEPT), rule("fw", NEW, DROP))
        answerer = Answerer(network)
        walk = answerer.asker.ask(Flow("a", B, "tcp/80"))
        assert walk.forward.verdict == "mixed"
        (cause,) = plain(answerer.verdict(walk))["forward"]["causes"]
        assert cause["unsure"]
        assert "whether rule 1 of chain fw (inet f) matches is not known" in cause["message"]

    def test_where_both_ways_come_to_the_same_nothing_is_unsure(self):
        assert verdicts(base("fw", "forward"), rule("fw", self.LIMIT, ACCEPT), rule("fw", ACCEPT)) == PASSES

    def test_a_rule_that_fails_elsewhere_is_not_unsure(self):
        late = rule("fw", NEW, payload("tcp", "dport", 80), self.LIMIT, DROP)
        network = lab(base("fw", "forward"), rule("fw", self.LIMIT, payload("tcp", "dport", 22), DROP), late)
        answerer = Answerer(network)
        (cause,) = plain(answerer.verdict(answerer.asker.ask(Flow("a", B, "tcp/80"))))["forward"]["causes"]
        assert "whether rule 2 of chain fw" in cause["message"]

    def test_a_length_is_known_within_bounds(self):
        late = rule("fw", NEW, payload("udp", "length", 300, ">"), DROP)
        assert verdicts(base("fw", "forward"), late, service="udp/53")[0] == "mixed"
        assert verdicts(base("fw", "forward"), late, service="icmp") == PASSES
        large = rule("fw", NEW, meta("length", 1000, ">"), DROP)
        assert verdicts(base("fw", "forward"), large, service="udp/53") == PASSES

    def test_a_set_that_packets_fill_is_not_known(self):
        named = {"set": {"family": "inet", "table": "f", "name": "s", "type": "ipv4_addr", "flags": ["dynamic"]}}
        items = named, base("fw", "forward"), rule("fw", NEW, payload("ip", "saddr", "@s"), DROP)
        assert verdicts(*items)[0] == "mixed"

    def test_extensions_that_nft_does_not_list_are_not_known(self):
        items = base("fw", "forward"), rule("fw", NEW, {"xt": None})
        assert verdicts(*items)[0] == "mixed"

    def test_ways_that_are_not_followed_may_end(self):
        """Each of six rates gives a mark of its own or not: 64 ways, and one of them is dropped later."""

        def mark(bit: int) -> dict:
            either = {"|": [{"meta": {"key": "mark"}}, 1 << bit]}
            return {"mangle": {"key": {"meta": {"key": "mark"}}, "value": either}}

        chains = [base(f"b{n}", "forward", prio=n) for n in range(6)]
        rules = [rule(f"b{n}", NEW, self.LIMIT, mark(n)) for n in range(6)]
        last = base("z", "forward", prio=9), rule("z", meta("mark", 0b101010), DROP)
        assert verdicts(*chains, *rules, *last)[0] == "mixed"

    def test_more_base_chains_than_the_kernel_takes_are_refused(self):
        with pytest.raises(LoadError, match="more base chains at hook forward than the kernel takes"):
            read_files(files(*(base(f"b{n}", "forward") for n in range(1100))))

    def test_thousands_of_unsure_rules_end_within_the_budget(self):
        mark = {"mangle": {"key": {"meta": {"key": "mark"}}, "value": 7}}
        items = [base("fw", "forward"), *(rule("fw", self.LIMIT, mark) for _ in range(3000))]
        assert verdicts(*items)[0] in ("arrives", "mixed")


class TestCauses:
    def test_a_cause_names_rule_text_jumps_near_misses_and_a_remedy_that_cures(self):
        items = [
            base("fw", "forward", "drop"),
            regular("sub"),
            rule("fw", ESTABLISHED, ACCEPT),
            rule("fw", meta("iifname", "lan"), jump("jump", "sub")),
            rule("sub", payload("tcp", "dport", 22), ACCEPT, comment="ssh"),
            rule("sub", meta("l4proto", "tcp"), DROP),
        ]
        network = lab(*items)
        answerer = Answerer(network)
        answer = plain(answerer.verdict(answerer.asker.ask(Flow("a", B, "tcp/80"))))
        (cause,) = answer["forward"]["causes"]
        assert cause["chain"] == "sub (inet f)"
        assert cause["rule"] == 2
        assert cause["message"].endswith("at forward, ct state new: meta l4proto tcp drop")
        assert cause["place"]["file"] == "r/filters.json"
        assert {"entry": 1, "field": "tcp dport", "has": "22", "needs": "80"}.items() <= cause["near_misses"][0].items()
        assert cause["remedy"]["message"] == "add to chain sub (inet f) of r, before rule 2"
        assert cause["remedy"]["text"] == "ip saddr 10.0.1.2 ip daddr 10.0.2.2 tcp dport 80 accept"

    def test_an_answer_that_is_stopped_wants_a_rule_by_state(self):
        answerer = Answerer(lab(base("fw", "forward", "drop"), rule("fw", meta("iifname", "lan"), ACCEPT)))
        answer = plain(answerer.verdict(answerer.asker.ask(Flow("a", B, "tcp/80"))))
        assert answer["return"]["causes"][0]["remedy"]["text"] == "ct state established accept"

    def test_a_range_of_ports_falls_into_the_parts_that_rules_tell_apart(self):
        items = base("fw", "forward"), rule("fw", payload("tcp", "dport", {"set": [23, {"range": [100, 200]}]}), DROP)
        walk = ask(lab(*items), service="tcp/20-300")
        parts = {part.walk.forward.verdict: [str(ports) for ports in part.ports] for part in walk.parts}
        assert parts == {"arrives": ["20-22", "24-99", "201-300"], "blocked": ["23", "100-200"]}

    def test_a_range_whose_ports_are_translated_is_walked_to_its_end(self):
        nat = base("nat", "prerouting", type="nat", prio=-100)
        dnat = rule(
            "nat", payload("tcp", "dport", {"range": [1000, 2000]}), {"dnat": {"family": "ip", "addr": C, "port": 80}}
        )
        drop = rule("fw", payload("tcp", "dport", 80), DROP)
        walk = ask(lab(nat, dnat, base("fw", "forward"), drop), service="tcp/900-2100")
        parts = {part.walk.forward.verdict: [str(ports) for ports in part.ports] for part in walk.parts}
        assert parts == {"arrives": ["900-999", "2001-2100"], "blocked": ["1000-2000"]}
        assert walk.unexamined is None


class TestBadInput:
    @pytest.mark.parametrize(
        ("items", "said"),
        [
            ([rule("nowhere", ACCEPT)], "there is no chain"),
            ([base("fw", "forward", "perhaps")], "the policy of chain fw; found 'perhaps'; allowed: accept, drop"),
            ([base("fw", "sideways")], "the hook of chain fw"),
            ([base("fw", "forward", prio="much")], "the priority of chain fw"),
            ([base("fw", "forward"), rule("fw", jump("jump", "none"))], "there is no chain"),
            ([regular("x"), rule("x", jump("jump", "x"))], "chain x is jumped to from within itself"),
            ([{"chain": {"family": "inet", "table": "f"}}], "a chain is not what the command prints"),
            ([base("fw", "forward", family="decnet")], "of an unknown family"),
            ([base("fw", "forward"), {"rule": {"family": "inet", "table": "f", "chain": "fw", "expr": "x"}}], "'expr'"),
        ],
    )
    def test_what_cannot_be_is_an_error_with_its_place(self, items, said):
        with pytest.raises(LoadError) as caught:
            read_files(files(*items))
        assert said in str(caught.value)
        assert "r/filters.json:" in str(caught.value)

    def test_a_rule_listed_before_its_chain_counts(self):
        assert verdicts(rule("fw", DROP), base("fw", "forward"))[0] == "blocked"

    def test_jumps_too_deep_for_the_kernel_are_refused(self):
        chains = [regular(f"c{n}") for n in range(20)]
        jumps = [rule(f"c{n}", jump("jump", f"c{n + 1}")) for n in range(19)]
        with pytest.raises(LoadError, match="too deep"):
            read_files(files(*chains, *jumps))

    def test_a_key_of_a_statement_that_nobody_reads_makes_its_rule_unsure(self):
        match = meta("l4proto", "tcp")
        match["match"]["surprise"] = 1
        network = lab(base("fw", "forward"), rule("fw", NEW, match, DROP))
        assert ask(network).forward.verdict == "mixed"
        assert any("'surprise' of match" in gap.message for gap in network.network.devices["r"].gaps)

    @pytest.mark.parametrize("kind", ["table", "chain", "rule", "set"])
    def test_a_key_that_nobody_reads_is_said(self, kind):
        items = {
            "table": {"table": {"family": "inet", "name": "f"}},
            "chain": base("fw", "forward"),
            "rule": rule("fw", DROP),
            "set": {"set": {"family": "inet", "table": "f", "name": "s", "type": "ipv4_addr"}},
        }
        items[kind][kind]["surprise"] = 1
        device = read_files(files(*items.values())).devices["r"]
        assert any("'surprise'" in gap.message for gap in device.gaps)


class TestGaps:
    def test_what_is_left_out_stands_by_an_answer_that_arrives(self):
        items = base("fw", "forward"), rule("fw", {"flow": {"op": "add", "flowtable": "@ft"}})
        answerer = Answerer(lab(*items))
        answer = plain(answerer.verdict(answerer.asker.ask(Flow("a", B, "tcp/80"))))
        assert answer["forward"]["verdict"] == "arrives"
        (said,) = answer["forward"]["not_represented"]
        assert said["device"] == "r"
        assert "a flowtable of a rule is not represented: flow" in said["message"]
        assert said["place"]["file"] == "r/filters.json"

    def test_what_is_tied_to_an_interface_stands_where_that_is_passed(self):
        rules = [{"priority": 0, "src": "all", "table": "local"}]
        for name in ("lan", "wan"):
            rules.append({"priority": 9, "src": "all", "iif": name, "l3mdev": None})
        rules.append({"priority": 32766, "src": "all", "table": "main"})
        answerer = Answerer(lab(rules=json.dumps(rules).encode()))
        said = plain(answerer.verdict(answerer.asker.ask(Flow("a", B, "tcp/80"))))["forward"]["not_represented"]
        assert len(said) == 1


PORTS = st.tuples(st.integers(1, 12), st.integers(1, 12)).map(sorted)
PORT_RULES = st.lists(
    st.tuples(
        st.sampled_from(["drop", "accept", "dnat", "redirect"]),
        PORTS,
        st.integers(1, 12),
        st.sampled_from(["dport", "sport"]),
    ),
    max_size=5,
)


@given(PORT_RULES)
@settings(max_examples=examples(40), deadline=None)
def test_the_parts_of_a_range_are_those_of_its_ports_one_by_one(drawn):
    items = [base("fw", "forward"), base("nat", "prerouting", type="nat", prio=-100)]
    for kind, ports, to, field in drawn:
        match = payload("tcp", field, {"range": ports})
        if kind in ("drop", "accept"):
            items.append(rule("fw", match, {kind: None}))
        else:
            target = {"port": to} if kind == "redirect" else {"family": "ip", "addr": C, "port": to}
            items.append(rule("nat", match, {kind: target}))
    network = lab(*items)
    walk = ask(network, service="tcp/1-12")
    parts = [(part.ports, part.walk) for part in walk.parts] or [(walk.ports, walk)]
    for ranges, whole in parts:
        for low, high in ranges:
            for port in range(low, high + 1):
                one = ask(network, service=f"tcp/{port}")
                assert one.forward.verdict == whole.forward.verdict
                assert (one.reply and one.reply.verdict) == (whole.reply and whole.reply.verdict)
    assert sum(high - low + 1 for ranges, _ in parts for low, high in ranges) == 12
