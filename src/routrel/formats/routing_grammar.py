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
    TIME,
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
from routrel.model.expressions import LONGEST_EXPRESSION, check_expression
from routrel.model.policies import NO_ADVERTISE, NO_EXPORT, NO_EXPORT_SUBCONFED, ORIGINS
from routrel.model.routing import DEFAULT_PREFERENCES, ROUTING_PROTOCOLS


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


def community(text: str) -> str:
    """A community as ``A:B`` (RFC 1997), a large one as ``A:B:C`` (RFC 8092), or a well-known one's name."""
    if text in WELL_KNOWN.values():
        return text
    parts = text.split(":")
    highest = {2: 0xFFFF, 3: 0xFFFFFFFF}.get(len(parts), -1)
    if not all(part.isascii() and part.isdigit() and len(part) <= 10 and int(part) <= highest for part in parts):
        raise ValueError(f"{text!r} is no community")
    plain = ":".join(str(int(part)) for part in parts)
    return WELL_KNOWN.get(plain, plain)


def community_numbers(text: str) -> tuple[int, ...]:
    """The two or three numbers of a community as ``community`` gives it."""
    plain = next((plain for plain, name in WELL_KNOWN.items() if name == text), text)
    return tuple(map(int, plain.split(":")))


def as_path_pattern(text: str) -> str:
    """A regular expression over the characters of AS paths."""
    if len(text) > LONGEST_EXPRESSION or re.search(r"[^0-9 .*+?()|^$\[\]_-]", text):
        raise ValueError(f"{text!r} is no expression over AS numbers")
    try:
        check_expression(text)
    except ValueError as error:
        raise ValueError(f"{text!r} is no regular expression: {error}") from None
    return text


WELL_KNOWN = {"65535:65281": NO_EXPORT, "65535:65282": NO_ADVERTISE, "65535:65283": NO_EXPORT_SUBCONFED}
COMMUNITY = Parsed("a community: 64500:80, a large one 64500:1:2, no-export or no-advertise", community)
ROUTER_ID = Parsed("a router id in IPv4 form", router_id)
NAMED = Text("a name", NAME)
INTERFACE = Text("an interface name", INTERFACE_NAME)
ROUTE_ACTION = Choice(("forward", "discard", "reject"))
PREFERENCE = Integer(0, 255)
TAG = Integer()
METRIC_TYPE = Integer(1, 2)
NETWORK_TYPE = Choice(("broadcast", "point-to-point"))
MULTIPATH = Integer(1, 256)
ROUTE_PROTOCOL = Choice(("connected", "static", *ROUTING_PROTOCOLS))
AS_NUMBER = Integer(1, 0xFFFFFFFF)
FAMILY = Choice(("ipv4", "ipv6"))

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
                "med": Integer(),
                "neighbor": Either(scalar=ADDRESS, listing=ListOf(ADDRESS, least=1)),
                "as_path": Either(
                    scalar=Parsed("a regular expression over AS numbers, like ^64501 or 64502$", as_path_pattern),
                    mapping=Group(
                        "an AS path match",
                        {
                            "contains": AS_NUMBER,
                            "starts": AS_NUMBER,
                            "ends": AS_NUMBER,
                            "min_length": Integer(0, 255),
                            "max_length": Integer(0, 255),
                        },
                    ),
                ),
                "communities": Either(
                    scalar=COMMUNITY,
                    listing=ListOf(COMMUNITY, least=1),
                    mapping=Group("communities", {"all": ListOf(COMMUNITY, least=1)}, required=("all",)),
                ),
            },
        ),
        "set": Group(
            "a set",
            {
                "metric": Integer(),
                "metric_type": METRIC_TYPE,
                "tag": TAG,
                "preference": PREFERENCE,
                "med": Integer(),
                "local_preference": Integer(),
                "weight": Integer(0, 65535),
                "origin": Choice(ORIGINS),
                "as_path_prepend": Group(
                    "as_path_prepend", {"as": AS_NUMBER, "times": Integer(1, 50)}, required=("as",)
                ),
                "communities": Group(
                    "communities",
                    {"add": ListOf(COMMUNITY), "remove": ListOf(COMMUNITY), "replace": ListOf(COMMUNITY)},
                ),
                "next_hop": ADDRESS,
                "next_hop_self": Boolean(),
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

RECEIVED_PATH = Group(
    "a received path",
    {
        "prefix": PREFIX,
        "as_path": ListOf(AS_NUMBER),
        "origin": Choice(ORIGINS),
        "med": Integer(0, 0xFFFFFFFF),
        "local_preference": Integer(0, 0xFFFFFFFF),
        "communities": ListOf(COMMUNITY),
        "next_hop": ADDRESS,
    },
    required=("prefix",),
)

BGP = Group(
    "bgp",
    {
        "as": AS_NUMBER,
        "router_id": ROUTER_ID,
        "cluster_id": ROUTER_ID,
        "networks": ListOf(PREFIX),
        "aggregates": ListOf(
            Group("an aggregate", {"prefix": PREFIX, "summary_only": Boolean()}, required=("prefix",))
        ),
        "redistribute": redistribute(0xFFFFFFFF, metric_types=False),
        "multipath": Group("multipath", {"ebgp": MULTIPATH, "ibgp": MULTIPATH}),
        "decision": Group(
            "decision",
            {
                "compare_med_between_as": Boolean(),
                "deterministic_med": Boolean(),
                "missing_med": Choice(("best", "worst")),
                "prefer_oldest": Boolean(),
                "ignore_as_path_length": Boolean(),
            },
        ),
        "require_policies": Boolean(),
        "announce_unused": Boolean(),
        "neighbors": MapOf(
            ADDRESS,
            Group(
                "a neighbor",
                {
                    "as": AS_NUMBER,
                    "description": Text(),
                    "enabled": Boolean(),
                    "local_address": ADDRESS,
                    "update_source": INTERFACE,
                    "multihop": Integer(1, 255),
                    "import": NAMED,
                    "export": NAMED,
                    "weight": Integer(0, 65535),
                    "next_hop_self": Boolean(),
                    "route_reflector_client": Boolean(),
                    "originate_default": Boolean(),
                    "allow_own_as": Integer(0, 10),
                    "remove_private_as": Boolean(),
                    "established_at": TIME,
                    "families": ListOf(FAMILY),
                    "received": ListOf(RECEIVED_PATH),
                    "withdrawn": ListOf(PREFIX),
                },
                required=("as",),
            ),
        ),
    },
    required=("as",),
)

PREFERENCE_NAMES = tuple(name for name in DEFAULT_PREFERENCES if name != "local")

ROUTING = Group(
    "routing",
    {
        "router_id": ROUTER_ID,
        "preferences": MapOf(Choice(PREFERENCE_NAMES), PREFERENCE),
        "install_policy": NAMED,
        "static": ListOf(STATIC_ROUTE),
        "ospf": Either(mapping=OSPF, listing=ListOf(OSPF)),
        "isis": ISIS,
        "rip": RIP,
        "eigrp": EIGRP,
        "bgp": BGP,
    },
)
