"""The documents of one device: which reader takes which tree, and the device that comes out."""

import json
import re
from collections.abc import Callable, Iterator, Mapping
from typing import Any

from routrel.formats.errors import ErrorList, LoadError, quoted
from routrel.formats.models import openconfig_routing
from routrel.formats.models.access_lists import read_ietf_lists, read_openconfig_lists
from routrel.formats.models.bgp import read_bgp
from routrel.formats.models.draft import DeviceDraft, Draft, LldpNeighbor, Said, family_of, place_of, prefix_of
from routrel.formats.models.ietf_routing import read_ietf_routing
from routrel.formats.models.interfaces import read_ietf_interfaces, read_openconfig_interfaces
from routrel.formats.models.json_statements import read_json
from routrel.formats.models.policies import add_chains, read_policies
from routrel.formats.models.rest import LEAF, REST, REST_MODULE
from routrel.formats.models.route_tables import TABLE_SUFFIXES, read_table
from routrel.formats.models.statements import Statement
from routrel.formats.models.topology import TOP as TOPOLOGY
from routrel.formats.models.unread import note_unread, statement_count
from routrel.formats.models.xml_statements import read_xml
from routrel.model.devices import StatementCount
from routrel.model.routing import DEFAULT_INSTANCE, ROUTING_PROTOCOLS

Reader = Callable[[Statement, DeviceDraft], None]
WRAPPERS = (
    ("ietf-yang-instance-data", "instance-data-set"),
    ("ietf-yang-instance-data", "content-data"),
    ("ietf-restconf", "data"),
    ("ietf-netconf", "data"),
    ("ietf-netconf", "config"),
)
HOST_NAME = r"[A-Za-z0-9]([A-Za-z0-9._-]{0,251}[A-Za-z0-9])?"


def is_document(data: bytes) -> bool:
    """Whether a text is XML, or JSON whose first member names a YANG module."""
    start = data.removeprefix(b"\xef\xbb\xbf")[:4096].lstrip()
    return start.startswith(b"<") or re.match(rb'\{\s*"[A-Za-z_][A-Za-z0-9_.-]*:[A-Za-z_]', start) is not None


def _read_routing(top: Statement, draft: DeviceDraft) -> None:
    read_ietf_routing(top, draft, DEFAULT_INSTANCE)


def _read_own_bgp(top: Statement, draft: DeviceDraft) -> None:
    read_bgp(top, draft, DEFAULT_INSTANCE)


def _read_network_instances(top: Statement, draft: DeviceDraft) -> None:
    """RFC 8529: what a VRF routes stands below its root."""
    for name, entry in draft.keyed(top.entries("network-instance"), "name"):
        routing = entry.at("vrf-root", "routing")
        own = draft.fitting(name)
        draft.begin(entry).inner("vrfs", entry).inner(own, entry)
        if routing is not None:
            read_ietf_routing(routing, draft, own)


def _read_vlans(top: Statement, draft: DeviceDraft) -> None:
    openconfig_routing.read_vlans(top.entries("vlan"), draft)


def _read_system(top: Statement, draft: DeviceDraft) -> None:
    name = top.at("hostname")
    if name is None or not name.value:
        return
    if not re.fullmatch(HOST_NAME, name.value):
        draft.errors.add(
            place_of(name), "this is no host name", found=quoted(name.value), allowed="letters, digits, . _ -"
        )
        return
    draft.hostname = Said(name.value, name)


def _read_openconfig_lldp(top: Statement, draft: DeviceDraft) -> None:
    draft.lldp += [LldpNeighbor(*one) for one in openconfig_routing.lldp_neighbors(top, draft)]


def _read_ieee_lldp(top: Statement, draft: DeviceDraft) -> None:
    for name, port in draft.keyed(top.entries("port"), "name"):
        for neighbor in port.entries("remote-systems-data"):
            system, their_port = neighbor.text("system-name"), neighbor.text("port-id")
            neighbor.read_all()
            if system and their_port:
                draft.lldp.append(LldpNeighbor(name, system, their_port, neighbor))


