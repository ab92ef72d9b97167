"""A topology made out of one before, with what came up or went down since: the same as one built from nothing."""

import json

from hypothesis import HealthCheck, given, settings
from hypothesis import strategies as st

from routrel.formats.errors import LoadError
from routrel.formats.network_file import read_network
from routrel.model.fields import replace
from routrel.model.network import Network
from routrel.topology.segments import Topology
from tests.examples import examples

ADDRESS = st.tuples(st.integers(0, 2), st.integers(1, 250)).map(lambda one: f"10.0.{one[0]}.{one[1]}/24")
VIRTUAL = st.fixed_dictionaries(
    {"id": st.integers(1, 2), "addresses": st.sampled_from([["10.0.0.251"], ["10.0.1.251", "10.0.1.252"]])},
    optional={
        "priority": st.sampled_from([90, 110]),
        "accept": st.booleans(),
        "track": st.lists(
            st.sampled_from(
                [{"interface": "e2", "decrement": 30}, {"interface": "e4"}, {"network": "0.0.0.0/0", "decrement": 25}]
            ),
            max_size=2,
        ),
    },
)


@st.composite
def addressed(draw) -> dict:
    """An interface with an address or none, and perhaps with a virtual router."""
    addresses = draw(st.lists(ADDRESS, max_size=1))
    if not addresses:
        return {}
    virtual = draw(st.lists(VIRTUAL, max_size=1))
    return {"addresses": addresses, **({"virtual_routers": virtual} if virtual else {})}


ADDRESSES = addressed()


@st.composite
def routers(draw, number: int) -> dict:
    interfaces = {f"e{n}": draw(ADDRESSES) for n in range(1, 5)}
    if draw(st.booleans()):
        interfaces["e1"] = {"mac": f"02:00:00:00:00:{number:02x}"}
        interfaces["e1.10"] = {"parent": "e1", "vlan": 10, **draw(ADDRESSES)}
    if draw(st.booleans()):
        interfaces |= {"e3": {}, "e4": {}, "b1": {"members": ["e3", "e4"], **draw(ADDRESSES)}}
    return {"kind": draw(st.sampled_from(["router", "host"])), "interfaces": interfaces}


@st.composite
def switches(draw) -> dict:
    port = st.sampled_from([{}, {"switchport": {"access": 10}}, {"switchport": {"trunk": [10, 20]}}])
    interfaces = {f"e{n}": draw(port) for n in range(1, 5)}
    if draw(st.booleans()):
        interfaces["v10"] = {"vlan": 10, **draw(ADDRESSES)}
    return {"kind": "switch", "interfaces": interfaces}


@st.composite
def networks(draw) -> Network | None:
    devices = {f"d{n}": draw(st.one_of(routers(n), routers(n), switches())) for n in range(draw(st.integers(2, 4)))}
    ends = [f"{name}:e{n}" for name in devices for n in range(1, 5)]
    ends = draw(st.permutations(ends))
    links = []
    while len(ends) > 2 and draw(st.integers(0, 5)):
        count = draw(st.sampled_from([2, 2, 2, 3]))
        links.append({"ends": ends[:count]})
        ends = ends[count:]
    document = {"routrel": 1, "name": "n", "devices": devices, "links": links}
    try:
        return read_network({"n.json": json.dumps(document).encode()})
    except LoadError:
        return None  # an address that stands twice, a loopback in a link


@st.composite
def changes(draw):
    which, value, on = draw(st.integers(0, 99)), draw(st.integers(0, 99)), draw(st.booleans())
    kind = draw(st.sampled_from(["interface", "interface", "link", "setting"]))

    def change(network: Network) -> Network:
        if kind == "link" and network.links:
            links = list(network.links)
            links[which % len(links)] = replace(links[which % len(links)], enabled=on)
            return replace(network, links=tuple(links))
        device = list(network.devices.values())[which % len(network.devices)]
        name, interface = list(device.interfaces.items())[value % len(device.interfaces)]
        again = replace(interface, mtu=1400) if kind == "setting" else replace(interface, enabled=on)
        changed = replace(device, interfaces=device.interfaces | {name: again})
        return replace(network, devices=network.devices | {device.name: changed})

    return change


def shown(topology: Topology) -> dict:
    return {
        "ports": [(port.name, port.interface, port.down, port.instance) for port in topology.ports],
        "named": [{name: port.index for name, port in named.items()} for named in topology.ports_named],
        "segments": [(one.ports, one.links) for one in topology.segments],
        "segment_of": topology.segment_of,
        "owners": {address: ports for address, ports in topology.owners.items() if ports},
        "answerers": topology.answerers,
        "virtual_groups": topology.virtual_groups,
        "instances": topology.instances,
    }


@given(networks().filter(bool), st.lists(changes(), min_size=1, max_size=5), st.randoms(use_true_random=False))
@settings(max_examples=examples(300), deadline=None, suppress_health_check=list(HealthCheck))
def test_what_is_made_out_of_one_before_is_what_is_built_from_nothing(network, steps, random):
    topology = Topology(network)
    for change in steps:
        network = change(network)
        cold = Topology(network)
        tracked = sorted(cold.segments_tracking)
        unreached = frozenset(random.sample(tracked, random.randint(0, len(tracked))))
        cold = cold.with_unreached(unreached)
        topology = (topology.of_like(network) or Topology(network)).with_unreached(unreached)
        assert topology.network is network
        assert shown(topology) == shown(cold)
        for port in topology.ports:
            assert topology.ports_named[port.device][port.name.interface] is port


def test_a_cable_that_fails_shares_all_but_its_ends():
    text = {
        "routrel": 1,
        "name": "n",
        "devices": {
            name: {"interfaces": {"e1": {"addresses": [f"10.0.0.{n}/30"]}, "e2": {"addresses": [f"10.0.{n}.1/24"]}}}
            for n, name in enumerate("abc", 1)
        },
        "links": [["a:e1", "b:e1"]],
    }
    text["devices"]["c"]["interfaces"].pop("e1")
    network = read_network({"n.json": json.dumps(text).encode()})
    before = Topology(network)
    after = before.of_like(replace(network, links=(replace(network.links[0], enabled=False),)))
    assert after is not None
    assert [port.down for port in after.ports] == ["its link is disabled", "", "its link is disabled", "", ""]
    assert [new is old for new, old in zip(after.ports, before.ports, strict=True)] == [False] * 4 + [True]
    assert before.ports[0].up
    assert before.owner(before.ports[0].addresses[0]) == 0
    assert after.owner(before.ports[0].addresses[0]) is None
