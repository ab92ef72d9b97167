"""Routes that link-state protocols make for several routers together, held against those made for one alone."""

import json

import numpy as np
import pytest
from hypothesis import HealthCheck, given, settings

from bench.generator import Shape
from bench.generator import document as generated
from routrel.formats.network_file import read_network
from routrel.routing import protocol_routes
from routrel.routing.isis.solution import IsisSolution
from routrel.routing.ospf.solution import OspfSolution
from routrel.routing.solve import Solved
from routrel.solving import solve
from tests.core.mixed_networks import documents, read
from tests.examples import examples


def content(solution: OspfSolution | IsisSolution, process: int) -> list[tuple]:
    """Everything a process's routes say, prefix by prefix, with next hops in place of bits."""
    routes = solution.routes_of(process)
    family = [6 if is_ipv6 else 4 for is_ipv6 in solution.prefixes.is_ipv6.tolist()]
    return [
        (
            int(routes.kind[number]),
            int(routes.metric[number]) if routes.kind[number] else None,
            sorted(map(str, routes.next_hops(number, family[number]))),
            -1 if routes.tag is None else int(routes.tag[number]),
            bool(routes.present()[number]),
        )
        for number in range(len(solution.prefixes))
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
