"""The best entry of each run, against looking at the runs one by one; prefixes brought in as columns."""

import numpy as np
from hypothesis import given
from hypothesis import strategies as st

from routrel.model.addresses import Address, Prefix
from routrel.routing.arrays import Runs
from routrel.routing.prefixes.index import PrefixIndex
from routrel.routing.spf.advertised import Advertised, AdvertisedPrefixes
from tests.core.test_addresses import prefixes

runs = st.lists(st.lists(st.tuples(st.integers(0, 5), st.integers(0, 255)), min_size=1, max_size=5), max_size=8)


@given(runs)
def test_the_least_of_each_run_with_its_words_and_its_first_entry(drawn):
    entries = [entry for run in drawn for entry in run]
    found = Runs(np.array([len(run) for run in drawn], np.int64))
    values = np.array([value for value, _ in entries], np.int64)
    words = np.array([[word for _, word in entries]], np.uint64).reshape(1, -1)
    least, chosen = found.least(values)
    best = [min(value for value, _ in run) for run in drawn]
    assert least.tolist() == best
    union = [
        np.bitwise_or.reduce([word for value, word in run if value == least_of])
        for run, least_of in zip(drawn, best, strict=True)
    ]
    assert found.union(words, chosen).tolist() == [[int(word) for word in union]]
    begins = np.cumsum([0, *(len(run) for run in drawn)])[: len(drawn)].tolist()
    firsts = [
        begin + [value for value, _ in run].index(low) for begin, run, low in zip(begins, drawn, best, strict=True)
    ]
    assert found.first(chosen).tolist() == firsts


@given(runs, st.integers(1, 4))
def test_several_rows_of_values_are_looked_at_alike(drawn, rows):
    found = Runs(np.array([len(run) for run in drawn], np.int64))
    values = np.array([value for run in drawn for value, _ in run], np.int64)
    together, chosen = found.least(np.stack([values + row for row in range(rows)]))
    for row in range(rows):
        alone, of_row = found.least(values + row)
        assert together[row].tolist() == alone.tolist()
        assert chosen[row].tolist() == of_row.tolist()


@given(st.lists(prefixes(), max_size=20), st.lists(prefixes(), max_size=10))
def test_an_index_numbers_what_it_was_given_in_the_order_given(drawn, networks):
    hosts = [Address(prefix.family, prefix.network) for prefix in networks]
    index = PrefixIndex([*drawn, *drawn], hosts)
    assert [index.prefixes[number] for number in index.given.tolist()] == [*drawn, *drawn]
    assert index.prefixes == sorted({*drawn, *(host.host_prefix() for host in hosts)})
    assert [index.number[prefix] for prefix in index.prefixes] == list(range(len(index)))


def test_what_routers_bring_in_is_the_same_one_by_one_and_as_columns():
    lans = [Prefix.parse(f"10.0.{number}.0/24") for number in range(3)]
    brought = AdvertisedPrefixes()
    brought.advertise(4, lans[:2], [10, 20], [7, 8])
    brought.advertise(5, lans[1:], [30, 40], [9, 9])
    assert list(brought) == [
        Advertised(4, lans[0], 10, 7),
        Advertised(4, lans[1], 20, 8),
        Advertised(5, lans[1], 30, 9),
        Advertised(5, lans[2], 40, 9),
    ]
    index = PrefixIndex([*lans, Prefix.parse("10.0.0.0/16")])
    numbers, routers, costs = brought.columns(index)
    assert [index.prefixes[number] for number in numbers.tolist()] == [lans[0], lans[1], lans[1], lans[2]]
    assert (routers.tolist(), costs.tolist()) == ([4, 4, 5, 5], [10, 20, 30, 40])
    other = PrefixIndex(lans)
    assert brought.columns(other)[0].tolist() == [0, 1, 1, 2]
