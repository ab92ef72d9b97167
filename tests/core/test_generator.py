"""The benchmarks' networks: plausible, and the same for the same seed."""

import pytest

from bench.generator import Shape, document, network
from routrel.analysis.check import check
from routrel.forwarding.flow import Asker, Flow
from routrel.solving import solve

SHAPES = [
    Shape(2),
    Shape(40, prefixes=60, hosts=20, sites=5),
    Shape(60, areas=4, prefixes=60, hosts=60),
    Shape(80, degree=8.0, acl_share=1.0, prefixes=80, hosts=10, seed=7),
]


@pytest.mark.parametrize("shape", SHAPES)
def test_the_same_shape_is_the_same_network(shape):
    assert document(shape) == document(shape)


def test_another_seed_is_another_network():
    assert document(Shape(30, seed=1)) != document(Shape(30, seed=2))


@pytest.mark.parametrize("shape", SHAPES)
def test_it_has_the_size_and_degree_asked_for(shape):
    model = network(shape)
    routers = [device for device in model.devices.values() if device.kind == "router"]
    assert len(routers) == shape.routers
    assert len(model.devices) == shape.routers + shape.hosts
    cables = len(model.links) - shape.hosts
    if shape.areas == 1 and shape.routers > 2:
        assert abs(2 * cables / shape.routers - shape.degree) < 0.5
    lans = sum(
        str(a).startswith("10.1") or a.length == 24 for d in routers for i in d.interfaces.values() for a in i.addresses
    )
    assert lans == shape.prefixes


@pytest.mark.parametrize("shape", SHAPES)
def test_it_is_sound_and_everything_is_reached(shape):
    solved = solve(network(shape))
    assert not [finding for finding in check(solved) if finding.severity == "error"]
    asker = Asker(solved)
    last = f"h{shape.hosts}" if shape.hosts else f"r{shape.routers}"
    assert asker.ask(Flow("r1", last, "tcp/443")).forward.verdict == "arrives"
    assert asker.ask(Flow(last, "r1", "icmp")).forward.verdict == "arrives"
    names = {route.origin for route in solved.table(0) if route.protocol == "ospf"}
    assert ("inter-area" in names) == (shape.areas > 1)
