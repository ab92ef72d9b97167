"""What is told of a flow without solving anew: it stays as it is whichever ports go down that it does not rest on."""

import json

import pytest
from hypothesis import HealthCheck, given, settings
from hypothesis import strategies as st

from routrel.analysis.expectations.failures import Failure, failed, failures_of
from routrel.analysis.expectations.flow_supports import FlowSupports
from routrel.analysis.timeline.flow_states import outcome_of
from routrel.analysis.walk_verdicts import Answerer
from routrel.formats.network_file import read_network
from routrel.forwarding.flow import Asker, Flow, Standing, Walk
from routrel.forwarding.flow_words import FlowError
from routrel.model.addresses import Address
from routrel.model.fields import replace
from routrel.model.kernel_routing import KernelRouting
from routrel.model.network import InterfaceName
from routrel.routing.solve import Solved
from routrel.routing.supports import LookupSupports
from routrel.solving import solve
from tests.core.mixed_networks import documents, read
from tests.core.networks import load, router, walk
from tests.core.speaker_networks import speakers
from tests.core.test_areas_reference import labs
from tests.examples import examples

KINDS = ("links", "interfaces", "devices", "sites", "risk_groups", "sessions")


def together(failures: list[Failure]) -> Failure:
    """All of some at once."""
    found = failures[0]
    for other in failures[1:]:
        found = found.with_second(other)
    return found


def some_of(failures: list[Failure]):
    return st.lists(st.sampled_from(failures), min_size=1, max_size=4, unique_by=lambda one: one.words).map(together)


def lookups_hold(solved: Solved, data: st.DataObject) -> None:
    """Hold every lookup that is told not to rest on what fails against solving without it."""
    failures = list(failures_of(solved, KINDS))
    if not failures:
        return
    flows, lookups = FlowSupports(solved), LookupSupports(solved)
    failure = data.draw(some_of(failures))
    moved = flows.moved(failure)
    if moved is None:
        return
    cold = solve(failed(solved.network, failure))
    addresses = {address for port in solved.topology.ports for address in port.addresses}
    for instance in range(len(solved.topology.instances)):
        for address in addresses:
            supports = lookups.of([(instance, address)])
            if supports is not None and supports.isdisjoint(moved):
                assert cold.lookup(instance, address) == solved.lookup(instance, address), (instance, str(address))


def half_holds(supports: FlowSupports, walked: Walk, moved: frozenset[int], after: Asker) -> None:
    """A flow of which one way rests on nothing that goes down: with that taken as it was, all is as walked anew."""
    ways = supports.of_ways(walked)
    if walked.parts or None in ways or len(ways) < 2:
        return
    there, back = (ports is not None and ports.isdisjoint(moved) for ports in ways)
    try:
        anew = after.ask(walked.flow)
    except FlowError:
        return
    taken = after.ask(walked.flow, standing=Standing(walked, there, back))
    assert [strand.stops for strand in taken.strands] == [strand.stops for strand in anew.strands], walked.flow
    assert (taken.reply_note, taken.stateful, taken.is_good) == (anew.reply_note, anew.stateful, anew.is_good)


def flows_hold(solved: Solved, data: st.DataObject) -> None:
    """The same of flows between any two devices, in all that is said of them."""
    failures = list(failures_of(solved, KINDS))
    if not failures:
        return
    supports, names, before = FlowSupports(solved), list(solved.network.devices), Answerer(solved)
    moved = supports.moved(failure := data.draw(some_of(failures)))
    if moved is None:
        return
    after = Answerer(solve(failed(solved.network, failure)))
    for flow in (Flow(source, target) for source in names for target in names if source != target):
        try:
            walked = before.asker.ask(flow)
        except FlowError:
            continue
        if (ports := supports.of(walked)) is None:
            continue
        if not ports.isdisjoint(moved):
            half_holds(supports, walked, moved, after.asker)
            continue
        one, other = outcome_of(before, flow), outcome_of(after, flow)
        assert (one.ways, one.routes, one.good) == (other.ways, other.routes, other.good), flow
        assert not one.good or one == other, flow


@given(labs(), st.data())
@settings(max_examples=examples(80), deadline=None, suppress_health_check=[HealthCheck.too_slow])
def test_routes_of_areas_rest_on_no_port_that_is_not_said(lab, data):
    if data.draw(st.sampled_from([True, True, True, False])):  # of what ranges cover nothing is told
        for device in lab.document["devices"].values():
            for area in device["routing"]["ospf"]["areas"].values():
                area.pop("ranges", None)
    lookups_hold(solve(read_network({"n.json": json.dumps(lab.document).encode()})), data)


@given(st.one_of(documents(("ospf",), lans=2), documents(lans=1), speakers()), st.data())
@settings(max_examples=examples(50), deadline=None, suppress_health_check=[HealthCheck.too_slow])
def test_routes_of_mixed_networks_rest_on_no_port_that_is_not_said(document, data):
    lookups_hold(solve(read(document)), data)


