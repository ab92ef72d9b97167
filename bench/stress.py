"""Expected flows under single failures."""

import json
import random
import time
from contextlib import suppress

from bench.generator import Shape, document
from routrel.analysis.expectations.failures import failed, failures_of
from routrel.analysis.expectations.stress import Stress, Watched
from routrel.formats.sources import read_files
from routrel.forwarding.flow import Asker, Flow
from routrel.forwarding.flow_words import FlowError
from routrel.garbage_collection import keep
from routrel.solving import solve


def bench_stress(quick: bool) -> None:
    """Flows under single failures of links and devices, against solving each failure anew and walking every flow."""
    routers, flows, sample = (100, 40, 24) if quick else (500, 200, 200)
    shape = Shape(routers, areas=5, prefixes=routers, sites=10)
    solved = solve(read_files({"network.json": json.dumps(document(shape)).encode()}))
    names = list(solved.network.devices)
    chooser = random.Random(1)
    asker = Asker(solved)
    pairs = (chooser.sample(names, 2) for _ in range(flows))
    walks = [asker.ask(Flow(source, target)) for source, target in pairs]
    watched = [Watched(walk.flow, "works", walk) for walk in walks if walk.is_good]
    failures = chooser.sample(list(failures_of(solved, ("links", "devices"))), sample)
    import scipy.sparse.csgraph  # noqa: F401  (a process loads it once, whatever it is asked)

    keep()
    start = time.process_time()
    stress = Stress(solved, watched)
    looked = time.process_time() - start
    took = cold = 0.0
    hurt, few = 0, 8
    for number, failure in enumerate(failures):
        start = time.process_time()
        hurt += bool(stress.under(failure))
        took += time.process_time() - start
        if number % (sample // few) == 0:  # among them, for a machine that is now quick and now slow
            start = time.process_time()
            after = Asker(solve(failed(solved.network, failure)))
            for one in watched:
                with suppress(FlowError):
                    after.ask(one.flow)
            cold += (time.process_time() - start) / few
    ruled_out = sum(map(stress.rules_out, failures))
    print(
        f"{routers} routers, {len(watched)} expected flows, looked at once {looked:.1f} s: a failure"
        f" {took / sample * 1000:.0f} ms, {hurt} of {sample} hurt some, {ruled_out} ruled out;"
        f" yardstick: solved anew and walked {cold * 1000:.0f} ms = {cold * sample / took:.1f} x (wanted 20)"
    )
