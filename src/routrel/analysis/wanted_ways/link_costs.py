"""The fewest costs of interfaces to change so that the one shortest path passes some routers and avoids others.

Two integer programs, one after the other. First the cheapest paths as wanted, each router passed once: that there is
none proves that no costs can do it. Then, for one such path, the costs: of every router a potential that no edge may
undercut. The path is the shortest where each of its edges takes up the difference of potentials exactly, and the only
one where every other edge that leaves it takes up more. Costs on the path only go down and others only up.
"""

import time
from collections.abc import Collection, Iterator, Sequence
from dataclasses import dataclass, field
from typing import Literal

import numpy as np
import numpy.typing as npt

from routrel.routing.spf.graph import Edge

SECONDS = 2.5
"""For one program; what is not solved by then has no answer."""

SECONDS_OF_PATH = 4.0
"""For one path, whose circles may be many programs."""

MOST_CIRCLES = 40
"""Circles apart from a path that are forbidden, one after the other."""

Outcome = Literal["found", "impossible", "no answer"]
Values = npt.NDArray[np.float64]


@dataclass(frozen=True)
class Task:
    """A path from one router to another over ``edges``, by all of ``passes`` and none of ``avoids``."""

    edges: Sequence[Edge]
    start: int
    end: int
    passes: Collection[int]
    avoids: Collection[int]


@dataclass
class _Program:
    """Variables, and constraints by which sums of them are at least something."""

    lower: list[float] = field(default_factory=list)
    upper: list[float] = field(default_factory=list)
    integer: list[int] = field(default_factory=list)
    weights: list[float] = field(default_factory=list)
    rows: list[list[tuple[int, float]]] = field(default_factory=list)
    least: list[float] = field(default_factory=list)

    def variable(self, upper: float, weight: float = 0.0, *, is_integer: bool = True) -> int:
        """A new one, at least 0."""
        self.lower.append(0.0)
        self.upper.append(upper)
        self.integer.append(int(is_integer))
        self.weights.append(weight)
        return len(self.lower) - 1

    def at_least(self, terms: list[tuple[int, float]], least: float) -> None:
        self.rows.append(terms)
        self.least.append(least)

    def equal(self, terms: list[tuple[int, float]], value: float) -> None:
        self.at_least(terms, value)
        self.at_least([(variable, -factor) for variable, factor in terms], -value)

    def solved(self) -> tuple[Outcome, Values | None]:
        """The values with the least weight."""
        from scipy.optimize import Bounds, LinearConstraint, milp  # takes a second, and few questions need it
        from scipy.sparse import coo_array

        rows = [row for row, terms in enumerate(self.rows) for _ in terms]
        columns = [variable for terms in self.rows for variable, _ in terms]
        factors = [factor for terms in self.rows for _, factor in terms]
        matrix = coo_array((factors, (rows, columns)), shape=(len(self.rows), len(self.lower))).tocsr()
        found = milp(
            np.array(self.weights),
            integrality=np.array(self.integer),
            bounds=Bounds(np.array(self.lower), np.array(self.upper)),
            constraints=LinearConstraint(matrix, np.array(self.least), np.inf),
            # With its presolve HiGHS 1.12.0 takes worse solutions of such programs for the best.
            options={"time_limit": SECONDS, "presolve": False},
        )
        if found.status == 2:
            return "impossible", None
        return ("found", found.x) if found.status == 0 else ("no answer", None)


def paths_as_wanted(task: Task, most: int) -> Iterator[tuple[Outcome, list[Edge]]]:
    """Up to ``most`` paths as wanted, first the cheapest by costs as they are; the last says why there are no more."""
    program, edges = _Program(), task.edges
    taken = [program.variable(1, edge.cost + 1e-6) for edge in edges]
    out: dict[int, list[int]] = {}
    into: dict[int, list[int]] = {}
    for number, edge in enumerate(edges):
        out.setdefault(edge.source, []).append(taken[number])
        into.setdefault(edge.target, []).append(taken[number])
    for router in {*out, *into, task.start, task.end, *task.passes}:
        leaving = [(one, 1.0) for one in out.get(router, ())]
        entering = [(one, -1.0) for one in into.get(router, ())]
        program.equal([*leaving, *entering], (router == task.start) - (router == task.end))
        is_left_once = router == task.start or (router in task.passes and router != task.end)
        program.at_least([(one, -1.0) for one, _ in leaving], 0 if router in task.avoids or router == task.end else -1)
        if is_left_once:
            program.at_least(leaving, 1)
    for _ in range(most):
        outcome, path = _without_circles(program, task, taken)
        yield outcome, path
        if outcome != "found":
            return
        on_path = set(path)
        same = [(taken[number], -1.0) for number, edge in enumerate(edges) if edge in on_path]
        program.at_least(same, 1 - len(same))


