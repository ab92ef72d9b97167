"""The ports that shortest paths of a graph use: without any others, paths, costs and next hops are the same."""

from collections.abc import Iterator

import numpy as np

from routrel.routing.arrays import Column
from routrel.routing.spf.distances import UNREACHED
from routrel.routing.spf.graph import Graph


def ports_on_ways(graph: Graph, source: int, vertices: Column, costs: Column) -> Iterator[int]:
    """The ports of all edges on a shortest path from a vertex to the nearest of ``vertices`` (k,).

    ``costs`` int64 (k,) is what each of them adds. Of graphs without shared networks.
    """
    total = graph.distance[source, vertices] + costs
    best = int(total.min(initial=UNREACHED))
    if best >= UNREACHED:
        return
    nearest = total == best
    edges = graph.edge_columns
    # What is left from the far end of each edge to the nearest of those at the least total.
    left = (graph.distance[np.ix_(edges.target, vertices[nearest])] + costs[nearest]).min(axis=1)
    on_way = graph.distance[source, edges.source].astype(np.int64) + edges.cost + left == best
    yield from edges.ports[:, on_way].ravel().tolist()
