"""RIP held against routers that send each other their tables; redistribution held against its own definition."""

import json
from collections import defaultdict

from hypothesis import HealthCheck, given, settings
from hypothesis import strategies as st

from routrel.formats.network_file import read_network
from routrel.routing.redistribution.redistributing import RedistributingProcess
from routrel.solving import solve
from tests.core.mixed_networks import documents, read
from tests.examples import examples

INFINITY = 16


@st.composite
def labs(draw):
    """Routers, cables with a metric at either end, silent ends, and some that redistribute one prefix."""
    count = draw(st.integers(2, 7))
    pairs = [(a, b) for a in range(count) for b in range(a + 1, count)]
    end = st.tuples(st.integers(1, 6), st.sampled_from([False, False, False, True]))
    cables = draw(st.lists(st.tuples(st.sampled_from(pairs), end, end), max_size=12))
    outside = draw(st.dictionaries(st.integers(0, count - 1), st.integers(1, 6), max_size=2))
    beaten = draw(st.sets(st.integers(0, count - 1), max_size=2))
    return count, cables, outside, beaten


def document(count, cables, outside, beaten) -> dict:
    devices = {}
    for i in range(count):
        static = [{"prefix": "192.0.2.0/24", "action": "discard"}] if i in outside else []
        # A static route of its own beats RIP's for the loopback of router 0, which is then not announced on.
        static += [{"prefix": "10.0.0.1/32", "action": "discard"}] if i in beaten and i else []
        rip = {"interfaces": {"lo": {}}}
        if i in outside:
            only = [{"match": {"prefixes": ["192.0.2.0/24"]}, "result": "accept"}]
            rip["redistribute"] = [{"from": "static", "metric": outside[i], "policy": "only"}]
        devices[f"r{i}"] = {
            "interfaces": {"lo": {"addresses": [f"10.0.0.{i + 1}/32"]}},
            "routing": {"rip": rip, "static": static},
            "policies": {"only": only} if i in outside else {},
        }
    links = []
    for number, ((a, b), end_a, end_b) in enumerate(cables):
        for end, (metric, passive), host in ((a, end_a, 1), (b, end_b, 2)):
            devices[f"r{end}"]["interfaces"][f"c{number}"] = {"addresses": [f"172.16.{number}.{host}/30"]}
            devices[f"r{end}"]["routing"]["rip"]["interfaces"][f"c{number}"] = {"metric": metric, "passive": passive}
        links.append([f"r{a}:c{number}", f"r{b}:c{number}"])
    return {"routrel": 1, "name": "rip", "devices": devices, "links": links}


def reference(count, cables, outside, beaten) -> dict[tuple[int, int], tuple[int, str]]:
    """RFC 2453 section 3.9.2, message by message, one prefix after the other: (metric, interface heard by)."""
    hearings = []  # (receiver, sender, metric added, cable, sender's address order)
    for number, ((a, b), (metric_a, silent_a), (metric_b, silent_b)) in enumerate(cables):
        if not silent_b:
            hearings.append((a, b, metric_a, number))
        if not silent_a:
            hearings.append((b, a, metric_b, number))
    found = {}
    for target in range(count + 1):
        own = {target: 1} if target < count else dict(outside)
        table: dict[int, tuple[int, int]] = {}
        changed = True
        while changed:
            changed = False
            for receiver in range(count):
                offers = []
                for _, sender, added, cable in (one for one in hearings if one[0] == receiver):
                    if sender in own:
                        said = own[sender]
                    elif target == 0 and sender in beaten:
                        said = INFINITY
                    else:
                        said, heard_by = table.get(sender, (INFINITY, -1))
                        if heard_by == cable:  # section 3.4.3, split horizon
                            said = INFINITY
                    if said + added < INFINITY:
                        offers.append((said + added, cable))
                best = min(offers, default=None)
                if table.get(receiver) != best:
                    changed = True
                    if best is None:
                        table.pop(receiver, None)
                    else:
                        table[receiver] = best
        for router, (metric, cable) in table.items():
            stands = router in own or (target == 0 and router in beaten)
            if not stands:
                found[router, target] = (metric, f"c{cable}")
    return found


@given(labs())
@settings(max_examples=examples(150))
def test_every_route_is_that_of_routers_that_send_their_tables(lab):
    solved = solve(read_network({"n.json": json.dumps(document(*lab)).encode()}))
    ports = solved.topology.ports
    found = {}
    for i in range(lab[0]):
        for route in solved.table(i):
            name = str(route.prefix)
            if route.protocol == "rip" and not name.startswith("172."):
                target = lab[0] if name.startswith("192.") else int(name.split(".")[3].split("/")[0]) - 1
                (hop,) = route.next_hops
                found[i, target] = (route.metric, ports[hop.port].name.interface)
    assert found == reference(*lab)


@given(documents())
@settings(max_examples=examples(60), deadline=None, suppress_health_check=[HealthCheck.too_slow])
def test_what_has_settled_stays_when_every_router_looks_again(document):
    solved = solve(read(document))
    fixed_point = solved.redistribution
    groups = defaultdict(list)
    for instance, seats in fixed_point.seats.items():
        table = solved.convergence._builder.make(instance)
        for seat in seats:
            one = seat.participant
            if isinstance(one, RedistributingProcess) and solved.redistribution.unsettled is None:
                again, key = one.look(lambda _, table=table: table)
                assert key == fixed_point.redistributed[seat.solution][one.process.number].key()
                groups[seat.solution, one.alike() or seat.number].append((one, table, again))
    for members in groups.values():
        tables = {one.instance: table for one, table, _ in members}
        together = RedistributingProcess.look_together([one for one, _, _ in members], tables.__getitem__)
        assert [key for _, key in together] == [alone.key() for _, _, alone in members]


@given(documents())
@settings(max_examples=examples(40), deadline=None, suppress_health_check=[HealthCheck.too_slow])
def test_the_same_network_is_solved_alike_each_time(document):
    first, second = solve(read(document)), solve(read(document))
    for instance in first.topology.instances:
        assert list(first.table(instance.index)) == list(second.table(instance.index))
