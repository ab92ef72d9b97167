"""Routing configuration: instances, static routes and the interior protocols; ``bgp`` is a module of its own.

The terms are those of the IETF's YANG modules (RFC 8349, 9129, 9130, 8695) where those have one; the
network file's page in docs/ says what each key means.
"""

from typing import Literal

from msgspec import Struct

from routrel.model.addresses import Address, Prefix
from routrel.model.bgp import Bgp
from routrel.model.places import NOWHERE, Place
from routrel.model.redistribution import OriginateDefault, Redistribution

RouteAction = Literal["forward", "discard", "reject"]
NetworkType = Literal["broadcast", "point-to-point"]
AreaType = Literal["normal", "stub", "nssa"]

DEFAULT_INSTANCE = "default"
ROUTING_PROTOCOLS = ("ospf", "isis", "rip", "eigrp", "bgp")
PROTOCOL_ORDER = ("connected", "local", "static", *ROUTING_PROTOCOLS, "observed")
"""Of equal preference the source named first is believed."""

DEFAULT_PREFERENCES = {
    "connected": 0,
    "local": 0,
    "static": 1,
    "ebgp": 20,
    "eigrp": 90,
    "ospf": 110,
    "isis": 115,
    "rip": 120,
    "eigrp_external": 170,
    "ibgp": 200,
}


class StaticRoute(Struct, frozen=True):
    prefix: Prefix
    next_hop: Address | None = None
    interface: str | None = None
    action: RouteAction = "forward"
    preference: int | None = None
    metric: int = 0
    tag: int | None = None
    place: Place = NOWHERE


class OspfInterface(Struct, frozen=True):
    name: str
    cost: int | None = None
    passive: bool = False
    network: NetworkType | None = None
    priority: int = 1
    place: Place = NOWHERE


class OspfRange(Struct, frozen=True):
    """An address range of an area (RFC 2328 appendix C.2)."""

    prefix: Prefix
    advertise: bool = True
    cost: int | None = None
    place: Place = NOWHERE


class OspfArea(Struct, frozen=True):
    """``number`` is the area's 32-bit id; 0 is the backbone."""

    number: int
    interfaces: tuple[OspfInterface, ...] = ()
    ranges: tuple[OspfRange, ...] = ()
    place: Place = NOWHERE
    type: AreaType = "normal"
    no_summary: bool = False
    default_cost: int = 1


class Ospf(Struct, frozen=True):
    areas: tuple[OspfArea, ...] = ()
    reference_bandwidth: int | None = None
    multipath: int = 16
    place: Place = NOWHERE
    name: str = DEFAULT_INSTANCE
    version: int = 2
    redistribute: tuple[Redistribution, ...] = ()
    originate_default: OriginateDefault | None = None

    @property
    def family(self) -> int:
        """The address family it carries: version 2 IPv4, version 3 IPv6 (RFC 5340)."""
        return 4 if self.version == 2 else 6


class IsisInterface(Struct, frozen=True):
    """``levels`` are those of the interface, already within the router's."""

    name: str
    metric: int = 10
    levels: tuple[int, ...] = (1, 2)
    passive: bool = False
    network: NetworkType | None = None
    place: Place = NOWHERE


class Leak(Struct, frozen=True):
    """Level 2 routes let into level 1 (RFC 5302 section 3.2)."""

    policy: str | None = None
    place: Place = NOWHERE


class Isis(Struct, frozen=True):
    """``area`` and ``system`` are the two parts of the network entity title, in hexadecimal digits."""

    area: str
    system: str
    levels: tuple[int, ...] = (1, 2)
    wide_metrics: bool = True
    interfaces: tuple[IsisInterface, ...] = ()
    redistribute: tuple[Redistribution, ...] = ()
    leak: Leak | None = None
    multipath: int = 16
    place: Place = NOWHERE


class RipInterface(Struct, frozen=True):
    name: str
    metric: int = 1
    passive: bool = False
    place: Place = NOWHERE


class Rip(Struct, frozen=True):
    interfaces: tuple[RipInterface, ...] = ()
    redistribute: tuple[Redistribution, ...] = ()
    default_metric: int = 1
    place: Place = NOWHERE


class EigrpInterface(Struct, frozen=True):
    """``delay`` in tens of microseconds, ``bandwidth`` in bit/s."""

    name: str
    passive: bool = False
    delay: int = 10
    bandwidth: int | None = None
    place: Place = NOWHERE


class EigrpDistance(Struct, frozen=True):
    """A preference of its own for routes of one neighbour, all or some prefixes."""

    neighbor: Address
    preference: int
    prefixes: tuple[Prefix, ...] = ()
    place: Place = NOWHERE


class Eigrp(Struct, frozen=True):
    number: int
    interfaces: tuple[EigrpInterface, ...] = ()
    variance: int = 1
    multipath: int = 4
    redistribute: tuple[Redistribution, ...] = ()
    distances: tuple[EigrpDistance, ...] = ()
    place: Place = NOWHERE


class RoutingInstance(Struct, frozen=True):
    router_id: Address | None = None
    preferences: dict[str, int] = {}
    static: tuple[StaticRoute, ...] = ()
    ospf: tuple[Ospf, ...] = ()
    place: Place = NOWHERE
    install_policy: str | None = None
    isis: Isis | None = None
    rip: Rip | None = None
    eigrp: Eigrp | None = None
    bgp: Bgp | None = None

    @property
    def protocols(self) -> tuple[Ospf | Isis | Rip | Eigrp | Bgp, ...]:
        """The configured protocols, several OSPF instances included."""
        others = (self.isis, self.rip, self.eigrp, self.bgp)
        return (*self.ospf, *(protocol for protocol in others if protocol is not None))

    def preference(self, protocol: str) -> int:
        return self.preferences.get(protocol, DEFAULT_PREFERENCES[protocol])
