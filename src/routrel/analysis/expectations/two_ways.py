"""Which routers have two ways between them that share no link, or no device, all pairs at once.

Of two that have but one, a link or a device lies on every way (Menger's theorem): an edge or a vertex that parts the
graph, which one depth-first search finds (Hopcroft and Tarjan 1973, Algorithm 447). Cables of two routers are edges;
a segment of more is a vertex of its own, after the devices. ``way_graph.py`` counts ways of one pair.
"""

from collections.abc import Iterator
from typing import Literal, NamedTuple

from routrel.topology.segments import Topology


class _Edge(NamedTuple):
    """Two vertices, and the ports at either end of which one must be up; those of a segment's vertex are none."""

    ends: tuple[int, int]
    ports: tuple[list[int], list[int]]

    def is_up(self, topology: Topology) -> bool:
        return all(not ports or any(topology.ports[port].up for port in ports) for ports in self.ports)


class JoinedRouters:
    """The routers of a network and what joins them, whatever is up."""

    def __init__(self, topology: Topology):
        self.topology = topology
        self.routers = len(topology.devices)
        vertices, self.edges = self.routers, list[_Edge]()
        for segment in topology.segments:
            at = dict[int, list[int]]()
            for number in segment.ports:
                device = topology.ports[number].device
                if topology.devices[device].forwards:
                    at.setdefault(device, []).append(number)
            if len(at) == 2:
                (one, ports), (other, beside) = at.items()
                self.edges.append(_Edge((one, other), (ports, beside)))
            elif len(at) > 2:
                self.edges += (_Edge((device, vertices), (ports, [])) for device, ports in at.items())
                vertices += 1
        self.beside: list[list[tuple[int, int]]] = [[] for _ in range(vertices)]
        """Per vertex the edges there, each with the vertex at its other end."""
        for number, edge in enumerate(self.edges):
            for one, other in (edge.ends, edge.ends[::-1]):
                self.beside[one].append((number, other))
        self._down = {number for number, edge in enumerate(self.edges) if not edge.is_up(topology)}

    def neighbors(self, router: int) -> set[int]:
        """The routers that share a cable or a segment with one, whatever is up."""
        found = set[int]()
        for _, other in self.beside[router]:
            found.update([other] if other < self.routers else [member for _, member in self.beside[other]])
        return found - {router}

    def down_in(self, then: Topology) -> set[int]:
        """The edges that are down in another state, which has the same segments."""
        down, touched = set(self._down), then.touched_since(self.topology) or set()
        for number in {number for device in touched for number, _ in self.beside[device]}:
            down.discard(number)
            if not self.edges[number].is_up(then):
                down.add(number)
        return down


class TwoWays:
    """Of one state of a network: which routers have two ways between them, by the number of their devices."""

    def __init__(self, joined: JoinedRouters, then: Topology):
        self._search(joined, joined.down_in(then))
        count = len(joined.beside)
        self._by_links = [-1 - vertex for vertex in range(count)]
        """Equal for routers that no one link parts."""
        self._inside = [-1 - vertex for vertex in range(count)]
        """By vertex, the group that it was found in: within a group, no device parts two routers."""
        self._tops: list[int] = []
        """By group, the router at which the search entered it: it belongs to it too."""
        # From the beginning of the search on: what stands before a block is told already.
        for number, (top, rest, is_one_edge) in enumerate(reversed(self._blocks)):
            is_router = top < joined.routers
            group = len(self._tops) if is_router else self._inside[top]
            if is_router:
                self._tops.append(top)
            # The routers of a block go on together past its top, unless that is a segment or lies behind one cable.
            by_links = self._by_links[top] if is_router and not is_one_edge else count + number
            for vertex in rest:
                self._inside[vertex], self._by_links[vertex] = group, by_links

    def are_joined(self, one: int, other: int) -> bool:
        """Whether there is a way at all."""
        return self._component[one] == self._component[other]

    def has_two_of_each(self, one: int, other: int) -> bool:
        """Whether a glance tells that they have two ways that share no link, and two that share no device."""
        return self._by_links[one] == self._by_links[other] and self._inside[one] == self._inside[other]

    def has_two(self, one: int, other: int, apart: Literal["links", "devices"]) -> bool:
        """Whether two different routers have two ways that share none of ``apart``; the same cable is no device."""
        if apart == "links":
            return self._by_links[one] == self._by_links[other]
        here, there, tops = self._inside[one], self._inside[other], self._tops
        return here == there or (here >= 0 and tops[here] == other) or (there >= 0 and tops[there] == one)

    def _search(self, joined: JoinedRouters, down: set[int]) -> None:
        """Find the blocks, which no vertex parts: each by its top and the rest, and whether it is one edge; the inner
        ones first."""
        count = len(joined.beside)
        order, low, place, self._component = [0] * count, [0] * count, [0] * count, [-1] * count
        self._blocks: list[tuple[int, list[int], bool]] = []
        met = 0
        for root in range(joined.routers):
            if order[root]:
                continue
            met += 1
            order[root] = low[root] = met
            self._component[root] = root
            way, entered, waiting = [root], [-1], list[int]()
            branches: list[Iterator[tuple[int, int]]] = [iter(joined.beside[root])]
            while way:
                vertex, by = way[-1], entered[-1]
                for edge, other in branches[-1]:
                    if edge == by or edge in down:
                        continue
                    if not order[other]:
                        met += 1
                        order[other] = low[other] = met
                        self._component[other] = root
                        way.append(other)
                        entered.append(edge)
                        place[other] = len(waiting)
                        waiting.append(other)
                        branches.append(iter(joined.beside[other]))
                        break
                    if order[other] < low[vertex]:
                        low[vertex] = order[other]
                else:
                    way.pop()
                    entered.pop()
                    branches.pop()
                    if not way:
                        continue
                    top = way[-1]
                    low[top] = min(low[top], low[vertex])
                    if low[vertex] >= order[top]:
                        self._blocks.append((top, waiting[place[vertex] :], low[vertex] > order[top]))
                        del waiting[place[vertex] :]