def _read_rest(top: Statement, draft: DeviceDraft) -> None:
    """What a writer of ours found no published model for, as the network file has it."""
    leaf = top.at(LEAF)
    if leaf is None or leaf.value is None:
        return
    try:
        data = json.loads(leaf.value)
    except (ValueError, RecursionError):
        data = None
    if isinstance(data, dict):
        draft.merge(draft.begin(top), data, leaf)
    else:
        draft.errors.add(place_of(leaf), "this is no mapping of a device's keys", allowed="a JSON object")


READERS: dict[tuple[str, str], Reader] = {
    ("ietf-system", "system"): _read_system,
    ("openconfig-system", "system"): _read_system,
    ("ietf-interfaces", "interfaces"): read_ietf_interfaces,
    ("openconfig-interfaces", "interfaces"): read_openconfig_interfaces,
    ("openconfig-vlan", "vlans"): _read_vlans,
    ("ietf-network-instance", "network-instances"): _read_network_instances,
    ("openconfig-network-instance", "network-instances"): openconfig_routing.read_network_instances,
    ("ietf-routing", "routing"): _read_routing,
    ("ietf-bgp", "bgp"): _read_own_bgp,
    ("openconfig-bgp", "bgp"): _read_own_bgp,
    ("ietf-routing-policy", "routing-policy"): read_policies,
    ("openconfig-routing-policy", "routing-policy"): read_policies,
    ("ietf-access-control-list", "acls"): read_ietf_lists,
    ("openconfig-acl", "acl"): read_openconfig_lists,
    ("openconfig-lldp", "lldp"): _read_openconfig_lldp,
    ("ieee802-dot1ab-lldp", "lldp"): _read_ieee_lldp,
    (REST_MODULE, REST): _read_rest,
}
"""By (module, top container), in the order of reading: interfaces first, which others name."""

TOP_NAMES = {name for _, name in READERS}


def read_document(data: bytes, file: str) -> Statement:
    """The statements of a document in either encoding; raises ``LoadError``."""
    return read_xml(data, file) if data.lstrip().startswith(b"<") else read_json(data, file)


def topologies_of(root: Statement) -> list[Statement]:
    """The topologies of a document that holds nothing of a device; none where it does."""
    tops = [*_tops(root)]
    return tops if tops and all((top.module, top.name) == TOPOLOGY for top in tops) else []


def read_documents(name: str, documents: Mapping[str, bytes], errors: ErrorList) -> tuple[DeviceDraft, StatementCount]:
    """What the documents and tables of a device say, as a draft; errors are noted with their places."""
    draft = DeviceDraft(name, errors)
    tables = {file: data for file, data in documents.items() if file.endswith(TABLE_SUFFIXES)}
    roots = []
    for file, data in documents.items():
        if file in tables:
            continue
        try:
            roots.append(read_document(data, file))
        except LoadError as error:
            errors.errors.extend(error.errors)
    tops = [top for root in roots for top in _tops(root)]
    for top in tops:
        if not top.is_standard and top.name in TOP_NAMES:
            known = ", ".join(f"{module}:{own}" for module, own in READERS if own == top.name)
            errors.add(
                place_of(top), "this is not in the namespace of its model", found=quoted(top.module), allowed=known
            )
    for key, reader in READERS.items():
        for top in tops:
            if (top.module, top.name) == key:
                top.is_read = True
                reader(top, draft)
    for file, data in tables.items():
        try:
            read_table(data, file, draft, not roots)
        except LoadError as error:
            errors.errors.extend(error.errors)
    _assume_policies(draft)
    add_chains(draft)
    first = roots[0] if roots else draft.root.by if draft.root is not None else None
    if first is not None:
        _finish(draft, first, is_router=not roots)
    count = StatementCount(0, 0, 0)
    for root in roots:
        root.is_read = True
        note_unread(root, draft)
        count += statement_count(root)
    return draft, count


def _tops(root: Statement) -> Iterator[Statement]:
    """The containers at the top of models; what wraps them is looked through."""
    for child in root.children:
        if (child.module, child.name) in WRAPPERS:
            child.is_read = True
            yield from _tops(child)
        elif (root.module, root.name) == WRAPPERS[0]:
            child.read_all()  # what an instance data set says of itself
        else:
            yield child


def _assume_policies(draft: DeviceDraft) -> None:
    """Policies of a device that tells none of them (it may not have the model) are taken to accept, and said."""
    if draft.root is None or "policies" in draft.root:
        return
    for said in draft.asked_policies():
        policies = draft.root.inner("policies", said.by)
        if said.text not in policies:
            policies[said.text] = [Draft(said.by, result=Said("accept", said.by))]
            draft.gap(f"policy {said.text} stands in no document: taken to accept everything", said.by)


