"""The network file and folder: source texts in, a ``Network`` out, or every error of the load.

Two passes: the grammar (network_grammar.py) gives records with places; here they become the model, and
names are checked against what they name.
"""

from collections.abc import Iterable, Mapping
from typing import Any, cast

import yaml

from routrel.formats.documents import parse_document
from routrel.formats.errors import ErrorList, LoadError, quoted
from routrel.formats.grammar import INVALID, Group, Items, Reading, Record
from routrel.formats.network_grammar import DEVICE, NAMED, NETWORK, NETWORK_FIELDS
from routrel.model.addresses import BITS, Address, InterfaceAddress, Prefix
from routrel.model.devices import (
    DEFAULT_VLAN,
    Device,
    Interface,
    ObservedNextHop,
    ObservedRoute,
    Ospf,
    OspfArea,
    OspfInterface,
    OspfRange,
    RoutingInstance,
    StaticRoute,
    Switchport,
)
from routrel.model.filters import PORTED, Acl, AclEntry, ForwardingPolicy, HeaderMatch, SteeringEntry
from routrel.model.network import Endpoint, Link, Network, Service, Site
from routrel.model.places import Place

FOLDER_FILE = "network.yaml"
DEVICE_FOLDER = "devices/"


def read_network(files: Mapping[str, bytes]) -> Network:
    """The network of a file (one entry in ``files``) or a folder; raises ``LoadError`` with all errors."""
    errors = ErrorList()
    if FOLDER_FILE in files and len(files) > 1:
        record = _read_folder(files, errors)
    else:
        file, data = next(iter(files.items()))
        record = _read(NETWORK, data, file, errors)
    network = _Builder(errors).network(record) if isinstance(record, Record) else None
    errors.raise_if_any()
    return cast(Network, network)


def read_names(data: bytes, file: str, errors: ErrorList) -> Network:
    """Only what a network file names besides its devices: endpoints and services."""
    fields = {key: NETWORK_FIELDS[key] for key in ("endpoints", "services")}
    try:
        root = parse_document(data, file)
    except LoadError as error:
        errors.errors.extend(error.errors)
        return Network(name="")
    if isinstance(root, yaml.MappingNode):
        root.value = [(k, v) for k, v in root.value if isinstance(k, yaml.ScalarNode) and k.value in fields]
    record = Group("names", fields).read(root, Reading(file, errors))
    if not isinstance(record, Record):
        return Network(name="")
    record.values["name"] = ""
    return _Builder(errors).network(record)


def _read(kind: Any, data: bytes, file: str, errors: ErrorList) -> Any:
    try:
        root = parse_document(data, file)
    except LoadError as error:
        errors.errors.extend(error.errors)
        return INVALID
    return kind.read(root, Reading(file, errors))


def _read_folder(files: Mapping[str, bytes], errors: ErrorList) -> Any:
    record = _read(NETWORK, files[FOLDER_FILE], FOLDER_FILE, errors)
    devices = Record(Place(FOLDER_FILE, 1, 1))
    if isinstance(record, Record):
        if "devices" in record.places:
            errors.add(
                record.place_of("devices"), "a folder's network.yaml holds no devices", allowed="devices/NAME.yaml"
            )
        record.values["devices"] = devices
    for file in sorted(files):
        if file == FOLDER_FILE:
            continue
        place = Place(file, 1, 1)
        name = file.removeprefix(DEVICE_FOLDER).removesuffix(".yaml")
        if not file.startswith(DEVICE_FOLDER) or not file.endswith(".yaml") or "/" in name:
            errors.add(
                place, "this file has no place in a network folder", allowed=f"{FOLDER_FILE} and devices/NAME.yaml"
            )
            continue
        check = ErrorList()
        if not _is_name(name, check):
            errors.add(place, "the file's name is no device name", found=quoted(name), allowed=str(NAMED.pattern))
            continue
        device = _read(DEVICE, files[file], file, errors)
        if isinstance(device, Record):
            devices.values[name] = device
            devices.places[name] = place
    return record


def _is_name(name: str, errors: ErrorList) -> bool:
    node = yaml.ScalarNode("", name, yaml.Mark("", 0, 0, 0, "", 0), None, style='"')
    return NAMED.read(node, Reading("", errors)) is not INVALID


def _items(value: Items | None) -> list[tuple[Any, Place]]:
    return value.pairs() if value else []


def _entries(record: Record | None) -> Iterable[tuple[str, Any, Place]]:
    return [(key, value, record.places[key]) for key, value in record.values.items()] if record else []


