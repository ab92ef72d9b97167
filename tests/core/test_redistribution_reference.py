"""Redistribution round by round with dictionaries only, apart from the solver, which has to come out the same.

One area of OSPF, level 2 of IS-IS and RIP over random cables, IPv4; rules with metrics, types, tags and policies. All
routers look at once, from nothing; where that comes round, the solver must not say that it settled so.
"""

import json
from collections import defaultdict
from collections.abc import Callable
from itertools import pairwise

from hypothesis import HealthCheck, given, settings
from hypothesis import strategies as st

from routrel.formats.network_file import read_network
from routrel.solving import solve
from tests.examples import examples

PREFERENCE = {"connected": 0, "static": 1, "ospf": 110, "isis": 115, "rip": 120}
ORDER = list(PREFERENCE)
DEFAULT = {"ospf": 20, "isis": 0, "rip": 1}
FAR = 16
TAGGED = 7


@st.composite
def labs(draw) -> dict:
    count = draw(st.integers(2, 6))
    pairs = [(a, b) for a in range(count) for b in range(a + 1, count)]
    cables = draw(st.lists(st.sampled_from(pairs), min_size=1, max_size=8))
    spoken = [draw(st.sampled_from(["ospf", "isis", "rip"])) for _ in cables]
    costs = [(draw(st.integers(1, 4)), draw(st.integers(1, 4))) for _ in cables]
    statics = draw(st.dictionaries(st.integers(0, count - 1), st.sets(st.integers(0, 2), min_size=1), max_size=3))
    rules = {}
    for router in range(count):
        runs = {protocol for pair, protocol in zip(cables, spoken, strict=True) if router in pair}
        for into in sorted(runs):
            sources = draw(st.sets(st.sampled_from(["connected", "static", *(runs - {into})]), max_size=3))
            for source in sorted(sources):
                metric = draw(st.one_of(st.none(), st.integers(1, 5)))
                kind = draw(st.sampled_from([None, 1, 2])) if into == "ospf" else None
                tag = draw(st.sampled_from([None, TAGGED]))
                policy = draw(st.sampled_from([None, "untagged"]))
                rules[router, into, source] = metric, kind, tag, policy
    preferences = {router: draw(st.sampled_from([{}, {}, {"rip": 100}, {"isis": 105}])) for router in range(count)}
    return {
        "count": count,
        "cables": cables,
        "spoken": spoken,
        "costs": costs,
        "statics": statics,
        "rules": rules,
        "preferences": preferences,
    }


def document(lab: dict) -> dict:
    devices = {
        f"r{n}": {
            "interfaces": {},
            "routing": {"router_id": f"10.9.9.{n + 1}", "preferences": lab["preferences"][n]},
            "policies": {"untagged": [{"match": {"tag": TAGGED}, "result": "reject"}, {"result": "accept"}]},
        }
        for n in range(lab["count"])
    }
    links = []
    for number, (pair, protocol, costs) in enumerate(zip(lab["cables"], lab["spoken"], lab["costs"], strict=True)):
        for host, (end, cost) in enumerate(zip(pair, costs, strict=True), 1):
            device, name = devices[f"r{end}"], f"c{number}"
            device["interfaces"][name] = {"addresses": [f"172.16.{number}.{host}/30"]}
            routing = device["routing"]
            if protocol == "ospf":
                routing.setdefault("ospf", {"areas": {"0": {"interfaces": {}}}})["areas"]["0"]["interfaces"][name] = {
                    "cost": cost
                }
            elif protocol == "isis":
                net = f"49.0001.0000.0000.{end + 1:04d}.00"
                routing.setdefault("isis", {"net": net, "level": "2", "interfaces": {}})["interfaces"][name] = {
                    "metric": cost
                }
            else:
                routing.setdefault("rip", {"interfaces": {}})["interfaces"][name] = {"metric": cost}
        links.append([f"r{end}:c{number}" for end in pair])
    for router, numbers in lab["statics"].items():
        devices[f"r{router}"]["routing"]["static"] = [
            {"prefix": f"198.51.100.{n}/32", "action": "discard"} for n in sorted(numbers)
        ]
    for (router, into, source), (metric, kind, tag, policy) in lab["rules"].items():
        rule = {"from": source, "metric": metric, "metric_type": kind, "tag": tag, "policy": policy}
        routing = devices[f"r{router}"]["routing"][into]
        routing.setdefault("redistribute", []).append({key: value for key, value in rule.items() if value is not None})
    return {"routrel": 1, "name": "lab", "devices": devices, "links": links}


