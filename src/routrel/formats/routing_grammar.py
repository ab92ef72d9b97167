"""The keys of a routing instance and of routing policies: the contract as data.

A key of the contract whose capability is not built yet stands here as ``Later``, so that it is refused
with its place.
"""

import re

from routrel.formats.grammar import (
    ADDRESS,
    INTERFACE_NAME,
    NAME,
    PREFIX,
    RATE,
    Boolean,
    Choice,
    Either,
    Group,
    Integer,
    Kind,
    Later,
    ListOf,
    MapOf,
    Parsed,
    Text,
)
from routrel.model.addresses import Address


def area_number(text: str) -> int:
    """An area id, an integer or dotted, as a 32-bit number."""
    if text.isascii() and text.isdigit() and len(text) <= 10 and int(text) < 2**32:
        return int(text)
    address = Address.parse(text)
    if address.family != 4:
        raise ValueError(f"{text!r} is no area id")
    return address.value


def router_id(text: str) -> Address:
    """A router id in IPv4 form."""
    address = Address.parse(text)
    if address.family != 4:
        raise ValueError(f"{text!r} is no router id")
    return address


def entity_title(text: str) -> tuple[str, str]:
    """A network entity title as (area, system id), both in hexadecimal digits (ISO 10589 section 7.1)."""
    digits = text.replace(".", "").lower()
    if not re.fullmatch(r"[0-9a-fA-F]{2}(\.[0-9a-fA-F]{1,4})*", text) or not 16 <= len(digits) <= 40:
        raise ValueError(f"{text!r} is no network entity title")
    if len(digits) % 2 or digits[-2:] != "00":
        raise ValueError(f"{text!r} does not end in the selector 00 of a router")
    return digits[:-14], digits[-14:-2]


NAMED = Text("a name", NAME)
INTERFACE = Text("an interface name", INTERFACE_NAME)
ROUTE_ACTION = Choice(("forward", "discard", "reject"))
PREFERENCE = Integer(0, 255)
TAG = Integer()
METRIC_TYPE = Integer(1, 2)
NETWORK_TYPE = Choice(("broadcast", "point-to-point"))
MULTIPATH = Integer(1, 256)
SOURCES = ("connected", "static", "ospf", "isis", "rip", "eigrp")
ROUTE_PROTOCOL = Choice(SOURCES, later=("bgp",))

PREFIX_MATCH = Either(
    scalar=PREFIX,
    mapping=Group(
        "a prefix match",
        {"prefix": PREFIX, "min_length": Integer(0, 128), "max_length": Integer(0, 128)},
        required=("prefix",),
    ),
)

POLICY_STATEMENT = Group(
    "a policy statement",
    {
        "name": Text(),
        "description": Text(),
        "match": Group(
            "a match",
            {
                "prefixes": Either(scalar=NAMED, listing=ListOf(PREFIX_MATCH)),
                "protocol": Either(scalar=ROUTE_PROTOCOL, listing=ListOf(ROUTE_PROTOCOL, least=1)),
                "tag": TAG,
                "metric": Integer(),
                "next_hop": Either(scalar=ADDRESS, listing=ListOf(ADDRESS, least=1)),
                **{key: Later("BGP") for key in ("med", "neighbor", "as_path", "communities")},
            },
        ),
        "set": Group(
            "a set",
            {
                "metric": Integer(),
                "metric_type": METRIC_TYPE,
                "tag": TAG,
                "preference": PREFERENCE,
                **{
                    key: Later("BGP")
                    for key in (
                        "med",
                        "local_preference",
                        "weight",
                        "origin",
                        "as_path_prepend",
                        "communities",
                        "next_hop",
                    )
                },
            },
        ),
        "result": Choice(("accept", "reject", "continue")),
    },
    required=("result",),
)


def redistribute(highest: int, lowest: int = 0, metric_types: bool = True) -> Kind:
    """A protocol's ``redistribute`` list; its metrics are from ``lowest`` to ``highest``."""
    fields: dict[str, Kind] = {
        "from": ROUTE_PROTOCOL,
        "policy": NAMED,
        "metric": Integer(lowest, highest),
        "metric_type": METRIC_TYPE if metric_types else Later("external metrics of this protocol"),
        "tag": TAG,
    }
    return ListOf(Group("a redistribution", fields, required=("from",)))


