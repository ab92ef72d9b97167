"""Interfaces and their addresses: ietf-interfaces and ietf-ip (RFC 8343, 8344), OpenConfig interfaces and VLANs.

An interface that its own state tells is down is off, whatever was configured.
"""

import re
from collections.abc import Iterable

from routrel.formats.models.draft import DeviceDraft, Draft, Said, address_of
from routrel.formats.models.statements import Statement
from routrel.formats.models.virtual_routers import read_ietf_virtual_routers, read_openconfig_virtual_routers
from routrel.model.routing import DEFAULT_INSTANCE

DOWN = ("down", "lower-layer-down", "lower_layer_down", "not-present", "not_present", "testing", "dormant")
"""States in which no packets pass (RFC 8343 section 5)."""

PLAIN_TYPES = ("ethernetCsmacd", "propVirtual", "other", "IF_ETHERNET")
BUNDLES = ("ieee8023adLag", "IF_AGGREGATE")
VLANS = ("l2vlan", "l3ipvlan")
LOOPBACKS = ("softwareLoopback", "IF_LOOPBACK")
SPEEDS = {"MB": 1_000_000, "GB": 1_000_000_000}


def read_ietf_interfaces(top: Statement, draft: DeviceDraft) -> None:
    """The tree ``/ietf-interfaces:interfaces``."""
    for name, entry in draft.keyed(top.entries("interface"), "name"):
        interface = draft.interface(name, entry)
        _read_common(interface, entry, draft)
        interface.put("mac", entry.at("phys-address")) if _is_mac(entry.text("phys-address")) else None
        if entry.text("speed") not in (None, "0"):
            interface.put("bandwidth", entry.at("speed"))
        # RFC 8529 has the one name in its module and the other in its appendix.
        instance = (
            entry.at("bind-ni-name") or entry.at("bind-network-instance-name") or entry.at("ipv4", "bind-ni-name")
        )
        if instance is not None and instance.value != DEFAULT_INSTANCE:
            interface.put("vrf", instance, draft.fitting(instance.value or ""))
        interface.put("parent", entry.at("parent-interface"))
        interface.put("vlan", entry.at("encapsulation", "dot1q-vlan", "outer-tag", "vlan-id"))
        for family in ("ipv4", "ipv6"):
            ip = entry.at(family)
            if ip is None:
                continue
            forwarding = ip.at("forwarding")
            if forwarding is not None and entry.identity("type") not in LOOPBACKS:
                draft.forwarding.append((name, forwarding))
            if ip.is_false("enabled"):
                ip.read_all()
                continue
            _read_addresses(interface, name, draft, ip.entries("address"))
            _read_mtu(interface, ip)
            _read_neighbors(name, ip.entries("neighbor"), draft)
            read_ietf_virtual_routers(interface, name, ip, family, draft)


def read_openconfig_interfaces(top: Statement, draft: DeviceDraft) -> None:
    """The tree ``/openconfig-interfaces:interfaces``; a sub-interface other than 0 is named ``NAME.INDEX``."""
    members: dict[str, list[Said]] = {}
    for name, entry in draft.keyed(top.entries("interface"), "name"):
        interface = draft.interface(name, entry)
        _read_common(interface, entry, draft)
        interface.put("mtu", entry.at("mtu"))
        ethernet = entry.at("ethernet")
        if ethernet is not None:
            if _is_mac(ethernet.text("mac-address")):
                interface.put("mac", ethernet.at("mac-address"))
            _read_speed(interface, ethernet)
            bundle = ethernet.at("aggregate-id")
            if bundle is not None and bundle.value:
                members.setdefault(bundle.value, []).append(Said(name, bundle))
        for parent in (ethernet, entry.at("aggregation")):
            ports = parent.at("switched-vlan") if parent is not None else None
            if ports is not None:
                _read_switchport(interface, ports, draft)
        routed = entry.at("routed-vlan")
        if routed is not None:
            interface.put("vlan", routed.at("vlan"))
            draft.begin(entry)["kind"] = Said("switch", routed)
            _read_families(interface, name, routed, draft)
        for index, sub in draft.keyed(entry.entries("subinterfaces", "subinterface"), "index"):
            _read_subinterface(name, index, sub, draft)
    known = draft.interfaces()
    for name, ends in members.items():
        if name in known:
            known[name]["members"] = ends
            known[name].pop("kind", None)
        else:
            draft.gap(f"the bundle {name} that an interface belongs to is not among the interfaces", ends[0].by)


def openconfig_name(draft: DeviceDraft, entry: Statement, own: str) -> str:
    """The interface that ``interface-ref`` names, else that of the entry's own key."""
    name = entry.text("interface-ref", "interface") or entry.text("interface") or own
    index = entry.text("interface-ref", "subinterface") or entry.text("subinterface")
    known = draft.interfaces()
    if index is not None and f"{name}.{index}" in known:
        return f"{name}.{index}"
    base, dot, tail = name.rpartition(".")
    return base if dot and name not in known and tail == "0" and base in known else name


def _read_common(interface: Draft, entry: Statement, draft: DeviceDraft) -> None:
    description = entry.at("description")
    if description is not None and description.value:
        interface.put("description", description)
    kind = entry.at("type")
    if kind is not None:
        identity = (kind.value or "").rpartition(":")[2]
        if identity not in (*BUNDLES, *VLANS):  # which their members and tags tell
            interface.put("kind", kind, "loopback" if identity in LOOPBACKS else "ethernet")
        if identity not in (*PLAIN_TYPES, *LOOPBACKS, *BUNDLES, *VLANS):
            draft.gap(f"an interface of type {identity}: how its packets are carried is not represented", kind)
    _read_enabled(interface, entry)


