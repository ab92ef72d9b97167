"""Documents in open models, made from few words, and the networks they are read as."""

import json
from collections.abc import Mapping
from typing import Any
from xml.sax.saxutils import escape

from routrel.formats.errors import LoadError
from routrel.formats.models.xml_statements import NETCONF, namespace_of
from routrel.formats.sources import read_files
from routrel.model.network import Network
from routrel.routing.solve import Solved
from routrel.solving import solve


def network_of(**documents: Any) -> Network:
    """A folder with a document per device, as data or as text."""
    return read_files(files_of(documents))


def solved_of(**documents: Any) -> Solved:
    return solve(network_of(**documents))


def refusals(**documents: Any) -> list[str]:
    """What is wrong with a folder of documents."""
    try:
        network_of(**documents)
    except LoadError as error:
        return [str(one) for one in error.errors]
    return []


def files_of(documents: Mapping[str, Any]) -> dict[str, bytes]:
    files = {}
    for name, document in documents.items():
        text = document if isinstance(document, str) else json.dumps(document, indent=1)
        files[f"{name}.{'xml' if text.startswith('<') else 'json'}"] = text.encode()
    return files


def gaps(network: Network, device: str) -> list[str]:
    return [gap.message for gap in network.devices[device].gaps]


def ietf_interface(name: str, *addresses: str, kind: str = "ethernetCsmacd", **more: Any) -> dict[str, Any]:
    """An entry of ietf-interfaces."""
    entry: dict[str, Any] = {"name": name, "type": f"iana-if-type:{kind}", **dashed(more)}
    for family in ("ipv4", "ipv6"):
        own = [one.split("/") for one in addresses if (":" in one) == (family == "ipv6")]
        if own:
            listed = [{"ip": ip, "prefix-length": int(length)} for ip, length in own]
            entry[f"ietf-ip:{family}"] = {"forwarding": True, "address": listed}
    return entry


def ietf(*interfaces: dict[str, Any], protocols: list[dict[str, Any]] | None = None, **more: Any) -> dict[str, Any]:
    """A device in the IETF's models; other trees by their name with ``_`` for ``:`` once and ``-`` after."""
    document: dict[str, Any] = {"ietf-interfaces:interfaces": {"interface": list(interfaces)}}
    routing = more.pop("routing", {})
    if protocols is not None:
        routing["control-plane-protocols"] = {"control-plane-protocol": protocols}
    if routing:
        document["ietf-routing:routing"] = routing
    return document | more.pop("trees", {})


def static(*routes: tuple[str, dict[str, Any]]) -> dict[str, Any]:
    """A control plane protocol of static IPv4 routes: prefix and next hop."""
    listed = [{"destination-prefix": prefix, "next-hop": hop} for prefix, hop in routes]
    return {
        "type": "ietf-routing:static",
        "name": "st",
        "static-routes": {"ietf-ipv4-unicast-routing:ipv4": {"route": listed}},
    }


def ospf(areas: dict[str, list[dict[str, Any]]], version: str = "2", name: str = "o", **more: Any) -> dict[str, Any]:
    """An OSPF process: interfaces by area."""
    listed = [{"area-id": area, "interfaces": {"interface": own}} for area, own in areas.items()]
    process = {"areas": {"area": listed}, **dashed(more)}
    return {"type": f"ietf-ospf:ospfv{version}", "name": name, "ietf-ospf:ospf": process}


def config(key: str, value: Any, *, more: dict[str, Any] | None = None, **leaves: Any) -> dict[str, Any]:
    """An entry of an OpenConfig list: its key, beside and in ``config`` with other leaves."""
    return {key: value, "config": {key: value, **dashed(leaves)}, **(more or {})}


def openconfig_interface(
    name: str, *addresses: str, subs: tuple[dict[str, Any], ...] = (), **more: Any
) -> dict[str, Any]:
    """An entry of openconfig-interfaces, its addresses on sub-interface 0."""
    kind = more.pop("type", "iana-if-type:ethernetCsmacd")
    trees = more.pop("trees", {})
    first = (subinterface(0, *addresses),) if addresses else ()
    inner = {"subinterfaces": {"subinterface": [*first, *subs]}, **trees}
    return config("name", name, more=inner, type=kind, enabled=True, **more)


def subinterface(index: int, *addresses: str, vlan: int | None = None) -> dict[str, Any]:
    found = config("index", index)
    if vlan is not None:
        found["openconfig-vlan:vlan"] = {"match": {"single-tagged": {"config": {"vlan-id": vlan}}}}
    for family in ("ipv4", "ipv6"):
        own = [one.split("/") for one in addresses if (":" in one) == (family == "ipv6")]
        if own:
            listed = [config("ip", ip, prefix_length=int(length)) for ip, length in own]
            found[f"openconfig-if-ip:{family}"] = {"addresses": {"address": listed}}
    return found


def openconfig(
    *interfaces: dict[str, Any], protocols: list[dict[str, Any]] | None = None, **trees: Any
) -> dict[str, Any]:
    """A device in OpenConfig's models; ``instance`` adds to its default network instance."""
    more = {"protocols": {"protocol": protocols or []}, **trees.pop("instance", {})}
    default = config("name", "default", more=more, type="openconfig-network-instance-types:DEFAULT_INSTANCE")
    return {
        "openconfig-interfaces:interfaces": {"interface": list(interfaces)},
        "openconfig-network-instance:network-instances": {"network-instance": [default, *trees.pop("instances", [])]},
        **trees.pop("trees", {}),
    }


def openconfig_bgp(number: int, *neighbors: dict[str, Any], groups: tuple[dict[str, Any], ...] = ()) -> dict[str, Any]:
    bgp = {
        "global": {"config": {"as": number}},
        "neighbors": {"neighbor": list(neighbors)},
        "peer-groups": {"peer-group": list(groups)},
    }
    return {"identifier": "openconfig-policy-types:BGP", "name": "bgp", "bgp": bgp}


def neighbor(address: str, *, more: dict[str, Any] | None = None, **leaves: Any) -> dict[str, Any]:
    return config("neighbor-address", address, more=more, **leaves)


def dashed(leaves: dict[str, Any]) -> dict[str, Any]:
    """Keyword arguments as YANG names."""
    return {name.replace("_", "-"): value for name, value in leaves.items()}


def as_xml(document: dict[str, Any]) -> str:
    """A document as a NETCONF ``get`` answers it (RFC 7950 section 7)."""
    inside = "".join(_element(name, value, "") for name, value in document.items())
    return f'<data xmlns="{NETCONF}">{inside}</data>'


def _element(name: str, value: Any, around: str) -> str:
    module, _, own = name.rpartition(":")
    module = module or around
    if isinstance(value, list) and value != [None]:
        return "".join(_element(f"{module}:{own}", one, around) for one in value)
    if isinstance(value, dict):
        text = "".join(_element(key, one, module) for key, one in value.items())
    else:
        text = "" if value == [None] else str(value).lower() if isinstance(value, bool) else escape(str(value))
    declared = "" if module == around else f' xmlns="{namespace_of(module)}"'
    return f"<{own}{declared}>{text}</{own}>"
