"""A device's data, in the network file's keys, written as a document in the IETF's models (RFC 7951).

What is written is taken out of the data; what no published model says stands, as the network file writes it, in one
leaf of a module of ours, and is read back from there. So nothing is lost, and what others can read is as much as the
models hold.
"""

import copy
import json
from typing import Any

from routrel.formats.models.rest import LEAF, REST, REST_MODULE
from routrel.formats.models.virtual_routers import written_virtual_routers
from routrel.formats.models.writing_lists import write_lists
from routrel.formats.models.writing_policies import write_policies
from routrel.formats.models.writing_routing import write_routing
from routrel.formats.scalars import rate
from routrel.model.routing import DEFAULT_INSTANCE

Data = dict[str, Any]
EMPTY: tuple[Any, ...] = ({}, [], None)

STATE = ("phys-address", "speed")
"""Leaves of an interface that a device tells and nobody sets (config false: RFC 8343 section 5)."""


def document_of(name: str, data: Data) -> Data:
    """The document of a device, by what a network file says of it."""
    rest = copy.deepcopy(data)
    kind = rest.pop("kind", "router")
    if kind not in ("router", "host"):
        rest["kind"] = kind
    document: Data = {"ietf-system:system": {"hostname": name}}
    interfaces, points = _interfaces(rest, kind != "host")
    if interfaces:
        document["ietf-interfaces:interfaces"] = {"interface": interfaces}
    routing = write_routing(rest.get("routing", {}), kind)
    if routing:
        document["ietf-routing:routing"] = routing
    instances = []
    for vrf, holder in rest.get("vrfs", {}).items():
        instance: Data = {"name": vrf}
        inner = write_routing((holder or {}).get("routing") or {}, kind)
        if inner:
            instance["ietf-network-instance:vrf-root"] = {"ietf-routing:routing": inner}
        instances.append(instance)
    if instances:
        document["ietf-network-instance:network-instances"] = {"network-instance": instances}
    policies = write_policies(rest)
    if policies:
        document["ietf-routing-policy:routing-policy"] = policies
    lists = write_lists(rest, points)
    if lists:
        document["ietf-access-control-list:acls"] = lists
    left = pruned(rest, data)
    if left:
        document[f"{REST_MODULE}:{REST}"] = {LEAF: json.dumps(left, ensure_ascii=False)}
    return document


def pruned(value: Any, was: Any) -> Any:
    """Data without the mappings and lists that nothing is left of; what was empty from the start says something."""
    if not isinstance(value, dict):
        return value
    before = was if isinstance(was, dict) else {}
    kept = {key: pruned(one, before.get(key)) for key, one in value.items()}
    return {key: one for key, one in kept.items() if one not in EMPTY or before.get(key) in EMPTY}


def _interfaces(rest: Data, forwards: bool) -> tuple[list[Data], dict[str, Data]]:
    """The interfaces, and which lists stand on them, by ``acl_in`` and ``acl_out``."""
    written: list[Data] = []
    points: dict[str, Data] = {}
    for name, settings in rest.get("interfaces", {}).items():
        own: Data = settings or {}
        entry: Data = {"name": name, "type": f"iana-if-type:{_type(name, own)}"}
        if own.get("kind") in ("ethernet", "loopback"):
            own.pop("kind")
        for key in ("description", "enabled"):
            if key in own:
                entry[key] = own.pop(key)
        if "mac" in own:
            entry["phys-address"] = own.pop("mac")
        if "bandwidth" in own:
            entry["speed"] = str(rate(str(own.pop("bandwidth"))))
        if "vrf" in own:
            vrf = own.pop("vrf")
            if vrf != DEFAULT_INSTANCE:
                entry["ietf-network-instance:bind-ni-name"] = vrf
        _write_addresses(entry, own, forwards)
        points[name] = {key: own.pop(key) for key in ("acl_in", "acl_out") if key in own}
        written.append(entry)
    return written, points


def _type(name: str, own: Data) -> str:
    if own.get("kind", "loopback" if name.startswith("lo") and "members" not in own else "") == "loopback":
        return "softwareLoopback"
    if own.get("kind") == "ethernet":
        return "ethernetCsmacd"
    if "members" in own or own.get("kind") == "bundle":
        return "ieee8023adLag"
    return "l3ipvlan" if "vlan" in own or own.get("kind") == "vlan" else "ethernetCsmacd"


def _write_addresses(entry: Data, own: Data, forwards: bool) -> None:
    """Addresses by family; the MTU is said of each family that has some."""
    families: dict[str, list[Data]] = {}
    for address in own.pop("addresses", []):
        ip, _, length = address.partition("/")
        families.setdefault("ipv6" if ":" in ip else "ipv4", []).append({"ip": ip, "prefix-length": int(length)})
    for family, addresses in families.items():
        entry[f"ietf-ip:{family}"] = {"forwarding": forwards, "address": addresses}
        if "mtu" in own:
            entry[f"ietf-ip:{family}"]["mtu"] = own["mtu"]
    if families:
        own.pop("mtu", None)
    for family, routers in written_virtual_routers(own.pop("virtual_routers", [])).items():
        entry[f"ietf-ip:{family}"]["ietf-vrrp:vrrp"] = routers
