"""Several areas with ranges, held against RFC 2328 read aloud: one router, one prefix, one rule at a time."""

import heapq
import json
from collections import defaultdict
from dataclasses import dataclass, field

from hypothesis import given, settings
from hypothesis import strategies as st

from routrel.formats.network_file import read_network
from routrel.model.addresses import Prefix
from routrel.solving import solve
from tests.examples import examples

FAR = 10**9


@dataclass
class Lab:
    """A random network as plain facts, and its text."""

    edges: dict[int, dict[str, list[tuple[str, int, str]]]] = field(default_factory=dict)
    stubs: dict[int, dict[str, dict[Prefix, int]]] = field(default_factory=dict)
    ranges: dict[tuple[str, int], list[tuple[Prefix, bool, int | None]]] = field(default_factory=dict)
    document: dict = field(default_factory=dict)

    def areas_of(self, router: str) -> list[int]:
        return [area for area in sorted(self.stubs) if router in self.stubs[area]]


@dataclass
class Entry:
    """A route of the reference: its kind, cost and first interfaces."""

    kind: str
    cost: int
    first: set[str]


def shortest(edges: dict[str, list[tuple[str, int, str]]], start: str) -> tuple[dict[str, int], dict[str, set[str]]]:
    """Section 16.1 for one router: cost to each router, and the first interfaces of all best ways."""
    cost, first, done, queue = {start: 0}, {start: set()}, set(), [(0, start)]
    while queue:
        so_far, node = heapq.heappop(queue)
        if node in done:
            continue
        done.add(node)
        for target, weight, interface in edges.get(node, []):
            begins = {interface} if node == start else first[node]
            if so_far + weight < cost.get(target, FAR):
                cost[target], first[target] = so_far + weight, set(begins)
                heapq.heappush(queue, (cost[target], target))
            elif so_far + weight == cost[target]:
                first[target] |= begins
    return cost, first


class Reference:
    def __init__(self, lab: Lab):
        self.lab = lab
        self.routers = sorted({router for area in lab.stubs.values() for router in area})
        self.paths = {(a, r): shortest(lab.edges.get(a, {}), r) for a in lab.stubs for r in lab.stubs[a]}
        self.borders = [router for router in self.routers if len(lab.areas_of(router)) > 1]
        self.intra = {router: self._intra(router) for router in self.routers}
        # Section 12.4.3: what each border router tells into each of its areas; the backbone is heard first.
        self.told: dict[tuple[str, int], dict[Prefix, int]] = {}
        for area in sorted(lab.stubs, key=lambda area: area != 0):
            for border in self.borders:
                if area in lab.areas_of(border):
                    self.told[border, area] = self._tells(border, area)

    def _of_area(self, router: str, area: int) -> dict[Prefix, Entry]:
        """Section 16.1: the routes of one area."""
        cost, first = self.paths[area, router]
        found: dict[Prefix, Entry] = {}
        for owner, stubs in self.lab.stubs[area].items():
            if owner not in cost:
                continue
            for prefix, stub in stubs.items():
                total = cost[owner] + stub
                standing = found.get(prefix)
                if standing is None or total < standing.cost:
                    found[prefix] = Entry("intra-area", total, set(first[owner]))
                elif total == standing.cost:
                    standing.first |= first[owner]
        return found

    def _intra(self, router: str) -> dict[Prefix, Entry]:
        found: dict[Prefix, Entry] = {}
        for area in self.lab.areas_of(router):
            for prefix, entry in self._of_area(router, area).items():
                standing = found.get(prefix)
                if standing is None or entry.cost < standing.cost:
                    found[prefix] = Entry(entry.kind, entry.cost, set(entry.first))
                elif entry.cost == standing.cost:
                    standing.first |= entry.first
        return found

    def active_ranges(self, router: str) -> dict[tuple[Prefix, int], tuple[bool, int]]:
        """A range is active while a route of its area lies inside; it costs as much as the farthest one."""
        active = {}
        for area in self.lab.areas_of(router):
            routes = self._of_area(router, area)
            for prefix, shown, stated in self.lab.ranges.get((router, area), []):
                inside = [entry.cost for p, entry in routes.items() if prefix.covers(p)]
                if inside:
                    active[prefix, area] = (shown, max(inside) if stated is None else stated)
        return active

    def _tells(self, border: str, into: int) -> dict[Prefix, int]:
        told: dict[Prefix, int] = {}
        active = self.active_ranges(border)
        for area in self.lab.areas_of(border):
            if area == into:
                continue
            mine = [prefix for prefix, of in active if of == area]
            for prefix, entry in self._of_area(border, area).items():
                if self.intra[border][prefix].cost == entry.cost and not any(r.covers(prefix) for r in mine):
                    told[prefix] = min(told.get(prefix, FAR), entry.cost)
            for (prefix, of), (shown, cost) in active.items():
                if of == area and shown:
                    told[prefix] = min(told.get(prefix, FAR), cost)
        if into != 0 and 0 in self.lab.areas_of(border):
            for prefix, entry in self._inter(border, 0).items():
                if prefix not in self.intra[border]:
                    told[prefix] = min(told.get(prefix, FAR), entry.cost)
        return told

    def _inter(self, router: str, area: int) -> dict[Prefix, Entry]:
        """Section 16.2, the router's own active ranges passed over (step 3)."""
        cost, first = self.paths[area, router]
        own = {prefix for prefix, _ in self.active_ranges(router)} if router in self.borders else set()
        found: dict[Prefix, Entry] = {}
        for border in self.borders:
            if border == router or border not in cost or (border, area) not in self.told:
                continue
            for prefix, told in self.told[border, area].items():
                if prefix in own:
                    continue
                total = cost[border] + told
                standing = found.get(prefix)
                if standing is None or total < standing.cost:
                    found[prefix] = Entry("inter-area", total, set(first[border]))
                elif total == standing.cost:
                    standing.first |= first[border]
        return found

    def table(self, router: str) -> dict[Prefix, Entry]:
        table = dict(self.intra[router])
        areas = self.lab.areas_of(router)
        for area in areas if len(areas) == 1 else [area for area in areas if area == 0]:
            for prefix, entry in self._inter(router, area).items():
                table.setdefault(prefix, entry)
        if router in self.borders:
            for prefix, area in self.active_ranges(router):
                if table.get(prefix, Entry("", 0, set())).kind != "intra-area":
                    table[prefix] = Entry("range", self.active_ranges(router)[prefix, area][1], set())
        return table