@given(st.one_of(documents(("ospf",), lans=2), labs().map(lambda lab: lab.document)), st.data())
@settings(max_examples=examples(40), deadline=None, suppress_health_check=[HealthCheck.too_slow])
def test_flows_rest_on_no_port_that_is_not_said(document, data):
    flows_hold(solve(read(document)), data)


def ospf(*areas: str) -> str:
    return f"ospf: {{areas: {{{', '.join(areas)}}}}}"


def area(number: int, **costs: int) -> str:
    inside = ", ".join(f"{name}: {{cost: {cost}}}" for name, cost in costs.items())
    return f"{number}: {{interfaces: {{{inside}}}}}"


ONE_WAY_TO_THE_SHELF = f"""
devices:
{router("post", {"a": "addresses: [172.16.1.1/30]", "b": "addresses: [172.16.2.1/30]"}, ospf(area(1, a=10, b=1)))}
{
    router(
        "near",
        {"a": "addresses: [172.16.1.2/30]", "c": "addresses: [172.16.3.1/30]"},
        ospf(area(0, c=2), area(1, a=10)),
    )
}
{
    router(
        "wide",
        {
            "b": "addresses: [172.16.2.2/30]",
            "d": "addresses: [172.16.4.1/30]",
            "e": "addresses: [172.16.5.1/30]",
            "l": "addresses: [10.2.9.1/24]",
        },
        ospf(area(0, d=2), area(1, b=1), area(2, e=100, l=1)),
    )
}
{
    router(
        "hub",
        {"c": "addresses: [172.16.3.2/30]", "d": "addresses: [172.16.4.2/30]", "f": "addresses: [172.16.6.1/30]"},
        ospf(area(0, c=2, d=2), area(2, f=1)),
    )
}
{
    router(
        "shelf",
        {"g": "addresses: [172.16.7.2/30]", "f": "addresses: [172.16.6.2/30]", "l": "addresses: [10.2.1.1/24]"},
        ospf(area(2, g=100, f=1, l=1)),
    )
}
{router("mid", {"e": "addresses: [172.16.5.2/30]", "g": "addresses: [172.16.7.1/30]"}, ospf(area(2, e=1, g=1)))}
links:
  - [post:a, near:a]
  - [post:b, wide:b]
  - [near:c, hub:c]
  - [wide:d, hub:d]
  - [wide:e, mid:e]
  - [mid:g, shelf:g]
  - [hub:f, shelf:f]
"""


def test_a_border_whose_way_within_an_area_fails_may_be_nearer_by_one_between_areas():
    # RFC 2328 section 16.2: wide keeps to area 2 at 101 for as long as it can, then goes by the backbone at 4.
    solved = load(ONE_WAY_TO_THE_SHELF)
    before = walk(solved, "post", "10.2.1.1")
    failures = {one.at: one for one in failures_of(solved, ["links"])}
    supports = FlowSupports(solved)
    rests_on, moved = supports.of(before), {at: supports.moved(one) for at, one in failures.items()}
    assert rests_on is not None
    assert {at for at, ports in moved.items() if ports is None or ports & rests_on} == {
        *("post:a", "post:b", "near:c", "wide:e", "mid:g", "hub:f")
    }
    names = solved.topology.devices
    cold = {at: walk(solve(failed(solved.network, one)), "post", "10.2.1.1") for at, one in failures.items()}
    ways = {at: [names[stop.device].name for stop in one.forward.stops] for at, one in cold.items()}
    assert ways["wide:d"] == ["post", "near", "hub", "shelf"]
    assert ways["wide:e"] == ["post", "wide", "hub", "shelf"]


def pair(policies: str = "", outside: str = "", a: str = "") -> Solved:
    """Two routers whose loopbacks OSPF joins, and BGP that takes in what OSPF has; more of ``a``."""
    bgp = "bgp: {{as: 64500, neighbors: {{10.0.0.{}: {{as: 64500}}{}}}, redistribute: [{{from: ospf}}]}}"
    texts = [
        router(
            name,
            {"lo": f"addresses: [10.0.0.{own}/32]", "e": f"addresses: [10.1.0.{own}/30]"},
            f"{ospf(area(0, lo=1, e=10))}\n{bgp.format(3 - own, more)}{routing}",
            policies,
        )
        for name, own, more, routing in (("a", 1, outside, a), ("b", 2, "", ""))
    ]
    return load(f"devices:\n{''.join(texts)}links: [[a:e, b:e]]\n")


def rests_on(solved: Solved, address: str) -> set[str] | None:
    ports = LookupSupports(solved).of([(0, Address.parse(address))])
    return None if ports is None else {str(solved.topology.ports[port].name) for port in ports}


def test_what_may_come_but_cannot_be_preferred_counts_for_nothing():
    # OSPF has preference 110: internal BGP (200) and RIP (120) never take its place, external BGP (20) may.
    assert rests_on(pair(), "10.0.0.2") == {"a:e", "b:e", "b:lo"}
    rip = "\nrip: {interfaces: {e: {}}, redistribute: [{from: ospf, metric: 1}]}"
    assert rests_on(pair(a=rip), "10.0.0.2") == {"a:e", "b:e", "b:lo"}
    assert rests_on(pair(outside=", 10.1.0.9: {as: 64999}"), "10.0.0.2") is None
    preferred = "policies: {near: [{set: {preference: 5}, result: accept}]}"
    assert rests_on(pair(preferred), "10.0.0.2") is None


