"""The keys of the network file, version 1: the contract as data. Routing has its own in routing_grammar.py.

docs/network-file.md says what each means. A key of the contract whose capability is not built yet stands
here as ``Later``, so that it is refused with its place.
"""

import re

from routrel.formats.grammar import (
    ADDRESS,
    INTERFACE_ADDRESS,
    INTERFACE_NAME,
    NAME,
    PREFIX,
    RATE,
    TIME,
    Boolean,
    Choice,
    Either,
    Fraction,
    Group,
    Integer,
    Kind,
    Later,
    ListOf,
    MapOf,
    Parsed,
    Text,
)
from routrel.formats.routing_grammar import (
    INTERFACE,
    NAMED,
    POLICY_STATEMENT,
    PREFERENCE,
    PREFIX_MATCH,
    ROUTE_ACTION,
    ROUTING,
)
from routrel.model.addresses import Prefix
from routrel.model.filters import PORTED, PROTOCOL_NUMBERS, PortRange
from routrel.model.network import InterfaceName, Service
from routrel.model.routing import PROTOCOL_ORDER


def protocol_number(text: str) -> int | None:
    """The number of a protocol given by name or number; None for ``any``."""
    if text == "any":
        return None
    if text in PROTOCOL_NUMBERS:
        return PROTOCOL_NUMBERS[text]
    if text.isascii() and text.isdigit() and len(text) < 4 and int(text) <= 255:
        return int(text)
    raise ValueError(f"{text!r} is no protocol")


def prefix_or_any(text: str) -> Prefix | None:
    """A prefix, or None for ``any``."""
    return None if text == "any" else Prefix.parse(text)


def port_range(text: str) -> PortRange:
    """A port or a range of ports, ``8000-8099``."""
    match = re.fullmatch(r"([0-9]{1,5})(?:-([0-9]{1,5}))?", text)
    if not match:
        raise ValueError(f"{text!r} is no port")
    low, high = int(match[1]), int(match[2] or match[1])
    if high > 65535 or low > high:
        raise ValueError(f"{text!r} is no range of ports")
    return PortRange(low, high)


def service(text: str) -> Service:
    """``icmp``, ``tcp/443``, ``udp/16384-32767``: a protocol and, for tcp and udp, destination ports."""
    name, slash, ports = text.partition("/")
    protocol = protocol_number(name)
    if protocol is None or bool(slash) != (protocol in PORTED):
        raise ValueError(f"{text!r} is no service")
    return Service("", protocol, port_range(ports) if slash else None)


def interface_name(text: str) -> InterfaceName:
    """An interface as ``device:interface``."""
    device, colon, interface = text.partition(":")
    if not (colon and re.fullmatch(NAME, device) and re.fullmatch(INTERFACE_NAME, interface)):
        raise ValueError(f"{text!r} is no device:interface")
    return InterfaceName(device, interface)


MAC = Text("a MAC address", r"[0-9a-fA-F]{2}(:[0-9a-fA-F]{2}){5}")
PROTOCOL = Parsed(
    "a protocol: tcp, udp, icmp, icmpv6, ospf, a number to 255, or any", protocol_number, ("string", "integer")
)
MATCH_PREFIX = Parsed("a prefix with no host bits set, or any", prefix_or_any)
PORT = Parsed("a port or a range like 8000-8099", port_range, ("integer", "string"))
PORTS = ListOf(PORT, least=1)
VLAN = Integer(1, 4094)

HEADER_FIELDS: dict[str, Kind] = {
    "protocol": PROTOCOL,
    "source": MATCH_PREFIX,
    "destination": MATCH_PREFIX,
    "source_ports": PORTS,
    "destination_ports": PORTS,
}

ACL_ENTRY = Group(
    "an ACL entry",
    {"action": Choice(("accept", "drop", "reject")), **HEADER_FIELDS, "name": Text(), "stateful": Boolean()},
    required=("action",),
)

STEERING_ENTRY = Group(
    "a steering entry",
    {
        "match": Group("a match", HEADER_FIELDS),
        "action": Choice(("forward", "discard", "table")),
        "next_hop": Either(listing=ListOf(ADDRESS, least=1), scalar=ADDRESS),
        "description": Text(),
    },
    required=("action",),
)

