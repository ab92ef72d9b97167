"""A network's topology as RFC 8345 and 8346 model it: nodes, termination points and links, with layer 3's attributes.

Links of theirs lead from one point to one point. What more than two interfaces share is a node of its own, as in
RFC 8345 section 4.4.3; its links say that it is none of the devices.
"""

from collections.abc import Iterator
from typing import Any

from routrel.formats.cabling import Heard
from routrel.formats.models.draft import place_of
from routrel.formats.models.statements import Statement
from routrel.model.network import InterfaceName, Network

TOP = ("ietf-network", "networks")
LAYER3 = "ietf-l3-unicast-topology"
SEGMENT = "segment-"
"""Begins the names of nodes that stand for a segment; the space behind it no device's name can have."""


def topology_document(network: Network) -> dict[str, Any]:
    """The tree ``/ietf-network:networks`` of one network."""
    nodes = [_node(network, name) for name in network.devices]
    links: list[dict[str, Any]] = []
    for number, link in enumerate(network.links, 1):
        if not link.enabled:
            continue
        ends = [(end.device, end.interface) for end in link.ends]
        if len(ends) == 2:
            links += [_link(ends[0], ends[1]), _link(ends[1], ends[0])]
            continue
        name = f"{SEGMENT} {number}"
        points = [{"tp-id": str(end)} for end in link.ends]
        nodes.append({"node-id": name, "ietf-network-topology:termination-point": points})
        for end in ends:
            point = (name, ":".join(end))
            links += [_link(end, point), _link(point, end)]
    found = {
        "network-types": {f"{LAYER3}:l3-unicast-topology": {}},
        "network-id": network.name or "network",
        "node": nodes,
        "ietf-network-topology:link": links,
    }
    return {"ietf-network:networks": {"network": [found]}}


def _node(network: Network, name: str) -> dict[str, Any]:
    device = network.devices[name]
    points = []
    for interface in device.interfaces.values():
        point: dict[str, Any] = {"tp-id": interface.name}
        if interface.addresses:
            addresses = [str(one.address) for one in interface.addresses]
            point[f"{LAYER3}:l3-termination-point-attributes"] = {"ip-address": addresses}
        points.append(point)
    attributes: dict[str, Any] = {"name": name}
    if device.routing is not None and device.routing.router_id is not None:
        attributes["router-id"] = [str(device.routing.router_id)]
    node: dict[str, Any] = {"node-id": name, f"{LAYER3}:l3-node-attributes": attributes}
    if points:
        node["ietf-network-topology:termination-point"] = points
    return node


def _link(source: tuple[str, str], target: tuple[str, str]) -> dict[str, Any]:
    name = f"{':'.join(source)} > {':'.join(target)}"
    return {
        "link-id": name,
        "source": {"source-node": source[0], "source-tp": source[1]},
        "destination": {"dest-node": target[0], "dest-tp": target[1]},
    }


def heard_in(top: Statement) -> Iterator[Heard]:
    """What the links of a topology say: which interface is cabled to which; a segment's ends to each other."""
    for network in top.entries("network"):
        ends_of: dict[str, list[tuple[InterfaceName, Statement]]] = {}
        for link in network.entries("link"):
            near, far = _end(link, "source"), _end(link, "destination", "dest")
            if near is None or far is None or near.device.startswith(SEGMENT):
                continue
            if far.device.startswith(SEGMENT):
                ends_of.setdefault(far.device, []).append((near, link))
            else:
                yield Heard(near, far, place_of(link), is_exact=False)
        for ends in ends_of.values():
            first, _ = ends[0]
            for other, link in ends[1:]:
                yield Heard(first, other, place_of(link), is_exact=False)


def _end(link: Statement, name: str, prefix: str = "source") -> InterfaceName | None:
    node, point = link.text(name, f"{prefix}-node"), link.text(name, f"{prefix}-tp")
    return InterfaceName(node, point) if node and point else None
