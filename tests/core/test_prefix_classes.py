"""Prefixes that nothing tells apart share a column, and get what each would get alone."""

from unittest.mock import patch

import numpy as np
from hypothesis import HealthCheck, given, settings
from hypothesis import strategies as st

from routrel.model.addresses import Address, Prefix
from routrel.routing.prefixes.classes import PrefixClasses
from routrel.routing.prefixes.distinctions import PrefixDistinctions
from routrel.routing.prefixes.index import PrefixIndex
from routrel.solving import solve
from tests.core.mixed_networks import documents, read
from tests.core.networks import load, router, table
from tests.core.speaker_networks import speakers
from tests.examples import examples


def index_of(*prefixes: str) -> PrefixIndex:
    return PrefixIndex(Prefix.parse(prefix) for prefix in prefixes)


class TestTraits:
    def test_prefixes_with_the_same_traits_are_one_class(self):
        index = index_of("10.0.0.0/24", "10.0.1.0/24", "10.0.2.0/24", "10.0.3.0/24")
        distinctions = PrefixDistinctions(index)
        for prefix, *found in (("10.0.0.0/24", "a", "b"), ("10.0.1.0/24", "b", "a"), ("10.0.2.0/24", "a")):
            for trait in found:
                distinctions.add(Prefix.parse(prefix), trait)
        assert distinctions.classes().tolist() == [0, 0, 1, -1] or distinctions.classes().tolist() == [1, 1, 0, -1]

    def test_families_are_never_one_class(self):
        index = index_of("10.0.0.0/24", "2001:db8::/64")
        distinctions = PrefixDistinctions(index)
        for prefix in index.prefixes:
            distinctions.add(prefix, "same")
        assert len(set(distinctions.classes().tolist())) == 2

    def test_a_list_tells_apart_but_makes_nothing_known(self):
        index = index_of("10.0.0.0/24", "10.0.1.0/24", "10.9.0.0/16")
        distinctions = PrefixDistinctions(index)
        distinctions.add(Prefix.parse("10.0.0.0/24"), "same")
        distinctions.add(Prefix.parse("10.0.1.0/24"), "same")
        distinctions.add_covered(Prefix.parse("10.0.1.0/24"), "listed")
        distinctions.add_covered(Prefix.parse("10.9.0.0/16"), "listed")
        first, second, unknown = distinctions.classes().tolist()
        assert first != second
        assert unknown == -1

    def test_a_prefix_alone(self):
        index = index_of("10.0.0.0/24", "10.0.1.0/24")
        distinctions = PrefixDistinctions(index)
        for prefix in index.prefixes:
            distinctions.add(prefix, "same")
        distinctions.add_single(index.prefixes[0])
        assert len(set(distinctions.classes().tolist())) == 2


class TestRepresentatives:
    def test_columns_members_and_look_ups(self):
        index = index_of("10.0.0.0/24", "10.0.1.0/24", "10.0.2.0/24", "10.0.0.0/16")
        # In the order of the index: 10.0.0.0/16, then the three.
        found = PrefixClasses(index, np.array([5, 7, 7, 5]))
        assert found.column.tolist() == [0, 1, 1, 0]
        assert [str(prefix) for prefix in found.prefixes] == ["10.0.0.0/16", "10.0.0.0/24"]
        assert found.standing.tolist() == [0, 1, -1, -1]
        assert [str(prefix) for prefix in found.members([1])] == ["10.0.0.0/24", "10.0.1.0/24"]
        assert found.chain(Address.parse("10.0.1.9")) == [1, 0]
        assert found.longest(Address.parse("10.0.2.9")) == 0
        assert found.longest(Address.parse("192.0.2.1")) == -1
        assert found.column_of(Prefix.parse("10.0.2.0/24")) == 0

    @given(st.lists(st.integers(-1, 4), min_size=1, max_size=12))
    def test_every_class_has_its_first_prefix_for_representative(self, classes):
        index = PrefixIndex(Prefix.of(4, (10 << 24) + (number << 8), 24) for number in range(len(classes)))
        found = PrefixClasses(index, np.array(classes))
        for number, one in enumerate(classes):
            column = found.column[number]
            assert classes[found.first[column]] == one
            assert found.first[column] == classes.index(one)
            assert (found.standing[number] == column) == (one != -1 and found.first[column] == number)


def test_networks_of_one_router_share_a_column_until_a_policy_names_one():
    def columns(prefixes: str) -> int:
        interfaces = {f"e{n}": f"addresses: [10.{n}.0.1/24]" for n in range(1, 5)}
        ospf = "ospf:\n  redistribute: [{from: static, policy: p}]\n  areas: {0: {interfaces: {"
        ospf += ", ".join(f"e{n}: {{cost: 5}}" for n in range(1, 5)) + "}}}"
        solved = load(
            "devices:\n"
            + router("a", interfaces, ospf, f"policies:\n  p: [{{match: {{prefixes: [{prefixes}]}}, result: accept}}]")
        )
        assert len(table(solved, "a")) == 8
        return len({solved.prefix_classes.column_of(Prefix.parse(f"10.{n}.0.0/24")) for n in range(1, 5)})

    assert columns("192.0.2.0/24") == 1
    assert columns("10.3.0.0/24") == 2


def tables(solved) -> list[list[tuple]]:
    return [list(solved.table(instance.index)) for instance in solved.topology.instances]


def alone(distinctions: PrefixDistinctions) -> np.ndarray:
    """As ``PrefixDistinctions.classes``, but every known prefix is a class of its own."""
    found = CLASSES(distinctions)
    return np.where(found < 0, -1, np.arange(len(found)))


CLASSES = PrefixDistinctions.classes


@given(st.one_of(documents(), speakers()))
@settings(max_examples=examples(50), deadline=None, suppress_health_check=[HealthCheck.too_slow])
def test_tables_are_those_of_prefixes_computed_one_by_one(document):
    network = read(document)
    together = solve(network)
    with patch.object(PrefixDistinctions, "classes", alone):
        apart = solve(network)
    assert len(apart.prefix_classes) >= len(together.prefix_classes)
    unclear = {"bgp-unstable", "bgp-order", "redistribution-order", "redistribution-unsettled"}
    if not unclear & {finding.code for finding in together.findings}:
        assert tables(together) == tables(apart)
