from hypothesis import given
from hypothesis import strategies as st

from routrel.model.addresses import BITS, Address
from routrel.routing.prefixes.index import PrefixIndex
from tests.core.test_addresses import prefixes


def reference(index: PrefixIndex, address: Address) -> list[int]:
    """Every prefix that holds the address, longest first, by looking at all of them."""
    holding = [number for number, prefix in enumerate(index.prefixes) if prefix.contains(address)]
    return sorted(holding, key=lambda number: -index.prefixes[number].length)


@given(st.lists(prefixes(), max_size=40), st.data())
def test_longest_match_is_that_of_a_linear_search(drawn, data):
    index = PrefixIndex(drawn)
    edges = [a for p in drawn for a in (p.network, p.last)]
    family = data.draw(st.sampled_from((4, 6)))
    anywhere = st.integers(0, 2 ** BITS[family] - 1)
    value = data.draw(st.one_of(anywhere, st.sampled_from(edges)) if edges else anywhere)
    address = Address(family, min(value, 2 ** BITS[family] - 1))
    assert index.chain(address) == reference(index, address)


@given(st.lists(prefixes(), max_size=30))
def test_a_parent_is_the_longest_other_prefix_that_covers(drawn):
    index = PrefixIndex(drawn)
    for number, prefix in enumerate(index.prefixes):
        covering = [p for p in index.prefixes if p != prefix and p.covers(prefix)]
        longest = max(covering, key=lambda p: p.length, default=None)
        parent = index.parent[number]
        assert (None if parent < 0 else index.prefixes[parent]) == longest
