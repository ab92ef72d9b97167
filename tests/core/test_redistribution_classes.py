"""Redistribution over classes of columns, held against redistribution over all columns."""

from unittest.mock import patch

import pytest
from hypothesis import HealthCheck, given, settings

from bench.generator import Shape
from bench.generator import document as generated
from routrel.routing.redistribution import classes
from routrel.solving import solve
from tests.core.mixed_networks import documents, read
from tests.examples import examples

PER_CLASS = classes._by_class


def outcome(solved) -> dict:
    fixed_point = solved.redistribution
    return {
        "tables": [list(solved.table(instance.index)) for instance in solved.topology.instances],
        "redistributed": [
            {process: one.key() for process, one in injected.items()} for injected in fixed_point.redistributed
        ],
        "rounds": fixed_point.rounds,
        "order": (fixed_point.depends_on_order, fixed_point.contested),
        "unsettled": fixed_point.unsettled,
        "findings": solved.findings,
    }


def both_ways(document: dict) -> list[str]:
    """Solve both ways and compare; how the first way went."""
    network, went = read(document), []

    def noted(builder, fixed_point):
        went.append("started")
        settled = PER_CLASS(builder, fixed_point)
        went.append(f"{len(settled.prefixes)} columns")
        return settled

    with patch.object(classes, "WORTHWHILE", 0), patch.object(classes, "_by_class", noted):
        by_class = solve(network)
    with patch.object(classes, "WORTHWHILE", 2**62):
        one_by_one = solve(network)
    assert outcome(by_class) == outcome(one_by_one)
    return went


@given(documents(protocols=("ospf", "isis"), lans=4))
@settings(max_examples=examples(120), deadline=None, suppress_health_check=[HealthCheck.too_slow])
def test_what_settles_over_classes_is_what_settles_over_all_columns(document):
    both_ways(document)


@pytest.mark.parametrize("seed", range(4))
@pytest.mark.parametrize("points", [2, 5])
def test_an_ospf_and_an_isis_network_joined_at_points_settle_over_few_columns(seed, points):
    shape = Shape(12, areas=2, isis=10, points=points, prefixes=60, seed=seed)
    went = both_ways(generated(shape))
    assert went[0] == "started" and len(went) == 2


@pytest.mark.parametrize("seed", range(4))
def test_what_comes_back_into_isis_is_settled_over_all_columns(seed):
    # Without the tag a point hands back what another took from IS-IS, where it competes by cost.
    document = generated(Shape(12, areas=2, isis=10, points=4, prefixes=60, seed=seed))
    for device in document["devices"].values():
        if "policies" in device:
            device["policies"]["across"] = [{"result": "accept"}]
    assert both_ways(document) == ["started"]


def test_prefixes_that_leaking_tags_differently_are_told_apart():
    # The border b leaks what costs it 20 with tag 5, which t does not pass on to OSPF.
    def router(number: int, interfaces: dict, routing: dict, policies: dict | None = None) -> dict:
        return {
            "interfaces": {name: {"addresses": [address]} for name, address in interfaces.items()},
            "routing": {"router_id": f"10.0.0.{number}", **routing},
            "policies": policies or {},
        }

    def isis(number: int, area: int, level: str, **interfaces) -> dict:
        return {"net": f"49.000{area}.0000.0000.000{number}.00", "level": level, "interfaces": interfaces}

    far = {"lan": {"metric": 10}, "e1": {"metric": 10}}
    document = {
        "routrel": 1,
        "name": "leaks",
        "devices": {
            "t": router(
                1,
                {"e1": "172.16.1.1/30", "e2": "172.16.9.1/30"},
                {
                    "isis": isis(1, 1, "1", e1={}),
                    "ospf": {
                        "areas": {"0": {"interfaces": {"e2": {}}}},
                        "redistribute": [{"from": "isis", "policy": "p"}],
                    },
                },
                {"p": [{"match": {"tag": 5}, "result": "reject"}, {"result": "accept"}]},
            ),
            "b": router(
                2,
                {"e1": "172.16.1.2/30", "e2": "172.16.2.1/30", "e3": "172.16.3.1/30"},
                {
                    "isis": {
                        **isis(2, 1, "1-2", e1={}, e2={"metric": 10}, e3={"metric": 20}),
                        "leak": {"policy": "p"},
                    }
                },
                {"p": [{"match": {"metric": 20}, "set": {"tag": 5}, "result": "accept"}, {"result": "accept"}]},
            ),
            "c": router(3, {"e1": "172.16.2.2/30", "lan": "10.3.0.1/24"}, {"isis": isis(3, 2, "2", **far)}),
            "d": router(4, {"e1": "172.16.3.2/30", "lan": "10.4.0.1/24"}, {"isis": isis(4, 2, "2", **far)}),
        },
        "links": [["t:e1", "b:e1"], ["b:e2", "c:e1"], ["b:e3", "d:e1"]],
    }
    assert len(both_ways(document)) == 2
    fixed_point = solve(read(document)).redistribution
    (passed_on,) = fixed_point.redistributed[0].values()
    names = [str(fixed_point.prefixes.prefixes[number]) for number in passed_on.numbers.tolist()]
    assert [name for name in names if name.startswith("10.")] == ["10.4.0.0/24"]


def test_a_router_that_redistributes_and_is_off_takes_nothing_along():
    document = generated(Shape(routers=40, isis=20, points=2, prefixes=10))
    next(one for one in document["devices"].values() if "policies" in one)["enabled"] = False
    assert both_ways(document)
