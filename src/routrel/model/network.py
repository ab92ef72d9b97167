"""The network as a whole: devices, links, sites, endpoints and services."""

from collections.abc import Iterator
from dataclasses import dataclass, field
from datetime import datetime
from typing import NamedTuple

from msgspec import Struct

from routrel.model.addresses import Address
from routrel.model.devices import Device, Interface
from routrel.model.expectations import Expectation
from routrel.model.filters import PROTOCOL_NAMES, PortRange
from routrel.model.places import NOWHERE, Place


class InterfaceName(NamedTuple):
    """An interface of a device, written ``device:interface``."""

    device: str
    interface: str

    def __str__(self) -> str:
        return f"{self.device}:{self.interface}"


class Link(Struct, frozen=True):
    """A cable or shared medium with two or more ends."""

    ends: tuple[InterfaceName, ...]
    name: str = ""
    enabled: bool = True
    risk_groups: tuple[str, ...] = ()
    """What it shares with others that may fail with it: a duct, a mast."""
    place: Place = NOWHERE


class Site(Struct, frozen=True):
    name: str
    label: str = ""
    x: float | None = None
    y: float | None = None


class Endpoint(Struct, frozen=True):
    """A name for an address people ask about, inside or outside the network."""

    name: str
    address: Address
    label: str = ""
    place: Place = NOWHERE


class Service(Struct, frozen=True):
    """A protocol number and, for tcp and udp, destination ports."""

    name: str
    protocol: int
    ports: PortRange | None = None

    def __str__(self) -> str:
        protocol = PROTOCOL_NAMES.get(self.protocol, str(self.protocol))
        return protocol if self.ports is None else f"{protocol}/{self.ports}"


@dataclass(frozen=True, slots=True, kw_only=True)
class Network:
    name: str
    taken_at: datetime | None = None
    devices: dict[str, Device] = field(default_factory=dict)
    links: tuple[Link, ...] = ()
    sites: dict[str, Site] = field(default_factory=dict)
    endpoints: dict[str, Endpoint] = field(default_factory=dict)
    services: dict[str, Service] = field(default_factory=dict)
    expectations: tuple[Expectation, ...] = ()
    place: Place = NOWHERE

    def interfaces(self) -> Iterator[tuple[InterfaceName, Device, Interface]]:
        """Every interface with its device, in the order of the text."""
        for device in self.devices.values():
            for interface in device.interfaces.values():
                yield InterfaceName(device.name, interface.name), device, interface
