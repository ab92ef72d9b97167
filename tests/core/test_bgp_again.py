"""BGP solved beside a network with other sessions or policies: what comes out is what comes out from nothing."""

import gc
import json
import weakref

import numpy as np
from hypothesis import HealthCheck, given, settings
from hypothesis import strategies as st

from bench.speakers import Backbone, backbone, backbone_document
from routrel.analysis.trial import Trial
from routrel.formats.changes.reading import read_change
from routrel.formats.sources import read_files
from routrel.model.fields import replace
from routrel.model.network import Network
from routrel.routing.bgp.paths import AS_PATH, CLUSTERS, COMMUNITIES, NEXT_HOP
from routrel.routing.solve import Solved
from routrel.solving import solve
from tests.core.bgp_networks import NET, Net
from tests.core.networks import solution_of
from tests.core.speaker_networks import policies, speakers
from tests.core.test_received_paths import with_stubs
from tests.core.test_stages import outcome, read, tables
from tests.examples import examples

FIELDS = (
    "link",
    "interface",
    "enabled",
    "next_hop_self",
    "route_reflector_client",
    "weight",
    "originate_default",
    "import",
    "gone",
    "policy",
)


def with_bgp(network: Network, name: str, **changed) -> Network:
    device = network.devices[name]
    routing = replace(device.routing, bgp=replace(device.routing.bgp, **changed))
    return replace(network, devices=network.devices | {name: replace(device, routing=routing)})


def with_neighbor(network: Network, name: str, at: int, **changed) -> Network:
    """With one neighbor of a device changed, or without it."""
    neighbors = list(network.devices[name].routing.bgp.neighbors)
    neighbors[at : at + 1] = [replace(neighbors[at], **changed)] if changed else []
    return with_bgp(network, name, neighbors=tuple(neighbors))


@st.composite
def session_changes(draw):
    """A change of a session or a policy, as a function that gives the changed network."""
    which, value, field = draw(st.integers(0, 99)), draw(st.integers(0, 99)), draw(st.sampled_from(FIELDS))
    written = draw(policies(64500))

    def change(network: Network) -> Network:
        name, device = list(network.devices.items())[which % len(network.devices)]
        if field == "policy":
            other = read(
                {"routrel": 1, "name": "other", "devices": {name: {"interfaces": {}, "policies": {"p": written}}}}
            )
            changed = device.policies | {"p": other.devices[name].policies["p"]}
            return replace(network, devices=network.devices | {name: replace(device, policies=changed)})
        if field == "link":
            links = list(network.links)
            at = value % len(links)
            links[at] = replace(links[at], enabled=not links[at].enabled)
            return replace(network, links=tuple(links))
        if field == "interface":
            where = sorted(device.interfaces)[value % len(device.interfaces)]
            one = device.interfaces[where]
            changed = device.interfaces | {where: replace(one, enabled=not one.enabled)}
            return replace(network, devices=network.devices | {name: replace(device, interfaces=changed)})
        if not device.routing.bgp.neighbors:
            return network
        at = value % len(device.routing.bgp.neighbors)
        neighbor = device.routing.bgp.neighbors[at]
        if field == "gone":
            return with_neighbor(network, name, at)
        if field == "import":
            return with_neighbor(network, name, at, import_policy=("p", "q", None)[value % 3])
        if field == "weight":
            return with_neighbor(network, name, at, weight=value)
        if field == "route_reflector_client" and neighbor.number != device.routing.bgp.number:
            return network
        return with_neighbor(network, name, at, **{field: not getattr(neighbor, field)})

    return change


