"""Distances between all routers, held against the plainest way to compute them."""

from unittest.mock import patch

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from routrel.routing.spf import changed_distances
from routrel.routing.spf import distances as spf_distances
from routrel.routing.spf.changed_distances import among, changed, steps_of
from routrel.routing.spf.distances import UNREACHED, all_pairs
from tests.examples import examples

Edges = list[tuple[int, int, int]]


@st.composite
def graphs(draw, least=0) -> tuple[int, Edges]:
    """Up to twelve routers; chains, parallel edges, one-way edges and edges to oneself among them."""
    n = draw(st.integers(0, 12))
    ends = st.integers(0, max(0, n - 1))
    edges = draw(st.lists(st.tuples(ends, ends, st.integers(least, 9)), max_size=30)) if n else []
    chain = draw(st.booleans())
    both = [(end, begin, cost) for begin, end, cost in edges] if draw(st.booleans()) else []
    return n, edges + both + ([(at, at + 1, max(least, at % 4)) for at in range(n - 1)] if chain else [])


def relaxed(n: int, edges: Edges) -> np.ndarray:
    """Every edge is tried until nothing gets shorter (Bellman and Ford)."""
    lengths = np.full((n, n), int(UNREACHED))
    for at in range(n):
        lengths[at, at] = 0
    for _ in range(n):
        for begin, end, cost in edges:
            lengths[:, end] = np.minimum(lengths[:, end], lengths[:, begin] + cost)
    return lengths


def distances(n: int, edges: Edges) -> list[list[int]]:
    begin, end, cost = np.array(edges, np.int64).reshape(-1, 3).T
    found = all_pairs(n, begin, end, cost.astype(np.int32))
    assert found.dtype == np.int32
    return found.tolist()


@pytest.mark.parametrize("dense", [0, 1, 16, 10**6], ids=["all out", "most out", "usual", "none out"])
@given(graphs())
@settings(max_examples=examples(60), deadline=None)
def test_distances_are_those_of_trying_every_edge(dense, graph):
    n, edges = graph
    with patch.object(spf_distances, "DENSE", dense), patch.object(spf_distances, "FEW", 0):
        assert distances(n, edges) == relaxed(n, edges).tolist()


@given(graphs(least=1))
@settings(max_examples=examples(60), deadline=None)
def test_large_tangled_graphs_are_solved_alike(graph):
    n, edges = graph
    begin, end, cost = np.array(edges, np.int64).reshape(-1, 3).T
    found = spf_distances._one_by_one(n, begin, end, cost.astype(np.int32)) if edges else relaxed(n, edges)
    assert found.tolist() == relaxed(n, edges).tolist()


def test_a_large_random_graph_is_solved_one_by_one_and_a_chain_is_not():
    chance = np.random.default_rng(7)
    n = 800
    begin, end = chance.integers(0, n, (2, 20 * n))
    cost = chance.integers(1, 20, 20 * n).astype(np.int32)
    ring = np.arange(n)
    with patch.object(spf_distances, "_one_by_one", wraps=spf_distances._one_by_one) as one_by_one:
        all_pairs(n, ring, (ring + 1) % n, np.ones(n, np.int32))
        assert not one_by_one.called
        tangled = all_pairs(n, begin, end, cost)
        assert one_by_one.called
    with patch.object(spf_distances, "_one_by_one", None):
        # An edge without cost is one that SciPy's sparse matrices leave out.
        cost[0] = 0
        assert (all_pairs(n, begin, end, cost) <= tangled).all()


def test_paths_longer_than_the_longest_metric_are_none():
    huge = int(UNREACHED) // 2 + 1
    assert distances(3, [(0, 1, huge), (1, 2, huge)])[0] == [0, huge, int(UNREACHED)]


def steps(n: int, edges: Edges) -> np.ndarray:
    begin, end, cost = np.array(edges, np.int64).reshape(-1, 3).T
    return steps_of(n, begin, end, cost.astype(np.int32))


@given(graphs(), st.data())
@settings(max_examples=examples(200), deadline=None)
def test_distances_by_other_edges_are_those_found_anew(graph, data):
    n, edges = graph
    if not n:
        return
    ends = st.integers(0, n - 1)
    stay = [edge for edge in edges if data.draw(st.integers(0, 3))]
    new = stay + data.draw(st.lists(st.tuples(ends, ends, st.integers(0, 9)), max_size=3))
    before = np.array(distances(n, edges), np.int32)
    kept = before.copy()
    with patch.object(changed_distances, "MOST_EDGES", 100):
        found = changed(before, steps(n, edges), steps(n, new))
    assert found is not None and found.dtype == np.int32
    assert found.tolist() == relaxed(n, new).tolist()
    assert np.array_equal(before, kept)  # that of another network


@given(graphs(), st.data())
@settings(max_examples=examples(200), deadline=None)
def test_distances_without_some_vertices_are_those_found_anew(graph, data):
    n, edges = graph
    gone = data.draw(st.sets(st.integers(0, n - 1), max_size=3)) if n else set()
    kept = [vertex for vertex in range(n) if vertex not in gone]
    left = [(kept.index(one), kept.index(other), cost) for one, other, cost in edges if not {one, other} & gone]
    before = np.array(distances(n, edges), np.int32).reshape(n, n)
    whole = before.copy()
    found = among(before, steps(n, edges), np.array(kept, np.int64))
    assert (found is None) == (len(gone) > 2)
    if found is not None:
        assert found[0].tolist() == relaxed(len(kept), left).tolist()
        assert np.array_equal(found[1], steps(len(kept), left))
        assert np.array_equal(before, whole)  # that of another network


def test_what_is_far_from_where_a_path_was_lost_or_much_else_is_found_anew():
    ring = [(at, (at + 1) % 200, 1) for at in range(200)]
    both = ring + [(end, begin, cost) for begin, end, cost in ring]
    before = np.array(distances(200, both), np.int32)
    assert changed(before, steps(200, both), steps(200, both[1:])) is None
    costlier = [(begin, end, 2) for begin, end, _ in ring]
    assert changed(before, steps(200, both), steps(200, costlier)) is None
