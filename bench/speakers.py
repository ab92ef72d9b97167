"""BGP networks of any size: reflectors, borders and carriers that announce many prefixes in few classes."""

import json
import random
from dataclasses import dataclass
from typing import Any

from routrel.formats.network_file import read_network
from routrel.model.addresses import Address, Prefix
from routrel.model.network import Network

Document = dict[str, Any]

FIRST_PREFIX = Address.parse("20.0.0.0").value
FIRST_LOOPBACK = Address.parse("10.0.0.1").value
FIRST_CABLE = Address.parse("172.16.0.0").value
OWN_AS = 64500
REFLECTORS = 4


@dataclass(frozen=True)
class Backbone:
    """``classes`` sets of ``each`` prefixes; a class is announced alike, with a MED and a path of its own."""

    routers: int
    carriers: int
    classes: int
    each: int = 1
    seed: int = 1


def backbone(shape: Backbone) -> Network:
    """The same, read as any network file is."""
    return read_network({"backbone.json": json.dumps(backbone_document(shape)).encode()})


def backbone_document(shape: Backbone) -> Document:
    """Reflectors, their clients and carriers; every class is announced by two carriers."""
    chance = random.Random(shape.seed)
    devices: dict[str, Document] = {}
    links: list[list[str]] = []
    names = [f"r{index}" for index in range(shape.routers)]
    for index, name in enumerate(names):
        loopback = str(Address(4, FIRST_LOOPBACK + index))
        devices[name] = {
            "interfaces": {"lo": {"addresses": [f"{loopback}/32"]}},
            "routing": {
                "router_id": loopback,
                "ospf": {"areas": {"0": {"interfaces": {"lo": {}}}}},
                "bgp": {"as": OWN_AS, "neighbors": {}},
            },
        }

    def cable(one: str, other: str) -> tuple[str, str]:
        base = FIRST_CABLE + 4 * len(links)
        for host, name in enumerate((one, other), 1):
            interface = f"c{len(links)}"
            devices[name]["interfaces"][interface] = {"addresses": [f"{Address(4, base + host)}/30"]}
            if "ospf" in devices[name]["routing"] and one in names and other in names:
                cost = {"cost": chance.choice((1, 5, 10))}
                devices[name]["routing"]["ospf"]["areas"]["0"]["interfaces"][interface] = cost
        links.append([f"{one}:c{len(links)}", f"{other}:c{len(links)}"])
        return str(Address(4, base + 1)), str(Address(4, base + 2))

    for index in range(1, shape.routers):
        cable(names[chance.randrange(index)], names[index])
    for _ in range(shape.routers):
        cable(*chance.sample(names, 2))
    reflectors = names[:REFLECTORS]
    for name in names:
        for reflector in reflectors:
            if name == reflector:
                continue
            for own, peer in ((name, reflector), (reflector, name)):
                address = devices[peer]["interfaces"]["lo"]["addresses"][0].removesuffix("/32")
                settings = {"as": OWN_AS, "update_source": "lo"}
                if own in reflectors and peer not in reflectors:
                    settings["route_reflector_client"] = True
                if own not in reflectors:
                    settings["next_hop_self"] = True
                devices[own]["routing"]["bgp"]["neighbors"][address] = settings
    for index in range(shape.carriers):
        _carrier(shape, index, devices, cable, names)
    return {"routrel": 1, "name": "backbone", "devices": devices, "links": links}


