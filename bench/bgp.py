"""BGP in bulk: cold, with many prefixes of each class, with other sessions, and with a full table."""

import time

import numpy as np
import numpy.typing as npt

from bench.speakers import REFLECTORS, Backbone, backbone, full_table
from bench.timing import memory, timed_in_turn
from routrel.model.fields import replace
from routrel.model.network import Network
from routrel.routing.bgp.paths import AS_PATH, MED, NEXT_HOP
from routrel.routing.bgp.solution import BgpSolution
from routrel.routing.solve import Solved
from routrel.solving import solve


def bench_bgp(quick: bool) -> None:
    """The same classes of prefixes, with one prefix each and with twenty."""
    routers, classes = (30, 200) if quick else (200, 5000)
    times = {}
    for each in (1, 20):
        model = backbone(Backbone(routers, 10, classes, each))
        start = time.perf_counter()
        solved = solve(model)
        times[each] = time.perf_counter() - start
        if each == 1:
            few, lean = model, solved
    print(f"BGP, {routers} routers with {REFLECTORS} reflectors, 10 carriers, {len(solved.prefixes)} prefixes")
    print(f"  in {len(solved.prefix_classes)} classes; yardstick: one prefix of each class, {times[1]:.1f} s")
    print(f"  twenty prefixes of each class          {times[20] / times[1]:8.2f} x   (limit 3)")
    keys = keys_received(lean)
    cold, sorting, drawn, *again = timed_in_turn(
        lambda: solve(few),
        lambda: np.lexsort(keys),
        lambda: np.lexsort(np.random.default_rng(1).integers(0, 2**60, keys.shape)),
        lambda: solve(without_neighbor(few, f"r{routers // 2}"), lean),
        lambda: solve(without_neighbor(few, "x3"), lean),
    )
    print(f"  {keys.shape[1]:,} paths received; yardstick: lexsort of them, by column, AS path, MED and next hop")
    print(f"  solved                                 {cold / sorting:8.2f} x   (limit 3)")
    print(f"  solved, by as many random numbers      {cold / drawn:8.2f} x")
    print("  yardstick: solving it cold")
    print(f"  again with a session to a reflector less {again[0] / cold:6.3f} x   (limit 0.1)")
    print(f"  again with a carrier's session less    {again[1] / cold:8.3f} x")


def keys_received(solved: Solved) -> npt.NDArray[np.int64]:
    """What paths are told apart by, of all that routers hold received: int64 (4, n), the columns last."""
    bgp = next(solution for solution in solved.solutions if isinstance(solution, BgpSolution))
    assert bgp.propagation is not None
    received = np.stack(bgp.propagation.received)
    columns = np.broadcast_to(np.arange(received.shape[1]), received.shape)[received >= 0]
    rows = bgp.paths.rows[received[received >= 0]]
    return np.stack([rows[:, NEXT_HOP], rows[:, MED], rows[:, AS_PATH], columns])


def without_neighbor(model: Network, name: str) -> Network:
    """With the first session of a device shut."""
    device = model.devices[name]
    assert device.routing is not None and device.routing.bgp is not None
    first, *others = device.routing.bgp.neighbors
    bgp = replace(device.routing.bgp, neighbors=(replace(first, enabled=False), *others))
    return replace(model, devices=model.devices | {name: replace(device, routing=replace(device.routing, bgp=bgp))})


def bench_full_table(quick: bool) -> None:
    prefixes = 20_000 if quick else 250_000
    start = time.perf_counter()
    model = full_table(prefixes)
    loaded = time.perf_counter()
    solved = solve(model)
    done = time.perf_counter()
    held = int((solved.table(0).winners()[solved.prefix_classes.column] >= 0).sum())
    print(f"full table: {prefixes} prefixes of two carriers on four borders, a default inside; a border holds {held}")
    print(f"  reading {loaded - start:.0f} s, solving {(done - loaded) / (loaded - start):.2f} x that; {memory()}")
