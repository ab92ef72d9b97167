"""Stages taken over from a network solved before: what comes out is what comes out from nothing."""

import copy
import json
import os
import pickle
import subprocess
import sys

import numpy as np
import pytest
from hypothesis import HealthCheck, given, settings
from hypothesis import strategies as st

from bench.generator import Shape
from bench.generator import document as generated
from routrel.analysis.check import check
from routrel.analysis.walk_verdicts import Answerer
from routrel.forwarding.flow import Flow
from routrel.forwarding.flow_words import FlowError
from routrel.model.addresses import Prefix
from routrel.model.fields import replace
from routrel.model.filters import Acl, AclEntry, ForwardingPolicy, HeaderMatch, PortRange, SteeringEntry
from routrel.model.network import Network
from routrel.model.routing import Ospf, StaticRoute
from routrel.routing.prefixes.classes import PrefixClasses
from routrel.routing.prefixes.index import PrefixIndex
from routrel.routing.solve import Solved
from routrel.routing.solved_file import SolvedFileError, open_solved, save_solved
from routrel.solving import solve
from tests.core.mixed_networks import documents, read
from tests.core.networks import plain, solution_of
from tests.core.speaker_networks import speakers
from tests.core.test_areas_reference import labs
from tests.examples import examples


def tables(solved: Solved) -> list:
    return [list(solved.table(instance.index)) for instance in solved.topology.instances]


def outcome(solved: Solved) -> dict:
    return {"tables": tables(solved), "findings": check(solved), "doubts": solved.doubts}


KINDS = ("down", "cost", "static", "acl", "attached", "policy", "address", "link", "preference")


@st.composite
def changes(draw, kinds=KINDS):
    """A change of a document, as a function that makes it; some do nothing."""
    which, value = draw(st.integers(0, 99)), draw(st.integers(1, 90))
    kind = draw(st.sampled_from(kinds))

    def change(document: dict) -> None:
        names = [name for name, one in document["devices"].items() if "routing" in one and one["interfaces"]]
        device = document["devices"][names[which % len(names)]]
        interfaces = sorted(device["interfaces"])
        interface = device["interfaces"][interfaces[value % len(interfaces)]]
        routing = device["routing"]
        if kind == "down":
            interface["enabled"] = not interface.get("enabled", True)
        elif kind == "cost":
            spoken = _ospf_interfaces(routing.get("ospf", {}))
            if spoken:
                spoken[value % len(spoken)]["cost"] = value
        elif kind == "static":
            routing.setdefault("static", []).append({"prefix": f"198.51.100.{value}/32", "action": "discard"})
        elif kind == "acl":
            device.setdefault("acls", {})["unused"] = [
                {"action": "drop", "destination_ports": [value], "protocol": "tcp"}
            ]
        elif kind == "attached" and interfaces[value % len(interfaces)].startswith("c"):
            device.setdefault("acls", {})["strict"] = [
                {"action": "drop", "protocol": "tcp", "destination_ports": [179]},
                {"action": "accept"},
            ]
            interface["acl_in"] = "strict"
        elif kind == "policy":
            for policy in device.get("policies", {}).values():
                policy[:0] = [{"match": {"tag": value}, "result": "reject"}]
        elif kind == "address":
            device["interfaces"]["extra"] = {"addresses": [f"203.0.113.{value}/32"]}
        elif kind == "link" and document.get("links"):
            link = document["links"][value % len(document["links"])]
            if isinstance(link, dict):
                link["enabled"] = not link.get("enabled", True)
        elif kind == "range":
            for number, area in routing.get("ospf", {}).get("areas", {}).items():
                area["ranges"] = [] if area.get("ranges") else [{"prefix": f"10.{number}.0.0/16", "cost": value}]
        elif kind == "area type":
            for one in document["devices"].values():
                area = one.get("routing", {}).get("ospf", {}).get("areas", {}).get("1")
                if area is not None:
                    area["type"] = ("normal", "stub", "nssa")[value % 3]
        elif kind == "preference":
            routing.setdefault("preferences", {})["static"] = value

    return change


def _ospf_interfaces(found) -> list[dict]:
    """The interfaces of all areas that stand somewhere below."""
    if isinstance(found, list):
        return [one for part in found for one in _ospf_interfaces(part)]
    if not isinstance(found, dict):
        return []
    own = [one for one in found.get("interfaces", {}).values() if isinstance(one, dict)]
    return own + [one for part in found.values() for one in _ospf_interfaces(part)]


def held_against_cold(document: dict, steps: list) -> None:
    """Solve a chain of changes, each on the one before, and then the first again."""
    solved, versions = solve(read(document)), [document]
    for change in steps:
        versions.append(copy.deepcopy(versions[-1]))
        change(versions[-1])
    for version in (*versions[1:], document):
        solved = solve(read(version), solved)
        assert outcome(solved) == outcome(solve(read(version)))


