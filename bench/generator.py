"""Plausible networks of any size, the same for the same seed.

Routers in OSPF areas; within an area a random connected graph, two border routers per area in a backbone
ring with chords. Every router has a loopback; LANs are spread over the routers; hosts stand on some LANs.
A core of IS-IS routers may stand beside, joined by redistribution points that pass routes both ways and
know by a tag what came from the other side.
"""

import json
import random
from dataclasses import dataclass
from typing import Any

from routrel.formats.network_file import read_network
from routrel.model.addresses import Address, Prefix
from routrel.model.network import Network

Document = dict[str, Any]

LOOPBACKS = Address.parse("10.0.0.1").value
LANS = Address.parse("10.128.0.0").value
CABLES = Address.parse("172.16.0.0").value
COSTS = (1, 5, 10, 10, 10, 20, 50)
BORDERS = Address.parse("172.31.0.0").value
BORDERS_PER_AREA = 2


@dataclass(frozen=True)
class Shape:
    """``degree`` is the mean number of cables per router; ``prefixes`` the number of LANs in all."""

    routers: int
    areas: int = 1
    degree: float = 4.0
    prefixes: int = 0
    hosts: int = 0
    sites: int = 0
    acl_share: float = 0.0
    seed: int = 1
    isis: int = 0
    points: int = 0


def document(shape: Shape) -> Document:
    """A network file as data."""
    return _Generator(shape).document()


def network(shape: Shape) -> Network:
    """The same, read as any network file is."""
    return read_network({"generated.json": json.dumps(document(shape)).encode()})


