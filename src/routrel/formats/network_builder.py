"""Records of the network file's grammar to the model: every name in them is checked against what it names."""

from collections.abc import Mapping
from typing import Any

from routrel.formats.errors import ErrorList, quoted
from routrel.formats.grammar import Items, Record, entries_of, items_of
from routrel.formats.routing_file import RoutingReader
from routrel.formats.virtual_routers import virtual_routers
from routrel.model.addresses import BITS, Address, InterfaceAddress, Prefix
from routrel.model.devices import Device, Interface, Switchport
from routrel.model.fields import replace
from routrel.model.filters import PORTED, Acl, AclEntry, ForwardingPolicy, HeaderMatch, SteeringEntry
from routrel.model.network import Endpoint, Link, Network, Service, Site
from routrel.model.observed import ObservedNextHop, ObservedRoute
from routrel.model.places import Place
from routrel.model.routing import DEFAULT_INSTANCE, RoutingInstance, StaticRoute


def written_anew(known: Device, text: Device) -> Device:
    """A device known by documents as a text says it: what the documents hold beside that stays."""
    return replace(
        text,
        gaps=known.gaps,
        neighbors=known.neighbors,
        observed_neighbors=known.observed_neighbors,
        statements=known.statements,
    )


PORT_KEYS = ("source_ports", "destination_ports")


