"""Small random networks with filters on their ways, and the same with something changed."""

import copy

from hypothesis import strategies as st

ANYWHERE = ["10.0.0.0/8", "10.1.0.0/24", "10.1.1.0/25", "10.0.0.2/32", "192.0.2.0/24", "198.51.100.0/24", "10.1.2.9/32"]
MATCHES = st.fixed_dictionaries(
    {},
    optional={
        "source": st.sampled_from(ANYWHERE),
        "destination": st.sampled_from(ANYWHERE),
        "protocol": st.sampled_from(["tcp", "udp", "icmp", 89]),
    },
)


@st.composite
def _entries(draw, actions) -> dict:
    entry = dict(draw(MATCHES))
    if entry.get("protocol") in ("tcp", "udp"):
        entry |= draw(
            st.fixed_dictionaries(
                {},
                optional={
                    "destination_ports": st.sampled_from([[443], [22, "80-443"]]),
                    "source_ports": st.sampled_from([[443], ["1024-65535"]]),
                },
            )
        )
    return {"action": draw(st.sampled_from(actions)), **entry}


@st.composite
def _acls(draw) -> list[dict]:
    entries = draw(st.lists(_entries(["accept", "accept", "drop"]), max_size=4))
    for entry in entries:
        if entry["action"] == "accept" and draw(st.booleans()):
            entry["stateful"] = True
    return [*entries, {"action": draw(st.sampled_from(["accept", "accept", "drop"]))}]


@st.composite
def _steering(draw, routers: int) -> list[dict]:
    found = []
    for entry in draw(st.lists(_entries(["discard", "table", "forward"]), min_size=1, max_size=3)):
        action = entry.pop("action")
        made = {"match": entry, "action": action}
        if action == "forward":
            other = draw(st.integers(0, routers - 1))
            made["next_hop"] = [f"172.16.{link}.{end}" for link in range(routers) for end in (1, 2)][2 * other :][:2]
        found.append(made)
    return found


@st.composite
def networks(draw) -> dict:
    """A ring of routers with subnets, a way out, a host and filters."""
    count = draw(st.integers(3, 4))
    devices, links = {}, []
    for number in range(count):
        interfaces = {"lo": {"addresses": [f"10.0.0.{number + 1}/32"]}}
        if number < 3:
            interfaces["lan"] = {"addresses": [f"10.1.{number}.1/24"]}
        costs = {"lo": {}, "lan": {"passive": True}} if number < 3 else {"lo": {}}
        devices[f"r{number}"] = {
            "interfaces": interfaces,
            "routing": {"ospf": {"areas": {"0": {"interfaces": costs}}}, "static": []},
        }
    for number in range(count):
        ends = number, (number + 1) % count
        for place, router in enumerate(ends):
            device = devices[f"r{router}"]
            device["interfaces"][f"c{number}"] = {"addresses": [f"172.16.{number}.{place + 1}/30"]}
            device["routing"]["ospf"]["areas"]["0"]["interfaces"][f"c{number}"] = {
                "cost": draw(st.sampled_from([1, 1, 2, 5]))
            }
        links.append([f"r{ends[0]}:c{number}", f"r{ends[1]}:c{number}"])
    devices["r0"]["interfaces"]["out"] = {"addresses": ["172.31.0.1/30"]}
    devices["r0"]["routing"]["static"].append({"prefix": "0.0.0.0/0", "next_hop": "172.31.0.2"})
    devices["r0"]["routing"]["ospf"]["originate_default"] = {"always": True}
    if draw(st.booleans()):
        devices["host"] = {
            "kind": "host",
            "interfaces": {"e0": {"addresses": ["10.1.1.5/24"]}},
            "routing": {"static": [{"prefix": "0.0.0.0/0", "next_hop": "10.1.1.1"}]},
        }
        ends = ["r1:lan", "host:e0"]
        if draw(st.booleans()):
            _virtual_gateway(draw, devices)
            ends.append("r2:second")
        links.append(ends)
    for _ in range(draw(st.integers(0, 3))):
        _filter(draw, devices, count)
    return {"routrel": 1, "name": "ring", "devices": devices, "links": links}