@st.composite
def labs(draw) -> Lab:
    count = draw(st.integers(2, 7))
    lab = Lab()
    devices = {f"r{i}": {"interfaces": {}, "routing": {"ospf": {"areas": {}}}} for i in range(count)}

    def member(router: str, area: int, interface: str, address: str, cost: int, prefix: str) -> None:
        devices[router]["interfaces"][interface] = {"addresses": [address]}
        areas = devices[router]["routing"]["ospf"]["areas"]
        areas.setdefault(str(area), {"interfaces": {}})["interfaces"][interface] = {"cost": cost}
        lab.stubs.setdefault(area, {}).setdefault(router, {})[Prefix.parse(prefix)] = cost

    links = []
    pairs = [(a, b) for a in range(count) for b in range(a + 1, count)]
    cables = draw(
        st.lists(
            st.tuples(st.sampled_from(pairs), st.sampled_from((0, 0, 1, 2)), st.integers(1, 3), st.integers(1, 3)),
            min_size=1,
            max_size=10,
        )
    )
    for number, ((a, b), area, there, back) in enumerate(cables):
        subnet = f"172.16.{number}.0/30"
        for end, other, cost, host in ((f"r{a}", f"r{b}", there, 1), (f"r{b}", f"r{a}", back, 2)):
            member(end, area, f"c{number}", f"172.16.{number}.{host}/30", cost, subnet)
            lab.edges.setdefault(area, {}).setdefault(end, []).append((other, cost, f"c{number}"))
        links.append([f"r{a}:c{number}", f"r{b}:c{number}"])
    for i in range(count):
        areas = lab.areas_of(f"r{i}") or [0]
        area = draw(st.sampled_from(areas))
        for lan in range(draw(st.integers(0, 2))):
            subnet = f"10.{area}.{i * 4 + lan}"
            member(f"r{i}", area, f"l{lan}", f"{subnet}.1/24", draw(st.integers(1, 5)), f"{subnet}.0/24")
        for area in areas:
            if not draw(st.booleans()):
                continue
            texts = draw(st.lists(st.sampled_from((f"10.{area}.0.0/16", f"10.{area}.0.0/21")), unique=True, max_size=1))
            for text in texts:
                shown, stated = draw(st.booleans()), draw(st.sampled_from((None, 2, 9)))
                lab.ranges.setdefault((f"r{i}", area), []).append((Prefix.parse(text), shown, stated))
                written = {"prefix": text, "advertise": shown} | ({} if stated is None else {"cost": stated})
                of_area = devices[f"r{i}"]["routing"]["ospf"]["areas"].setdefault(str(area), {})
                of_area.setdefault("ranges", []).append(written)
    for number, device in enumerate(devices.values()):
        device["routing"]["router_id"] = f"1.1.1.{number + 1}"
    lab.document = {"routrel": 1, "name": "areas", "devices": devices, "links": links}
    return lab


@given(labs())
@settings(max_examples=examples(200))
def test_every_ospf_route_is_that_of_the_reference(lab):
    solved = solve(read_network({"n.json": json.dumps(lab.document).encode()}))
    reference = Reference(lab)
    ports = solved.topology.ports
    kinds: dict[str, int] = defaultdict(int)
    for router in reference.routers:
        number = solved.topology.device_index[router]
        table = solved.table(number)
        own = {a.prefix for i in solved.topology.devices[number].interfaces.values() for a in i.addresses}
        expected = {p: e for p, e in reference.table(router).items() if p not in own}
        found = {
            prefix: route
            for index, prefix in enumerate(solved.prefixes.prefixes)
            if prefix not in own and (route := table.source_route(0, index)) is not None
        }
        assert set(found) == set(expected)
        for prefix, entry in expected.items():
            route = found[prefix]
            kinds[entry.kind] += 1
            assert (route.origin, route.metric) == (entry.kind, entry.cost), (router, str(prefix))
            assert {ports[hop.port].name.interface for hop in route.next_hops} == entry.first
