import pytest
from coverage import Coverage
from hypothesis import HealthCheck, settings

# Machines that run the tests are shared and slow at times: how long an example takes says nothing.
settings.register_profile("routrel", deadline=None, suppress_health_check=[HealthCheck.too_slow])
settings.load_profile("routrel")


@pytest.hookimpl(wrapper=True)
def pytest_runtest_call(item):
    """Random examples go over the same lines a hundred times: to count what they cover would take half of a run."""
    stopped = []
    while getattr(getattr(item, "obj", None), "is_hypothesis_test", False) and (measuring := Coverage.current()):
        measuring.stop()
        stopped.append(measuring)
    try:
        return (yield)
    finally:
        for measuring in reversed(stopped):
            measuring.start()
