"""How long things take, and how much memory they have taken."""

import gc
import resource
import statistics
import time
from collections.abc import Callable

RUNS = 3


def timed(action: Callable[[], object], clock: Callable[[], float] = time.perf_counter) -> float:
    """Seconds the action takes: the median of a few runs."""
    seconds = []
    for _ in range(RUNS):
        start = clock()
        action()
        seconds.append(clock() - start)
    return statistics.median(seconds)


def timed_in_turn(*actions: Callable[[], object]) -> list[float]:
    """Seconds of each action, the least of several rounds in which they take turns.

    What else a machine does only ever adds to a time; taking turns, all meet its slow moments alike.
    """
    least = [float("inf")] * len(actions)
    for _ in range(2 * RUNS + 1):
        for at, action in enumerate(actions):
            gc.collect()  # what the one before left does not slow this one
            start = time.perf_counter()
            action()
            least[at] = min(least[at], time.perf_counter() - start)
    return least


def memory() -> str:
    peak = resource.getrusage(resource.RUSAGE_SELF).ru_maxrss / 1024
    return f"peak memory so far {peak:,.0f} MiB"
