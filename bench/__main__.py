"""Run with ./routrel bench: every figure is a ratio to a yardstick measured in the same run.

--quick   small networks: whether it runs, not what it shows
--write FILE --routers N --areas N ...   write a generated network file and stop
"""

import argparse
import json
import random
import statistics
import sys
import time
from collections.abc import Iterable
from functools import partial
from pathlib import Path
from tempfile import TemporaryDirectory

import numpy as np
from scipy.sparse import csr_array
from scipy.sparse.csgraph import dijkstra

from bench.bgp import bench_bgp, bench_full_table
from bench.documents import bench_documents
from bench.generator import Shape, document, network, with_borders
from bench.history import bench_history, bench_updates
from bench.programs import main as bench_programs
from bench.stress import bench_stress
from bench.table_dumps import bench_table_dumps
from bench.timing import memory, timed, timed_in_turn
from routrel.analysis.changed_routes import count_and_list
from routrel.analysis.check import check
from routrel.analysis.comparison import compare
from routrel.analysis.contest.why import WhyAnswerer
from routrel.analysis.held.groups import comparing
from routrel.analysis.trial import Trial
from routrel.formats.changes.reading import read_change
from routrel.formats.sources import read_files
from routrel.forwarding.flow import Asker, Flow
from routrel.garbage_collection import collection_paused, keep
from routrel.model.addresses import InterfaceAddress
from routrel.model.changes import Change
from routrel.model.devices import Device
from routrel.model.fields import replace
from routrel.model.filters import Acl
from routrel.routing.isis.solution import IsisSolution
from routrel.routing.ospf.database import OspfDatabase
from routrel.routing.ospf.solution import OspfSolution
from routrel.routing.prefixes.classes import PrefixClasses
from routrel.routing.prefixes.configured import number_prefixes
from routrel.routing.prefixes.index import PrefixIndex
from routrel.routing.registry import PROTOCOLS
from routrel.routing.solve import Solved
from routrel.routing.solved_file import open_solved, save_solved
from routrel.routing.spf.graph import Edge, Graph
from routrel.solving import solve
from routrel.topology.segments import Topology


def graph_of(routers: int, edges: Iterable[Edge]) -> csr_array:
    """A graph as the yardstick takes it: of parallel edges the cheapest."""
    best: dict[tuple[int, int], int] = {}
    for edge in edges:
        key = (edge.source, edge.target)
        best[key] = min(edge.cost, best.get(key, edge.cost))
    ends = np.array(list(best), dtype=np.int64)
    return csr_array((np.array(list(best.values()), dtype=np.float64), (ends[:, 0], ends[:, 1])), shape=(routers,) * 2)


def yardstick_of(graphs: Iterable[Graph]) -> list[csr_array]:
    """The graphs of a solved protocol, renumbered, for the yardstick."""
    return [
        graph_of(
            len(graph.routers),
            (
                edge._replace(source=graph.local[edge.source], target=graph.local[edge.target])
                for router in range(len(graph.routers))
                for edge in graph.first_hops(router)
            ),
        )
        for graph in graphs
    ]


def bench_ospf(quick: bool) -> None:
    routers = 300 if quick else 2000
    model = network(Shape(routers, prefixes=routers))
    topology = Topology(model)
    database = OspfDatabase(topology)
    area = next(iter(database.areas.values()))
    graph = graph_of(max(area.routers) + 1, area.edges)
    index = PrefixIndex(stub.prefix for area in database.areas.values() for stub in area.stubs)
    prefixes = PrefixClasses(index, np.arange(len(index)))
    yardstick = timed(lambda: dijkstra(graph))

    def everything() -> None:
        fresh = OspfDatabase(topology)
        solution = OspfSolution(fresh, prefixes)
        for process in solution.processes:
            solution.routes_of(process.number)

    shared = timed(lambda: OspfSolution(database, prefixes))
    whole = timed(everything)
    print(f"OSPF, one area of {routers} routers, {len(prefixes)} prefixes; yardstick: SciPy's all-pairs dijkstra")
    print(f"  yardstick                              {yardstick:8.3f} s")
    print(f"  distances and next hops                {shared / yardstick:8.2f} x")
    print(f"  adjacencies to every router's routes   {whole / yardstick:8.2f} x   (limit 4)")
    print(f"  {memory()}")


