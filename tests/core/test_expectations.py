"""Expectations: how they are read, what of them does not hold, and what they survive."""

import json
from collections import Counter
from itertools import combinations
from pathlib import Path
from xml.etree import ElementTree

import pytest
from hypothesis import HealthCheck, given, settings
from hypothesis import strategies as st

from routrel.analysis.expectations.conditions import Conditions
from routrel.analysis.expectations.endangered import Endangering
from routrel.analysis.expectations.failures import (
    KINDS,
    NothingToFailError,
    TooManyFailuresError,
    failed,
    failure_of,
    failures_of,
)
from routrel.analysis.expectations.holding import Holding, flows_of, hold
from routrel.analysis.expectations.junit import junit_xml
from routrel.analysis.expectations.separate_ways import separate_ways
from routrel.analysis.expectations.single_ways import APARTS, MOST_COUNTED, ends_of_way
from routrel.analysis.expectations.stress import BROKEN, OUTCOMES, Stress, Watched, _outcome
from routrel.analysis.expectations.words import holding_lines
from routrel.analysis.held.groups import comparing
from routrel.analysis.held.under_failures import PlacesStressed, places_lines, places_together
from routrel.formats.errors import LoadError
from routrel.formats.expectations_file import expectation_data, read_expectations
from routrel.formats.sources import files_of, read_files
from routrel.forwarding.flow import Asker, Flow
from routrel.forwarding.flow_words import FlowError
from routrel.model.expectations import Expectation
from routrel.model.fields import replace
from routrel.routing.solve import Solved
from routrel.solving import solve
from tests.core.mixed_networks import documents, read
from tests.core.networks import load
from tests.core.speaker_networks import speakers
from tests.examples import examples

# A square r1-r2-r4-r3 with a host at either end, the way by r2 shorter; r2 and r3 stand in a site each, and the
# cables r1-r3 and r2-r4 lie in one duct. b's router drops what is not https.
SQUARE = """
sites: {west: {}, east: {}, shed: {}}
devices:
  a: {kind: host, gateway: 10.1.1.1, interfaces: {e: {addresses: [10.1.1.10/24]}}}
  b: {kind: host, gateway: 10.1.4.1, interfaces: {e: {addresses: [10.1.4.10/24]}}}
  r1: {site: west, interfaces: {lan: {addresses: [10.1.1.1/24]}, x: {addresses: [10.9.12.1/30]}, y: {addresses: [10.9.13.1/30], mtu: 1400}}, routing: {ospf: {areas: {0: {interfaces: {lan: {}, x: {cost: 10}, y: {cost: 10}}}}}}}
  r2: {site: shed, interfaces: {x: {addresses: [10.9.12.2/30]}, y: {addresses: [10.9.24.1/30]}}, routing: {ospf: {areas: {0: {interfaces: {x: {cost: 10}, y: {cost: 10}}}}}}}
  r3: {interfaces: {x: {addresses: [10.9.13.2/30], mtu: 1400}, y: {addresses: [10.9.34.1/30]}}, routing: {ospf: {areas: {0: {interfaces: {x: {cost: 10}, y: {cost: 20}}}}}}}
  r4: {site: east, interfaces: {lan: {addresses: [10.1.4.1/24], acl_out: https}, x: {addresses: [10.9.24.2/30]}, y: {addresses: [10.9.34.2/30]}}, routing: {ospf: {areas: {0: {interfaces: {lan: {}, x: {cost: 10}, y: {cost: 20}}}}}}, acls: {https: [{action: accept, protocol: tcp, destination_ports: [443]}]}}
links:
- [a:e, r1:lan]
- [b:e, r4:lan]
- {ends: [r1:x, r2:x], name: north}
- {ends: [r1:y, r3:x], risk_groups: [duct]}
- {ends: [r2:y, r4:x], risk_groups: [duct]}
- [r3:y, r4:y]
"""


def of(text: str):
    return read_expectations(f"- {{name: one, {text}}}".encode())


def reasons(text: str, network: str = SQUARE) -> list[str]:
    (expectation,) = of(text)
    checked = Conditions(load(network)).check(expectation, flows_of(expectation)[0])
    return [checked.refused] if checked.refused else list(checked.reasons)


