"""Whether an interface forms adjacencies in OSPF, IS-IS and EIGRP, and a device some of whose interfaces do not.

An adjacency that is down, while its interface is up, leaves what the interface itself is told of: as a passive one.
"""

from collections.abc import Collection, Iterator
from typing import TypeVar

from routrel.model.devices import Device
from routrel.model.fields import replace
from routrel.model.routing import DEFAULT_INSTANCE, EigrpInterface, IsisInterface, OspfInterface, RoutingInstance

Speaking = TypeVar("Speaking", OspfInterface, IsisInterface, EigrpInterface)


def speaking(device: Device, interface: str) -> Iterator[OspfInterface | IsisInterface | EigrpInterface]:
    """An interface's settings in each of the protocols that form adjacencies."""
    vrf = device.interfaces[interface].vrf
    routing = device.routing if vrf == DEFAULT_INSTANCE else device.vrfs.get(vrf)
    if routing is None:
        return
    for ospf in routing.ospf:
        for area in ospf.areas:
            yield from (one for one in area.interfaces if one.name == interface)
    for protocol in (routing.isis, routing.eigrp):
        if protocol is not None:
            yield from (one for one in protocol.interfaces if one.name == interface)


def without_adjacencies(device: Device, interfaces: Collection[str]) -> Device:
    """The device with these interfaces passive."""
    routing = None if device.routing is None else _with_passive(device.routing, interfaces)
    vrfs = {name: one and _with_passive(one, interfaces) for name, one in device.vrfs.items()}
    return replace(device, routing=routing, vrfs=vrfs)


def _with_passive(routing: RoutingInstance, names: Collection[str]) -> RoutingInstance:
    ospf = tuple(
        replace(one, areas=tuple(replace(area, interfaces=_passive(area.interfaces, names)) for area in one.areas))
        for one in routing.ospf
    )
    isis = routing.isis and replace(routing.isis, interfaces=_passive(routing.isis.interfaces, names))
    eigrp = routing.eigrp and replace(routing.eigrp, interfaces=_passive(routing.eigrp.interfaces, names))
    return replace(routing, ospf=ospf, isis=isis, eigrp=eigrp)


def _passive(interfaces: tuple[Speaking, ...], names: Collection[str]) -> tuple[Speaking, ...]:
    return tuple(replace(one, passive=True) if one.name in names else one for one in interfaces)
