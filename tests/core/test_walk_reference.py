"""The walk held against a slow one that follows one packet at a time, by the contract's words."""

import json

from hypothesis import given, settings
from hypothesis import strategies as st

from routrel.formats.network_file import read_network
from routrel.forwarding.flow import Asker, Flow
from routrel.model.addresses import Address
from routrel.model.filters import Header
from routrel.routing.solve import Solved
from routrel.solving import solve
from tests.examples import examples

LIMIT = 40


def ways(solved: Solved, device: str, ingress: str | None, header: Header, seen: tuple = ()) -> list[tuple]:
    """Every way of a packet as (devices, verdict), found by trying all of them."""
    name = solved.network.devices[device]
    here = (*seen, (device, ingress))
    path = tuple(one for one, _ in here)
    owns = any(a.address == header.destination for i in name.interfaces.values() if i.enabled for a in i.addresses)
    blocked = False
    if ingress is not None:
        acl = name.interfaces[ingress].acl_in
        blocked = acl is not None and not accepts(name.acls[acl].entries, header)
        if not owns:
            if name.kind == "host":
                return [(path, "discarded")]
            policy = name.interfaces[ingress].forwarding_policy
            steered = steer(solved, name, policy, header) if policy else None
            if steered == "discard":
                return [(path, "discarded")]
            if steered is not None:
                return [(path, "blocked")] if blocked else out(solved, device, here, header, [steered])
    if owns:
        return [(path, "blocked" if blocked else "arrives")]
    routes = solved.table(solved.topology.device_index[device])
    matching = [route for route in routes if route.prefix.contains(header.destination)]
    best = max(matching, key=lambda route: route.prefix.length, default=None)
    if best is None:
        return [(path, "unrouted")]
    if best.action != "forward":
        return [(path, "discarded")]
    if blocked:
        return [(path, "blocked")]
    ports = solved.topology.ports
    hops = [(ports[hop.port].name.interface, hop.address or header.destination) for hop in best.next_hops]
    return out(solved, device, here, header, hops)


def out(solved: Solved, device: str, here: tuple, header: Header, hops: list) -> list[tuple]:
    found = []
    path = tuple(one for one, _ in here)
    for interface, address in hops:
        acl = solved.network.devices[device].interfaces[interface].acl_out
        if acl is not None and not accepts(solved.network.devices[device].acls[acl].entries, header):
            found.append((path, "blocked"))
            continue
        target = owner_on_link(solved, device, interface, address)
        if target is None:
            found.append((path, "unresolved"))
        elif target in here:
            found.append(((*path, target[0]), "loops"))
        else:
            found += ways(solved, *target, header, here)
    return found


def accepts(entries, header: Header) -> bool:
    for entry in entries:
        if not entry.match.failed_fields(header):
            return entry.action == "accept"
    return False


def steer(solved: Solved, device, policy: str, header: Header):
    for entry in device.forwarding_policies[policy].entries:
        if entry.match.failed_fields(header):
            continue
        if entry.action == "discard":
            return "discard"
        for hop in entry.next_hops:
            for interface in device.interfaces.values():
                if any(
                    a.prefix.contains(hop) and a.address != hop for a in interface.addresses if not a.prefix.is_host
                ):
                    return interface.name, hop
        return None
    return None


def owner_on_link(solved: Solved, device: str, interface: str, address: Address):
    for link in solved.network.links:
        if any(str(end) == f"{device}:{interface}" for end in link.ends):
            for end in link.ends:
                addresses = solved.network.devices[end.device].interfaces[end.interface].addresses
                if end.device != device and any(a.address == address for a in addresses):
                    return end.device, end.interface
    return None


ACL = st.lists(
    st.fixed_dictionaries(
        {"action": st.sampled_from(("accept", "drop", "reject"))},
        optional={"protocol": st.sampled_from(("tcp", "udp")), "destination": st.just("10.9.0.1/32")},
    ),
    max_size=2,
)
STEERING = st.lists(
    st.one_of(
        st.fixed_dictionaries({"action": st.just("discard"), "match": st.just({"protocol": "udp"})}),
        st.fixed_dictionaries(
            {
                "action": st.just("forward"),
                "match": st.sampled_from(({}, {"protocol": "tcp"})),
                "next_hop": st.lists(
                    st.builds("172.16.{}.{}".format, st.integers(0, 8), st.integers(1, 2)), min_size=1, max_size=2
                ),
            }
        ),
        st.fixed_dictionaries({"action": st.just("table")}),
    ),
    max_size=2,
)


@st.composite
def networks(draw) -> tuple[str, int]:
    """Routers with random cables, static ways, filters and steering; r(last) owns 10.9.0.1."""
    count = draw(st.integers(2, 5))
    devices = {
        f"r{i}": {"interfaces": {"lo": {"addresses": [f"10.0.0.{i}/32"]}}, "routing": {"static": []}}
        for i in range(count)
    }
    devices[f"r{count - 1}"]["interfaces"]["lo2"] = {"addresses": ["10.9.0.1/32"]}
    links = []
    pairs = [(a, b) for a in range(count) for b in range(a + 1, count)]
    cables = draw(st.lists(st.sampled_from(pairs), min_size=1, max_size=7))
    for number, (a, b) in enumerate(cables):
        for end, host in ((a, 1), (b, 2)):
            device = devices[f"r{end}"]
            device["interfaces"][f"c{number}"] = {"addresses": [f"172.16.{number}.{host}/30"]}
            if draw(st.booleans()):
                device["routing"]["static"].append({"prefix": "10.9.0.0/16", "next_hop": f"172.16.{number}.{3 - host}"})
        links.append([f"r{a}:c{number}", f"r{b}:c{number}"])
    for device in devices.values():
        device["acls"] = {"x": draw(ACL)}
        device["forwarding_policies"] = {"p": draw(STEERING)}
        if draw(st.integers(0, 5)) == 0:
            device["routing"]["static"].append({"prefix": "10.9.0.0/24", "action": "discard"})
        for name, interface in device["interfaces"].items():
            if name.startswith("c"):
                for key, value in (("acl_in", "x"), ("acl_out", "x"), ("forwarding_policy", "p")):
                    if draw(st.integers(0, 3)) == 0:
                        interface[key] = value
    return json.dumps({"routrel": 1, "name": "w", "devices": devices, "links": links}), count


@given(networks(), st.sampled_from(("tcp/80", "udp/53", "icmp")))
@settings(max_examples=examples(250))
def test_the_walk_finds_the_verdicts_and_ways_of_the_slow_one(drawn, service):
    text, _ = drawn
    solved = solve(read_network({"n.json": text.encode()}))
    strand = Asker(solved).ask(Flow("r0", "10.9.0.1", service, source_address="10.0.0.0")).forward
    slow = ways(solved, "r0", None, strand.stops[0].header)
    assert {ending.verdict for ending in strand.endings} == {verdict for _, verdict in slow} or strand.has_loop
    assert ("arrives" in {e.verdict for e in strand.endings}) <= ("arrives" in {v for _, v in slow})
    names = solved.topology.devices
    fast = {tuple(names[device].name for device in path) for path in strand.paths(LIMIT)}
    if not strand.has_loop and len(slow) <= LIMIT:
        assert strand.path_count == len(slow)
        assert fast == {path for path, _ in slow}
