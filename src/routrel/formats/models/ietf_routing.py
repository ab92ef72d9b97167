"""Routing as the IETF models it: ietf-routing (RFC 8349) with OSPF (9129), IS-IS (9130) and RIP (8695)."""

from routrel.formats.models.bgp import read_bgp
from routrel.formats.models.draft import DeviceDraft, Draft, Said, address_of, family_of, prefix_of
from routrel.formats.models.statements import Statement
from routrel.model.routing import ROUTING_PROTOCOLS

SPECIAL = {"blackhole": "discard", "unreachable": "reject", "prohibit": "reject"}
LEVELS = {"level-1": "1", "level-2": "2", "level-all": "1-2"}
REDISTRIBUTED = {
    "connected": "connected",
    "direct": "connected",
    "static": "static",
    "bgp": "bgp",
    "eigrp": "eigrp",
    "isis": "isis",
    "ospfv2": "ospf",
    "ospfv3": "ospf",
}


def read_ietf_routing(top: Statement, draft: DeviceDraft, instance: str) -> None:
    """The tree ``/ietf-routing:routing``, of the device or below the root of a network instance."""
    router_id = top.at("router-id")
    if router_id is not None:
        draft.routing(instance, top).put("router_id", router_id)
    top.entries("interfaces", "interface")
    for _, entry in draft.keyed(top.entries("control-plane-protocols", "control-plane-protocol"), "type", "name"):
        _read_protocol(entry, draft, instance)
    for _, rib in draft.keyed(top.entries("ribs", "rib"), "name"):
        _read_rib(rib, draft, instance)


def _read_protocol(entry: Statement, draft: DeviceDraft, instance: str) -> None:
    kind = entry.identity("type") or ""
    if kind == "static":
        for family in ("ipv4", "ipv6"):
            routes = entry.entries("static-routes", family, "route")
            for _, route in draft.keyed(routes, "destination-prefix"):
                _read_static(route, draft, instance)
    elif kind in ("ospf", "ospfv2", "ospfv3"):
        _read_ospf(entry, _ospf_version(entry, kind), draft, instance)
    elif kind == "isis":
        _read_isis(entry, draft, instance)
    elif kind in ("ripv2", "ripng", "rip"):
        _read_rip(entry, draft, instance)
    elif entry.at("bgp") is not None:
        read_bgp(entry.at("bgp") or entry, draft, instance)
    elif kind != "direct":
        entry.read_all(is_left_out=True)
        draft.gap(f"a routing protocol of type {kind} is not represented", entry)


def _next_hops(entry: Statement) -> list[Statement]:
    """The next hops of a route: one, or those of its list."""
    hop = entry.at("next-hop")
    if hop is None:
        return []
    return hop.entries("next-hop-list", "next-hop") or [hop]


def _hop_address(hop: Statement) -> Said | None:
    return address_of(hop.at("next-hop-address") or hop.at("address"))


def _read_static(route: Statement, draft: DeviceDraft, instance: str) -> None:
    for hop in _next_hops(route) or [route]:
        hop.at("index")
        static = Draft(route, prefix=prefix_of(route.at("destination-prefix")))
        address = _hop_address(hop)
        if address is not None:
            static["next_hop"] = address
        static.put("interface", hop.at("outgoing-interface"))
        special = hop.identity("special-next-hop")
        if special in SPECIAL:
            static.put("action", hop.at("special-next-hop"), SPECIAL[special])
        elif special is not None:
            draft.gap(f"a static route with the special next hop {special} is not represented", hop)
            continue
        draft.routing(instance, route).setdefault("static", []).append(static)


def _read_rib(rib: Statement, draft: DeviceDraft, instance: str) -> None:
    routes = rib.entries("routes", "route")
    rib.at("address-family"), rib.at("default-rib"), rib.at("description")
    are_marked = any(route.at("active") is not None for route in routes)
    for route in routes:
        if are_marked and route.at("active") is None:
            route.read_all()
            continue
        prefix = prefix_of(route.at("destination-prefix"))
        if prefix is None or family_of(prefix) is None:
            if rib.identity("address-family") not in ("ipv4", "ipv6", None):
                continue
            prefix = prefix or Said("", route)
        observed = Draft(route, prefix=prefix)
        source = route.identity("source-protocol") or ""
        observed["protocol"] = Said(_protocol(source, prefix), route)
        preference = route.at("route-preference")
        observed.put("preference", preference)
        if preference is not None:
            draft.saw_preference(instance, observed["protocol"].text, preference)
        if source.startswith(("ospf", "isis", "rip")):
            observed.put("metric", route.at("metric"))
            route.at("tag"), route.at("route-type")
        hops = []
        for hop in _next_hops(route):
            special = hop.identity("special-next-hop")
            if special is not None:
                observed["action"] = Said(SPECIAL.get(special, "forward"), hop)
                if special == "receive":  # the device's own address
                    observed["protocol"] = Said("local", hop)
            found = Draft(hop)
            address = _hop_address(hop)
            if address is not None:
                found["address"] = address
            found.put("interface", hop.at("outgoing-interface"))
            if found:
                hops.append(found)
        if hops:
            observed["next_hops"] = hops
        elif "action" not in observed or observed["action"].text == "forward":
            continue  # an address of the device itself, or a route that says nothing of its way
        if instance != "default":
            observed["vrf"] = Said(instance, rib)
        draft.listed("observed", observed)


