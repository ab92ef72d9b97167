"""The forest towards a destination, and drift between observed and computed tables."""

from routrel.analysis.check import check
from routrel.analysis.contest.why import parse_prefix
from routrel.analysis.drift import drift
from routrel.analysis.routes_to import routes_to
from tests.core.networks import load, plain, router

LINE = (
    "devices:\n"
    + router("a", {"e1": "addresses: [10.1.0.1/30]"}, "%s")
    + router(
        "b",
        {"e1": "addresses: [10.1.0.2/30]", "e2": "addresses: [10.2.0.1/30]"},
        "static: [{prefix: 10.9.0.0/24, next_hop: 10.2.0.2}, {prefix: 10.8.0.0/24, next_hop: 10.1.0.1}]",
    )
    + router(
        "c",
        {"e1": "addresses: [10.2.0.2/30]", "e2": "addresses: [10.9.0.1/24]", "up": "addresses: [192.0.2.1/30]"},
        "static: [{prefix: 203.0.113.0/24, next_hop: 192.0.2.2}]",
    )
    + '%slinks:\n- ["a:e1", "b:e1"]\n- ["b:e2", "c:e1"]\n'
)
DEFAULT = "static: [{prefix: 0.0.0.0/0, next_hop: 10.1.0.2}]"


def labels(text: str, asked: str) -> dict[str, list[str]]:
    """Devices by the label of their group."""
    answer = plain(routes_to(load(text), parse_prefix(asked)))
    return {group["label"]: [answer["rows"][row]["device"] for row in group["rows"]] for group in answer["groups"]}


def test_devices_are_grouped_by_where_their_traffic_ends():
    found = labels(LINE % (DEFAULT, ""), "10.9.0.7")
    assert found == {"to c:e2": ["b", "c"], "by default to c:e2": ["a"]}


def test_a_prefix_is_asked_with_its_own_length():
    assert labels(LINE % (DEFAULT, ""), "10.9.0.0/24")["to c:e2"] == ["b", "c"]
    wider = labels(LINE % (DEFAULT, ""), "10.8.0.0/15")
    assert wider == {"by default no route at b": ["a"], "no route": ["b", "c"]}


def test_what_leaves_is_dropped_or_goes_round_is_a_group_too():
    assert "leaves by c:up" in labels(LINE % (DEFAULT, ""), "203.0.113.9")
    assert "by default goes round at a and goes round at b" in labels(LINE % (DEFAULT, ""), "10.8.0.1")
    drop = "static: [{prefix: 10.9.0.0/24, action: discard}]"
    assert labels(LINE % (drop, ""), "10.9.0.7")["discarded at a"] == ["a"]


def test_steps_lead_to_the_next_devices():
    answer = plain(routes_to(load(LINE % (DEFAULT, "")), parse_prefix("10.9.0.7")))
    steps = {row["device"]: row["steps"] for row in answer["rows"]}
    assert steps["a"] == [{"device": "b", "interface": "e1", "links": [0]}]
    assert steps["c"] == []


OBSERVED = """    observed:
    - {prefix: 0.0.0.0/0, protocol: static, next_hops: [{address: 10.1.0.2, interface: e1}]}
    - {prefix: 10.7.0.0/24, protocol: ospf, next_hops: [{address: 10.1.0.2}], metric: 20}
"""


def with_observed(text: str, static: str = DEFAULT) -> str:
    return (LINE % (static, "")).replace("  b:\n", f"{text}  b:\n", 1)


def differences(text: str) -> list[tuple[str, str]]:
    return [(one.prefix, one.what) for one in drift(load(text), 0).differences]


def test_drift_names_what_is_extra_missing_and_changed():
    assert differences(with_observed(OBSERVED)) == [("10.7.0.0/24", "extra")]
    more = "static: [{prefix: 0.0.0.0/0, next_hop: 10.1.0.2}, {prefix: 10.6.0.0/24, action: discard}]"
    assert differences(with_observed(OBSERVED, more)) == [("10.6.0.0/24", "missing"), ("10.7.0.0/24", "extra")]
    other = OBSERVED.replace(
        "0.0.0.0/0, protocol: static, next_hops: [{address: 10.1.0.2",
        "0.0.0.0/0, protocol: static, next_hops: [{address: 10.1.0.9",
    )
    assert ("0.0.0.0/0", "changed") in differences(with_observed(other))


def test_drift_is_a_problem_of_the_model():
    (finding,) = [one for one in check(load(with_observed(OBSERVED))) if one.code == "drift"]
    assert "first at 10.7.0.0/24 (extra)" in finding.message
    assert not drift(load(LINE % (DEFAULT, "")), 0).compared