@pytest.mark.parametrize(
    ("text", "why"),
    [
        ("from: a, to: b, on: tcp/443", []),
        ("from: a, to: b, on: tcp/22", ["blocked: no entry of ACL https matches"]),
        ("from: a, to: b, on: tcp/22, expect: never arrives", []),
        ("from: a, to: b, on: tcp/443, expect: never arrives", ["it arrives"]),
        ("from: b, to: a, on: tcp/443, expect: arrives", []),
        ("from: b, to: a, on: tcp/443", ["its answer is blocked"]),
        ("from: a, to: b, on: tcp/443, passes: r2", []),
        ("from: a, to: b, on: tcp/443, passes: [shed, north, 'r4:x']", []),
        ("from: a, to: b, on: tcp/443, passes: r3", ["it does not pass r3 on every way: a > r1 > r2 > r4 > b"]),
        ("from: a, to: b, on: tcp/443, avoids: [r3, 'r1:y']", []),
        ("from: a, to: b, on: tcp/443, avoids: 'r2:x'", ["it passes r2:x"]),
        ("from: a, to: b, on: tcp/443, avoids: nowhere", ["'nowhere' is no device, device:interface, link or site"]),
        ("from: a, to: b, on: tcp/443, same_way_back: true, hops: 4", []),
        ("from: a, to: b, on: tcp/443, hops: 3", ["4 hops, 3 at most: a > r1 > r2 > r4 > b"]),
        ("from: a, to: b, on: tcp/443, mtu: 1500", []),
        ("from: r1, to: 10.9.13.2, mtu: 1500", ["packets to 1400 bytes get through whole, 1500 expected"]),
        ("from: r1, to: r4, ways: 2", []),
        ("from: r1, to: r4, ways: 3", ["2 ways that share no links, 3 expected"]),
        ("from: r1, to: r4, ways: 2, apart: devices", []),
        ("from: r1, to: r4, ways: 2, apart: sites", []),
        ("from: r1, to: r4, ways: 2, apart: risk_groups", ["1 way that shares no risk groups, 2 expected"]),
        ("from: a, to: r4, ways: 2", ["1 way that shares no links, 2 expected"]),
        ("from: a, to: 192.0.2.1, ways: 2", ["unrouted: r1 has no route for 192.0.2.1"]),
        ("from: nobody, to: b", ["'nobody' is no device"]),
    ],
)  # fmt: skip
def test_what_does_not_hold_is_said(text, why):
    found = reasons(text)
    assert len(found) == len(why) and all(words in said for words, said in zip(why, found, strict=True)), found


def test_what_is_expected_to_survive_names_what_it_does_not():
    solved = load(SQUARE)
    found = hold(solved, of("from: a, to: b, on: tcp/443, survives: [links, devices, risk_groups, sites]"))
    (one,) = found.expectations
    assert one.state == "fails" and one.flows == [] and found.failures == []
    # r1 and r4 are the gateways, each in a site of its own; the duct holds a cable of both ways.
    assert [(failure.kind, failure.name) for failure in one.not_survived] == [
        ("devices", "r1"),
        ("devices", "r4"),
        ("sites", "west"),
        ("sites", "east"),
        ("risk_groups", "duct"),
    ]
    assert one.not_survived[0].change == {"disable": "device", "at": "r1"}
    assert one.not_survived[4].change == {"disable": "risk_group", "at": "duct"}


def test_stress_says_what_each_failure_does_the_worst_first():
    found = hold(load(SQUARE), of("from: a, to: b, on: tcp/443"), ["links", "devices"])
    # Whatever of the ring fails, one of its two ways is left.
    assert [(one.name, one.breaks, one.single) for one in found.failures] == [
        ("r1", 1, 0),
        ("r4", 1, 0),
        ("north", 0, 1),
        ("r1:y – r3:x", 0, 1),
        ("r2:y – r4:x", 0, 1),
        ("r3:y – r4:y", 0, 1),
        ("r2", 0, 1),
        ("r3", 0, 1),
    ]
    # Left: the hosts' own cables.
    assert (found.failures_tried, found.harmless) == (10, 2)
    # The other way round and the hosts' own cables are touched by nothing that goes either way.
    assert found.ruled_out == 5
    assert found.words == "1 of 1 expectation holds; 8 of 10 failures hurt what is expected"
    lines = list(holding_lines(found))
    assert "! without device r1: 1 × fails (one)" in lines
    assert lines[-1] == "2 of 10 failures hurt nothing expected; 5 touch no way or route in use"