def _protocol(source: str, prefix: Said) -> str:
    if source in ("direct", "connected"):
        return "connected"
    if source in ("static", "local"):
        return source
    return next((name for name in ROUTING_PROTOCOLS if source.startswith(name)), "observed")


def _ospf_version(entry: Statement, kind: str) -> str:
    """Of a process whose type names none, RFC 8529 appendix A has the address family."""
    ospf = entry.at("ospf") or entry
    family = ospf.identity("address-family") or ospf.identity("af")
    return "3" if kind == "ospfv3" or (kind == "ospf" and family == "ipv6") else "2"


def _read_ospf(entry: Statement, version: str, draft: DeviceDraft, instance: str) -> None:
    ospf = entry.at("ospf") or entry
    routing = draft.routing(instance, entry)
    process = draft.ospf_process(routing, draft.fitting(entry.text("name") or "default"), version, entry)
    ospf.at("router-id")  # as the device has it
    own_id = ospf.at("explicit-router-id")
    if own_id is not None:
        one_router_id(routing, own_id, draft)
    _read_preference(routing, "ospf", ospf, draft)
    process.put("multipath", ospf.at("spf-control", "paths"))
    reference = ospf.at("auto-cost", "reference-bandwidth")
    if reference is not None and reference.value and not ospf.is_false("auto-cost", "enabled"):
        process.put("reference_bandwidth", reference, f"{reference.value}M")
    areas = process.inner("areas", ospf)
    for number, area in draft.keyed(ospf.entries("areas", "area"), "area-id"):
        found = areas.inner(number, area)
        kind = area.identity("area-type")
        if kind in ("stub-area", "nssa-area"):
            found.put("type", area.at("area-type"), kind.removesuffix("-area"))
            if area.is_false("summary"):
                found.put("no_summary", area.at("summary"), "true")
            found.put("default_cost", area.at("default-cost"))
        else:
            area.at("summary"), area.at("default-cost")
        for _, one in draft.keyed(area.entries("ranges", "range"), "prefix"):
            span = Draft(one, prefix=prefix_of(one.at("prefix")))
            span.put("advertise", one.at("advertise"))
            span.put("cost", one.at("cost"))
            found.setdefault("ranges", []).append(span)
        for name, one in draft.keyed(area.entries("interfaces", "interface"), "name"):
            if one.is_false("enabled"):
                one.read_all()
                continue
            port = found.inner("interfaces", area).inner(name, one)
            port.put("cost", one.at("cost"))
            port.put("passive", one.at("passive"))
            port.put("priority", one.at("priority"))
            if one.is_true("prefix-suppression"):
                draft.gap("an interface whose subnet OSPF does not tell is not represented", one, name)
            for heard in one.entries("neighbors", "neighbor"):
                draft.saw_neighbor("ospf", heard, heard.text("neighbor-router-id"), heard.text("state"), name, instance)
            _read_network_type(port, one, draft, name)


def one_router_id(routing: Draft, said: Statement, draft: DeviceDraft) -> None:
    """One identifier serves all protocols of an instance."""
    known = routing.get("router_id")
    if known is None:
        routing.put("router_id", said)
    elif known.text != said.value:
        draft.gap(f"a router id of a protocol's own beside {known.text} is not represented", said)


def _read_preference(routing: Draft, protocol: str, entry: Statement, draft: DeviceDraft) -> None:
    """One preference for all routes of a protocol; a second value is not represented."""
    leaves = [
        entry.at("preference", *path)
        for path in (("all",), ("intra-area",), ("inter-area",), ("internal",), ("external",), ("default",))
    ]
    said = [leaf for leaf in leaves if leaf is not None and leaf.value]
    if said:
        routing.inner("preferences", entry).put(protocol, said[0])
    for other in said[1:]:
        if other.value != said[0].value:
            draft.gap(f"a preference for some routes of {protocol} alone is not represented", other)


def _read_network_type(port: Draft, one: Statement, draft: DeviceDraft, name: str) -> None:
    kind = one.at("interface-type")
    word = one.identity("interface-type")
    if kind is not None and word in ("broadcast", "point-to-point"):
        port.put("network", kind, word)
    elif kind is not None and word is not None:
        draft.gap(f"an interface of network type {word} is not represented", kind, name)