VIRTUAL_ROUTER = Group(
    "a virtual router",
    {
        "id": Integer(1, 255),
        "addresses": ListOf(ADDRESS, least=1),
        "version": Integer(2, 3),
        "priority": Integer(1, 254),
        "preempt": Boolean(),
        "accept": Boolean(),
        "track": ListOf(
            Group(
                "a tracked interface or network",
                {"interface": INTERFACE, "network": PREFIX, "decrement": Integer(1, 254)},
            )
        ),
    },
    required=("id", "addresses"),
)

INTERFACE_GROUP = Group(
    "an interface",
    {
        "enabled": Boolean(),
        "description": Text(),
        "addresses": ListOf(INTERFACE_ADDRESS),
        "mtu": Integer(68, 65536),
        "bandwidth": RATE,
        "vrf": NAMED,
        "mac": MAC,
        "acl_in": NAMED,
        "acl_out": NAMED,
        "shared": Boolean(),
        "forwarding_policy": NAMED,
        "kind": Choice(("ethernet", "loopback", "bundle", "vlan"), later=("tunnel",)),
        "members": ListOf(INTERFACE, least=1),
        "parent": INTERFACE,
        "vlan": VLAN,
        "switchport": Group("a switchport", {"access": VLAN, "trunk": ListOf(VLAN), "native": VLAN}),
        "virtual_routers": ListOf(VIRTUAL_ROUTER, least=1),
        "te": Later("traffic engineering"),
        "tunnel": Later("tunnels"),
    },
)

OBSERVED_ROUTE = Group(
    "an observed route",
    {
        "prefix": PREFIX,
        "protocol": Choice(PROTOCOL_ORDER),
        "next_hops": ListOf(Group("a next hop", {"address": ADDRESS, "interface": INTERFACE})),
        "preference": PREFERENCE,
        "metric": Integer(),
        "action": ROUTE_ACTION,
        "vrf": NAMED,
    },
    required=("prefix",),
)

DEVICE = Group(
    "a device",
    {
        "kind": Choice(("router", "switch", "firewall", "host", "gateway", "balancer")),
        "enabled": Boolean(),
        "site": NAMED,
        "interfaces": MapOf(INTERFACE, INTERFACE_GROUP),
        "gateway": Either(listing=ListOf(ADDRESS, least=1), scalar=ADDRESS),
        "routing": ROUTING,
        "vrfs": MapOf(NAMED, Group("a VRF", {"routing": ROUTING})),
        "acls": MapOf(NAMED, ListOf(ACL_ENTRY)),
        "policies": MapOf(NAMED, ListOf(POLICY_STATEMENT)),
        "prefix_sets": MapOf(NAMED, ListOf(PREFIX_MATCH)),
        "forwarding_policies": MapOf(NAMED, ListOf(STEERING_ENTRY)),
        "observed": ListOf(OBSERVED_ROUTE),
    },
)

LINK_END = Parsed("an interface written device:interface", interface_name)
LINK = Either(
    listing=ListOf(LINK_END, least=2),
    mapping=Group(
        "a link",
        {
            "ends": ListOf(LINK_END, least=2),
            "name": Text(),
            "enabled": Boolean(),
            "risk_groups": ListOf(NAMED),
        },
        required=("ends",),
    ),
)

NETWORK_FIELDS: dict[str, Kind] = {
    "routrel": Choice(("1",)),
    "name": Text(),
    "taken_at": TIME,
    "devices": MapOf(NAMED, DEVICE),
    "links": ListOf(LINK),
    "sites": MapOf(NAMED, Group("a site", {"label": Text(), "x": Fraction(), "y": Fraction()})),
    "endpoints": MapOf(NAMED, Group("an endpoint", {"address": ADDRESS, "label": Text()}, required=("address",))),
    "services": MapOf(NAMED, Parsed("a service: icmp, tcp/443, udp/5000-5999, a protocol number", service)),
}

NETWORK = Group("the network", NETWORK_FIELDS, required=("routrel", "name"))