STATIC_ROUTE = Group(
    "a static route",
    {
        "prefix": PREFIX,
        "next_hop": ADDRESS,
        "interface": INTERFACE,
        "action": ROUTE_ACTION,
        "preference": PREFERENCE,
        "metric": Integer(),
        "tag": TAG,
    },
    required=("prefix",),
)

OSPF_METRIC = 0xFFFFFE
"""The highest metric an external route can have and be reached (RFC 2328 appendix B: LSInfinity)."""

OSPF_AREA = Group(
    "an area",
    {
        "type": Choice(("normal", "stub", "nssa")),
        "no_summary": Boolean(),
        "default_cost": Integer(0, OSPF_METRIC),
        "ranges": ListOf(
            Group(
                "a range",
                {"prefix": PREFIX, "advertise": Boolean(), "cost": Integer(0, 0xFFFFFF)},
                required=("prefix",),
            )
        ),
        "interfaces": MapOf(
            INTERFACE,
            Group(
                "an OSPF interface",
                {
                    "cost": Integer(0, 65535),
                    "passive": Boolean(),
                    "network": NETWORK_TYPE,
                    "priority": Integer(0, 255),
                },
            ),
        ),
    },
)

OSPF = Group(
    "ospf",
    {
        "instance": NAMED,
        "version": Choice(("2", "3")),
        "areas": MapOf(Parsed("an area id: an integer or four dotted numbers", area_number), OSPF_AREA),
        "reference_bandwidth": RATE,
        "redistribute": redistribute(OSPF_METRIC),
        "originate_default": Group(
            "originate_default",
            {"always": Boolean(), "metric": Integer(0, OSPF_METRIC), "metric_type": METRIC_TYPE},
        ),
        "multipath": MULTIPATH,
    },
)

ISIS = Group(
    "isis",
    {
        "net": Parsed("a network entity title, like 49.0001.0100.0000.0001.00", entity_title),
        "level": Choice(("1", "2", "1-2")),
        "wide_metrics": Boolean(),
        "interfaces": MapOf(
            INTERFACE,
            Group(
                "an IS-IS interface",
                {
                    "metric": Integer(0, 0xFFFFFE),
                    "level": Choice(("1", "2", "1-2")),
                    "passive": Boolean(),
                    "network": NETWORK_TYPE,
                },
            ),
        ),
        "redistribute": redistribute(0xFFFFFF, metric_types=False),
        "leak": Group("leak", {"policy": NAMED}),
        "multipath": MULTIPATH,
    },
    required=("net",),
)

RIP = Group(
    "rip",
    {
        "interfaces": MapOf(INTERFACE, Group("a RIP interface", {"metric": Integer(1, 16), "passive": Boolean()})),
        "redistribute": redistribute(16, 1),
        "default_metric": Integer(1, 16),
    },
)

EIGRP = Group(
    "eigrp",
    {
        "as": Integer(1, 65535),
        "interfaces": MapOf(
            INTERFACE,
            Group(
                "an EIGRP interface",
                {"passive": Boolean(), "delay": Integer(1, 0xFFFFFF), "bandwidth": RATE},
            ),
        ),
        "variance": Integer(1, 128),
        "multipath": Integer(1, 32),
        "redistribute": redistribute(0xFFFFFFFE),
        "distance": ListOf(
            Group(
                "a distance",
                {"neighbor": ADDRESS, "prefixes": ListOf(PREFIX, least=1), "preference": PREFERENCE},
                required=("neighbor", "preference"),
            )
        ),
    },
    required=("as",),
)

PREFERENCE_NAMES = (
    "connected",
    "static",
    "ebgp",
    "eigrp",
    "ospf",
    "isis",
    "rip",
    "eigrp_external",
    "ibgp",
)

ROUTING = Group(
    "routing",
    {
        "router_id": Parsed("a router id in IPv4 form", router_id),
        "preferences": MapOf(Choice(PREFERENCE_NAMES), PREFERENCE),
        "install_policy": NAMED,
        "static": ListOf(STATIC_ROUTE),
        "ospf": Either(mapping=OSPF, listing=ListOf(OSPF)),
        "isis": ISIS,
        "rip": RIP,
        "eigrp": EIGRP,
        "bgp": Later("BGP"),
    },
)