def _read_isis(entry: Statement, draft: DeviceDraft, instance: str) -> None:
    isis = entry.at("isis") or entry
    if isis.is_false("enabled"):
        entry.read_all()
        return
    routing = draft.routing(instance, entry)
    process = routing.inner("isis", entry)
    areas = isis.entries("area-address")
    system = isis.at("system-id")
    if areas and system is not None:
        process["net"] = Said(f"{areas[0].value}.{system.value}.00", system)
    for other in areas[1:]:
        draft.gap("a second area address is not represented", other)
    level = isis.at("level-type")
    process.put("level", level, LEVELS.get(isis.identity("level-type") or "", level.value if level else ""))
    _read_preference(routing, "isis", isis, draft)
    process.put("multipath", isis.at("spf-control", "paths"))
    style = isis.at("metric-type", "value")
    if style is not None:
        process.put("wide_metrics", style, "false" if style.value == "old-only" else "true")
        for number in ("level-1", "level-2"):
            own_style = isis.at("metric-type", number, "value")
            if own_style is not None and own_style.value != style.value:
                draft.gap("metrics of another kind in one level of IS-IS are not represented", own_style)
    default = isis.at("default-metric", "value")
    for name, one in draft.keyed(isis.entries("interfaces", "interface"), "name"):
        if one.is_false("enabled"):
            one.read_all()
            continue
        port = process.inner("interfaces", isis).inner(name, one)
        _read_isis_interface(port, one, default, draft, name)
        for heard in one.entries("adjacencies", "adjacency"):
            draft.saw_neighbor("isis", heard, heard.text("neighbor-sysid"), heard.text("state"), name, instance)
    _read_families(isis, list(process.get("interfaces", ())), draft)
    if isis.is_true("overload", "status"):
        draft.gap("an IS-IS router that is overloaded (RFC 3787) is not represented", isis.at("overload") or isis)


def _read_isis_interface(port: Draft, one: Statement, default: Statement | None, draft: DeviceDraft, name: str) -> None:
    port.put("passive", one.at("passive"))
    if one.text("level-type"):
        port.put("level", one.at("level-type"), LEVELS.get(one.text("level-type") or "", ""))
    own = [leaf for leaf in (one.at(*path) for path in METRICS) if leaf is not None]
    port.put("metric", own[0] if own else default)
    if len({leaf.value for leaf in own}) > 1:
        draft.gap("metrics of an interface that differ by level are not represented", own[-1], name)
    if one.text("interface-type") is not None:
        _read_network_type(port, one, draft, name)
    for path in METRICS:
        one.at("priority", *path[1:])  # of who speaks for a segment
    _read_families(one, [name], draft)


def _read_families(entry: Statement, interfaces: list[str], draft: DeviceDraft) -> None:
    """Families that IS-IS routes on interfaces: all that these have addresses of is what the model can hold."""
    entries = entry.entries("address-families", "address-family-list")
    enabled = {one.identity("address-family") for one in entries if not one.is_false("enabled")}
    known = draft.interfaces()
    addresses = [one for name in interfaces if name in known for one in known[name].get("addresses", ())]
    if entries and not enabled.issuperset(f"ipv{family_of(address)}" for address in addresses):
        affects = interfaces[0] if len(interfaces) == 1 else ""
        draft.gap("IS-IS for some address families alone is not represented: it is shown for all", entries[0], affects)


METRICS = (("metric", "value"), ("metric", "level-1", "value"), ("metric", "level-2", "value"))


def _read_rip(entry: Statement, draft: DeviceDraft, instance: str) -> None:
    rip = entry.at("rip") or entry
    routing = draft.routing(instance, entry)
    process = routing.inner("rip", entry)
    process.put("default_metric", rip.at("default-metric"))
    distance = rip.at("distance", "default") or rip.at("distance")
    if distance is not None and distance.value:
        routing.inner("preferences", rip).put("rip", distance)
    sources = rip.at("redistribute")
    for name, source in REDISTRIBUTED.items() if sources is not None else ():
        for one in sources.each(name) if sources is not None else ():
            found = Draft(one)
            found["from"] = Said(source, one)
            found.put("metric", one.at("metric"))
            policy = one.at("route-policy")
            if policy is not None and policy.value:
                found["policy"] = draft.chain([policy], None)
            process.setdefault("redistribute", []).append(found)
    for family in ("ipv4", "ipv6"):
        told = rip.at(family)  # neighbours and routes, as the device has them
        if told is not None:
            told.read_all()
    for name, one in draft.keyed(rip.entries("interfaces", "interface"), "interface"):
        port = process.inner("interfaces", rip).inner(name, one)
        port.put("metric", one.at("cost"))
        passive = one.at("passive")
        if passive is not None:
            port["passive"] = Said("true", passive)