@given(documents(lans=3), st.lists(changes(), min_size=1, max_size=3))
@settings(
    max_examples=examples(60), deadline=None, suppress_health_check=[HealthCheck.too_slow, HealthCheck.data_too_large]
)
def test_solved_on_a_base_is_solved_from_nothing(document, steps):
    held_against_cold(document, steps)


@given(labs(), st.lists(changes(("down", "cost", "link", "link", "range", "area type")), min_size=1, max_size=4))
@settings(max_examples=examples(150), deadline=None, suppress_health_check=[HealthCheck.too_slow])
def test_areas_on_a_base_are_areas_from_nothing(lab, steps):
    links = [{"ends": ends} for ends in lab.document["links"]]
    held_against_cold({**lab.document, "links": links}, steps)


@given(speakers(), st.lists(changes(), min_size=1, max_size=2))
@settings(
    max_examples=examples(40), deadline=None, suppress_health_check=[HealthCheck.too_slow, HealthCheck.data_too_large]
)
def test_bgp_on_a_base_is_bgp_from_nothing(document, steps):
    held_against_cold(document, steps)


ENTRIES = st.builds(
    AclEntry,
    st.sampled_from(["accept", "drop"]),
    st.builds(
        HeaderMatch,
        st.sampled_from([None, 6, 17, 88, 89]),
        st.sampled_from([None, Prefix.parse("10.0.0.0/8"), Prefix.parse("172.16.0.0/12")]),
        st.none(),
        st.just(()),
        st.sampled_from([(), (PortRange(179, 179),), (PortRange(443, 600),), (PortRange(500, 520),)]),
    ),
    stateful=st.booleans(),
)


@st.composite
def filter_changes(draw):
    """A change of a device's filters in a network, as a function that gives the changed one."""
    which, value = draw(st.integers(0, 99)), draw(st.integers(0, 99))
    entries = tuple(draw(st.lists(ENTRIES, max_size=3)))
    field = draw(st.sampled_from(["acl_in", "acl_out", "forwarding_policy", None]))
    steering = draw(st.builds(SteeringEntry, st.sampled_from(["discard", "table"]), st.just(HeaderMatch(6))))

    def change(network: Network) -> Network:
        device = list(network.devices.values())[which % len(network.devices)]
        name, interface = list(device.interfaces.items())[value % len(device.interfaces)]
        lists = {"acls": device.acls | {"drawn": Acl("drawn", entries)}}
        if field == "forwarding_policy":
            policies = device.forwarding_policies | {"drawn": ForwardingPolicy("drawn", (steering,))}
            lists = {"forwarding_policies": policies}
        if field is not None and not interface.is_loopback:
            lists["interfaces"] = device.interfaces | {name: replace(interface, **{field: "drawn"})}
        return replace(network, devices=network.devices | {device.name: replace(device, **lists)})

    return change


@st.composite
def setting_changes(draw):
    """A change of what is up or set, as a function that gives the changed network."""
    which, value = draw(st.integers(0, 99)), draw(st.integers(1, 99))
    kind = draw(st.sampled_from(["interface", "link", "mtu", "static", "preference", "cost", "policy"]))

    def change(network: Network) -> Network:
        device = list(network.devices.values())[which % len(network.devices)]
        name, interface = list(device.interfaces.items())[value % len(device.interfaces)]
        routing = device.routing
        if kind == "link" and network.links:
            links = list(network.links)
            at = which % len(links)
            links[at] = replace(links[at], enabled=not links[at].enabled)
            return replace(network, links=tuple(links))
        if kind in ("interface", "mtu") or routing is None:
            again = replace(interface, mtu=1400) if kind == "mtu" else replace(interface, enabled=not interface.enabled)
            changed = replace(device, interfaces=device.interfaces | {name: again})
        elif kind == "policy":
            kept = {name: replace(policy, statements=policy.statements[1:]) for name, policy in device.policies.items()}
            changed = replace(device, policies=kept)
        elif kind == "preference":
            changed = replace(device, routing=replace(routing, preferences={**routing.preferences, "static": value}))
        elif kind == "cost" and routing.ospf:
            changed = replace(device, routing=replace(routing, ospf=tuple(map(costlier, routing.ospf))))
        else:
            static = StaticRoute(Prefix.parse("10.0.0.0/8"), action="discard", preference=value)
            changed = replace(device, routing=replace(routing, static=(*routing.static, static)))
        return replace(network, devices=network.devices | {device.name: changed})

    return change


def costlier(ospf: Ospf) -> Ospf:
    areas = (
        replace(area, interfaces=tuple(replace(one, cost=(one.cost or 10) + 3) for one in area.interfaces))
        for area in ospf.areas
    )
    return replace(ospf, areas=tuple(areas))