def _finish(draft: DeviceDraft, root: Statement, is_router: bool) -> None:
    """What follows from all documents together."""
    device = draft.begin(root)
    for interface in draft.interfaces().values():
        if "vrf" in interface:
            device.inner("vrfs", interface.by).inner(interface["vrf"].text, interface.by)
    _fill_trunks(draft)
    _forward_by_tables(device)
    draft.take_preferences()
    device.setdefault("kind", Said("router" if is_router else _kind(draft), root))


def _fill_trunks(draft: DeviceDraft) -> None:
    """OpenConfig: a trunk that lists no VLANs carries all that there are, here those that the device knows."""
    known = {said.text: said for said in draft.vlans}
    for interface in draft.interfaces().values():
        port = interface.get("switchport", {})
        said = [*port.get("trunk", ()), *(port[key] for key in ("access", "native") if key in port)]
        said += [interface["vlan"]] if "vlan" in interface and "parent" not in interface else []
        for one in said:
            known.setdefault(one.text, one)
    for port in draft.trunks_of_all:
        draft.carry(len(known), port.by)
        port["trunk"] = [known[number] for number in sorted(known, key=lambda text: (len(text), text))]


def _forward_by_tables(device: Draft) -> None:
    """A device whose tables are known and of whose routing nothing is configured forwards by them alone."""
    observed = {route["vrf"].text if "vrf" in route else DEFAULT_INSTANCE for route in device.get("observed", ())}
    holders = {DEFAULT_INSTANCE: device, **device.get("vrfs", {})}
    for name, holder in holders.items():
        is_configured = {*ROUTING_PROTOCOLS, "static"} & holder.get("routing", {}).keys()
        if name in observed and not is_configured:
            holder.pop("routing", None)
            _add_connected(device, name)


def _add_connected(device: Draft, instance: str) -> None:
    """A table that was read off without a device's own subnets (of BGP alone, say) has them by its interfaces."""
    routes = [one for one in device["observed"] if ("vrf" in one) == (instance != DEFAULT_INSTANCE)]
    shown = {family_of(one["prefix"]) for one in routes if one["protocol"].text in ("connected", "local")}
    for name, interface in device.get("interfaces", {}).items():
        bound = interface["vrf"].text if "vrf" in interface else DEFAULT_INSTANCE
        is_on = "enabled" not in interface or interface["enabled"].text == "true"
        for address in interface.get("addresses", ()) if bound == instance and is_on else ():
            host, _, length = address.text.partition("/")
            prefix = prefix_of(address.by, address.text)
            if family_of(address) in shown or prefix is None:
                continue
            whole = "128" if ":" in host else "32"
            for text, protocol in ((prefix.text, "connected"), (f"{host}/{whole}", "local")):
                hop = Draft(address.by, interface=Said(name, address.by))
                route = Draft(address.by, prefix=Said(text, address.by), protocol=Said(protocol, address.by))
                route["next_hops"] = [hop]
                if instance != DEFAULT_INSTANCE:
                    route["vrf"] = Said(instance, address.by)
                if protocol == "connected" or length != whole:
                    device["observed"].append(route)


def _kind(draft: DeviceDraft) -> str:
    """Whether it forwards: as its interfaces say, else where it speaks a protocol or has two subnets."""
    device: Mapping[str, Any] = draft.root or {}
    passing = [said for _, said in draft.forwarding if said.value == "true"]
    if passing:
        for name, said in draft.forwarding:
            if said.value == "false":
                draft.gap("an interface by which no packets for others pass is not represented", said, name)
    if draft.forwarding:
        return "router" if passing else "host"
    holders = (device, *device.get("vrfs", {}).values())
    speaks = any(set(ROUTING_PROTOCOLS) & holder.get("routing", {}).keys() for holder in holders)
    attached = [one for one in draft.interfaces().values() if "addresses" in one and _is_attached(one)]
    return "router" if speaks or len(attached) > 1 else "host"


def _is_attached(interface: Draft) -> bool:
    return "kind" not in interface or interface["kind"].text != "loopback"
