from hypothesis import HealthCheck, settings

# Machines that run the tests are shared and slow at times: how long an example takes says nothing.
settings.register_profile("routrel", deadline=None, suppress_health_check=[HealthCheck.too_slow])
settings.load_profile("routrel")