class _Generator:
    def __init__(self, shape: Shape):
        self.shape = shape
        self.random = random.Random(shape.seed)
        self.devices: dict[str, Document] = {}
        self.links: list[list[str]] = []
        self.cables = 0
        self.area_of: dict[str, int] = {}

    def document(self) -> Document:
        shape = self.shape
        names = [f"r{number}" for number in range(1, shape.routers + 1)]
        sites = [f"site{number}" for number in range(1, shape.sites + 1)]
        for number, name in enumerate(names):
            self.devices[name] = {
                "interfaces": {"lo": {"addresses": [f"{Address(4, LOOPBACKS + number)}/32"]}},
                "routing": {"router_id": str(Address(4, LOOPBACKS + number)), "ospf": {"areas": {}}},
            }
            if sites:
                self.devices[name]["site"] = sites[number * len(sites) // len(names)]
        groups = self._groups(names)
        for area, members in enumerate(groups, start=0 if shape.areas == 1 else 1):
            for name in members:
                self.area_of[name] = area
                self._ospf(name, "lo", area, {})
            self._connect(members, area)
        if shape.areas > 1:
            self._backbone([name for members in groups for name in members[:BORDERS_PER_AREA]])
        names += self._isis_core(names)
        for number in range(shape.prefixes):
            self._lan(names[number % len(names)], number)
        return {
            "routrel": 1,
            "name": f"generated {shape.routers}",
            "sites": {name: self._place(index, len(sites)) for index, name in enumerate(sites)},
            "devices": self.devices,
            "links": self.links,
        }

    def _place(self, index: int, count: int) -> Document:
        columns = max(1, round(count**0.5))
        rows = -(-count // columns)
        return {"x": (index % columns + 0.5) / columns, "y": (index // columns + 0.5) / rows}

    def _groups(self, names: list[str]) -> list[list[str]]:
        count = self.shape.areas
        return [names[i * len(names) // count : (i + 1) * len(names) // count] for i in range(count)]

    def _connect(self, members: list[str], area: int) -> None:
        """A random tree, then random cables until the mean degree is reached."""
        for index in range(1, len(members)):
            self._cable(members[index], members[self.random.randrange(max(0, index - 50), index)], area)
        wanted = int(self.shape.degree * len(members) / 2) - (len(members) - 1)
        for _ in range(wanted if len(members) > 2 else 0):
            one, other = self.random.sample(members, 2)
            self._cable(one, other, area)

    def _backbone(self, borders: list[str]) -> None:
        for name in borders:
            self._ospf(name, "lo2", 0, {})
        for index, name in enumerate(borders):
            self._cable(name, borders[(index + 1) % len(borders)], 0)
        for _ in range(len(borders)):
            one, other = self.random.sample(borders, 2)
            self._cable(one, other, 0)

    def _isis_core(self, borders: list[str]) -> list[str]:
        """IS-IS routers of level 2, and cables to OSPF routers that pass routes between the two."""
        names = [f"s{number}" for number in range(1, self.shape.isis + 1)]
        for number, name in enumerate(names):
            address = Address(4, LOOPBACKS + 0x10000 + number)
            self.devices[name] = {
                "interfaces": {"lo": {"addresses": [f"{address}/32"]}},
                "routing": {"router_id": str(address), "isis": self._isis(number)},
            }
            self.devices[name]["routing"]["isis"]["interfaces"]["lo"] = {}
            self.area_of[name] = -1
        self._connect(names, -1)
        for point in range(self.shape.points):
            border = borders[point * len(borders) // self.shape.points]
            routing = self.devices[border]["routing"]
            routing["isis"] = self._isis(0x8000 + point)
            self._cable(border, names[point * len(names) // self.shape.points], -1)
            for protocol, source in (("ospf", "isis"), ("isis", "ospf")):
                rule = {"from": source, "policy": "across"}
                routing[protocol]["redistribute"] = [{**rule, "metric": 20}, {"from": "connected", "policy": "across"}]
            self.devices[border]["policies"] = {
                "across": [
                    {"match": {"tag": 77}, "result": "reject"},
                    {"set": {"tag": 77}, "result": "accept"},
                ]
            }
        return names

    def _isis(self, number: int) -> Document:
        return {"net": f"49.0001.0000.{number // 10000:04}.{number % 10000:04}.00", "level": 2, "interfaces": {}}

    def _ospf(self, name: str, interface: str, area: int, settings: Document) -> None:
        if interface == "lo2":
            return  # the loopback stands in the router's own area
        if area < 0:
            metric = {"metric": settings["cost"]} if "cost" in settings else settings
            self.devices[name]["routing"]["isis"]["interfaces"][interface] = metric
            return
        areas = self.devices[name]["routing"]["ospf"]["areas"]
        areas.setdefault(str(area), {"interfaces": {}})["interfaces"][interface] = settings

    def _cable(self, one: str, other: str, area: int) -> None:
        subnet = CABLES + 4 * self.cables
        self.cables += 1
        ends = []
        for offset, name in ((1, one), (2, other)):
            interfaces = self.devices[name]["interfaces"]
            interface = f"e{len(interfaces)}"
            interfaces[interface] = {"addresses": [f"{Address(4, subnet + offset)}/30"]}
            self._ospf(name, interface, area, {"cost": self.random.choice(COSTS)})
            ends.append(f"{name}:{interface}")
        self.links.append(ends)

    def _lan(self, router: str, number: int) -> None:
        subnet = LANS + 256 * number
        interfaces = self.devices[router]["interfaces"]
        interface = f"e{len(interfaces)}"
        interfaces[interface] = {"addresses": [f"{Address(4, subnet + 1)}/24"]}
        self._ospf(router, interface, self.area_of[router], {"passive": True})
        if self.random.random() < self.shape.acl_share:
            interfaces[interface]["acl_out"] = "lan"
            self.devices[router]["acls"] = {
                "lan": [
                    {"action": "accept", "protocol": "tcp", "destination_ports": [22, 443, "8000-8099"]},
                    {"action": "drop", "protocol": "udp", "source": f"{Address(4, LANS)}/16"},
                    {"action": "accept"},
                ]
            }
        if number < self.shape.hosts:
            host = f"h{number + 1}"
            self.devices[host] = {
                "kind": "host",
                "gateway": str(Address(4, subnet + 1)),
                "interfaces": {"e1": {"addresses": [f"{Address(4, subnet + 10)}/24"]}},
                **({"site": self.devices[router]["site"]} if "site" in self.devices[router] else {}),
            }
            self.links.append([f"{router}:{interface}", f"{host}:e1"])


def with_borders(document: Document, count: int, entries: int, seed: int = 1) -> Document:
    """A network with ways out at some of its routers, each guarded both ways by an ACL of its own."""
    chance = random.Random(seed)
    routers = [name for name, device in document["devices"].items() if "routing" in device]
    lans = [
        address
        for device in document["devices"].values()
        for interface in device["interfaces"].values()
        for address in interface["addresses"]
        if address.endswith("/24")
    ]
    for number in range(count):
        device = document["devices"][routers[number * len(routers) // count]]
        address = Address(4, BORDERS + 4 * number + 1)
        device["interfaces"]["out"] = {
            "addresses": [f"{address}/30"],
            "acl_in": "from-outside",
            "acl_out": "to-outside",
        }
        neighbor = str(Address(4, address.value + 1))
        device["routing"].setdefault("static", []).append({"prefix": "0.0.0.0/0", "next_hop": neighbor})
        device["routing"]["ospf"]["originate_default"] = {"metric": 10}
        device["acls"] = device.get("acls", {}) | {
            "from-outside": [*(_entry(chance, lans, "destination") for _ in range(entries - 1)), {"action": "drop"}],
            "to-outside": [*(_entry(chance, lans, "source") for _ in range(entries - 1)), {"action": "accept"}],
        }
    return document


def _entry(chance: random.Random, lans: list[str], inside: str) -> Document:
    """An entry about one subnet or all, one service, and some address outside or all."""
    entry: Document = {"action": chance.choice(["accept", "accept", "drop"]), "protocol": chance.choice(["tcp", "udp"])}
    entry["destination_ports"] = [chance.choice([22, 25, 53, 80, 123, 443, 993, 3389, "5000-5100", "8000-8099"])]
    if chance.random() < 0.8:
        entry[inside] = str(Prefix.of(4, Address.parse(chance.choice(lans).partition("/")[0]).value, 24))
    if chance.random() < 0.3:
        outside = Prefix.of(4, Address.parse("198.18.0.0").value + chance.randrange(1 << 17), chance.choice([24, 28]))
        entry["destination" if inside == "source" else "source"] = str(outside)
    if entry["action"] == "accept":
        entry["stateful"] = chance.random() < 0.5
    return entry