def _carrier(shape: Backbone, index: int, devices: dict[str, Document], cable: Any, names: list[str]) -> None:
    """A carrier: half of all classes, each by a statement of its export policy."""
    name, number = f"x{index}", 65001 + index
    own = [one for one in range(shape.classes) if index in (one % shape.carriers, (one * 7 + 1) % shape.carriers)]
    static = []
    for one in own:
        tag = one + 1
        for position in range(shape.each):
            prefix = Prefix.of(4, FIRST_PREFIX + 256 * (one * shape.each + position), 24)
            static.append({"prefix": str(prefix), "action": "discard", "tag": tag})
    devices[name] = {
        "interfaces": {},
        "routing": {
            "router_id": str(Address(4, FIRST_LOOPBACK + 50_000 + index)),
            "static": static,
            "bgp": {"as": number, "neighbors": {}, "redistribute": [{"from": "static", "policy": "in"}]},
        },
        "policies": {
            "in": [
                {
                    "match": {"tag": one + 1},
                    "set": {"med": one % 97, "as_path_prepend": {"as": 70_000 + one}},
                    "result": "accept",
                }
                for one in own
            ]
        },
    }
    for border in (names[REFLECTORS + 2 * index], names[REFLECTORS + 2 * index + 1]):
        here, there = cable(border, name)
        devices[border]["routing"]["bgp"]["neighbors"][there] = {"as": number}
        devices[name]["routing"]["bgp"]["neighbors"][here] = {"as": OWN_AS}


def full_table(prefixes: int, classes: int = 1000) -> Network:
    """Two carriers that announce everything, four borders that hold it all, and inner routers with a default."""
    devices: dict[str, Document] = {}
    links: list[list[str]] = []
    borders, inner = [f"b{index}" for index in range(4)], [f"i{index}" for index in range(6)]
    for index, name in enumerate([*borders, *inner]):
        loopback = str(Address(4, FIRST_LOOPBACK + index))
        ospf: Document = {"areas": {"0": {"interfaces": {"lo": {}}}}}
        routing: Document = {"router_id": loopback, "ospf": ospf}
        if name in borders:
            ospf["originate_default"] = {"always": True}
            peers = {str(Address(4, FIRST_LOOPBACK + peer)): peer for peer in range(4) if peer != index}
            inside = {"as": OWN_AS, "update_source": "lo", "next_hop_self": True}
            routing["bgp"] = {"as": OWN_AS, "neighbors": {address: dict(inside) for address in peers}}
        devices[name] = {"interfaces": {"lo": {"addresses": [f"{loopback}/32"]}}, "routing": routing}
    ends = [*zip(borders, borders[1:] + borders[:1], strict=True)]
    ends += [(borders[index % 4], name) for index, name in enumerate(inner)]
    ends += [("x0", "b0"), ("x0", "b1"), ("x1", "b2"), ("x1", "b3")]
    for index, name in enumerate(("x0", "x1")):
        static = [
            {"prefix": str(Prefix.of(4, FIRST_PREFIX + 256 * number, 24)), "action": "discard", "tag": number % classes}
            for number in range(prefixes)
        ]
        statements = [
            {"match": {"tag": tag}, "set": {"as_path_prepend": {"as": 70_000 + tag}}, "result": "accept"}
            for tag in range(classes)
        ]
        devices[name] = {
            "interfaces": {},
            "routing": {
                "router_id": str(Address(4, FIRST_LOOPBACK + 100 + index)),
                "static": static,
                "bgp": {
                    "as": 65001 + index,
                    "neighbors": {},
                    "redistribute": [{"from": "static", "policy": "paths"}],
                },
            },
            "policies": {"paths": statements},
        }
    for number, (one, other) in enumerate(ends):
        base = FIRST_CABLE + 4 * number
        for host, name in enumerate((one, other), 1):
            devices[name]["interfaces"][f"c{number}"] = {"addresses": [f"{Address(4, base + host)}/30"]}
            if not one.startswith("x"):
                devices[name]["routing"]["ospf"]["areas"]["0"]["interfaces"][f"c{number}"] = {"cost": 10}
        if one.startswith("x"):
            devices[one]["routing"]["bgp"]["neighbors"][str(Address(4, base + 2))] = {"as": OWN_AS}
            carrier = {"as": devices[one]["routing"]["bgp"]["as"]}
            devices[other]["routing"]["bgp"]["neighbors"][str(Address(4, base + 1))] = carrier
        links.append([f"{one}:c{number}", f"{other}:c{number}"])
    files = {f"devices/{name}.yaml": json.dumps(device).encode() for name, device in devices.items()}
    document = {"routrel": 1, "name": "full table", "links": links}
    return read_network({"network.yaml": json.dumps(document).encode(), **files})
