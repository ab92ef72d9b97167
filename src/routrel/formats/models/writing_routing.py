"""Routing written in ietf-routing (RFC 8349), ietf-ospf (9129), ietf-isis (9130), ietf-rip (8695) and ietf-bgp."""

from typing import Any

from routrel.formats.scalars import rate
from routrel.model.addresses import Address

Data = dict[str, Any]

SPECIAL = {"discard": "blackhole", "reject": "unreachable"}
LEVELS = {"1": "level-1", "2": "level-2", "1-2": "level-all"}
STATIC_KEYS = {"prefix", "next_hop", "interface", "action"}
OSPF_LEAVES = ("cost", "passive", "priority")
MEGABIT = 1_000_000


def write_routing(routing: Data, kind: str) -> Data:
    """What of a routing instance the models hold, taken out of it."""
    written: Data = {}
    if "router_id" in routing:
        written["router-id"] = routing.pop("router_id")
    protocols = [*_static(routing), *_ospf(routing), *_isis(routing), *_rip(routing), *_bgp(routing)]
    if protocols:
        written["control-plane-protocols"] = {"control-plane-protocol": protocols}
    return written


def _static(routing: Data) -> list[Data]:
    routes = routing.get("static") or []
    if not routes or any(set(route) - STATIC_KEYS for route in routes):
        return []
    families: dict[str, dict[str, list[Data]]] = {}
    for route in routes:
        hop: Data = {}
        if "next_hop" in route:
            hop["next-hop-address"] = route["next_hop"]
        if "interface" in route:
            hop["outgoing-interface"] = route["interface"]
        if route.get("action", "forward") != "forward":
            hop["special-next-hop"] = SPECIAL[route["action"]]
        family = "ipv6" if ":" in route["prefix"] else "ipv4"
        families.setdefault(family, {}).setdefault(route["prefix"], []).append(hop)
    routing.pop("static")
    written: Data = {}
    for family, prefixes in families.items():
        written[f"ietf-{family}-unicast-routing:{family}"] = {
            "route": [{"destination-prefix": prefix, "next-hop": _next_hop(hops)} for prefix, hops in prefixes.items()]
        }
    return [{"type": "ietf-routing:static", "name": "static", "static-routes": written}]


def _next_hop(hops: list[Data]) -> Data:
    if len(hops) == 1:
        return hops[0]
    listed = [{"index": str(number), **hop} for number, hop in enumerate(hops, 1)]
    return {"next-hop-list": {"next-hop": listed}}


