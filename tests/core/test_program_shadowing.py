"""Rules that no packet can reach, and a brute search that they are none of a packet's."""

from hypothesis import given, settings
from hypothesis import strategies as st

from bench.programs import Alone
from routrel.analysis.program_shadowing import shadowed_rules
from routrel.forwarding.programs.chains import LONG
from routrel.forwarding.programs.engine import Engine, Passage
from routrel.forwarding.programs.packets import Packet
from routrel.forwarding.programs.tracking import Tracker
from routrel.model.addresses import Address
from routrel.model.devices import Device
from routrel.model.filter_programs import Chain, Condition, Field, FilterProgram, Range, Rule, ValueSet, Verdict
from routrel.model.filters import Header
from tests.core.test_programs import ACCEPT, DROP, ESTABLISHED, base, lab, meta, payload, rule
from tests.examples import examples

NET = {"prefix": {"addr": "10.0.1.0", "len": 24}}


def found(*rules: dict) -> list[str]:
    network = lab(base("fw", "forward"), *rules)
    return [finding.message for finding in shadowed_rules(network.topology.devices)]


def test_a_rule_behind_one_that_takes_all_is_found_whatever_else_it_asks():
    (text,) = found(
        rule("fw", payload("ip", "saddr", NET), DROP),
        rule("fw", payload("ip", "saddr", "10.0.1.2"), meta("iifname", "lan"), ACCEPT),
    )
    assert text == "rule 2 of chain fw (inet f) on r can never match: rule 1 takes everything it could"


def test_several_rules_may_hide_one_together():
    halves = [{"range": [1, 500]}, {"range": [501, 1000]}]
    early = [rule("fw", payload("tcp", "dport", half), DROP) for half in halves]
    assert (
        "rules 1, 2 together take"
        in found(*early, rule("fw", payload("tcp", "dport", {"range": [100, 900]}), ACCEPT))[0]
    )


def test_what_asks_more_or_decides_nothing_hides_nothing():
    wide = payload("ip", "saddr", NET)
    late = rule("fw", payload("ip", "saddr", "10.0.1.2"), ACCEPT)
    assert found(rule("fw", wide, meta("iifname", "lan"), DROP), late) == []
    assert found(rule("fw", wide, {"counter": None}), late) == []
    assert found(rule("fw", ESTABLISHED, ACCEPT), late) == []


SMALL = st.tuples(st.integers(0, 7), st.integers(0, 7)).map(lambda two: Range(min(two), max(two)))
CONDITIONS = st.one_of(
    st.tuples(st.just(Field("ip", "saddr")), SMALL),
    st.tuples(st.just(Field("tcp", "dport")), SMALL),
    st.tuples(st.just(Field("meta", "mark")), st.just(Range(1, 1))),
)
RULES = st.lists(st.tuples(st.lists(CONDITIONS, max_size=2), st.sampled_from(["accept", "drop", ""])), max_size=7)


@given(RULES)
@settings(max_examples=examples(200), deadline=None)
def test_no_packet_comes_to_a_rule_that_is_said_to_be_hidden(drawn):
    rules = []
    for number, (conditions, ending) in enumerate(drawn, 1):
        statements = [Condition(field, "in", ValueSet(ranges=(values,))) for field, values in conditions]
        rules.append(Rule(number, "", (*statements, *([Verdict(ending)] if ending else []))))
    chain = Chain("ip", "t", "c", tuple(rules), "forward")
    program = FilterProgram({("ip", "t", "c"): chain})
    hidden = {int(finding.message.split(" ")[1]) for finding in shadowed_rules([Device(name="r", program=program)])}
    engine = Engine(0, program, Alone())
    for source in range(8):
        for port in range(8):
            for mark in (0, 1):
                header = Header(6, Address(4, source), Address(4, 9), 5, port)
                packet = Packet(header, "first", mark=mark)
                for one in rules:
                    if engine.failed_conditions(one, packet) == []:
                        assert one.number not in hidden
                        if one.statements and isinstance(one.statements[-1], Verdict):
                            break


NEVER = Rule(0, "", (Condition(Field("ip", "daddr"), "==", 77), Verdict("drop")))


@given(RULES, st.sampled_from(["drop", "accept"]))
@settings(max_examples=examples(150), deadline=None)
def test_a_long_chain_decides_as_its_rules_one_by_one(drawn, policy):
    """Columns pass rules over; what is left decides the same."""
    rules = []
    for number, (conditions, ending) in enumerate(drawn, 1):
        statements = [Condition(field, "in", ValueSet(ranges=(values,))) for field, values in conditions]
        rules.append(Rule(number, "", (*statements, *([Verdict(ending)] if ending else []))))
    engines = []
    for found in (rules, [NEVER] * LONG + rules):
        chain = Chain("ip", "t", "c", tuple(found), "forward", policy=policy)
        engines.append(Engine(0, FilterProgram({("ip", "t", "c"): chain}), Alone()))
    for source in range(8):
        for port in range(8):
            header = Header(6, Address(4, source), Address(4, 9), 5, port)
            ends = [
                engine.run("forward", [Passage(Packet(header, "first", mark=source % 2))], Tracker())[0].is_over
                for engine in engines
            ]
            assert ends[0] == ends[1]