@pytest.mark.parametrize(
    ("text", "message"),
    [
        ("- {from: a, to: b}", "an expectation lacks the key 'name'"),
        ("- {name: x, from: a, to: b, expect: maybe}", "this word is not known here"),
        ("- {name: x, from: a, to: b}\n- {name: x, from: a, to: b}", "stands already, in line 1"),
        ("- {name: x, from: a, to: b, apart: links}", "'apart' says what 'ways' do not share"),
        ("- {name: x, from: a, to: b, expect: never arrives, hops: 3}", "what never arrives goes no way"),
        ("- {name: x, from: a, to: b, expect: arrives, same_way_back: true}", "a way back is asked where it works"),
        ("- {name: x, from: a, to: b, ways: 1}", "the number is out of range"),
        ("- {name: x, from: [], to: b}", "the list is too short"),
        ("- {name: x, from: a, to: b, survives: cables}", "this word is not known here"),
        ("name: x", "a list is expected here"),
        ("- {name: x, from: a, to: [a, a]}", "there is no flow from a place to itself"),
        (f"- {{name: x, from: {[*range(200)]}, to: {[*range(200)]}}}", "too many flows"),
    ],
)  # fmt: skip
def test_what_cannot_be_read_is_said_at_its_place(text, message):
    with pytest.raises(LoadError) as raised:
        read_expectations(text.encode())
    assert message in str(raised.value) and "expectations.yaml:" in str(raised.value)


def test_an_expectation_is_written_as_it_was_read():
    text = (
        "{name: one, from: [a, b], to: r4, on: [tcp/443, icmp], enter: 'r1:x', expect: arrives, passes: r2, avoids: [r3, x],"
        " hops: 4, mtu: 1500, ways: 2, apart: sites, survives: [links, sites], severity: note, owner: me, note: why, tags: [t]}"
    )
    (one,) = read_expectations(f"- {text}".encode())
    data = expectation_data(one)
    (again,) = read_expectations(f"- {json.dumps({'name': 'one', **data})}".encode())
    assert replace(again, place=one.place) == one
    (plain,) = read_expectations(b"- {name: one, from: a, to: b, on: icmp, expect: works, severity: error}")
    assert expectation_data(plain) == {"from": "a", "to": "b"}


def test_expectations_stand_beside_a_network_and_its_errors_come_together():
    files = {
        "network.yaml": b"routrel: 1\nname: n\ndevices: {a: {}}",
        "expectations.yaml": b"- {name: x, from: a, to: b}",
    }
    (one,) = read_files(files).expectations
    assert (one.name, one.sources, one.place.line) == ("x", ("a",), 1)
    with pytest.raises(LoadError) as raised:
        read_files({"network.yaml": b"routrel: 1", "expectations.yaml": b"- {name: x}"})
    assert {error.place.file for error in raised.value.errors} == {"network.yaml", "expectations.yaml"}
    assert read_files({**files, "expectations.yaml": b"# none yet\n"}).expectations == ()


def test_junit_has_a_case_for_each_and_skips_notes():
    expectations = (
        *of("from: a, to: b, on: tcp/443"),
        *read_expectations(b"- {name: two, from: a, to: b, on: tcp/22, owner: desk}"),
        *read_expectations(b"- {name: three, from: a, to: b, on: tcp/22, severity: note}"),
        *read_expectations(b"- {name: four, from: nobody, to: b}"),
    )
    suite = ElementTree.fromstring(junit_xml("n", hold(load(SQUARE), expectations)))
    assert {key: suite.get(key) for key in ("tests", "failures", "errors", "skipped")} == {
        "tests": "4",
        "failures": "1",
        "errors": "1",
        "skipped": "1",
    }
    assert [[part.tag for part in case] for case in suite] == [[], ["failure"], ["skipped"], ["error"]]
    assert "a > b tcp/22: blocked" in suite[1][0].text and suite[1].get("classname") == "desk"


def test_the_demo_expects_a_dozen_things():
    network = read_files(files_of(Path(__file__).parents[2] / "examples" / "saltmarsh"))
    assert len(network.expectations) >= 12
    quick = [one for one in network.expectations if not one.survives]
    states = {one.name: one.state for one in hold(solve(network), quick).expectations}
    assert [name for name, state in states.items() if state != "holds"] == [
        "the offices look up names",
        "tracking is heard",
        "pictures come whole",
    ]