def _read_enabled(interface: Draft, entry: Statement) -> None:
    for leaf in ("enabled", "admin-status", "oper-status"):
        said = entry.at(leaf)
        if said is not None and (said.value or "").lower() in ("false", *DOWN):
            interface.setdefault("enabled", Said("false", said))


def _read_mtu(interface: Draft, ip: Statement) -> None:
    """The least of what the families say: a packet of either has to fit."""
    mtu = ip.at("mtu")
    if mtu is None or mtu.value is None:
        return
    known = interface.get("mtu")
    if known is None or not (known.text + mtu.value).isdecimal() or int(mtu.value) < int(known.text):
        interface.put("mtu", mtu)


def _read_addresses(interface: Draft, name: str, draft: DeviceDraft, entries: Iterable[Statement]) -> None:
    for ip, entry in draft.keyed(entries, "ip"):
        length = entry.text("prefix-length")
        netmask = entry.text("netmask")
        if length is None and netmask is not None:
            length = netmask  # the grammar's words for an address that cannot be hold for a mask that cannot be
            if re.fullmatch(r"[0-9]{1,3}(\.[0-9]{1,3}){3}", netmask):
                bits = "".join(f"{int(part):08b}" for part in netmask.split("."))
                length = str(bits.count("1")) if re.fullmatch("1*0*", bits) and len(bits) == 32 else netmask
        entry.at("type")  # of an IPv6 address: its own bits say it
        text = f"{ip.partition('%')[0]}/{length}" if length is not None else ip
        interface.setdefault("addresses", []).append(Said(text, entry))
        read_openconfig_virtual_routers(interface, name, entry, draft)


def _read_neighbors(name: str, entries: Iterable[Statement], draft: DeviceDraft) -> None:
    for _, entry in draft.keyed(entries, "ip"):
        address = address_of(entry.at("ip"))
        if address is not None and entry.text("link-layer-address") and entry.identity("state") != "incomplete":
            draft.seen_alive.append((name, address))


def _read_speed(interface: Draft, ethernet: Statement) -> None:
    speed = ethernet.at("port-speed")
    match = re.fullmatch(r"SPEED_([0-9]+)([MG]B)", ethernet.identity("port-speed") or "")
    if speed is not None and match:
        interface.put("bandwidth", speed, str(int(match[1]) * SPEEDS[match[2]]))


def _read_switchport(interface: Draft, ports: Statement, draft: DeviceDraft) -> None:
    mode = ports.at("interface-mode")
    port = Draft(mode or ports)
    if ports.text("interface-mode") == "TRUNK":
        listed = ports.entries("trunk-vlans")
        port["trunk"] = [Said(str(vlan), one) for one in listed for vlan in _vlans(one, draft)]
        if not listed:
            draft.trunks_of_all.append(port)
        port.put("native", ports.at("native-vlan"))
    else:
        access = ports.at("access-vlan")
        port["access"] = Said(access.value or "" if access is not None else "1", access or ports)
    interface["switchport"] = port
    draft.begin(ports)["kind"] = Said("switch", ports)


def _vlans(said: Statement, draft: DeviceDraft) -> Iterable[int | str]:
    """A VLAN, or the VLANs of a range ``10..20``."""
    match = re.fullmatch(r"([0-9]{1,4})(?:\.\.([0-9]{1,4}))?", said.value or "")
    if match:
        found = range(int(match[1]), int(match[2] or match[1]) + 1)
        draft.carry(len(found), said)
        return found
    return (said.value or "",)


def _read_families(interface: Draft, name: str, entry: Statement, draft: DeviceDraft) -> None:
    for family in ("ipv4", "ipv6"):
        ip = entry.at(family)
        if ip is None or ip.is_false("enabled"):
            continue
        _read_addresses(interface, name, draft, ip.entries("addresses", "address"))
        _read_mtu(interface, ip)
        _read_neighbors(name, ip.entries("neighbors", "neighbor"), draft)
        proxy = ip.at("proxy-arp", "mode")
        if proxy is not None and proxy.value not in ("DISABLE", None):
            draft.gap("an interface that answers ARP for others is not represented", proxy, name)


def _read_subinterface(parent: str, index: str, entry: Statement, draft: DeviceDraft) -> None:
    vlan = entry.at("vlan", "match", "single-tagged", "vlan-id") or entry.at("vlan", "vlan-id")
    name = parent if index == "0" and vlan is None else f"{parent}.{index}"
    interface = draft.interface(name, entry)
    if name != parent:
        interface["kind"] = Said("vlan" if vlan is not None else "ethernet", entry)
        if vlan is not None:
            interface["parent"] = Said(parent, entry)
            interface.put("vlan", vlan)
        else:
            draft.gap("a sub-interface without a VLAN: what it receives is not represented", entry, name)
    if entry.text("description"):
        interface.put("description", entry.at("description"))
    _read_enabled(interface, entry)
    _read_families(interface, name, entry, draft)


def _is_mac(text: str | None) -> bool:
    return text is not None and re.fullmatch(r"[0-9a-fA-F]{2}(:[0-9a-fA-F]{2}){5}", text) is not None