def told(solved: Solved) -> dict:
    """What speakers hold of each prefix, without numbers that hang on what was met before."""
    bgp = solution_of(solved, "bgp")
    held, paths = bgp.propagation, bgp.paths

    def words(number: int) -> tuple:
        if number < 0:
            return ()
        row = paths.rows[number].tolist()
        for at, interned in (
            (AS_PATH, paths.as_paths),
            (COMMUNITIES, paths.communities),
            (CLUSTERS, paths.clusters),
            (NEXT_HOP, paths.next_hops),
        ):
            row[at] = interned.values[row[at]]
        return tuple(row)

    said, through = zip(*(held.announced(speaker) for speaker in range(len(held.speakers))), strict=True)
    return {
        str(prefix): (
            [words(state[column]) for state in (*held.received, *held.best, *said)],
            [int(state[column]) for state in (*held.via, *through)],
        )
        for prefix, column in zip(solved.prefixes.prefixes, solved.prefix_classes.column.tolist(), strict=True)
        if held.best[:, column].max() >= 0
    }


@given(
    st.one_of(speakers(), with_stubs().map(lambda documents: documents[1])),
    st.lists(session_changes(), min_size=1, max_size=4),
)
@settings(
    max_examples=examples(40), deadline=None, suppress_health_check=[HealthCheck.too_slow, HealthCheck.data_too_large]
)
def test_other_sessions_are_solved_beside_what_was(document, steps):
    networks = [read(document)]
    for change in steps:
        networks.append(change(networks[-1]))
    solved = solve(networks[0])
    for network in (*networks[1:], networks[0]):
        solved, cold = solve(network, solved), solve(network)
        assert outcome(solved) == outcome(cold)
        assert told(solved) == told(cold)


def test_only_who_hears_something_else_decides_again():
    network = backbone(Backbone(20, 2, 40))
    solved = solve(network)
    again = solve(with_neighbor(network, "r15", 0, enabled=False), solved)
    bgp = solution_of(again, "bgp")
    assert bgp.taken_over == len(bgp.database.speakers) - 1
    untouched = next(one for one in bgp.state.channels if {one.sender, one.receiver} == {16, 1})
    was = next(
        one
        for one in solution_of(solved, "bgp").state.channels
        if (one.sender, one.receiver) == (untouched.sender, untouched.receiver)
    )
    held, before = bgp.propagation.received, solution_of(solved, "bgp").propagation.received
    assert held[untouched.index] is before[was.index]
    assert again.table(16).chosen is solved.table(16).chosen
    # What it was solved from is let go of, else each of a chain of trials would keep all before it.
    kept = [weakref.ref(one) for one in (solved.convergence, *solved.solutions, solution_of(solved, "bgp").propagation)]
    del solved, untouched, was, before
    gc.collect()
    assert [one() for one in kept] == [None] * len(kept)


def test_a_session_is_tried_beside_what_was():
    files = {"network.json": json.dumps(backbone_document(Backbone(20, 2, 40)), indent=1).encode()}
    solved = solve(read_files(files))
    (address,) = (one.address for one in solved.network.devices["r1"].interfaces["lo"].addresses)
    for text in (f"disable: session, at: 'r15 {address}'", f"set: local_preference, at: 'r15 {address}', to: 200"):
        trial = Trial.of(files, solved, [read_change(text, "change")])
        assert solution_of(trial.after, "bgp").taken_over >= 20
        assert tables(trial.after) == tables(solve(trial.after.network))


def test_a_network_solved_before_stays_as_it_was():
    network = backbone(Backbone(20, 2, 40))
    solved = solve(network)
    before, paths = told(solved), len(solution_of(solved, "bgp").paths)
    solve(with_neighbor(network, "x0", 0, weight=7, enabled=False), solved)
    solve(with_bgp(network, "r15", cluster_id=network.devices["r1"].routing.router_id), solved)
    assert told(solved) == before
    assert len(solution_of(solved, "bgp").paths) == paths
    assert np.array_equal(
        solution_of(solve(network, solved), "bgp").propagation.best, solution_of(solved, "bgp").propagation.best
    )