def bench_redistribution(quick: bool) -> None:
    """OSPF areas, an IS-IS core and redistribution points that pass everything both ways.

    The yardstick is given its graphs as arrays; so what turns names and texts into numbers stands apart from
    solving: interfaces, cables and subnets to ports and segments, prefixes to numbers.
    """
    half, points, lans = (100, 10, 800) if quick else (500, 50, 16_000)
    model = network(Shape(half, areas=5, prefixes=lans, isis=half, points=points))
    solved = solve(model)
    graphs = yardstick_of(
        graph
        for solution in solved.solutions
        if isinstance(solution, OspfSolution | IsisSolution)
        for graph in (solution.areas.graphs if isinstance(solution, OspfSolution) else solution.graphs).values()
    )
    topology, databases = solved.topology, [protocol.database(solved.topology, None) for protocol in PROTOCOLS]
    with collection_paused():
        yardstick, compiled, numbered, whole = timed_in_turn(
            lambda: [dijkstra(graph) for graph in graphs],
            lambda: Topology(model),
            lambda: number_prefixes(topology, databases),
            lambda: solve(model),
        )
    start = time.perf_counter()
    for instance in range(len(solved.topology.devices)):
        for source in solved.table(instance).sources:
            source.rows.present()
    tables = time.perf_counter() - start
    carried = int(solved.prefix_classes.is_carried.sum())
    print(f"{2 * half} routers in 5 OSPF areas and an IS-IS core, {points} redistribution points, {carried} prefixes")
    print(f"  in {len(solved.prefix_classes)} classes;")
    print(f"  yardstick: SciPy's all-pairs dijkstra of the same graphs   {yardstick:8.3f} s")
    print(f"  interfaces, cables and subnets                             {compiled / yardstick:8.1f} x")
    print(f"  prefixes numbered                                          {numbered / yardstick:8.1f} x")
    print(
        f"  adjacencies, protocols and redistribution, {solved.redistribution.rounds} rounds"
        f"        {(whole - compiled - numbered) / yardstick:8.1f} x   (limit 6)"
    )
    print(f"  every router's routes                                      {tables / yardstick:8.1f} x")
    keep()  # as a server does with what it has solved
    why = WhyAnswerer(solved)
    chance = random.Random(3)
    asked = [
        (chance.randrange(2 * half), solved.prefixes.prefixes[chance.randrange(len(solved.prefixes))])
        for _ in range(60)
    ]
    start = time.perf_counter()
    why.why(*asked[0], with_tipping=False)
    first = time.perf_counter() - start
    times = []
    for question in asked:
        start = time.perf_counter()
        why.why(*question, with_tipping=False)
        times.append(time.perf_counter() - start)
    print(
        f"  explaining one route: the first {1000 * first:,.0f} ms, the median of more"
        f" {1000 * statistics.median(times):.0f} ms, the slowest {1000 * max(times):.0f} ms (limit 50)"
    )
    print(f"  {memory()}")


def bench_again(quick: bool) -> None:
    """One thing changed in place, solved on a base with all tables, against solving cold; and opened from a file."""
    routers = 200 if quick else 1000
    model = network(Shape(routers, areas=5, prefixes=routers))
    solved = with_tables(solve(model))
    name, device = next((name, one) for name, one in model.devices.items() if one.routing is not None)
    routing = device.routing
    assert routing is not None
    ospf = routing.ospf[0]
    area = ospf.areas[0]
    links = [one.name for one in area.interfaces if device.interfaces[one.name].kind != "loopback"]

    def with_costs(*names: str) -> Device:
        costlier = tuple(replace(one, cost=77) if one.name in names else one for one in area.interfaces)
        again = replace(ospf, areas=(replace(area, interfaces=costlier), *ospf.areas[1:]))
        return replace(device, routing=replace(routing, ospf=(again, *routing.ospf[1:])))

    cable = replace(model.links[0], enabled=False)
    changed = {
        "an access list": replace(device, acls={"new": Acl("new", ())}),
        "a cost": with_costs(links[0]),
        "all costs of a router": with_costs(*links),
    }
    models = {what: replace(model, devices=model.devices | {name: one}) for what, one in changed.items()}
    models["a failed link"] = replace(model, links=(cable, *model.links[1:]))
    with TemporaryDirectory() as folder:
        path = Path(folder) / "network.solved"
        save_solved(solved, path)
        with collection_paused():
            cold, opened, *times = timed_in_turn(
                lambda: with_tables(solve(model)),
                lambda: open_solved(path),
                *(partial(lambda one: with_tables(solve(one, solved)), one) for one in models.values()),
            )
        size = path.stat().st_size / 2**20
    print(f"{routers} routers again; yardstick: solving them cold with all tables {cold:8.3f} s")
    for what, seconds in zip(models, times, strict=True):
        print(f"  {what:<37}{seconds / cold:8.3f} x")
    print(f"  opened from a file of {size:3.0f} MiB        {opened / cold:8.3f} x")