class NetworkBuilder:
    """Records of the grammar to the model; notes every name that names nothing."""

    def __init__(self, errors: ErrorList):
        self.errors = errors

    def network(self, record: Record, others: Mapping[str, Device]) -> Network:
        sites = {
            name: Site(name, site.get("label", name), site.get("x"), site.get("y"))
            for name, site, _ in entries_of(record.get("sites"))
        }
        if "sites" not in record and others:
            # Devices known otherwise may name sites that no text lists.
            named = [device.get("site") for _, device, _ in entries_of(record.get("devices"))]
            named += [other.site for other in others.values()]
            sites = {name: Site(name, name) for name in named if name is not None}
        devices = {
            name: self.device(name, device, place, sites) for name, device, place in entries_of(record.get("devices"))
        }
        for name, other in others.items():
            own = devices.get(name)
            if own is not None and other.statements is None:
                self.errors.add(
                    own.place, "the device is known by a capture too", found=quoted(name), allowed="one of both"
                )
            if own is None and other.site is not None and other.site not in sites:
                self.errors.dangling(other.place, "site", other.site, sites)
            devices[name] = other if own is None else written_anew(other, own)
        endpoints = {
            name: Endpoint(name, endpoint["address"], endpoint.get("label", ""), place)
            for name, endpoint, place in entries_of(record.get("endpoints"))
        }
        for name, endpoint in endpoints.items():
            if name in devices:
                self.errors.add(
                    endpoint.place, "an endpoint and a device share one name", found=quoted(name), allowed="one each"
                )
        return record.into(
            Network,
            devices=devices,
            links=self.links(record.get("links"), devices),
            sites=sites,
            endpoints=endpoints,
            services={
                name: Service(name, value.protocol, value.ports)
                for name, value, _ in entries_of(record.get("services"))
            },
            place=record.place,
        )

    def links(self, items: Items | None, devices: dict[str, Device]) -> tuple[Link, ...]:
        links = []
        used: dict[Any, Place] = {}
        for value, place in items_of(items):
            record = value if isinstance(value, Record) else Record(place, {"ends": value})
            ends = []
            for end, end_place in items_of(record["ends"]):
                device = devices.get(end.device)
                if device is None:
                    self.errors.dangling(end_place, "device", end.device, devices)
                elif end.interface not in device.interfaces:
                    self.errors.dangling(end_place, f"interface on {end.device}", end.interface, device.interfaces)
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
            groups = tuple(group for group, _ in items_of(record.get("risk_groups")))
            links.append(record.into(Link, ends=tuple(ends), risk_groups=groups, place=place))
        return tuple(links)

    def device(self, name: str, record: Record, place: Place, sites: dict[str, Site] | None) -> Device:
        acls = {
            acl: Acl(acl, tuple(self.acl_entry(entry, at) for entry, at in items_of(items)), acl_place)
            for acl, items, acl_place in entries_of(record.get("acls"))
        }
        policies = {
            policy: ForwardingPolicy(
                policy, tuple(self.steering_entry(entry, at) for entry, at in items_of(items)), policy_place
            )
            for policy, items, policy_place in entries_of(record.get("forwarding_policies"))
        }
        names = set(record["interfaces"].values) if "interfaces" in record else set()
        vrfs = list(record["vrfs"].values) if "vrfs" in record else []
        if DEFAULT_INSTANCE in vrfs:
            self.errors.add(
                record["vrfs"].places[DEFAULT_INSTANCE],
                "the default routing instance stands under the key 'routing'",
                found=quoted(DEFAULT_INSTANCE),
                allowed="another name",
            )
        kind = record.get("kind", "router")
        interfaces = {
            interface: self.interface(interface, value, at, kind, names, acls, policies, vrfs)
            for interface, value, at in entries_of(record.get("interfaces"))
        }
        if not record.get("enabled", True):
            interfaces = {interface: replace(one, enabled=False) for interface, one in interfaces.items()}
        self.check_parents(interfaces)
        self.check_lists({name: value for name, value, _ in entries_of(record.get("interfaces"))}, interfaces)
        if "site" in record and sites is not None and record["site"] not in sites:
            self.errors.dangling(record.place_of("site"), "site", record["site"], sites)
        reader = RoutingReader(self.errors, record, interfaces)
        instances: dict[str, RoutingInstance | None] = {
            vrf: reader.instance(value["routing"], vrf) if "routing" in value else None
            for vrf, value, _ in entries_of(record.get("vrfs"))
        }
        return record.into(
            Device,
            name=name,
            place=place,
            interfaces=interfaces,
            gateways=self.gateways(record),
            routing=reader.instance(record["routing"], DEFAULT_INSTANCE) if "routing" in record else None,
            vrfs=instances,
            policies=reader.policies,
            acls=acls,
            forwarding_policies=policies,
            observed=tuple(
                self.observed(value, at, interfaces, vrfs) for value, at in items_of(record.get("observed"))
            ),
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
        vrfs: list[str],
    ) -> Interface:
        said = record.values
        if "vrf" in said and said["vrf"] not in (DEFAULT_INSTANCE, *vrfs):
            self.errors.dangling(record.place_of("vrf"), "VRF", said["vrf"], vrfs)
        for key, known, what in (
            ("acl_in", acls, "ACL"),
            ("acl_out", acls, "ACL"),
            ("forwarding_policy", policies, "forwarding policy"),
        ):
            if key in said and said[key] not in known:
                self.errors.dangling(record.place_of(key), what, said[key], known)
        parent, vlan = said.get("parent"), said.get("vlan")
        if parent is not None and parent not in names:
            self.errors.dangling(record.place_of("parent"), "interface", parent, names)
        if parent is not None and vlan is None:
            self.errors.add(record.place_of("parent"), "a sub-interface needs the key 'vlan'", allowed="1 to 4094")
        if vlan is not None and parent is None and device_kind != "switch":
            self.errors.add(
                record.place_of("vlan"),
                "a routed VLAN interface without 'parent' stands on switches only",
                allowed="kind: switch, or a parent",
            )
        for member, member_place in items_of(said.get("members")):
            if member not in names or member == name:
                self.errors.dangling(member_place, "other interface", member, names - {name})
        addresses = said.get("addresses") or Items(place)
        for address, address_place in addresses.pairs():
            self.check_host_address(address, address_place)
        default_kind = "loopback" if name.startswith("lo") else "ethernet"
        if "members" in said:
            default_kind = "bundle"
        elif vlan is not None:
            default_kind = "vlan"
        return record.into(
            Interface,
            name=name,
            place=place,
            addresses=tuple(addresses.values),
            address_places=tuple(addresses.places),
            mac=said["mac"].lower() if "mac" in said else None,
            kind=said.get("kind", default_kind),
            members=tuple(said["members"].values) if "members" in said else (),
            switchport=self.switchport(said["switchport"]) if "switchport" in said else None,
            virtual_routers=virtual_routers(said["virtual_routers"], addresses.values, names, self.errors)
            if "virtual_routers" in said
            else (),
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

    def check_lists(self, records: Mapping[str, Record], interfaces: dict[str, Interface]) -> None:
        """Lists and steering stand where packets are routed: elsewhere they would never be asked."""
        members = {member for one in interfaces.values() for member in one.members}
        parents = {one.parent for one in interfaces.values() if one.parent is not None}
        for name, interface in interfaces.items():
            what = (
                "a switchport"
                if interface.switchport is not None
                else "a member of a bundle"
                if name in members
                else "a loopback"
                if interface.is_loopback
                else "a parent of VLANs without addresses"
                if name in parents and not interface.addresses
                else ""
            )
            for key in ("acl_in", "acl_out", "forwarding_policy", "virtual_routers") if what else ():
                if key in records[name]:
                    self.errors.add(
                        records[name].place_of(key),
                        f"{key!r} of {what} would never be asked",
                        found=name,
                        allowed="an interface that routes: with addresses of its own, and no loopback",
                    )

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
        return record.into(Switchport, trunk=tuple(vlan for vlan, _ in items_of(record.get("trunk"))))

    def header_match(self, record: Record) -> HeaderMatch:
        protocol = record.get("protocol")
        for key in PORT_KEYS:
            if key in record and protocol not in PORTED:
                self.errors.add(record.place_of(key), "ports need a protocol that has them", allowed="tcp or udp")
        source, destination = record.get("source"), record.get("destination")
        if source and destination and source.family != destination.family:
            self.errors.add(record.place_of("destination"), "source and destination are of different families")
        ports = {key: tuple(ports for ports, _ in items_of(record.get(key))) for key in PORT_KEYS}
        return record.into(HeaderMatch, **ports)

    def acl_entry(self, record: Record, place: Place) -> AclEntry:
        if record.get("stateful") and record["action"] != "accept":
            self.errors.add(record.place_of("stateful"), "only an accepting entry can be stateful")
        return record.into(AclEntry, match=self.header_match(record), place=place)

    def steering_entry(self, record: Record, place: Place) -> SteeringEntry:
        value = record.get("next_hop")
        hops = [value] if isinstance(value, Address) else [hop for hop, _ in items_of(value)]
        if (record["action"] == "forward") != bool(hops):
            self.errors.add(record.place, "'next_hop' belongs to the action forward, and only to it")
        match = self.header_match(record["match"]) if "match" in record else HeaderMatch()
        return record.into(SteeringEntry, match=match, next_hops=tuple(hops), place=place)

    def gateways(self, record: Record) -> tuple[StaticRoute, ...]:
        value = record.get("gateway")
        if value is None:
            return ()
        place = record.place_of("gateway")
        pairs = [(value, place)] if isinstance(value, Address) else items_of(value)
        if len({address.family for address, _ in pairs}) < len(pairs):
            self.errors.add(place, "more than one gateway of one family", allowed="one IPv4 and one IPv6 address")
        return tuple(StaticRoute(Prefix(address.family, 0, 0), address, place=at) for address, at in pairs)

    def observed(
        self, record: Record, place: Place, interfaces: dict[str, Interface], vrfs: list[str]
    ) -> ObservedRoute:
        hops = []
        vrf = record.get("vrf", DEFAULT_INSTANCE)
        if vrf not in (DEFAULT_INSTANCE, *vrfs):
            self.errors.dangling(record.place_of("vrf"), "VRF", vrf, vrfs)
        for hop, at in items_of(record.get("next_hops")):
            if "interface" in hop and hop["interface"] not in interfaces:
                self.errors.dangling(hop.place_of("interface"), "interface", hop["interface"], interfaces)
            if "address" not in hop and "interface" not in hop:
                self.errors.add(at, "a next hop has an address, an interface, or both")
            hops.append(hop.into(ObservedNextHop))
        action = record.get("action", "forward")
        if (action == "forward") != bool(hops):
            self.errors.add(place, "a route has next hops exactly where its action is forward")
        protocol = record.get("protocol", "observed")
        return record.into(ObservedRoute, protocol=protocol, next_hops=tuple(hops), place=place)