def test_what_hangs_on_one_thing_is_named_the_worst_first():
    expectations = read_expectations(
        b"- {name: moved, from: a, to: b, on: tcp/443}\n"
        b"- {name: kept, from: r1, to: 10.9.13.2, on: icmp}\n"
        b"- {name: gone, from: r2, to: b, on: tcp/443, severity: note}\n"
        b"- {name: failing, from: a, to: b, on: tcp/22}\n"
    )
    found = Endangering(load(SQUARE), expectations)
    cable = found.by("links", "r2:y")
    # Of the two ways round the square one is left, also for who does not pass the cable.
    assert [(one.name, one.outcome) for one in cable.expectations] == [
        ("moved", "single"),
        ("kept", "single"),
        ("gone", "single"),
    ]
    assert cable.words == "without link r2:y – r4:x 0 expectations fail, 3 are left a single way, 0 go otherwise"
    router = found.by("devices", "r4")
    assert [(one.name, one.outcome, one.flows) for one in router.expectations] == [
        ("moved", "breaks", ["a > b tcp/443"]),
        ("gone", "breaks", ["r2 > b tcp/443"]),
        ("kept", "single", ["r1 > 10.9.13.2 icmp"]),
    ]
    assert router.words == "without device r4 2 expectations fail, 1 is left a single way, 0 go otherwise"
    with pytest.raises(NothingToFailError, match="that is up; did you mean r4"):
        found.by("devices", "r44")


def test_two_failures_at_once_say_what_neither_does_alone():
    found = hold(load(SQUARE), of("from: a, to: 10.1.4.1"), ["links"], two_at_once=True)
    cut = {(one.name, one.second.name) for one in found.failures if one.breaks}
    # One cable of either way round; the hosts' cables, and two of one way, cut nothing that is not cut by one.
    ways = ("north", "r2:y – r4:x"), ("r1:y – r3:x", "r3:y – r4:y")
    in_order = [link.name or " – ".join(map(str, link.ends)) for link in load(SQUARE).network.links]
    assert cut == {tuple(sorted((one, other), key=in_order.index)) for one in ways[0] for other in ways[1]}
    assert (found.failures_tried, found.harmless) == (15, 11)
    assert found.failures[0].second.change["disable"] == "link"
    assert any(" and link " in line for line in holding_lines(found))


def test_too_many_failures_at_once_are_refused():
    names = [f"r{number}" for number in range(320)]
    devices = ", ".join(
        f"{name}: {{interfaces: {{lo: {{addresses: [10.0.{number // 250}.{number % 250}/32]}}}}}}"
        for number, name in enumerate(names)
    )
    with pytest.raises(TooManyFailuresError, match="two of 320 failures at once are 51,040 to try"):
        hold(load(f"devices: {{{devices}}}"), of("from: r1, to: 10.0.0.1"), ["devices"], two_at_once=True)


