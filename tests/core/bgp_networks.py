"""Small networks of BGP speakers, written as the network file is."""

import json

from routrel.formats.network_file import read_network
from routrel.routing.solve import Solved
from routrel.solving import solve
from tests.core.networks import hops, table

NET = "203.0.113.0/24"


class Net:
    """Speakers joined by cables ``a1``, ``a2`` …: addresses 172.16.N.1 and .2, sessions as given."""

    def __init__(self):
        self.devices: dict[str, dict] = {}
        self.links: list[list[str]] = []

    def speaker(self, name: str, number: int, **bgp) -> dict:
        index = len(self.devices) + 1
        self.devices[name] = {
            "interfaces": {"lo": {"addresses": [f"10.0.0.{index}/32"]}},
            "routing": {"router_id": f"10.0.0.{index}", "bgp": {"as": number, "neighbors": {}, **bgp}},
            "policies": {},
        }
        return self.devices[name]

    def bgp(self, name: str) -> dict:
        return self.devices[name]["routing"]["bgp"]

    def origin(self, name: str, *prefixes: str) -> None:
        """Networks of its own, held by static routes."""
        self.devices[name]["routing"]["static"] = [{"prefix": prefix, "action": "discard"} for prefix in prefixes]
        self.bgp(name)["networks"] = list(prefixes)

    def cable(self, one: str, other: str, cost: int | None = None) -> tuple[str, str]:
        """A cable; with a cost both ends speak OSPF on it and on their loopbacks. Addresses of both ends."""
        number = len(self.links) + 1
        for host, name in enumerate((one, other), 1):
            self.devices[name]["interfaces"][f"c{number}"] = {"addresses": [f"172.16.{number}.{host}/30"]}
            if cost is not None:
                ospf = self.devices[name]["routing"].setdefault("ospf", {"areas": {"0": {"interfaces": {"lo": {}}}}})
                ospf["areas"]["0"]["interfaces"][f"c{number}"] = {"cost": cost}
        self.links.append([f"{one}:c{number}", f"{other}:c{number}"])
        return f"172.16.{number}.1", f"172.16.{number}.2"

    def session(self, one: str, other: str, here: dict | None = None, there: dict | None = None) -> None:
        """A cable and an external session over it; ``here`` are settings of the first end."""
        first, second = self.cable(one, other)
        self.bgp(one)["neighbors"][second] = {"as": self.bgp(other)["as"], **(here or {})}
        self.bgp(other)["neighbors"][first] = {"as": self.bgp(one)["as"], **(there or {})}

    def inside(self, one: str, other: str, here: dict | None = None, there: dict | None = None) -> None:
        """An internal session between loopbacks."""
        for own, peer, more in ((one, other, here), (other, one, there)):
            address = self.devices[peer]["interfaces"]["lo"]["addresses"][0].removesuffix("/32")
            settings = {"as": self.bgp(peer)["as"], "update_source": "lo", **(more or {})}
            self.bgp(own)["neighbors"][address] = settings

    def policy(self, name: str, policy: str, *statements: dict) -> str:
        self.devices[name]["policies"][policy] = list(statements)
        return policy

    def document(self) -> dict:
        return {"routrel": 1, "name": "speakers", "devices": self.devices, "links": self.links}

    def solve(self) -> Solved:
        return solve(read_network({"n.json": json.dumps(self.document()).encode()}))


def via(solved: Solved, device: str, prefix: str = NET) -> list[str] | None:
    """The interfaces by which a device sends packets for a prefix; None without a route."""
    route = table(solved, device).get(prefix)
    return None if route is None else [one.split("@")[1] for one in hops(solved, route)]


def codes(solved: Solved) -> list[str]:
    return [finding.code for finding in solved.findings]


def accept(**sets) -> dict:
    return {"set": sets, "result": "accept"} if sets else {"result": "accept"}


def two_exits(here: dict | None = None, there: dict | None = None, **bgp) -> Net:
    """``me`` in AS 64500 hears the prefix from ``a`` (AS 64501, by c1) and ``b`` (AS 64502, by c2)."""
    net = Net()
    net.speaker("me", 64500, **bgp)
    for name, number, more in (("a", 64501, here), ("b", 64502, there)):
        net.speaker(name, number)
        net.origin(name, NET)
        net.session("me", name, more)
    return net


def with_import(net: Net, neighbor: int, **sets) -> Net:
    """An import policy of ``me`` for the neighbour of cable ``neighbor``."""
    name = net.policy("me", f"in{neighbor}", accept(**sets))
    net.bgp("me")["neighbors"][f"172.16.{neighbor}.2"]["import"] = name
    return net


def exits_inside(left: int, right: int, **session) -> Net:
    """AS 64500: ``core`` between ``left`` (c1) and ``right`` (c2), which hear the prefix from outside."""
    net = Net()
    for name in ("core", "left", "right"):
        net.speaker(name, 64500)
    net.cable("core", "left", left)
    net.cable("core", "right", right)
    net.inside("core", "left", None, {"next_hop_self": True, **session})
    net.inside("core", "right", None, {"next_hop_self": True, **session})
    net.inside("left", "right", {"next_hop_self": True}, {"next_hop_self": True})
    for name, inner, number in (("a", "left", 64501), ("b", "right", 64502)):
        net.speaker(name, number)
        net.origin(name, NET)
        net.session(inner, name)
    return net


def chain_inside(**reflector) -> Net:
    """AS 64500: ``near``, which hears the prefix from outside, then ``mid``, then ``far``."""
    net = Net()
    for name in ("near", "mid", "far"):
        net.speaker(name, 64500)
    net.cable("near", "mid", 1)
    net.cable("mid", "far", 1)
    net.inside("near", "mid", {"next_hop_self": True}, reflector)
    net.inside("mid", "far")
    net.speaker("outside", 64501)
    net.origin("outside", NET)
    net.session("near", "outside")
    return net
