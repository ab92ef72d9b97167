"""Interfaces that take part in OSPF: what they tell others, and at what cost (RFC 2328 section 9)."""

from dataclasses import dataclass, field

from routrel.model.addresses import Address, Prefix
from routrel.model.routing import Ospf, OspfArea, OspfInterface
from routrel.topology.ports import Port

DEFAULT_COST = 10


@dataclass(frozen=True, slots=True)
class OspfPort:
    """An interface that takes part in OSPF, with its settings."""

    port: Port = field(compare=False)
    process: int
    ospf: Ospf
    area: OspfArea
    settings: OspfInterface

    @property
    def cost(self) -> int:
        return interface_cost(self.ospf, self.settings, self.port)

    @property
    def prefixes(self) -> tuple[Prefix, ...]:
        return told_by(self.port, self.ospf.family)[0]

    @property
    def addresses(self) -> tuple[Address, ...]:
        return told_by(self.port, self.ospf.family)[1]


def told_by(port: Port, family: int) -> tuple[tuple[Prefix, ...], tuple[Address, ...]]:
    """The subnets and addresses of a port that OSPF of one family tells others."""
    if len(port.addresses) == 1 and family == 4 == port.addresses[0].family and not port.addresses[0].is_link_local:
        return port.prefixes, port.addresses
    told = [
        (prefix, address)
        for prefix, address in zip(port.prefixes, port.addresses, strict=True)
        if address.family == family and not address.is_link_local
    ]
    return tuple(prefix for prefix, _ in told), tuple(address for _, address in told)


def interface_cost(ospf: Ospf, settings: OspfInterface, port: Port) -> int:
    """The cost as the network file's page defines it; at most 65535 (RFC 2328 appendix C.3)."""
    if settings.cost is not None:
        return settings.cost
    if ospf.reference_bandwidth and port.interface.bandwidth:
        return min(65535, max(1, ospf.reference_bandwidth // port.interface.bandwidth))
    return DEFAULT_COST


def area_name(number: int) -> str:
    """An area id in its dotted form."""
    return str(Address(4, number))