class _Builder:
    """Records of the grammar to the model; notes every name that names nothing."""

    def __init__(self, errors: ErrorList):
        self.errors = errors

    def network(self, record: Record) -> Network:
        sites = {
            name: Site(name, site.get("label", name), site.get("x"), site.get("y"))
            for name, site, _ in _entries(record.get("sites"))
        }
        devices = {
            name: self.device(name, device, place, sites) for name, device, place in _entries(record.get("devices"))
        }
        endpoints = {
            name: Endpoint(name, endpoint["address"], endpoint.get("label", ""), place)
            for name, endpoint, place in _entries(record.get("endpoints"))
        }
        for name, endpoint in endpoints.items():
            if name in devices:
                self.errors.add(
                    endpoint.place, "an endpoint and a device share one name", found=quoted(name), allowed="one each"
                )
        return Network(
            name=record["name"],
            taken_at=record.get("taken_at"),
            devices=devices,
            links=self.links(record.get("links"), devices),
            sites=sites,
            endpoints=endpoints,
            services={
                name: Service(name, value.protocol, value.ports) for name, value, _ in _entries(record.get("services"))
            },
            place=record.place,
        )

    def dangling(self, place: Place, what: str, name: str, names: Iterable[str]) -> None:
        names = sorted(names)
        allowed = ", ".join(names[:12]) + (", …" if len(names) > 12 else "")
        self.errors.add(
            place, f"there is no {what} of this name", found=quoted(name), allowed=allowed, names=names, name=name
        )

    def links(self, items: Items | None, devices: dict[str, Device]) -> tuple[Link, ...]:
        links = []
        used: dict[Any, Place] = {}
        for value, place in _items(items):
            record = value if isinstance(value, Record) else Record(place, {"ends": value})
            ends = []
            for end, end_place in _items(record["ends"]):
                device = devices.get(end.device)
                if device is None:
                    self.dangling(end_place, "device", end.device, devices)
                elif end.interface not in device.interfaces:
                    self.dangling(end_place, f"interface on {end.device}", end.interface, device.interfaces)
                elif device.interfaces[end.interface].is_loopback:
                    self.errors.add(end_place, "a loopback takes no cable", found=quoted(end))
                elif end in used:
                    self.errors.add(
                        end_place,
                        f"the interface already stands in a link, in line {used[end].line}",
                        found=quoted(end),
                        allowed="one link per interface",
                    )
                else:
                    used[end] = end_place
                    ends.append(end)
            links.append(Link(tuple(ends), record.get("name", ""), record.get("enabled", True), place))
        return tuple(links)

    def device(self, name: str, record: Record, place: Place, sites: dict[str, Site]) -> Device:
        acls = {
            acl: Acl(acl, tuple(self.acl_entry(entry, at) for entry, at in _items(items)), acl_place)
            for acl, items, acl_place in _entries(record.get("acls"))
        }
        policies = {
            policy: ForwardingPolicy(
                policy, tuple(self.steering_entry(entry, at) for entry, at in _items(items)), policy_place
            )
            for policy, items, policy_place in _entries(record.get("forwarding_policies"))
        }
        names = set(record["interfaces"].values) if "interfaces" in record else set()
        kind = record.get("kind", "router")
        interfaces = {
            interface: self.interface(interface, value, at, kind, names, acls, policies)
            for interface, value, at in _entries(record.get("interfaces"))
        }
        self.check_parents(interfaces)
        if "site" in record and record["site"] not in sites:
            self.dangling(record.place_of("site"), "site", record["site"], sites)
        return Device(
            name=name,
            place=place,
            kind=kind,
            site=record.get("site"),
            interfaces=interfaces,
            gateways=self.gateways(record),
            routing=self.routing(record["routing"], interfaces) if "routing" in record else None,
            acls=acls,
            forwarding_policies=policies,
            observed=tuple(self.observed(value, at, interfaces) for value, at in _items(record.get("observed"))),
        )

    def interface(
        self,
        name: str,
        record: Record,
        place: Place,
        device_kind: str,
        names: set[str],
        acls: dict[str, Acl],
        policies: dict[str, ForwardingPolicy],
    ) -> Interface:
        for key, known, what in (
            ("acl_in", acls, "ACL"),
            ("acl_out", acls, "ACL"),
            ("forwarding_policy", policies, "forwarding policy"),
        ):
            if key in record and record[key] not in known:
                self.dangling(record.place_of(key), what, record[key], known)
        parent, vlan = record.get("parent"), record.get("vlan")
        if parent is not None and parent not in names:
            self.dangling(record.place_of("parent"), "interface", parent, names)
        if parent is not None and vlan is None:
            self.errors.add(record.place_of("parent"), "a sub-interface needs the key 'vlan'", allowed="1 to 4094")
        if vlan is not None and parent is None and device_kind != "switch":
            self.errors.add(
                record.place_of("vlan"),
                "a routed VLAN interface without 'parent' stands on switches only",
                allowed="kind: switch, or a parent",
            )
        for member, member_place in _items(record.get("members")):
            if member not in names or member == name:
                self.dangling(member_place, "other interface", member, names - {name})
        addresses = _items(record.get("addresses"))
        for address, address_place in addresses:
            self.check_host_address(address, address_place)
        default_kind = "loopback" if name.startswith("lo") else "ethernet"
        if "members" in record:
            default_kind = "bundle"
        elif vlan is not None:
            default_kind = "vlan"
        return Interface(
            name=name,
            place=place,
            enabled=record.get("enabled", True),
            description=record.get("description", ""),
            addresses=tuple(address for address, _ in addresses),
            address_places=tuple(address_place for _, address_place in addresses),
            mtu=record.get("mtu", 1500),
            bandwidth=record.get("bandwidth"),
            mac=record["mac"].lower() if "mac" in record else None,
            acl_in=record.get("acl_in"),
            acl_out=record.get("acl_out"),
            forwarding_policy=record.get("forwarding_policy"),
            kind=record.get("kind", default_kind),
            members=tuple(member for member, _ in _items(record.get("members"))),
            parent=parent,
            vlan=vlan,
            switchport=self.switchport(record["switchport"]) if "switchport" in record else None,
        )

    def check_host_address(self, address: InterfaceAddress, place: Place) -> None:
        bits = BITS[address.family]
        if address.family == 4 and address.length < bits - 1:
            prefix = address.prefix
            if address.value in (prefix.network, prefix.last):
                which = "network" if address.value == prefix.network else "broadcast"
                self.errors.add(
                    place,
                    f"this is the {which} address of its subnet",
                    found=quoted(address),
                    allowed="a host address in it",
                )
        if (address.family == 4 and address.value >> 28 == 14) or (address.family == 6 and address.value >> 120 == 255):
            self.errors.add(place, "an interface cannot own a multicast address", found=quoted(address))

    def check_parents(self, interfaces: dict[str, Interface]) -> None:
        tagged: dict[tuple[str, int], str] = {}
        for interface in interfaces.values():
            seen = {interface.name}
            parent = interface.parent
            while parent in interfaces:
                if parent in seen:
                    self.errors.add(interface.place, "an interface is its own parent", found=quoted(interface.name))
                    break
                seen.add(parent)
                parent = interfaces[parent].parent
            if interface.parent is not None and interface.vlan is not None:
                other = tagged.setdefault((interface.parent, interface.vlan), interface.name)
                if other != interface.name:
                    self.errors.add(
                        interface.place,
                        f"{other} already takes VLAN {interface.vlan} of {interface.parent}",
                        found=quoted(interface.name),
                        allowed="one sub-interface per VLAN",
                    )

    def switchport(self, record: Record) -> Switchport:
        if ("access" in record) == ("trunk" in record):
            self.errors.add(record.place, "a switchport has either 'access' or 'trunk'")
        if "native" in record and "trunk" not in record:
            self.errors.add(record.place_of("native"), "'native' belongs to a trunk")
        return Switchport(
            record.get("access"),
            tuple(vlan for vlan, _ in _items(record.get("trunk"))),
            record.get("native", DEFAULT_VLAN),
        )

    def header_match(self, record: Record) -> HeaderMatch:
        protocol = record.get("protocol")
        for key in ("source_ports", "destination_ports"):
            if key in record and protocol not in PORTED:
                self.errors.add(record.place_of(key), "ports need a protocol that has them", allowed="tcp or udp")
        source, destination = record.get("source"), record.get("destination")
        if source and destination and source.family != destination.family:
            self.errors.add(record.place_of("destination"), "source and destination are of different families")
        return HeaderMatch(
            protocol,
            source,
            destination,
            tuple(ports for ports, _ in _items(record.get("source_ports"))),
            tuple(ports for ports, _ in _items(record.get("destination_ports"))),
        )

    def acl_entry(self, record: Record, place: Place) -> AclEntry:
        stateful = record.get("stateful", False)
        if stateful and record["action"] != "accept":
            self.errors.add(record.place_of("stateful"), "only an accepting entry can be stateful")
        return AclEntry(record["action"], self.header_match(record), record.get("name", ""), stateful, place)

    def steering_entry(self, record: Record, place: Place) -> SteeringEntry:
        value = record.get("next_hop")
        hops = [value] if isinstance(value, Address) else [hop for hop, _ in _items(value)]
        if (record["action"] == "forward") != bool(hops):
            self.errors.add(record.place, "'next_hop' belongs to the action forward, and only to it")
        match = self.header_match(record["match"]) if "match" in record else HeaderMatch()
        return SteeringEntry(record["action"], match, tuple(hops), record.get("description", ""), place)

    def gateways(self, record: Record) -> tuple[StaticRoute, ...]:
        value = record.get("gateway")
        if value is None:
            return ()
        place = record.place_of("gateway")
        pairs = [(value, place)] if isinstance(value, Address) else _items(value)
        if len({address.family for address, _ in pairs}) < len(pairs):
            self.errors.add(place, "more than one gateway of one family", allowed="one IPv4 and one IPv6 address")
        return tuple(StaticRoute(Prefix(address.family, 0, 0), address, place=at) for address, at in pairs)

    def routing(self, record: Record, interfaces: dict[str, Interface]) -> RoutingInstance:
        preferences = record.get("preferences")
        return RoutingInstance(
            router_id=record.get("router_id"),
            preferences=dict(preferences.values) if preferences else {},
            static=tuple(self.static(value, place, interfaces) for value, place in _items(record.get("static"))),
            ospf=self.ospf(record["ospf"], interfaces) if "ospf" in record else None,
            place=record.place,
        )

    def static(self, record: Record, place: Place, interfaces: dict[str, Interface]) -> StaticRoute:
        action = record.get("action", "forward")
        next_hop, interface = record.get("next_hop"), record.get("interface")
        if interface is not None and interface not in interfaces:
            self.dangling(record.place_of("interface"), "interface", interface, interfaces)
        if action == "forward" and next_hop is None and interface is None:
            self.errors.add(place, "a static route leads nowhere", allowed="next_hop, interface, or action: discard")
        if action != "forward" and (next_hop is not None or interface is not None):
            self.errors.add(place, f"a route that is to {action} takes no next hop and no interface")
        prefix = record["prefix"]
        if next_hop is not None and next_hop.family != prefix.family:
            self.errors.add(record.place_of("next_hop"), "next hop and prefix are of different families")
        return StaticRoute(
            prefix,
            next_hop,
            interface,
            action,
            record.get("preference"),
            record.get("metric", 0),
            record.get("tag"),
            place,
        )

    def ospf(self, record: Record, interfaces: dict[str, Interface]) -> Ospf:
        seen: set[str] = set()
        areas = []
        for number, area, place in _entries(record.get("areas")):
            members = []
            for name, value, at in _entries(area.get("interfaces")):
                if name not in interfaces:
                    self.dangling(at, "interface", name, interfaces)
                elif value.get("cost") == 0 and not interfaces[name].is_loopback:
                    self.errors.add(value.place_of("cost"), "only a loopback costs 0", found="0", allowed="1 to 65535")
                elif name in seen:
                    self.errors.add(at, "the interface already stands in another area", found=quoted(name))
                seen.add(name)
                members.append(
                    OspfInterface(
                        name,
                        value.get("cost"),
                        value.get("passive", False),
                        value.get("network"),
                        value.get("priority", 1),
                        at,
                    )
                )
            ranges = []
            for value, at in _items(area.get("ranges")):
                if value["prefix"].family != 4:
                    self.errors.add(value.place_of("prefix"), "OSPFv2 has IPv4 ranges only")
                ranges.append(OspfRange(value["prefix"], value.get("advertise", True), value.get("cost"), at))
            areas.append(OspfArea(int(number), tuple(members), tuple(ranges), place))
        return Ospf(tuple(areas), record.get("reference_bandwidth"), record.get("multipath", 16), record.place)

    def observed(self, record: Record, place: Place, interfaces: dict[str, Interface]) -> ObservedRoute:
        hops = []
        for hop, at in _items(record.get("next_hops")):
            if "interface" in hop and hop["interface"] not in interfaces:
                self.dangling(hop.place_of("interface"), "interface", hop["interface"], interfaces)
            if "address" not in hop and "interface" not in hop:
                self.errors.add(at, "a next hop has an address, an interface, or both")
            hops.append(ObservedNextHop(hop.get("address"), hop.get("interface")))
        action = record.get("action", "forward")
        if (action == "forward") != bool(hops):
            self.errors.add(place, "a route has next hops exactly where its action is forward")
        return ObservedRoute(
            record["prefix"],
            record.get("protocol", "observed"),
            tuple(hops),
            record.get("preference"),
            record.get("metric"),
            action,
            place,
        )