IN_PLACE = st.lists(st.one_of(filter_changes(), setting_changes()), min_size=1, max_size=4)


@given(st.one_of(documents(lans=2), speakers()), IN_PLACE)
@settings(
    max_examples=examples(50), deadline=None, suppress_health_check=[HealthCheck.too_slow, HealthCheck.data_too_large]
)
def test_changes_in_place_come_out_as_from_nothing(document, steps):
    """A chain of changes in place, the first network at its end; tables, findings and walks are those from nothing."""
    network = read(document)
    solved, versions = solve(network), [network]
    for change in steps:
        versions.append(change(versions[-1]))
    for version in (*versions[1:], network):
        solved, cold = solve(version, solved), solve(version)
        assert outcome(solved) == outcome(cold)
        names = list(version.devices)
        for flow in (Flow(names[0], names[-1], "tcp/179"), Flow(names[-1], names[0], "udp/520")):
            assert walked(solved, flow) == walked(cold, flow)


def walked(solved: Solved, flow: Flow) -> object:
    answerer = Answerer(solved)
    try:
        return plain(answerer.listed(flow))
    except FlowError as error:
        return str(error)


AREAS = generated(Shape(24, areas=3, isis=12, points=3, prefixes=90))


def with_change(document: dict, change) -> dict:
    changed = copy.deepcopy(document)
    change(changed)
    return changed


def test_an_access_list_reaches_no_table():
    network = read(AREAS)
    solved = solve(network)
    name, device = next(iter(network.devices.items()))
    changed = replace(device, acls={"new": Acl("new", ())})
    again = solve(replace(network, devices={**network.devices, name: changed}), solved)
    assert again.convergence is solved.convergence and again.databases is solved.databases
    assert again.topology.devices[0] is changed and solved.topology.devices[0] is device


def test_what_a_link_does_not_touch_is_taken_over():
    first, other = AREAS["links"][0], AREAS["links"][-1]
    assert first != other
    solved = solve(read(AREAS))
    ends = first if isinstance(first, list) else first["ends"]
    device, interface = ends[0].split(":")
    changed = with_change(AREAS, lambda one: one["devices"][device]["interfaces"][interface].update(enabled=False))
    again = solve(read(changed), solved)
    assert again.prefixes is solved.prefixes
    graphs = len(solution_of(solved, "ospf").areas.graphs) + len(solution_of(solved, "isis").graphs)
    assert sum(solution.taken_over for solution in again.solutions) == graphs - 1
    assert [one.name for one in again.topology.ports] == [one.name for one in solved.topology.ports]


def test_what_ospf_has_of_areas_that_a_change_does_not_touch_is_taken_over():
    document = generated(Shape(60, areas=3, prefixes=60))
    network = read(document)
    base = solve(network)
    before = solution_of(base, "ospf")
    area = before.database.areas[2]
    link = next(
        number
        for number, one in enumerate(network.links)
        if {base.topology.device_index[end.device] for end in one.ends} <= set(area.routers)
    )
    cut = replace(network.links[link], enabled=False)
    solved = solve(replace(network, links=(*network.links[:link], cut, *network.links[link + 1 :])), base)
    after = solution_of(solved, "ospf")
    assert solved.prefix_classes is base.prefix_classes and solved.prefixes is base.prefixes
    others = set(before.database.areas) - {2}
    touched = {number for end in cut.ends for number in before.areas.areas_of[base.topology.device_index[end.device]]}
    assert after.database.as_in_base == set(before.database.areas) - touched and touched <= {0, 2}
    for number in others - touched:
        assert after.database.areas[number] is before.database.areas[number]
        assert after.areas.graphs[number] is before.areas.graphs[number]
        assert after.areas.destinations[number] is before.areas.destinations[number]
    assert after.database.areas[2] is not area and after.areas.graphs[2] is not before.areas.graphs[2]
    assert outcome(solved) == outcome(solve(solved.network))


def test_classes_hold_while_nothing_more_is_told_apart_and_nothing_more_is_carried():
    index = PrefixIndex([Prefix.parse(f"10.0.{number}.0/24") for number in range(4)], [])
    classes = PrefixClasses(index, np.array([0, 0, 1, -1]))
    for again, holds in (
        ([0, 0, 1, -1], True),
        ([7, 7, 3, -1], True),  # the same by other numbers
        ([0, 0, 0, -1], True),  # told apart for no reason any more
        ([-1, -1, 1, -1], True),  # nobody brings these any more
        ([-1, 0, 1, -1], False),  # one of them somebody does
        ([0, 2, 1, -1], False),
        ([0, 0, 1, 5], False),  # carried now, but not before
    ):
        assert classes.holds_for(np.array(again)) == holds, again


