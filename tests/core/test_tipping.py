"""Tipping points: each is tried by writing the value into the network file and solving it anew."""

import copy

from hypothesis import HealthCheck, assume, given, settings

from routrel.analysis.contest.explainer import Explainer
from routrel.analysis.contest.tipping import Outcome, outcome_of, tipping_points
from routrel.routing.solve import Solved
from routrel.solving import solve
from tests.core.mixed_networks import documents, read
from tests.core.networks import load, router
from tests.examples import examples


def in_table(solved: Solved, instance: int, number: int) -> Outcome:
    route = solved.table(instance).get(number)
    return (
        Outcome("", "", (), "")
        if route is None
        else Outcome(route.protocol, route.origin, route.next_hops, route.action)
    )


def applied(document: dict, point, value: int) -> dict:
    """The network file with one interface's cost, metric or delay changed."""
    changed = copy.deepcopy(document)
    routing = changed["devices"][point.device]["routing"]
    interface = point.what.rpartition(" of ")[2]
    if point.what.startswith("preference"):
        routing.setdefault("preferences", {})[point.what.rpartition(" of ")[2]] = value
    elif point.protocol == "ospf":
        for area in routing["ospf"]["areas"].values():
            if interface in area["interfaces"]:
                area["interfaces"][interface]["cost"] = value
    else:
        word = "delay" if point.protocol == "eigrp" else "metric"
        routing[point.protocol]["interfaces"][interface][word] = value
    return changed


@given(documents())
@settings(max_examples=examples(10), deadline=None, suppress_health_check=list(HealthCheck))
def test_every_tipping_point_is_where_the_table_changes(document):
    for device in document["devices"].values():
        # What redistribution would do next is not part of a tipping point.
        for protocol in ("ospf", "isis", "rip", "eigrp"):
            device["routing"].get(protocol, {}).pop("redistribute", None)
            device["routing"].get(protocol, {}).pop("originate_default", None)
        device["routing"].pop("static", None)
    solved = solve(read(document))
    explainer = Explainer(solved)
    tried = 0
    for instance in range(len(solved.topology.devices)):
        for prefix in solved.prefixes.prefixes:
            if not str(prefix).startswith(("10.0.0", "2001:db8::")) or tried > 40:
                continue
            contest = explainer.contest(instance, prefix)
            for point in tipping_points(explainer, contest):
                before = point.value - (1 if point.above else -1)
                for value, wanted in ((point.value, point.becomes), (before, outcome_of(contest))):
                    again = solve(read(applied(document, point, value)))
                    assert in_table(again, instance, again.prefixes.number[prefix]) == wanted, (point, value)
                tried += 1
    assume(tried)


def test_a_tipping_point_says_the_value_and_what_becomes_of_the_route():
    text = (
        "devices:\n"
        + router(
            "a",
            {"e1": "addresses: [10.1.0.1/30]", "e2": "addresses: [10.2.0.1/30]"},
            "ospf: {areas: {0: {interfaces: {e1: {cost: 10}, e2: {cost: 41}}}}}",
        )
        + router(
            "b",
            {"lo": "addresses: [10.0.0.2/32]", "e1": "addresses: [10.1.0.2/30]", "e2": "addresses: [10.2.0.2/30]"},
            "ospf: {areas: {0: {interfaces: {lo: {}, e1: {}, e2: {}}}}}",
        )
        + 'links:\n- ["a:e1", "b:e1"]\n- ["a:e2", "b:e2"]\n'
    )
    solved = load(text)
    explainer = Explainer(solved)
    prefix = next(p for p in solved.prefixes.prefixes if str(p) == "10.0.0.2/32")
    points = tipping_points(explainer, explainer.contest(0, prefix))
    assert [(p.what, p.now, p.value, p.above, len(p.becomes.next_hops)) for p in points] == [
        ("cost of e1", 10, 41, True, 2),
        ("cost of e2", 41, 10, False, 2),
    ]
    assert points[0].beyond is not None
    assert len(points[0].beyond.next_hops) == 1


def test_a_metric_put_in_tips_too():
    text = "devices:\n" + "".join(
        router(
            name,
            {"e1": f"addresses: [10.1.0.{n}/24]"},
            "ospf: {areas: {0: {interfaces: {e1: {}}}}"
            + (f", redistribute: [{{from: static, metric: {metric}}}]}}" if metric else "}")
            + ("\nstatic: [{prefix: 192.0.2.0/24, action: discard}]" if metric else ""),
        )
        for n, (name, metric) in enumerate((("a", 0), ("b", 20), ("c", 50)), 1)
    )
    solved = load(text + 'links:\n- ["a:e1", "b:e1", "c:e1"]\n')
    explainer = Explainer(solved)
    prefix = next(p for p in solved.prefixes.prefixes if str(p) == "192.0.2.0/24")
    points = tipping_points(explainer, explainer.contest(0, prefix))
    assert {(p.device, p.value, p.above) for p in points if p.what.startswith("metric")} == {
        ("b", 50, True),
        ("c", 20, False),
    }
