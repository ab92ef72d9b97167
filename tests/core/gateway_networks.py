"""Small networks whose hosts lead by a virtual router (VRRP)."""

import json

from routrel.analysis.walk_verdicts import Answerer
from routrel.formats.network_file import read_network
from routrel.forwarding.flow import Flow
from routrel.routing.solve import Solved

GATEWAY = "10.0.1.1"


def read(document: dict):
    return read_network({"n.json": json.dumps(document).encode()})


def lan(*routers: dict | None, gateway: str = GATEWAY, host: str = "10.0.1.200/24") -> dict:
    """Routers with a virtual router each, or none, on a subnet with a host, and a cable each to a far host's router."""
    devices: dict = {
        "h": {"kind": "host", "interfaces": {"e": {"addresses": [host]}}, "gateway": gateway},
        "far": {"interfaces": {"lan": {"addresses": ["10.9.0.1/24"]}}, "routing": {}},
        "server": {"kind": "host", "interfaces": {"e": {"addresses": ["10.9.0.9/24"]}}, "gateway": "10.9.0.1"},
    }
    links = [["h:e", *(f"r{number}:e" for number in range(1, len(routers) + 1))], ["far:lan", "server:e"]]
    statics = []
    for number, virtual in enumerate(routers, 1):
        up = {"up": {"addresses": [f"172.16.{number}.1/30"]}}
        own = {"addresses": [f"10.0.1.{number + 1}/24"]} | ({"virtual_routers": [virtual]} if virtual else {})
        to_far = {"prefix": "10.9.0.0/24", "next_hop": f"172.16.{number}.2"}
        devices[f"r{number}"] = {"interfaces": {"e": own, **up}, "routing": {"static": [to_far]}}
        devices["far"]["interfaces"][f"d{number}"] = {"addresses": [f"172.16.{number}.2/30"]}
        statics.append({"prefix": "10.0.1.0/24", "next_hop": f"172.16.{number}.1"})
        links.append([f"r{number}:up", f"far:d{number}"])
    devices["far"]["routing"]["static"] = statics
    return {"routrel": 1, "name": "gateways", "devices": devices, "links": links}


def virtual(**words) -> dict:
    return {"id": 10, "addresses": [GATEWAY], **words}


def virtual_of(words: dict) -> dict:
    return virtual(**words)


def gateway_of(solved: Solved) -> str | None:
    """The router by which the host's packets go."""
    stops = Answerer(solved).asker.ask(Flow("h", "server")).forward.stops
    return solved.topology.devices[stops[1].device].name if len(stops) > 1 else None