def test_a_table_shares_routes_with_others_until_one_changes():
    solved = solve(read(generated(Shape(4, prefixes=4))))
    first = solved.table(0)

    def standing(table):
        return {number: table.other(number) for number in table.others}

    known = standing(first)
    number, route = next(iter(known.items()))
    fresh = first.fresh(first.sources)
    fresh.withdraw(number)
    assert number not in fresh.others and standing(first) == known
    again = first.fresh(first.sources)
    first.put({number: route._replace(preference=7)})
    assert standing(again) == known and first.other(number).preference == 7


def test_a_network_beside_others_like_it_fails_and_no_column_moves():
    lans = {f"lan{n}": {"addresses": [f"10.1.{n}.1/24"]} for n in range(4)}
    interfaces = {"interfaces": {name: {} for name in (*lans, "up")}}
    up = [{"up": {"addresses": [f"172.16.0.{host}/30"]}} for host in (1, 2)]
    document = {
        "routrel": 1,
        "name": "n",
        "devices": {
            "a": {"interfaces": lans | up[0], "routing": {"ospf": {"areas": {"0": interfaces}}}},
            "b": {"interfaces": up[1], "routing": {"ospf": {"areas": {"0": {"interfaces": {"up": {}}}}}}},
        },
        "links": [["a:up", "b:up"]],
    }
    before = solve(read(document))
    assert (
        len({before.prefix_classes.column_of(route.prefix) for route in before.table(1) if route.protocol == "ospf"})
        == 1
    )
    down = with_change(document, lambda one: one["devices"]["a"]["interfaces"]["lan2"].update(enabled=False))
    after = solve(read(down), before)
    assert after.prefix_classes.first[: len(before.prefix_classes)].tolist() == before.prefix_classes.first.tolist()
    assert [str(route.prefix) for route in after.table(1) if route.protocol == "ospf"] == [
        "10.1.0.0/24",
        "10.1.1.0/24",
        "10.1.3.0/24",
    ]
    assert tables(solve(read(document), after)) == tables(before)


def test_columns_keep_their_numbers_and_new_ones_come_last():
    solved = solve(read(AREAS))
    changed = copy.deepcopy(AREAS)
    for device in changed["devices"].values():
        for name, interface in list(device["interfaces"].items())[-2:]:
            if name != "lo":
                interface["enabled"] = False
    again = solve(read(changed), solved)
    old, new = solved.prefix_classes, again.prefix_classes
    assert new.first[: len(old)].tolist() == old.first.tolist()
    assert len(new) >= len(old)
    assert tables(again) == tables(solve(read(changed)))


def test_a_base_of_other_prefixes_is_left_alone():
    solved = solve(read(AREAS))
    classes = PrefixClasses(solved.prefixes, solved.prefix_classes.column.copy(), solved.prefix_classes)
    assert classes.first.tolist() == solved.prefix_classes.first.tolist()


@given(documents())
@settings(max_examples=examples(10), deadline=None, suppress_health_check=[HealthCheck.too_slow])
def test_a_solved_network_survives_pickling(document):
    solved = solve(read(document))
    again = pickle.loads(pickle.dumps(solved))
    assert outcome(again) == outcome(solved)


OPENS = """
import json, sys
from pathlib import Path
from routrel.routing.solved_file import open_solved
solved = open_solved(Path(sys.argv[1]))
print(json.dumps([[str(route) for route in solved.table(one.index)] for one in solved.topology.instances]))
"""


def test_another_process_opens_a_saved_network_and_changes_no_file(tmp_path):
    solved = solve(read(AREAS))
    path = tmp_path / "network.solved"
    save_solved(solved, path)
    before, env = path.read_bytes(), {**os.environ, "PYTHONPATH": os.pathsep.join(sys.path)}
    printed = subprocess.run(
        [sys.executable, "-c", OPENS, path], capture_output=True, text=True, check=True, env=env
    ).stdout
    assert json.loads(printed) == [[str(route) for route in table] for table in tables(solved)]
    again = open_solved(path)
    changed = with_change(AREAS, lambda one: one["devices"]["r1"]["interfaces"]["e1"].update(enabled=False))
    assert tables(solve(read(changed), again)) == tables(solve(read(changed)))
    assert path.read_bytes() == before and list(tmp_path.iterdir()) == [path]


@pytest.mark.parametrize(
    "damage",
    [
        lambda data: b"",
        lambda data: data[:100],
        lambda data: data[:-9],
        lambda data: b"x" + data[1:],
        lambda data: data[:30] + bytes([data[30] ^ 1]) + data[31:],
    ],
)
def test_a_file_that_is_none_of_these_is_refused(tmp_path, damage):
    path = tmp_path / "network.solved"
    save_solved(solve(read(AREAS)), path)
    path.write_bytes(damage(path.read_bytes()))
    with pytest.raises(SolvedFileError):
        open_solved(path)