def with_tables(solved: Solved) -> Solved:
    for instance in solved.topology.instances:
        solved.table(instance.index)
    return solved


def bench_walks(quick: bool) -> None:
    routers = 200 if quick else 1000
    model = network(Shape(routers, areas=5, prefixes=routers, hosts=routers // 2, acl_share=0.3))
    solved = solve(model)
    for device in range(len(solved.topology.devices)):
        solved.table(device)
    asker = Asker(solved)
    chance = random.Random(1)
    hosts = [name for name, device in model.devices.items() if device.kind == "host"]
    everyone = list(model.devices)
    for title, names in (("hosts", hosts), ("any devices", everyone)):
        services = ("icmp", "tcp/443", "udp/53", "tcp/25")
        flows = [Flow(chance.choice(names), chance.choice(names), chance.choice(services)) for _ in range(2000)]

        def walk_all(flows: list[Flow] = flows) -> int:
            stops = 0
            for flow in flows:
                walk = asker.ask(flow)
                assert walk.reply is not None
                stops += len(walk.forward.stops) + len(walk.reply.stops)
                stops += 0 * (len(walk.forward.verdict) + walk.forward.path_count)
            return stops

        def forward_only(flows: list[Flow] = flows) -> None:
            for flow in flows:
                asker.ask(flow, with_reply=False)

        start = time.process_time()
        stops = walk_all() / len(flows)
        unseen = len(flows) / (time.process_time() - start)
        rate = len(flows) / timed(walk_all, time.process_time)
        one_way = len(flows) / timed(forward_only, time.process_time)
        print(f"walks on {routers} routers, between {title}; {stops:.1f} stops a flow there and back")
        print(f"  the first time       {unseen:8,.0f} flows/s on one core, {unseen / 2000:.2f} x the 2,000 wanted")
        print(f"  forward and return   {rate:8,.0f} flows/s on one core, {rate / 2000:.2f} x")
        print(f"  forward alone        {one_way:8,.0f} flows/s on one core, {one_way / 2000:.2f} x")


def bench_large(quick: bool) -> None:
    routers, areas = (1000, 10) if quick else (10_000, 50)
    start = time.perf_counter()
    model = network(Shape(routers, areas=areas, prefixes=routers))
    loaded = time.perf_counter()
    solved = solve(model)
    done = time.perf_counter()
    for device in range(routers):
        solved.table(device)
    print(f"{routers} routers in {areas} areas, {len(solved.prefixes)} prefixes")
    print(f"  reading {loaded - start:.1f} s, solving {(done - loaded) / (loaded - start):.2f} x that,")
    print(f"  every router's table {(time.perf_counter() - done) / (loaded - start):.2f} x; {memory()}")


def bench_check(quick: bool) -> None:
    model = network(Shape(200 if quick else 1000, prefixes=1000, acl_share=0.5))
    solved = solve(model)
    whole = timed(lambda: solve(model))
    print(f"check, {len(model.devices)} routers: {timed(lambda: check(solved)) / whole:.2f} x solving the same network")


def bench_comparison(quick: bool) -> None:
    """Two states held against each other, all tables: a router's costs changed, and a subnet of it."""
    routers = 200 if quick else 1000
    model = network(Shape(routers, areas=5, prefixes=routers))
    solved = with_tables(solve(model))
    cold = timed(lambda: with_tables(solve(model)))
    name, device = next((name, one) for name, one in model.devices.items() if one.routing is not None)
    at, first = next((at, one) for at, one in device.interfaces.items() if one.addresses and not one.is_loopback)
    moved = replace(first, addresses=(InterfaceAddress.parse("192.168.250.1/24"),), address_places=(first.place,))
    print(f"{routers} routers held against another state; yardstick: solving one with all tables {cold:8.3f} s")
    for what, changed in (
        ("a failed link", replace(model, links=(replace(model.links[0], enabled=False), *model.links[1:]))),
        (
            "another subnet",
            replace(model, devices=model.devices | {name: replace(device, interfaces=device.interfaces | {at: moved})}),
        ),
    ):
        other = with_tables(solve(changed))
        print(f"  {what:<37}{timed(partial(compare, solved, other)) / cold:8.3f} x")


def tried_with(files: dict[str, bytes], solved: Solved, changes: list[Change]) -> Solved:
    return Trial.of(files, solved, changes).after


def bench_trials(quick: bool) -> None:
    """A change made by its text and solved with, and what it moves counted."""
    routers = 200 if quick else 1000
    files = {"network.json": json.dumps(document(Shape(routers, areas=5, prefixes=routers)), indent=1).encode()}
    model = read_files(files)
    solved = with_tables(solve(model))
    read = timed(lambda: solve(read_files(files)))
    end = next(end for link in model.links for end in link.ends if model.devices[end.device].routing is not None)
    print(f"{routers} routers tried with a change; yardstick: reading and solving the network {read:8.3f} s")
    for text in (f"set: cost, at: {end}, to: 77", f"disable: link, at: {end}", f"disable: device, at: {end.device}"):
        changes = [read_change(text, "change")]
        tried = timed(partial(tried_with, files, solved, changes)) / read
        trial = Trial.of(files, solved, changes)
        counted = timed(partial(count_and_list, solved, trial.after, 1000)) / read
        print(f"  {text.partition(',')[0]:<37}{tried:8.3f} x, routes that move {counted:8.3f} x")


def bench_held(quick: bool) -> None:
    """All traffic of a network before and after a change, 100 entries each way at every border."""
    routers = 100 if quick else 300
    shape = Shape(routers, areas=5, prefixes=routers, sites=10)
    files = {"network.json": json.dumps(with_borders(document(shape), 20, 100), indent=1).encode()}
    model = read_files(files)
    solved = with_tables(solve(model))
    read = timed(lambda: solve(read_files(files)))
    end = next(end for link in model.links for end in link.ends if model.devices[end.device].routing is not None)
    print(f"{routers} routers, 20 borders: all traffic compared; yardstick: reading and solving {read:8.3f} s")
    entry = "add: acl_entry, at: r1, acl: to-outside, before: 1, entry: {action: drop, protocol: tcp}"
    for text in (f"set: cost, at: {end}, to: 1", entry, "disable: device, at: r2"):
        trial = Trial.of(files, solved, [read_change(text, "change")])
        after = with_tables(trial.after)
        keep()  # as the server and the command line do
        start = time.process_time()
        *_, last = comparing(solved, after)
        took = time.process_time() - start
        assert last.held is not None
        print(
            f"  {text.partition(',')[0]:<28}{took / read:6.2f} x, {took / 10:5.2f} x the 10 s wanted; {last.held.words}"
        )


def main() -> int:
    parser = argparse.ArgumentParser(prog="routrel bench")
    parser.add_argument("--quick", action="store_true")
    parser.add_argument("--write", metavar="FILE", type=Path)
    for name in ("routers", "areas", "prefixes", "hosts", "sites", "seed"):
        parser.add_argument(f"--{name}", type=int, default={"routers": 1000, "areas": 1, "seed": 1}.get(name, 0))
    parser.add_argument("--degree", type=float, default=4.0)
    options = parser.parse_args()
    if options.write:
        shape = {name: getattr(options, name) for name in ("routers", "areas", "prefixes", "hosts", "sites", "seed")}
        options.write.write_text(json.dumps(document(Shape(**shape, degree=options.degree)), indent=1))
        return 0
    for bench in (
        bench_ospf,
        bench_redistribution,
        bench_again,
        bench_bgp,
        bench_walks,
        bench_check,
        bench_comparison,
        bench_trials,
        bench_held,
        bench_stress,
        bench_documents,
        bench_table_dumps,
        bench_updates,
        bench_history,
        bench_large,
        bench_full_table,
    ):
        bench(options.quick)
        sys.stdout.flush()
    bench_programs(options.quick)
    return 0


if __name__ == "__main__":
    sys.exit(main())