@given(
    st.lists(
        st.tuples(st.integers(0, 99), st.integers(0, 99), st.sampled_from(("enabled", "weight", "next_hop_self"))),
        min_size=3,
        max_size=5,
    )
)
@settings(max_examples=examples(8), deadline=None)
def test_of_a_chain_of_changes_each_is_solved_beside_the_one_before(steps):
    """Sessions that carry some of the prefixes: speakers do of these alone otherwise than before."""
    network = backbone(Backbone(12, 4, 24))
    solved = solve(network)
    for which, at, field in steps:
        name = list(network.devices)[which % len(network.devices)]
        neighbors = network.devices[name].routing.bgp.neighbors
        at %= len(neighbors)
        changed = at if field == "weight" else not getattr(neighbors[at], field)
        network = with_neighbor(network, name, at, **{field: changed})
        solved, cold = solve(network, solved), solve(network)
        assert tables(solved) == tables(cold)
        assert told(solved) == told(cold)


def test_a_prefix_that_another_protocol_lets_go_of_is_said_again():
    """The border's OSPF route stands before the inner router's path until the border's policy keeps it back."""

    def document(result: str) -> dict:
        def router(number: int, cables: list[str], **routing) -> dict:
            interfaces = {"lo": {"addresses": [f"10.0.0.{number}/32"]}}
            interfaces |= {f"c{cable[0]}": {"addresses": [f"172.16.{cable[0]}.{cable[1]}/30"]} for cable in cables}
            return {"interfaces": interfaces, "routing": {"router_id": f"10.0.0.{number}", **routing}}

        inside = {"areas": {"0": {"interfaces": {"lo": {}, "c1": {}}}}}
        put_in = {**inside, "redistribute": [{"from": "bgp", "policy": "p"}]}
        peer = {"as": 64500, "update_source": "lo", "next_hop_self": True}
        border = {"as": 64500, "neighbors": {"172.16.0.1": {"as": 65001}, "10.0.0.3": peer}}
        inner = {"as": 64500, "neighbors": {"10.0.0.2": peer, "172.16.2.2": {"as": 65002}}}
        devices = {
            "x": router(
                1,
                ["01"],
                static=[{"prefix": "192.0.2.0/24", "action": "discard"}],
                bgp={"as": 65001, "networks": ["192.0.2.0/24"], "neighbors": {"172.16.0.2": {"as": 64500}}},
            ),
            "border": router(2, ["02", "11"], ospf=put_in, bgp=border),
            "inner": router(3, ["12", "21"], ospf=inside, bgp=inner),
            "outside": router(4, ["22"], bgp={"as": 65002, "neighbors": {"172.16.2.1": {"as": 64500}}}),
        }
        devices["border"]["policies"] = {"p": [{"result": result}]}
        links = [["x:c0", "border:c0"], ["border:c1", "inner:c1"], ["inner:c2", "outside:c2"]]
        return {"routrel": 1, "name": "let go", "devices": devices, "links": links}

    def hears(solved: Solved) -> bool:
        return any(str(route.prefix) == "192.0.2.0/24" for route in solved.table(3))

    silent, speaking = (read(document(result)) for result in ("accept", "reject"))
    solved = solve(silent)
    again = solve(speaking, solved)
    assert (hears(solved), hears(again), hears(solve(silent, again))) == (False, True, False)
    assert solution_of(again, "bgp").taken_over  # beside what was
    assert told(again) == told(solve(speaking))


def test_a_default_said_to_one_neighbor_goes_and_comes_with_its_session():
    """It is in no message: it is there from the start."""
    net = Net()
    for name, number in (("a", 64501), ("b", 64502), ("c", 64503), ("d", 64504)):
        net.speaker(name, number)
    net.session("a", "b", {"originate_default": True})
    net.session("b", "c")
    net.session("c", "d")
    net.origin("d", NET)
    with_default = read(net.document())
    solved = solve(with_default)
    for changed in ({"originate_default": False}, {"enabled": False}, {}):
        without = with_neighbor(with_default, "a", 0, **changed)
        again, cold = solve(without, solved), solve(without)
        assert told(again) == told(cold) and tables(again) == tables(cold)
        back = solve(with_default, again)
        assert told(back) == told(solved) and tables(back) == tables(solved)