class Reference:
    """``put_in`` has what (router, protocol) puts in: metric, type, tag by prefix. Routes are (cost, hops, tag)."""

    def __init__(self, lab: dict):
        self.lab = lab
        self.routers = range(lab["count"])
        self.edges = defaultdict(list)  # (protocol, router): (neighbour, cost, next hop)
        self.own = defaultdict(dict)  # (protocol, router): cost by prefix
        self.connected = defaultdict(set)
        for number, (pair, protocol, costs) in enumerate(zip(lab["cables"], lab["spoken"], lab["costs"], strict=True)):
            prefix = f"172.16.{number}.0/30"
            for at, end in enumerate(pair):
                hop = f"c{number}", f"172.16.{number}.{2 - at}"
                self.edges[protocol, end].append((pair[1 - at], costs[at], hop))
                self.own[protocol, end][prefix] = costs[at]
                self.connected[end].add(prefix)
        self.distance = {(protocol, r): self._from(protocol, r) for protocol in ("ospf", "isis") for r in self.routers}
        self.put_in = defaultdict(dict)
        self.silent = defaultdict(set)

    def _from(self, protocol: str, start: int) -> dict[int, tuple[int, set]]:
        """Cost and first hops to every router (Bellman and Ford)."""
        cost = {start: 0}
        for _ in self.routers:
            for router, so_far in list(cost.items()):
                for other, step, _ in self.edges[protocol, router]:
                    cost[other] = min(cost.get(other, 10**6), so_far + step)
        back = {end: self._costs_to(protocol, end) for end in cost}
        hops = {
            end: {
                hop
                for other, step, hop in self.edges[protocol, start]
                if end != start and step + back[end].get(other, 10**6) == cost[end]
            }
            for end in cost
        }
        return {end: (cost[end], hops[end]) for end in cost}

    def _costs_to(self, protocol: str, end: int) -> dict[int, int]:
        cost = {end: 0}
        for _ in self.routers:
            for router in self.routers:
                for other, step, _ in self.edges[protocol, router]:
                    if other in cost:
                        cost[router] = min(cost.get(router, 10**6), step + cost[other])
        return cost

    def ospf(self, router: int) -> dict:
        """RFC 2328: intra-area, then type 1, then type 2 by metric and distance (sections 11 and 16.4)."""
        found: dict[str, list] = defaultdict(list)
        for other, (cost, hops) in sorted(self.distance["ospf", router].items()):
            for prefix, more in self.own["ospf", other].items():
                found[prefix].append(((0, cost + more, 0), cost + more, hops, 0))
            for prefix, (metric, kind, tag) in self.put_in[other, "ospf"].items():
                if other != router and kind == 1:
                    found[prefix].append(((1, cost + metric, 0), cost + metric, hops, tag))
                elif other != router:
                    found[prefix].append(((2, metric, cost), metric, hops, tag))
        # Of equal ones the first router's tag: LSAs are looked at in their order.
        return {prefix: self._best(ways, lambda tags: tags[0]) for prefix, ways in found.items()}

    def isis(self, router: int) -> dict:
        """Own and redistributed prefixes alike, by cost (RFC 5302)."""
        found: dict[str, list] = defaultdict(list)
        for other, (cost, hops) in self.distance["isis", router].items():
            said = {prefix: (metric, 0) for prefix, metric in self.own["isis", other].items()}
            both = [
                *said.items(),
                *((prefix, (metric, tag)) for prefix, (metric, _, tag) in self.put_in[other, "isis"].items()),
            ]
            for prefix, (metric, tag) in both:
                found[prefix].append((cost + metric, cost + metric, hops, tag))
        return {prefix: self._best(ways, min) for prefix, ways in found.items()}

    @staticmethod
    def _best(ways: list, tag_of: Callable[[list[int]], int]) -> tuple:
        best = min(key for key, *_ in ways)
        equal = [way for way in ways if way[0] == best]
        return equal[0][1], set().union(*(hops for _, _, hops, _ in equal)), tag_of([tag for *_, tag in equal])

    def rip(self) -> dict[int, dict]:
        """RFC 2453: the lowest metric, the lowest next hop of equal ones; split horizon; silence where it is not used."""
        heard: dict[int, dict] = {router: {} for router in self.routers}
        while True:
            now: dict[int, dict] = {router: {} for router in self.routers}
            for router in self.routers:
                for other, cost, (interface, address) in sorted(
                    self.edges["rip", router], key=lambda one: tuple(map(int, one[2][1].split(".")))
                ):
                    said = {prefix: (metric, tag) for prefix, (metric, _, tag) in self.put_in[other, "rip"].items()}
                    said |= dict.fromkeys(self.own["rip", other], (1, 0))
                    for prefix, (metric, hop, tag) in heard[other].items():
                        if prefix not in said and hop[0] != interface and prefix not in self.silent[other]:
                            said[prefix] = metric, tag
                    for prefix, (metric, tag) in said.items():
                        total = min(metric + cost, FAR)
                        if total < FAR and (prefix not in now[router] or total < now[router][prefix][0]):
                            now[router][prefix] = total, (interface, address), tag
            if now == heard:
                return {
                    router: {
                        prefix: (metric, {hop}, tag)
                        for prefix, (metric, hop, tag) in found.items()
                        if prefix not in self.own["rip", router]
                    }
                    for router, found in heard.items()
                }
            heard = now

    def tables(self) -> dict[int, dict]:
        """Per router and prefix all candidates: (rank, protocol, route)."""
        rip = self.rip()
        tables = {}
        for router in self.routers:
            said = PREFERENCE | self.lab["preferences"][router]
            found = defaultdict(list)
            for prefix in self.connected[router]:
                found[prefix].append(((0, 0), "connected", (0, set(), 0)))
            for number in self.lab["statics"].get(router, ()):
                found[f"198.51.100.{number}/32"].append(((1, 1), "static", (0, set(), 0)))
            for protocol, routes in (("ospf", self.ospf(router)), ("isis", self.isis(router)), ("rip", rip[router])):
                for prefix, route in routes.items():
                    if route[1]:
                        found[prefix].append(((said[protocol], ORDER.index(protocol)), protocol, route))
            tables[router] = {prefix: sorted(ways, key=lambda way: way[0]) for prefix, ways in found.items()}
        return tables

    def look(self) -> tuple[dict, dict]:
        """What all put in and are silent of, by the tables of the moment."""
        tables, put_in, silent = self.tables(), defaultdict(dict), defaultdict(set)
        for (router, into, source), (metric, kind, tag, policy) in self.lab["rules"].items():
            for prefix, ways in tables[router].items():
                _, protocol, (_, _, carried) = ways[0]
                if protocol != source or (policy and carried == TAGGED):
                    continue
                put_in[router, into][prefix] = (
                    min(metric if metric is not None else DEFAULT[into], FAR)
                    if into == "rip"
                    else metric
                    if metric is not None
                    else DEFAULT[into],
                    kind or 2,
                    0 if tag is None else tag,
                )
        for router in self.routers:
            rank = (PREFERENCE | self.lab["preferences"][router])["rip"], ORDER.index("rip")
            others = {
                prefix: min((way[0] for way in ways if way[1] != "rip"), default=(999, 0))
                for prefix, ways in tables[router].items()
            }
            silent[router] = {prefix for prefix, best in others.items() if best < rank}
        return put_in, silent

    def settle(self) -> bool:
        """Round by round; False where an earlier state comes back."""
        seen = []
        while True:
            put_in, silent = self.look()
            state = dict(put_in), dict(silent)
            if seen and state == seen[-1]:
                return True
            if state in seen:
                return False
            seen.append(state)
            self.put_in, self.silent = put_in, silent


