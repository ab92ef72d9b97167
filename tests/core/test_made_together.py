"""Routes that link-state protocols make for several routers together, held against those made for one alone."""

import json
from unittest.mock import patch

import numpy as np
import pytest
from hypothesis import HealthCheck, given, settings
from hypothesis import strategies as st

from bench.generator import Shape
from bench.generator import document as generated
from routrel.formats.network_file import read_network
from routrel.model.fields import replace
from routrel.routing import protocol_routes
from routrel.routing.isis.solution import IsisSolution
from routrel.routing.ospf import solution as ospf_solution
from routrel.routing.ospf.solution import OspfSolution
from routrel.routing.solve import Solved
from routrel.solving import solve
from tests.core.mixed_networks import documents, read
from tests.core.test_areas_reference import labs
from tests.examples import examples


def content(solution: OspfSolution | IsisSolution, process: int) -> list[tuple]:
    """Everything a process's routes say, prefix by prefix, with next hops in place of bits."""
    routes = solution.routes_of(process)
    return said(routes, [6 if is_ipv6 else 4 for is_ipv6 in solution.prefixes.is_ipv6.tolist()])


def said(routes: protocol_routes.ProtocolRoutes, family: list[int]) -> list[tuple]:
    return [
        (
            int(routes.kind[number]),
            int(routes.metric[number]) if routes.kind[number] else None,
            sorted(map(str, routes.next_hops(number, family[number]))),
            -1 if routes.tag is None else int(routes.tag[number]),
            bool(routes.present()[number]),
        )
        for number in range(len(family))
    ]


def made_alike(solved: Solved) -> int:
    """Make all routes both ways and compare; how many were made together."""
    together = 0
    for solution in solved.solutions:
        if not isinstance(solution, OspfSolution | IsisSolution):
            continue
        numbers = [process.number for process in solution.processes]
        solution._ready.clear()
        if isinstance(solution, OspfSolution):
            solution.areas._kept.clear()
        alone = [content(solution, number) for number in numbers]
        if isinstance(solution, OspfSolution):
            solution.areas._kept.clear()
        solution.prepare(numbers)
        together += len(solution._ready)
        assert [content(solution, number) for number in numbers] == alone
    return together


def some_alike(solved: Solved, data: st.DataObject) -> None:
    """Routes over some columns alone, held against those over all; and tables that take them."""
    for solution in solved.solutions:
        if not isinstance(solution, OspfSolution):
            continue
        count = len(solution.prefixes)
        asked = sorted(data.draw(st.sets(st.integers(0, count - 1), min_size=1, max_size=max(1, count // 3))))
        family = [6 if is_ipv6 else 4 for is_ipv6 in solution.prefixes.is_ipv6[asked].tolist()]
        numbers = [process.number for process in solution.processes]
        whole = [content(solution, number) for number in numbers]
        with patch.object(ospf_solution, "WORTHWHILE", 1):
            solution.prepare(data.draw(st.lists(st.sampled_from(numbers), unique=True)), np.array(asked))
        for number in numbers:
            some = solution.some_routes_of(number)
            assert some is not None and set(asked) <= some.place.keys()
            at = [some.place[column] for column in asked]
            routes = replace(
                some.routes,
                kind=some.routes.kind[at],
                metric=some.routes.metric[at],
                masks=some.routes.masks[:, at],
                tag=None if some.routes.tag is None else some.routes.tag[at],
            )
            assert said(routes, family) == [whole[number][column] for column in asked]
    again = solve(solved.network)
    for instance in range(len(solved.topology.instances)):
        table, other = solved.convergence._builder.make(instance), again.table(instance)
        assert [table.get(number) for number in range(len(solved.prefixes))] == [
            other.get(number) for number in range(len(solved.prefixes))
        ]


@given(documents(lans=2), st.data())
@settings(max_examples=examples(40), deadline=None, suppress_health_check=[HealthCheck.too_slow])
def test_routes_over_some_columns_are_those_over_all(document, data):
    some_alike(solve(read(document)), data)


@given(labs(), st.data())
@settings(max_examples=examples(40), deadline=None, suppress_health_check=[HealthCheck.too_slow])
def test_routes_of_areas_over_some_columns_are_those_over_all(lab, data):
    some_alike(solve(read(lab.document)), data)


@given(documents(lans=2))
@settings(max_examples=examples(60), deadline=None, suppress_health_check=[HealthCheck.too_slow])
def test_routes_made_together_are_those_made_alone(document):
    made_alike(solve(read(document)))


@pytest.mark.parametrize("seed", range(3))
def test_routes_of_areas_and_an_isis_core_are_made_together(seed):
    document = generated(Shape(14, areas=2, isis=8, points=4, prefixes=40, seed=seed))
    document["devices"]["s1"]["routing"]["isis"]["wide_metrics"] = False
    solved = solve(read_network({"n.json": json.dumps(document).encode()}))
    assert made_alike(solved) >= 14 + 8 + 4


def test_as_many_are_made_together_as_memory_is_meant_for():
    ready = protocol_routes.Ready()
    assert ready.missing([1, 2, 3], 10) == [1, 2, 3]
    assert ready.missing([1], 10) == []  # one alone is made when it is asked for
    ready[1] = protocol_routes.ProtocolRoutes(
        np.zeros(10, np.int8), np.zeros(10, np.int64), np.zeros((1, 10), np.uint64), {}
    )
    assert ready.missing([1, 2, 3], 10) == [2, 3]
    assert ready.missing([2, 3], protocol_routes.TOGETHER) == []
    assert not ready  # what was kept had to go
