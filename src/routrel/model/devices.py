"""Devices and their interfaces.

The terms are those of the IETF's YANG modules (RFC 8343, 8344); the network file's page in docs/ says
what each key means.
"""

from dataclasses import dataclass, field
from typing import Literal

from msgspec import Struct

from routrel.model.addresses import Address, InterfaceAddress
from routrel.model.filter_programs import FilterProgram
from routrel.model.filters import Acl, ForwardingPolicy
from routrel.model.kernel_routing import KernelRouting
from routrel.model.observed import ObservedNeighbor, ObservedRoute
from routrel.model.places import NOWHERE, Place
from routrel.model.policies import Policy
from routrel.model.routing import DEFAULT_INSTANCE, RoutingInstance, StaticRoute
from routrel.model.virtual_routers import VirtualRouter

DeviceKind = Literal["router", "switch", "firewall", "host", "gateway", "balancer"]
InterfaceKind = Literal["ethernet", "loopback", "bundle", "vlan"]

DEFAULT_VLAN = 1


class Switchport(Struct, frozen=True):
    """How a switch's port treats tags: ``access`` alone, or ``trunk`` VLANs with one ``native``."""

    access: int | None = None
    trunk: tuple[int, ...] = ()
    native: int = DEFAULT_VLAN

    @property
    def vlan_by_tag(self) -> dict[int, int]:
        """The VLANs it carries, by the tag of their frames; untagged ones are 0."""
        untagged = self.native if self.access is None else self.access
        return {0: untagged} | {vlan: vlan for vlan in self.trunk if vlan != untagged}


class Interface(Struct, frozen=True):
    name: str
    place: Place = NOWHERE
    enabled: bool = True
    description: str = ""
    addresses: tuple[InterfaceAddress, ...] = ()
    address_places: tuple[Place, ...] = ()
    mtu: int = 1500
    bandwidth: int | None = None
    vrf: str = DEFAULT_INSTANCE
    mac: str | None = None
    shared: bool = False
    """Whether its addresses are meant to stand on other devices too."""
    acl_in: str | None = None
    acl_out: str | None = None
    forwarding_policy: str | None = None
    kind: InterfaceKind = "ethernet"
    members: tuple[str, ...] = ()
    parent: str | None = None
    vlan: int | None = None
    switchport: Switchport | None = None
    virtual_routers: tuple[VirtualRouter, ...] = ()

    @property
    def is_loopback(self) -> bool:
        return self.kind == "loopback"


@dataclass(frozen=True, slots=True, kw_only=True)
class Device:
    """``neighbors`` are addresses seen alive on an interface, from captures: (interface, address).

    ``program`` is what a Linux router's own filters say, in place of ACLs; ``kernel_routing`` its rules and tables.
    ``gaps`` are statements about this device that its input held and the model cannot represent; they are shown
    wherever they could change an answer.
    """

    name: str
    place: Place = NOWHERE
    kind: DeviceKind = "router"
    enabled: bool = True
    """A device that is off has no interface that is on."""
    site: str | None = None
    interfaces: dict[str, Interface] = field(default_factory=dict)
    gateways: tuple[StaticRoute, ...] = ()
    routing: RoutingInstance | None = None
    vrfs: dict[str, RoutingInstance | None] = field(default_factory=dict)
    policies: dict[str, Policy] = field(default_factory=dict)
    acls: dict[str, Acl] = field(default_factory=dict)
    forwarding_policies: dict[str, ForwardingPolicy] = field(default_factory=dict)
    observed: tuple[ObservedRoute, ...] = ()
    neighbors: frozenset[tuple[str, Address]] = frozenset()
    observed_neighbors: tuple[ObservedNeighbor, ...] = ()
    program: FilterProgram | None = None
    kernel_routing: KernelRouting | None = None
    gaps: tuple["Gap", ...] = ()
    statements: "StatementCount | None" = field(default=None, compare=False)
    """What of its documents was understood, where it was read from models."""

    @property
    def known_by(self) -> Literal["text", "capture", "models", "table"]:
        """How it came in: a text of the network file, a capture, documents in open models, or a routing table alone."""
        if self.statements is not None:
            return "table" if self.observed and not self.statements.all else "models"
        return "text" if self.kernel_routing is None else "capture"

    @property
    def forwards(self) -> bool:
        """Whether packets for others pass: a host does not forward."""
        return self.kind != "host"


class Gap(Struct, frozen=True):
    """Something the input states that the model cannot hold; ``affects`` names an interface or ''.

    ``neighbor`` is what is heard on that interface and is no device of the network.
    """

    message: str
    place: Place
    affects: str = ""
    neighbor: str = ""

    @property
    def what(self) -> str:
        """The message under words that say it: that it is not represented."""
        return self.message.removesuffix(" is not represented").removesuffix(" are not represented")


class StatementCount(Struct, frozen=True):
    """Statements that say something: all, those that were used, and those that decide nothing of where packets go."""

    all: int
    used: int
    idle: int

    def __add__(self, other: "StatementCount") -> "StatementCount":
        return StatementCount(self.all + other.all, self.used + other.used, self.idle + other.idle)

    @property
    def not_represented(self) -> int:
        return self.all - self.used - self.idle
