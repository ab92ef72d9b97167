"""Destinations that routers bring into a graph, and what any router's way to them costs."""

from copy import copy

import numpy as np
import numpy.typing as npt

from routrel.routing.arrays import Column, Flags, Masks, Metrics, Runs, classes_of, positions, run_starts
from routrel.routing.spf.distances import UNREACHED
from routrel.routing.spf.graph import Graph, Vertices

HIGHEST = np.int64(2**62)


class Destinations:
    """Destinations by number, each brought into a graph by one or more vertices at a cost.

    Destinations that the same vertices bring at the same costs (and tags) are one class; what vertices say
    of a class is one run of entries, so that a router's row over all of them is a few array operations.
    """

    def __init__(self, vertex: npt.ArrayLike, number: npt.ArrayLike, cost: npt.ArrayLike, tag: npt.ArrayLike = ()):
        vertices, numbers = np.asarray(vertex, np.int64), np.asarray(number, np.int64)
        costs, tags = np.asarray(cost, np.int64), np.asarray(tag, np.int64)
        self.has_tags = bool((tags > 0).any())
        if not self.has_tags:
            tags = np.zeros(len(costs), np.int64)
        order = np.argsort(numbers * (int(vertices.max(initial=0)) + 1) + vertices)
        vertices, numbers, costs, tags = vertices[order], numbers[order], costs[order], tags[order]
        starts = run_starts(numbers)
        self.numbers: Column = numbers[starts]
        counts = np.diff(np.append(starts, len(numbers)))
        self._class, first = classes_of(starts, [vertices, costs, tags])
        self._runs = Runs(counts[first])
        at = np.repeat(starts[first], counts[first]) + positions(counts[first])
        self._vertices, self._costs, self._tags = vertices[at], costs[at].astype(np.int32), tags[at]

    def among(self, place: Column) -> "Destinations":
        """Those of some destinations alone, by the numbers they get, int64 over all numbers: ascending as the old ones
        do, -1 for what is left out."""
        numbers = place[self.numbers]
        made, chosen = copy(self), numbers >= 0
        made.numbers = numbers[chosen]
        classes, at = np.unique(self._class[chosen], return_inverse=True)
        made._class = at.reshape(-1)
        entries, made._runs = self._runs.some(classes)
        made._vertices, made._costs, made._tags = self._vertices[entries], self._costs[entries], self._tags[entries]
        return made

    def costs(self, graph: Graph, router: Vertices) -> Metrics:
        """Costs (d,) from a vertex to ``self.numbers``; of b vertices (b, d)."""
        best, _ = self._best(graph, router)
        costs: Metrics = np.minimum(best, UNREACHED)[..., self._class]
        return costs

    def row(self, graph: Graph, router: Vertices) -> tuple[Metrics, Masks]:
        """Costs (d,) and next-hop words (w, d) from a vertex to ``self.numbers``; of b vertices (b, d), (w, b, d)."""
        best, chosen = self._best(graph, router)
        words = self._runs.union(graph.masks_from(router)[..., self._vertices], chosen)
        return np.minimum(best, UNREACHED)[..., self._class], words[..., self._class]

    def tags(self, graph: Graph, router: Vertices) -> Column:
        """The tag of the best way from a vertex to each of ``self.numbers``, 0 without: the lowest of equal ways."""
        if not self.has_tags:
            return np.zeros((*np.shape(router), len(self.numbers)), np.int64)
        best, chosen = self._best(graph, router)
        tag, _ = self._runs.least(np.where(chosen, self._tags, HIGHEST))
        return np.where(best < UNREACHED, tag, 0)[..., self._class]

    def _best(self, graph: Graph, router: Vertices) -> tuple[Metrics, Flags]:
        """Per class the least cost, and which entries have it."""
        return self._runs.least(graph.distance[router][..., self._vertices] + self._costs)
