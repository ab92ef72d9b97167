"""Policies over many routes at once held against the same policies asked route by route; classes of runs."""

import numpy as np
from hypothesis import given, settings
from hypothesis import strategies as st

from routrel.analysis.contest.policies import Asked, ask
from routrel.model.addresses import Address, Prefix
from routrel.model.policies import Policy, PolicyMatch, PolicySet, PolicyStatement, PrefixMatch
from routrel.routing import arrays
from routrel.routing.policies import evaluate
from routrel.routing.prefixes.index import PrefixIndex
from tests.examples import examples

PREFIXES = [
    Prefix.parse(text)
    for text in (
        "0.0.0.0/0",
        "10.0.0.0/8",
        "10.1.0.0/16",
        "10.1.2.0/24",
        "10.1.2.3/32",
        "10.2.0.0/16",
        "::/0",
        "2001:db8::/32",
    )
]
HOPS = [Address.parse("192.0.2.1"), Address.parse("192.0.2.2")]
INDEX = PrefixIndex(PREFIXES)
numbers = st.integers(0, 3)


@st.composite
def prefix_matches(draw):
    prefix = draw(st.sampled_from(PREFIXES))
    bits = 32 if prefix.family == 4 else 128
    low = draw(st.integers(prefix.length, bits))
    return PrefixMatch(prefix, low, draw(st.integers(low, bits)))


statements = st.builds(
    PolicyStatement,
    st.sampled_from(["accept", "reject", "continue"]),
    st.builds(
        PolicyMatch,
        st.none() | st.lists(prefix_matches(), max_size=2).map(tuple),
        st.none() | st.lists(st.sampled_from(["ospf", "rip"]), max_size=2).map(tuple),
        st.none() | numbers,
        st.none() | numbers,
        st.none() | st.lists(st.sampled_from(HOPS), min_size=1, max_size=2).map(tuple),
    ),
    st.builds(PolicySet, st.none() | numbers, st.none() | st.integers(1, 2), st.none() | numbers, st.none() | numbers),
)
routes = st.lists(
    st.tuples(st.integers(0, len(PREFIXES) - 1), numbers, st.none() | numbers, st.none() | st.sampled_from(HOPS)),
    min_size=1,
    max_size=8,
)


@given(st.lists(statements, max_size=4), routes, st.sampled_from(["ospf", "rip", "static"]))
@settings(max_examples=examples(300))
def test_many_routes_at_once_are_decided_as_one_by_one(listed, asked, protocol):
    policy = Policy("p", tuple(listed))
    verdicts = evaluate(
        policy,
        INDEX,
        np.array([route[0] for route in asked]),
        protocol,
        np.array([route[1] for route in asked], np.int64),
        np.array([-1 if route[2] is None else route[2] for route in asked], np.int64),
        lambda addresses: np.array([route[3] in addresses for route in asked], bool),
    )
    for row, (number, metric, tag, hop) in enumerate(asked):
        hops = () if hop is None else (hop,)
        decision = ask(policy, Asked(INDEX.prefixes[number], protocol, metric, tag, hops))
        assert bool(verdicts.accepted[row]) == decision.accepted
        if decision.accepted:
            for name in ("metric", "metric_type", "tag", "preference"):
                value = int(getattr(verdicts, name)[row])
                assert (None if value == -1 else value) == getattr(decision.set, name)


@given(st.lists(st.lists(st.tuples(numbers, numbers), min_size=1, max_size=3), max_size=8))
def test_runs_are_of_one_class_exactly_where_they_are_equal(runs):
    entries = [entry for run in runs for entry in run]
    starts = np.cumsum([0, *(len(run) for run in runs)])[:-1].astype(np.int64) if runs else np.zeros(0, np.int64)
    columns = [np.array([entry[i] for entry in entries], np.int64) for i in (0, 1)]
    for found in (arrays.classes_of(starts, columns), by_content(starts, columns)):
        classes, first = found
        assert len(classes) == len(runs)
        for one in range(len(runs)):
            assert runs[first[classes[one]]] == runs[one]
            for other in range(one):
                assert (classes[one] == classes[other]) == (runs[one] == runs[other])


def by_content(starts, columns):
    counts = np.diff(np.append(starts, len(columns[0])))
    return arrays._by_content(starts, counts, columns)


@given(st.sampled_from(PREFIXES))
def test_the_prefixes_inside_one_stand_side_by_side(prefix):
    inside = INDEX.prefixes[INDEX.covered(prefix)]
    assert inside == [other for other in INDEX.prefixes if prefix.covers(other)]
