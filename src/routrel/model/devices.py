"""Devices, their interfaces and their routing configuration.

The terms are those of the IETF's YANG modules (RFC 8343, 8344, 8349, 9129); the network file's page in
docs/ says what each key means.
"""

from dataclasses import dataclass, field
from typing import Literal

from routrel.model.addresses import Address, InterfaceAddress, Prefix
from routrel.model.filters import Acl, ForwardingPolicy
from routrel.model.places import NOWHERE, Place

DeviceKind = Literal["router", "switch", "firewall", "host", "gateway", "balancer"]
InterfaceKind = Literal["ethernet", "loopback", "bundle", "vlan"]
RouteAction = Literal["forward", "discard", "reject"]
OspfNetwork = Literal["broadcast", "point-to-point"]

DEFAULT_VLAN = 1
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


@dataclass(frozen=True, slots=True)
class Switchport:
    """How a switch's port treats tags: ``access`` alone, or ``trunk`` VLANs with one ``native``."""

    access: int | None = None
    trunk: tuple[int, ...] = ()
    native: int = DEFAULT_VLAN


@dataclass(frozen=True, slots=True, kw_only=True)
class Interface:
    name: str
    place: Place = NOWHERE
    enabled: bool = True
    description: str = ""
    addresses: tuple[InterfaceAddress, ...] = ()
    address_places: tuple[Place, ...] = ()
    mtu: int = 1500
    bandwidth: int | None = None
    mac: str | None = None
    acl_in: str | None = None
    acl_out: str | None = None
    forwarding_policy: str | None = None
    kind: InterfaceKind = "ethernet"
    members: tuple[str, ...] = ()
    parent: str | None = None
    vlan: int | None = None
    switchport: Switchport | None = None

    @property
    def is_loopback(self) -> bool:
        return self.kind == "loopback"


@dataclass(frozen=True, slots=True)
class StaticRoute:
    prefix: Prefix
    next_hop: Address | None = None
    interface: str | None = None
    action: RouteAction = "forward"
    preference: int | None = None
    metric: int = 0
    tag: int | None = None
    place: Place = NOWHERE


@dataclass(frozen=True, slots=True)
class OspfInterface:
    name: str
    cost: int | None = None
    passive: bool = False
    network: OspfNetwork | None = None
    priority: int = 1
    place: Place = NOWHERE


@dataclass(frozen=True, slots=True)
class OspfRange:
    """An address range of an area (RFC 2328 appendix C.2)."""

    prefix: Prefix
    advertise: bool = True
    cost: int | None = None
    place: Place = NOWHERE


@dataclass(frozen=True, slots=True)
class OspfArea:
    """``number`` is the area's 32-bit id; 0 is the backbone."""

    number: int
    interfaces: tuple[OspfInterface, ...] = ()
    ranges: tuple[OspfRange, ...] = ()
    place: Place = NOWHERE


@dataclass(frozen=True, slots=True)
class Ospf:
    areas: tuple[OspfArea, ...] = ()
    reference_bandwidth: int | None = None
    multipath: int = 16
    place: Place = NOWHERE


@dataclass(frozen=True, slots=True)
class RoutingInstance:
    router_id: Address | None = None
    preferences: dict[str, int] = field(default_factory=dict)
    static: tuple[StaticRoute, ...] = ()
    ospf: Ospf | None = None
    place: Place = NOWHERE

    def preference(self, protocol: str) -> int:
        return self.preferences.get(protocol, DEFAULT_PREFERENCES[protocol])


@dataclass(frozen=True, slots=True)
class ObservedNextHop:
    address: Address | None = None
    interface: str | None = None


@dataclass(frozen=True, slots=True)
class ObservedRoute:
    """A route as it was read off a device. ``protocol`` is a name of the command-line contract."""

    prefix: Prefix
    protocol: str = "observed"
    next_hops: tuple[ObservedNextHop, ...] = ()
    preference: int | None = None
    metric: int | None = None
    action: RouteAction = "forward"
    place: Place = NOWHERE


@dataclass(frozen=True, slots=True, kw_only=True)
class Device:
    """``neighbors`` are addresses seen alive on an interface, from captures: (interface, address).

    ``gaps`` are statements about this device that its input held and the model cannot represent; they
    are shown wherever they could change an answer.
    """

    name: str
    place: Place = NOWHERE
    kind: DeviceKind = "router"
    site: str | None = None
    interfaces: dict[str, Interface] = field(default_factory=dict)
    gateways: tuple[StaticRoute, ...] = ()
    routing: RoutingInstance | None = None
    acls: dict[str, Acl] = field(default_factory=dict)
    forwarding_policies: dict[str, ForwardingPolicy] = field(default_factory=dict)
    observed: tuple[ObservedRoute, ...] = ()
    neighbors: frozenset[tuple[str, Address]] = frozenset()
    gaps: tuple["Gap", ...] = ()

    @property
    def forwards(self) -> bool:
        """Whether packets for others pass: a host does not forward."""
        return self.kind != "host"

    @property
    def is_observed_only(self) -> bool:
        return self.routing is None and bool(self.observed)


@dataclass(frozen=True, slots=True)
class Gap:
    """Something the input states that the model cannot hold; ``affects`` names an interface or ''."""

    message: str
    place: Place
    affects: str = ""