def _virtual_gateway(draw, devices: dict) -> None:
    """Another router beside the host, and an address that one of the two answers for."""
    devices["r2"]["interfaces"]["second"] = {"addresses": ["10.1.1.2/24"]}
    devices["r2"]["routing"]["ospf"]["areas"]["0"]["interfaces"]["second"] = {"passive": True}
    for router, interface, tracked in (("r1", "lan", "c1"), ("r2", "second", "c2")):
        virtual = {"id": 7, "addresses": ["10.1.1.254"], "priority": draw(st.sampled_from([90, 100, 110]))}
        if draw(st.booleans()):
            virtual |= {"track": [{"interface": tracked, "decrement": 15}], "accept": True}
        if draw(st.booleans()):
            network = draw(st.sampled_from(["0.0.0.0/0", "10.1.0.0/24", "10.1.2.0/24", "10.0.0.1/32", "10.9.9.0/24"]))
            virtual.setdefault("track", []).append({"network": network, "decrement": 15})
        devices[router]["interfaces"][interface]["virtual_routers"] = [virtual]
    devices["host"]["routing"]["static"] = [{"prefix": "0.0.0.0/0", "next_hop": "10.1.1.254"}]


def _filter(draw, devices: dict, count: int) -> None:
    """A filter at some interface."""
    device = devices[f"r{draw(st.integers(0, count - 1))}"]
    interface = device["interfaces"][draw(st.sampled_from(sorted(set(device["interfaces"]) - {"lo"})))]
    where = draw(st.sampled_from(["acl_in", "acl_out", "forwarding_policy"]))
    room = "forwarding_policies" if where == "forwarding_policy" else "acls"
    name = f"f{len(device.setdefault(room, {}))}"
    device[room][name] = draw(_steering(count)) if where == "forwarding_policy" else draw(_acls())
    interface[where] = name


@st.composite
def changed(draw, document: dict) -> dict:
    """The same with one or two things changed."""
    document = copy.deepcopy(document)
    devices = document["devices"]
    routers = sorted(name for name in devices if devices[name].get("kind") != "host")
    for _ in range(draw(st.integers(1, 2))):
        device = devices[draw(st.sampled_from(routers))]
        what = draw(
            st.sampled_from(["cost", "down", "filter", "filter", "static", "entry", "entry", "address", "host"])
        )
        if what == "cost":
            of_ospf = device["routing"]["ospf"]["areas"]["0"]["interfaces"]
            of_ospf[draw(st.sampled_from(sorted(set(of_ospf) - {"lo", "lan"})))]["cost"] = draw(st.integers(1, 9))
        elif what == "down":
            device["interfaces"][draw(st.sampled_from(sorted(device["interfaces"])))]["enabled"] = False
        elif what == "filter":
            _filter(draw, devices, len(routers))
        elif what == "static":
            prefix = draw(st.sampled_from(["10.1.1.0/24", "10.1.2.0/25", "192.0.2.0/24", "10.0.0.2/32"]))
            way = draw(st.sampled_from([{"action": "discard"}, {"next_hop": "172.16.0.2"}, {"next_hop": "172.16.1.1"}]))
            device["routing"]["static"].append({"prefix": prefix, **way})
        elif what == "entry" and device.get("acls"):
            acl = device["acls"][draw(st.sampled_from(sorted(device["acls"])))]
            acl.insert(draw(st.integers(0, len(acl))), draw(_entries(["accept", "drop"])))
        elif what == "address" and "lan" in device["interfaces"]:
            device["interfaces"]["lan"]["addresses"] = ["10.1.9.1/24"]
        elif what == "host" and "host" in devices:
            devices["host"]["interfaces"]["e0"]["enabled"] = False
    return document