def test_what_stands_by_itself_rests_on_its_own_ports_whatever_protocols_bring():
    static = "\nstatic: [{prefix: 192.0.2.0/24, next_hop: 10.1.0.2}, {prefix: 198.51.100.0/24, action: discard}]"
    assert rests_on(pair(a=static), "10.1.0.2") == {"a:e"}
    assert rests_on(pair(a=static), "192.0.2.9") == {"a:e"}
    assert rests_on(pair(a=static), "198.51.100.9") == set()
    # Nobody has a prefix that covers it.
    assert rests_on(pair(), "203.0.113.9") == set()


def test_of_a_linux_router_nothing_is_told():
    solved = pair()
    solved.topology.devices[1] = replace(solved.topology.devices[1], kernel_routing=KernelRouting())
    assert rests_on(solved, "10.0.0.2") is None


def test_what_a_failure_moves_is_told_at_the_edge_of_a_segment_alone():
    hosts = "".join(
        f"  h{number}: {{kind: host, gateway: 10.5.0.1, interfaces: {{e: {{addresses: [10.5.0.{number}/24]}}}}}}\n"
        for number in (7, 8)
    )
    lan = router("r", {"lan": "addresses: [10.5.0.1/24]"})
    solved = load(
        f"devices:\n{lan}{hosts}  s: {{kind: switch, interfaces: {{p1: {{}}, p2: {{}}, p3: {{}}, up: {{}}}}}}\n"
        "  t: {kind: switch, interfaces: {p: {}, up: {}}}\n"
        "links: [[r:lan, s:p1], [h7:e, s:p2], [s:up, t:up], [h8:e, t:p]]\n"
    )
    supports = FlowSupports(solved)
    moved = {one.words: supports.moved(one) for one in failures_of(solved, ["links", "devices"])}
    everybody = {solved.topology.port_index[InterfaceName(*end)] for end in (("r", "lan"), ("h7", "e"), ("h8", "e"))}
    # A host's cable takes its host out of the segment; the cable between the switches may part anybody.
    assert moved["link h7:e – s:p2"] == moved["device r"] == everybody
    assert moved["link s:up – t:up"] is moved["device s"] is None


def half_way(of_m: str) -> Solved:
    """There by m and n, back by x and m, each link at what it costs that way."""

    def ends(**costs: int) -> str:
        return ospf(area(0, **costs))

    def interfaces(**addresses: str) -> dict[str, str]:
        return {name: f"addresses: [{address}]" for name, address in addresses.items()}

    acls = {"toN": ", acl_out: out", "toX": ", acl_in: in"} if of_m else {}
    at_m = interfaces(toR="10.1.0.2/30", toN="10.2.0.1/30", toX="10.3.0.1/30")
    at_r = interfaces(toM="10.1.0.1/30", toX="10.4.0.1/30", lo="10.0.0.1/32")
    texts = [
        router("r", at_r, ends(toM=1, toX=20, lo=1)),
        router("m", {name: text + acls.get(name, "") for name, text in at_m.items()}, ends(toR=1, toN=1, toX=30), of_m),
        router("n", interfaces(toM="10.2.0.2/30", toT="10.5.0.1/30"), ends(toM=50, toT=1)),
        router("t", interfaces(toN="10.5.0.2/30", toX="10.6.0.1/30", lo="10.0.0.9/32"), ends(toN=50, toX=1, lo=1)),
        router("x", interfaces(toT="10.6.0.2/30", toM="10.3.0.2/30", toR="10.4.0.2/30"), ends(toT=1, toM=1, toR=40)),
    ]
    links = "[[r:toM, m:toR], [m:toN, n:toM], [n:toT, t:toN], [t:toX, x:toT], [x:toM, m:toX], [r:toX, x:toR]]"
    return load(f"devices:\n{''.join(texts)}links: {links}\n")


STATE_AT_M = """
acls:
  out: [{action: accept, stateful: true}]
  in: [{action: accept, protocol: 89}]
"""


@pytest.mark.parametrize(("source", "of_m"), [(None, ""), ("10.0.0.1", STATE_AT_M)], ids=["address", "state"])
def test_the_way_back_is_another_where_the_way_there_gives_it_another_start_or_no_state(source, of_m):
    """The way back rests on nothing that fails, but it begins with what the way there leaves."""
    solved = half_way(of_m)
    walked, supports = walk(solved, "r", "10.0.0.9", source_address=source), FlowSupports(solved)
    assert walked.is_good
    failure = next(one for one in failures_of(solved, ["links"]) if one.at == "m:toN")
    there, back = supports.of_ways(walked)
    moved = supports.moved(failure)
    assert there & moved and not back & moved
    after = Asker(solve(failed(solved.network, failure)))
    taken, anew = after.ask(walked.flow, standing=Standing(walked, False, True)), after.ask(walked.flow)
    assert [strand.stops for strand in taken.strands] == [strand.stops for strand in anew.strands]
    assert taken.reply.stops != walked.reply.stops