@given(st.one_of(documents(), speakers()))
@settings(max_examples=examples(5), deadline=None, suppress_health_check=[HealthCheck.too_slow])
def test_two_at_once_are_what_solving_both_anew_gives(document):
    solved = solve(read(document))
    flows = flows_between(solved)[:12]
    expectations = [Expectation(f"{one.flow}", (one.flow.source,), (one.flow.destination,)) for one in flows]
    found = Holding(solved, expectations, ["devices"], False, True)
    count = len(found.failures)
    for number in range(0, count, max(1, count // 5)):
        failure = found.failures[number]
        first, second = (found.failures.alone[one] for one in found.failures.numbers(number))
        states = [
            Asker(solve(failed(failed(solved.network, one), other)))
            for one, other in ((first, second), (first, first), (second, second))
        ]
        counts = Counter[str]()
        for one in flows:
            if {one.flow.source, one.flow.destination} & failure.devices:
                continue
            both, *alone = (outcome_counted_anew(one, solved, state) for state in states)
            if both is not None and all(
                other is None or OUTCOMES.index(both) < OUTCOMES.index(other) for other in alone
            ):
                counts[both] += 1
        (part,) = [found.part(range(number, number + 1))]
        said = part.failures[0] if part.failures else None
        assert {one: getattr(said, one, 0) for one in OUTCOMES} == {one: counts[one] for one in OUTCOMES}, failure


def test_all_traffic_under_failures_is_compared_with_each():
    solved = load(SQUARE)
    stressed = PlacesStressed(solved, ["devices", "links"])
    parts = [stressed.part(range(number, number + 1)) for number in range(len(stressed.failures))]
    found = places_together(parts)
    assert (found.failures_tried, found.failures_tried - found.harmless) == (10, len(found.failures))
    of = {one.name: one for one in found.failures}
    *_, cold = comparing(solved, solve(failed(solved.network, failure_of(solved, "devices", "r1"))))
    assert of["r1"].effects == cold.held.effects and of["r1"].is_worse
    assert not of["north"].is_worse  # there is another way for all
    assert list(places_lines(found))[1].startswith("- without device r")


def flows_between(solved) -> list[Watched]:
    """Every flow between two devices that works."""
    asker, found = Asker(solved), []
    for source in solved.topology.devices:
        for target in solved.topology.devices:
            try:
                walk = asker.ask(Flow(source.name, target.name))
            except FlowError:
                continue
            if source is not target and walk.is_good:
                found.append(Watched(walk.flow, "works", walk))
    return found


def outcome_counted_anew(watched: Watched, solved: Solved, after: Asker) -> str | None:
    """What becomes of a flow, with the ways between its routers counted in both states."""
    outcome, ends = _outcome(watched, after), ends_of_way(solved.topology, watched.walk)
    if outcome in BROKEN or ends is None:
        return outcome
    for apart in APARTS:
        ways = [separate_ways(state.topology, *ends, apart, MOST_COUNTED) for state in (solved, after.solved)]
        if 1 < ways[0] < MOST_COUNTED and ways[1] < 2:
            return "single"
    return outcome


@given(st.one_of(documents(), speakers()))
@settings(max_examples=examples(10), deadline=None, suppress_health_check=[HealthCheck.too_slow])
def test_stress_is_what_solving_each_failure_anew_and_walking_everything_gives(document):
    solved = solve(read(document))
    flows = flows_between(solved)
    stress = Stress(solved, flows)
    for failure in failures_of(solved, KINDS):
        cold = solve(failed(solved.network, failure))
        asker = Asker(cold)
        expected = {
            number: outcome
            for number, one in enumerate(flows)
            if not {one.flow.source, one.flow.destination} & failure.devices
            and (outcome := outcome_counted_anew(one, solved, asker)) is not None
        }
        assert {hurt.number: hurt.outcome for hurt in stress.under(failure)} == expected, failure


@st.composite
def cabled(draw):
    """Up to seven routers with cables among them, each in a site or none, cables in ducts or none."""
    count = draw(st.integers(2, 7))
    pairs = draw(st.lists(st.sampled_from([(a, b) for a in range(count) for b in range(a)]), min_size=1, max_size=12))
    devices = {f"r{one}": {"interfaces": {}} for one in range(count)}
    for one in range(2, count):
        if site := draw(st.sampled_from([None, None, "s0", "s1", "s2"])):
            devices[f"r{one}"]["site"] = site
    links = []
    for number, pair in enumerate(pairs):
        for host, end in enumerate(pair, 1):
            devices[f"r{end}"]["interfaces"][f"c{number}"] = {"addresses": [f"10.0.{number}.{host}/30"]}
        groups = draw(st.lists(st.sampled_from(["d0", "d1", "d2"]), max_size=2, unique=True))
        links.append({"ends": [f"r{end}:c{number}" for end in pair], "risk_groups": groups})
    return {"routrel": 1, "name": "n", "sites": {f"s{one}": {} for one in range(3)}, "devices": devices, "links": links}


@given(cabled(), st.sampled_from(["links", "devices", "sites", "risk_groups"]))
@settings(max_examples=examples(150), deadline=None, suppress_health_check=[HealthCheck.too_slow])
def test_separate_ways_are_the_fewest_things_that_part_the_two(document, apart):
    solved = solve(read(document))
    network = solved.network
    cables = [
        ({end.device for end in link.ends}, frozenset([f"cable {number}"]), frozenset(link.risk_groups))
        for number, link in enumerate(network.links)
    ]
    ends = {"r0", "r1"}

    def met(device: str) -> frozenset[str]:
        if device in ends:
            return frozenset()
        site = network.devices[device].site
        return {"devices": frozenset([device]), "sites": frozenset([site] if site else [])}.get(apart, frozenset())

    def joined(gone: set[str]) -> bool:
        seen, waiting = {"r0"}, ["r0"]
        while waiting:
            device = waiting.pop()
            for pair, own, groups in cables:
                cut = own if apart == "links" else groups if apart == "risk_groups" else frozenset()
                for other in pair - {device} if device in pair and not cut & gone else ():
                    if other not in seen and not met(other) & gone:
                        seen.add(other)
                        waiting.append(other)
        return "r1" in seen

    things = {
        "links": [f"cable {number}" for number in range(len(cables))],
        "devices": sorted(set(network.devices) - ends),
        "sites": ["s0", "s1", "s2"],
        "risk_groups": ["d0", "d1", "d2"],
    }[apart]
    fewest = next(
        (count for count in range(4) if any(not joined(set(gone)) for gone in combinations(things, count))), 4
    )
    index = solved.topology.device_index
    assert separate_ways(solved.topology, index["r0"], index["r1"], apart, 4) == fewest