def _without_circles(program: _Program, task: Task, taken: list[int]) -> tuple[Outcome, list[Edge]]:
    """The best path; circles apart from it, by which it would pass what it does not, are forbidden as they appear."""
    end = time.monotonic() + SECONDS_OF_PATH
    for _ in range(MOST_CIRCLES):
        if time.monotonic() > end:
            break
        outcome, values = program.solved()
        if values is None:
            return outcome, []
        following = {edge.source: edge for edge, one in zip(task.edges, taken, strict=True) if values[one] > 0.5}
        path, router = list[Edge](), task.start
        while router != task.end:
            path.append(following.pop(router))
            router = path[-1].target
        if not following:
            return "found", path
        inside = set(following)
        circle = [
            (one, -1.0)
            for edge, one in zip(task.edges, taken, strict=True)
            if edge.source in inside and edge.target in inside
        ]
        program.at_least(circle, 1 - len(inside))
    return "no answer", []


def fewest_costs(
    edges: Sequence[Edge], path: Sequence[Edge], most: int, fixed: Collection[int] = ()
) -> Iterator[tuple[Outcome, dict[int, int]]]:
    """Up to ``most`` sets of costs by port with which a path is the only shortest, those of the fewest ports first;
    the costs of ``fixed`` ports stay as they are."""
    program = _Program()
    on_path = {edge.port for edge in path}
    length = sum(edge.cost for edge in path)
    near = [edge for edge in _near(edges, path, length) if edge not in set(path)]
    ports = {edge.port: edge.cost for edge in (*path, *near)}
    change, is_changed = dict[int, int](), dict[int, int]()
    for port, cost in ports.items():
        most_change = 0 if port in fixed else max(0, cost - 1) if port in on_path else length + 1
        is_changed[port] = program.variable(1, 1.0)
        change[port] = program.variable(most_change, 0.5 / ((length + 1) * len(ports)))
        program.at_least([(is_changed[port], float(most_change)), (change[port], -1.0)], 0)
    routers = {router for edge in (*path, *near) for router in edge[:2]}
    # No way is longer.
    farthest = float((len(routers) + 1) * (max(ports.values()) + length + 1))
    potential = {router: program.variable(farthest, is_integer=False) for router in sorted(routers)}
    program.equal([(potential[path[-1].target], 1.0)], 0)
    passed = {edge.source for edge in path}
    for edge in (*path, *near):
        sign = -1.0 if edge.port in on_path else 1.0
        terms = [(change[edge.port], sign), (potential[edge.target], 1.0), (potential[edge.source], -1.0)]
        if edge in path:
            program.equal(terms, -edge.cost)
        else:
            program.at_least(terms, (1 if edge.source in passed else 0) - edge.cost)
    for _ in range(most):
        outcome, values = program.solved()
        if values is None:
            yield outcome, {}
            return
        chosen = {port: round(values[change[port]]) for port in ports if values[is_changed[port]] > 0.5}
        yield "found", {port: ports[port] + (-by if port in on_path else by) for port, by in chosen.items()}
        if not chosen:
            return
        program.at_least([(is_changed[port], -1.0) for port in chosen], 1 - len(chosen))


def _near(edges: Sequence[Edge], path: Sequence[Edge], length: int) -> list[Edge]:
    """The edges that could be on a way no longer than the path, were all costs on the path as low as can be."""
    from scipy.sparse import csr_array
    from scipy.sparse.csgraph import dijkstra

    routers = {router: index for index, router in enumerate(sorted({one for edge in edges for one in edge[:2]}))}
    on_path = set(path)
    best: dict[tuple[int, int], float] = {}
    for edge in edges:
        key = routers[edge.source], routers[edge.target]
        best[key] = min(best.get(key, np.inf), 1e-9 if edge in on_path else edge.cost)
    sources, targets = zip(*best, strict=True)
    graph = csr_array((list(best.values()), (sources, targets)), shape=(len(routers), len(routers)))
    start, end = routers[path[0].source], routers[path[-1].target]
    ahead, behind = dijkstra(graph, indices=[start])[0], dijkstra(csr_array(graph.T), indices=[end])[0]
    return [
        edge
        for edge in edges
        if edge in on_path or ahead[routers[edge.source]] + edge.cost + behind[routers[edge.target]] <= length + 0.5
    ]
