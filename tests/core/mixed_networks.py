"""Random networks in which all interior protocols, policies and instances meet."""

import json

from hypothesis import strategies as st

from routrel.formats.network_file import read_network
from routrel.model.network import Network

PROTOCOLS = ("ospf", "isis", "rip", "eigrp")
SOURCES = ("connected", "static", *PROTOCOLS)


@st.composite
def documents(draw, protocols=PROTOCOLS, lans=0) -> dict:
    """Up to six routers; each cable speaks one or two protocols; borders, stub areas, redistribution.

    Every router has up to ``lans`` networks beside, each in one protocol or none.
    """
    count = draw(st.integers(2, 6))
    area_type = draw(st.sampled_from(["normal", "normal", "stub", "nssa"]))
    no_summary = draw(st.booleans())
    devices = {}
    for i in range(count):
        devices[f"r{i}"] = {
            "interfaces": {"lo": {"addresses": [f"10.0.0.{i + 1}/32", f"2001:db8::{i + 1:x}/128"]}},
            "routing": {"router_id": f"10.0.0.{i + 1}"},
            "policies": {
                "some": [
                    {"match": {"tag": 3}, "result": "reject"},
                    {
                        "match": {"prefixes": [{"prefix": "10.0.0.0/29", "max_length": 32}]},
                        "set": {"tag": 3},
                        "result": "accept",
                    },
                    {"match": {"prefixes": ["192.0.2.0/24"]}, "set": {"metric": 4}, "result": "continue"},
                    {"match": {"protocol": ["static", "rip"]}, "set": {"metric_type": 1}, "result": "accept"},
                ],
                "close": [
                    {"match": {"metric": draw(st.integers(1, 4))}, "set": {"tag": 3}, "result": "accept"},
                    {"match": {"next_hop": ["172.16.0.1", "172.16.1.2"]}, "result": "reject"},
                    {"match": {"tag": 0}, "result": "accept"},
                ],
                "keep": [
                    {"match": {"prefixes": ["10.0.0.1/32"]}, "result": "reject"},
                    {"match": {"prefixes": ["10.0.0.2/32"]}, "set": {"preference": 130}, "result": "accept"},
                    {"result": "accept"},
                ],
            },
        }
    links = []
    pairs = [(a, b) for a in range(count) for b in range(a + 1, count)]
    cables = draw(st.lists(st.sampled_from(pairs), min_size=1, max_size=9))
    for number, pair in enumerate(cables):
        spoken = draw(st.lists(st.sampled_from(protocols), min_size=1, max_size=2, unique=True))
        area = draw(st.sampled_from([0, 0, 1]))
        for host, end in enumerate(pair, 1):
            name = f"c{number}"
            devices[f"r{end}"]["interfaces"][name] = {
                "addresses": [f"172.16.{number}.{host}/30", f"2001:db8:1:{number}::{host}/64"],
                "mac": f"02:00:00:00:{number:02x}:{host:02x}",
            }
            cost = draw(st.integers(1, 4))
            for protocol in spoken:
                _speak(devices[f"r{end}"]["routing"], protocol, end, name, cost, area, area_type, no_summary)
        links.append([f"r{pair[0]}:c{number}", f"r{pair[1]}:c{number}"])
    for i in range(count):
        for number in range(draw(st.integers(0, lans)) if lans else 0):
            _lan(draw, devices[f"r{i}"], i, number)
        _oddities(draw, devices[f"r{i}"])
    for i in range(count):
        _loopback(draw, devices[f"r{i}"]["routing"], area_type, no_summary)
        _rules(draw, devices[f"r{i}"]["routing"])
    return {"routrel": 1, "name": "mixed", "devices": devices, "links": links}


def _speak(routing, protocol, router, name, cost, area, area_type, no_summary) -> None:
    if protocol == "ospf":
        areas = routing.setdefault("ospf", {"areas": {}})["areas"]
        settings = areas.setdefault(str(area), {"interfaces": {}})
        if area and area_type != "normal":
            settings.update({"type": area_type, "no_summary": no_summary})
        settings["interfaces"][name] = {"cost": cost}
    elif protocol == "isis":
        net = f"49.000{router % 2}.0000.0000.000{router + 1}.00"
        isis = routing.setdefault("isis", {"net": net, "interfaces": {}})
        isis["interfaces"][name] = {"metric": cost}
    elif protocol == "rip":
        routing.setdefault("rip", {"interfaces": {}})["interfaces"][name] = {"metric": cost}
    else:
        eigrp = routing.setdefault("eigrp", {"as": 1, "interfaces": {}})
        eigrp["interfaces"][name] = {"delay": 10 * cost, "bandwidth": "100M" if cost % 2 else "10M"}


