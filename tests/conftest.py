from pathlib import Path

import pytest
from coverage import Coverage
from hypothesis import HealthCheck, settings

# Machines that run the tests are shared and slow at times: how long an example takes says nothing.
settings.register_profile("routrel", deadline=None, suppress_health_check=[HealthCheck.too_slow])
settings.load_profile("routrel")


CORE = Path(__file__).parent / "core"


@pytest.hookimpl(wrapper=True)
def pytest_runtest_protocol(item, nextitem):
    """What is covered is counted in examples of the core alone: it makes them take half as long again, random ones go
    over the same lines a hundred times, and servers compute in processes of their own."""
    is_random = getattr(getattr(item, "obj", None), "is_hypothesis_test", False)
    is_counted = item.path.is_relative_to(CORE) and not is_random
    stopped = []
    while not is_counted and (measuring := Coverage.current()):
        measuring.stop()
        stopped.append(measuring)
    try:
        return (yield)
    finally:
        for measuring in reversed(stopped):
            measuring.start()