def _ospf(routing: Data) -> list[Data]:
    processes = routing.get("ospf") or []
    if isinstance(processes, dict):
        routing["ospf"] = processes = [processes]
    written = []
    for process in processes:
        name, version = process.get("instance", "default"), str(process.get("version", 2))
        ospf: Data = {}
        if "multipath" in process:
            ospf["spf-control"] = {"paths": process.pop("multipath")}
        if "reference_bandwidth" in process:
            bits = rate(str(process["reference_bandwidth"]))
            if bits % MEGABIT == 0:
                process.pop("reference_bandwidth")
                ospf["auto-cost"] = {"enabled": True, "reference-bandwidth": bits // MEGABIT}
        areas = [_area(number, area or {}) for number, area in process.pop("areas", {}).items()]
        ospf["areas"] = {"area": areas}
        if process.keys() - {"instance", "version"}:
            process.update(instance=name, version=int(version))  # what is left is told apart by them
        else:
            process.clear()
        written.append({"type": f"ietf-ospf:ospfv{version}", "name": name, "ietf-ospf:ospf": ospf})
    if "ospf" in routing:
        routing["ospf"] = [process for process in processes if process]
    return written


def _area(number: Any, area: Data) -> Data:
    text = str(number)
    written: Data = {"area-id": str(Address(4, int(text))) if text.isdecimal() else text}
    if area.get("type", "normal") != "normal":
        written["area-type"] = f"ietf-ospf:{area['type']}-area"
        written["summary"] = not area.get("no_summary", False)
        if "default_cost" in area:
            written["default-cost"] = area["default_cost"]
    ranges = [{"prefix": one["prefix"], **one} for one in area.get("ranges") or []]
    if ranges:
        written["ranges"] = {"range": ranges}
    interfaces = []
    for name, settings in (area.get("interfaces") or {}).items():
        port = {"name": name} | {leaf: settings[leaf] for leaf in OSPF_LEAVES if leaf in (settings or {})}
        if "network" in (settings or {}):
            port["interface-type"] = settings["network"]
        interfaces.append(port)
    if interfaces:
        written["interfaces"] = {"interface": interfaces}
    return written


def _isis(routing: Data) -> list[Data]:
    isis = routing.get("isis")
    if not isis:
        return []
    parts = str(isis.pop("net")).split(".")
    written: Data = {"system-id": ".".join(parts[-4:-1]), "area-address": [".".join(parts[:-4])]}
    if len(parts) < 5 or [len(part) for part in parts[-4:]] != [4, 4, 4, 2]:
        isis["net"] = ".".join(parts)  # digits grouped otherwise than the model writes them
        written = {}
    if "level" in isis:
        written["level-type"] = LEVELS[str(isis.pop("level"))]
    if "wide_metrics" in isis:
        written["metric-type"] = {"value": "wide-only" if isis.pop("wide_metrics") else "old-only"}
    if "multipath" in isis:
        written["spf-control"] = {"paths": isis.pop("multipath")}
    interfaces = []
    for name, settings in (isis.pop("interfaces", None) or {}).items():
        own = settings or {}
        port: Data = {"name": name}
        if "metric" in own:
            port["metric"] = {"value": own["metric"]}
        if "level" in own:
            port["level-type"] = LEVELS[str(own["level"])]
        if "passive" in own:
            port["passive"] = own["passive"]
        if "network" in own:
            port["interface-type"] = own["network"]
        interfaces.append(port)
    if interfaces:
        written["interfaces"] = {"interface": interfaces}
    return [{"type": "ietf-isis:isis", "name": "isis", "ietf-isis:isis": written}]


def _rip(routing: Data) -> list[Data]:
    rip = routing.get("rip")
    if rip is None:
        return []
    written: Data = {}
    if "default_metric" in rip:
        written["default-metric"] = rip.pop("default_metric")
    interfaces = []
    for name, settings in (rip.pop("interfaces", None) or {}).items():
        port: Data = {"interface": name}
        if "metric" in (settings or {}):
            port["cost"] = settings["metric"]
        if (settings or {}).get("passive"):
            port["passive"] = [None]
        interfaces.append(port)
    if interfaces:
        written["interfaces"] = {"interface": interfaces}
    return [{"type": "ietf-rip:ripv2", "name": "rip", "ietf-rip:rip": written}]


def _bgp(routing: Data) -> list[Data]:
    bgp = routing.get("bgp")
    if not bgp:
        return []
    top: Data = {"as": bgp.pop("as")}
    if "router_id" in bgp:
        top["identifier"] = bgp.pop("router_id")
    neighbors = [_neighbor(address, own or {}) for address, own in (bgp.get("neighbors") or {}).items()]
    written: Data = {"global": top}
    if neighbors:
        written["neighbors"] = {"neighbor": neighbors}
    return [{"type": "ietf-bgp:bgp", "name": "bgp", "ietf-bgp:bgp": written}]


def _neighbor(address: str, own: Data) -> Data:
    written: Data = {"remote-address": address, "peer-as": own.pop("as")}
    for key in ("description", "enabled"):
        if key in own:
            written[key] = own.pop(key)
    for key in ("local_address", "update_source"):
        if key in own and "transport" not in written:
            written["transport"] = {"local-address": own.pop(key)}
    if "multihop" in own:
        written["ebgp-multihop"] = {"enabled": True, "multihop-ttl": own.pop("multihop")}
    if "route_reflector_client" in own:
        written["route-reflector"] = {"client": own.pop("route_reflector_client")}
    chains = {f"{key}-policy": [own.pop(key)] for key in ("import", "export") if key in own}
    if chains:
        written["apply-policy"] = chains
    return written