def _lan(draw, device, router, number) -> None:
    name, routing = f"l{number}", device["routing"]
    device["interfaces"][name] = {"addresses": [f"10.{router + 1}.{number}.1/24"]}
    running = [protocol for protocol in PROTOCOLS if protocol in routing]
    protocol = draw(st.sampled_from([None, *running]))
    if protocol == "ospf":
        areas = routing["ospf"]["areas"]
        areas[sorted(areas)[-1]]["interfaces"][name] = {"passive": True, "cost": draw(st.integers(1, 2))}
    elif protocol is not None:
        routing[protocol]["interfaces"][name] = {"passive": True}


def _oddities(draw, device) -> None:
    """Now and then an interface is down or of one family, a protocol has no interface, or one is passive."""
    odd = draw(st.integers(0, 13))
    names = [name for name in device["interfaces"] if name != "lo"]
    if odd == 0 and names:
        device["interfaces"][draw(st.sampled_from(names))]["enabled"] = False
    elif odd == 1:
        device["routing"].setdefault("ospf", {"areas": {}})
    elif odd == 2:
        device["routing"].setdefault("rip", {"interfaces": {}})
    elif odd in (4, 5) and names:
        addresses = device["interfaces"][draw(st.sampled_from(names))]["addresses"]
        if len(addresses) > 1:
            del addresses[odd - 4]
    elif odd == 3:
        for protocol in PROTOCOLS[1:]:
            for settings in device["routing"].get(protocol, {}).get("interfaces", {}).values():
                settings["passive"] = True


def _loopback(draw, routing, area_type, no_summary) -> None:
    """The loopback stands in some protocol that runs here, if any."""
    running = [protocol for protocol in PROTOCOLS if protocol in routing]
    if not running:
        return
    protocol = draw(st.sampled_from(running))
    if protocol == "ospf":
        areas = routing["ospf"]["areas"]
        if not areas:
            return
        areas[sorted(areas)[-1]]["interfaces"]["lo"] = {}
        if len(areas) > 1 and draw(st.booleans()):
            areas["1"]["ranges"] = [{"prefix": "10.0.0.0/30", "advertise": draw(st.booleans())}]
    else:
        routing[protocol]["interfaces"]["lo"] = {}
    if "isis" in routing:
        routing["isis"]["level"] = draw(st.sampled_from(["1-2", "1-2", "1", "2"]))
        if routing["isis"]["level"] == "1-2" and draw(st.booleans()):
            routing["isis"]["leak"] = draw(st.sampled_from([{}, {"policy": "some"}, {"policy": "close"}]))


def _rules(draw, routing) -> None:
    if draw(st.booleans()):
        routing["static"] = [
            {"prefix": "192.0.2.0/24", "action": "discard", "preference": draw(st.sampled_from([1, 112, 200]))},
            {"prefix": "198.51.100.0/24", "next_hop": draw(st.sampled_from(["10.0.0.1", "10.0.0.3", "172.16.0.1"]))},
        ]
    if draw(st.integers(0, 3)) == 0:
        routing["install_policy"] = "keep"
    for protocol in PROTOCOLS:
        if protocol not in routing or draw(st.integers(0, 2)):
            continue
        sources = draw(st.lists(st.sampled_from([s for s in SOURCES if s != protocol]), max_size=2, unique=True))
        rules = []
        for source in sources:
            rule = {"from": source, "metric": draw(st.integers(1, 5))}
            if draw(st.booleans()):
                rule["policy"] = draw(st.sampled_from(["some", "close"]))
            if protocol == "ospf" and draw(st.booleans()):
                rule["metric_type"] = 1
            rules.append(rule)
        if rules:
            routing[protocol]["redistribute"] = rules
    if "ospf" in routing and draw(st.integers(0, 3)) == 0:
        routing["ospf"]["originate_default"] = {"always": draw(st.booleans()), "metric": 3}
    if "eigrp" in routing:
        routing["eigrp"]["variance"] = draw(st.integers(1, 2))


def read(document: dict) -> Network:
    return read_network({"n.json": json.dumps(document).encode()})