def test_the_cables_of_a_lab_are_what_the_reference_walks():
    lab = {
        "count": 3,
        "cables": [(0, 1), (1, 2)],
        "spoken": ["ospf", "ospf"],
        "costs": [(1, 2), (3, 4)],
        "statics": {2: {0}},
        "rules": {(2, "ospf", "static"): (None, None, None, None)},
        "preferences": {0: {}, 1: {}, 2: {}},
    }
    reference = Reference(lab)
    assert reference.settle()
    (way,) = reference.tables()[0]["198.51.100.0/32"]
    assert way == ((110, 2), "ospf", (20, {("c0", "172.16.0.2")}, 0))
    assert list(pairwise(sorted(end for end in reference.distance["ospf", 0]))) == [(0, 1), (1, 2)]


@given(labs())
@settings(max_examples=examples(250), deadline=None, suppress_health_check=[HealthCheck.too_slow])
def test_redistribution_round_by_round(lab):
    solved = solve(read_network({"n.json": json.dumps(document(lab)).encode()}))
    reference = Reference(lab)
    settled = reference.settle()
    assert settled == (solved.redistribution.unsettled is None and not solved.redistribution.depends_on_order)
    if not settled:
        return
    expected = reference.tables()
    for router in reference.routers:
        found = {}
        for route in solved.table(router):
            if route.protocol != "local":
                hops = {
                    (solved.topology.ports[hop.port].name.interface, str(hop.address))
                    for hop in route.next_hops
                    if hop.address
                }
                found[str(route.prefix)] = route.protocol, hops, route.tag or 0, route.metric
        wanted = {}
        for prefix, ways in expected[router].items():
            _, protocol, (metric, hops, tag) = ways[0]
            wanted[prefix] = protocol, hops, tag, metric
        assert found == wanted, router
