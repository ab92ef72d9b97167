"""The decision over arrays against the comparisons written out one by one."""

import numpy as np
from hypothesis import given, settings
from hypothesis import strategies as st

from routrel.analysis.contest.bgp.decision import Ranks, eliminate
from routrel.model.bgp import BgpDecision
from routrel.routing.bgp import paths as attributes
from routrel.routing.bgp.decision import NEVER, UNREACHABLE, Candidates, decide
from routrel.routing.bgp.paths import Paths
from tests.examples import examples

SWITCHES = st.builds(
    BgpDecision,
    compare_med_between_as=st.booleans(),
    deterministic_med=st.booleans(),
    missing_med_is_worst=st.booleans(),
    prefer_oldest=st.booleans(),
    ignore_as_path_length=st.booleans(),
)

PATH = st.tuples(
    st.sampled_from([(), (1,), (2,), (1, 2), (2, 1)]),
    st.integers(0, 1),  # origin
    st.sampled_from([-1, 0, 5]),  # MED
    st.sampled_from([100, 110]),
    st.sampled_from([-1, 7, 9]),  # originator
    st.sampled_from([(), (3,), (3, 4)]),  # cluster list
    st.sampled_from([0, 10]),  # weight
    st.sampled_from([0, 5, int(UNREACHABLE)]),  # metric to the next hop
)
PEER = st.tuples(st.booleans(), st.integers(1, 3), st.sampled_from([1, 2, int(NEVER)]))


def ranks_of(path, peer, position: int, switches: BgpDecision) -> Ranks:
    as_path, origin, med, preference, originator, clusters, weight, metric = path
    external, identifier, age = peer
    missing = 2**32 if switches.missing_med_is_worst else 0
    steps = {
        "weight": (-weight, ""),
        "local preference": (-preference, ""),
        "locally originated": (1, ""),
        "AS path length": (0 if switches.ignore_as_path_length else len(as_path), ""),
        "origin": (origin, ""),
        "MED": (missing if med < 0 else med, ""),
        "external over internal": (0 if external else 1, ""),
        "metric to the next hop": (metric, ""),
        "oldest": (age if switches.prefer_oldest and external else 0, ""),
        "router id": (identifier if originator < 0 else originator, ""),
        "cluster list length": (len(clusters), ""),
        "neighbor address": (position, ""),
    }
    group = None if switches.compare_med_between_as else (as_path[0] if as_path else 0)
    return Ranks(steps, group, (-(-1 if age == int(NEVER) else age), position))


def rows_of(paths, given_paths):
    rows = paths.blank(len(given_paths), "igp")
    for row, path in zip(rows, given_paths, strict=True):
        row[attributes.IS_LOCAL] = 0
        row[attributes.AS_PATH] = paths.as_paths.number(path[0])
        row[[attributes.ORIGIN, attributes.MED, attributes.LOCAL_PREFERENCE]] = path[1], path[2], path[3]
        row[[attributes.ORIGINATOR, attributes.WEIGHT]] = path[4], path[6]
        row[attributes.CLUSTERS] = paths.clusters.number(path[5])
    return rows


@given(st.lists(st.tuples(PATH, PEER), min_size=1, max_size=6), SWITCHES)
@settings(max_examples=examples(400), deadline=None)
def test_the_same_path_is_chosen(given_paths, switches):
    paths = Paths()
    rows = rows_of(paths, [path for path, _ in given_paths])
    ids = np.concatenate([[-1], paths.numbers_of(rows)])[:, None]
    metrics = np.array([0, *(path[7] for path, _ in given_paths)])[:, None]
    candidates = Candidates(
        ids,
        metrics,
        np.arange(len(ids)) - 1,
        np.array([False, *(peer[0] for _, peer in given_paths)]),
        np.array([0, *(peer[1] for _, peer in given_paths)]),
        np.arange(len(ids)),
        np.array([int(NEVER), *(peer[2] for _, peer in given_paths)]),
    )
    decided = decide(paths, candidates, switches)
    usable = [at for at, (path, _) in enumerate(given_paths) if path[7] < UNREACHABLE]
    ranked = [ranks_of(path, peer, at, switches) for at, (path, peer) in enumerate(given_paths)]
    in_turn = not switches.deterministic_med and not switches.compare_med_between_as
    expected = eliminate(ranked, usable, in_turn)[0] + 1 if usable else -1
    assert decided.best.tolist() == [expected]
    if expected > 0:
        assert decided.equal[expected, 0]
        for at in np.flatnonzero(decided.equal[:, 0]).tolist():
            for name in ("weight", "local preference", "AS path length", "origin", "metric to the next hop"):
                assert ranked[at - 1].steps[name] == ranked[expected - 1].steps[name]


@given(st.lists(PATH, min_size=1, max_size=8), st.integers(1, 24), st.data(), SWITCHES)
@settings(max_examples=examples(200), deadline=None)
def test_many_columns_are_decided_as_one_by_one(given_paths, neighbors, data, switches):
    paths = Paths()
    numbers = paths.numbers_of(rows_of(paths, given_paths))
    chance = np.random.default_rng(data.draw(st.integers(0, 2**32)))
    shape = neighbors + 1, 7
    ids = np.where(chance.random(shape) < 0.3, -1, numbers[chance.integers(len(numbers), size=shape)])
    metrics = np.where(chance.random(shape) < 0.1, UNREACHABLE, chance.integers(3, size=shape))
    external, identifier = chance.random(len(ids)) < 0.5, chance.integers(3, size=len(ids))
    age = np.where(chance.random(len(ids)) < 0.3, NEVER, chance.integers(3, size=len(ids)))
    candidates = Candidates(ids, metrics, np.arange(len(ids)) - 1, external, identifier, np.arange(len(ids)), age)
    together = decide(paths, candidates, switches)
    for column in range(shape[1]):
        alone = decide(paths, candidates.of(np.array([column])), switches)
        assert alone.best[0] == together.best[column]
        assert alone.equal[:, 0].tolist() == together.equal[:, column].tolist()


def test_columns_are_decided_apart():
    paths = Paths()
    rows = paths.blank(2, "igp")
    rows[:, attributes.IS_LOCAL] = 0
    rows[1, attributes.LOCAL_PREFERENCE] = 200
    low, high = paths.numbers_of(rows).tolist()
    ids = np.array([[-1, -1, -1, -1], [low, high, -1, low], [high, low, low, -1]])
    candidates = Candidates(
        ids,
        np.zeros_like(ids),
        np.arange(3) - 1,
        np.array([False, True, True]),
        np.array([0, 1, 2]),
        np.arange(3),
        np.full(3, NEVER),
    )
    assert decide(paths, candidates, BgpDecision()).best.tolist() == [2, 1, 2, 1]
