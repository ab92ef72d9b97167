"""Connected and local routes, straight from the interfaces (RFC 8349 calls both "direct")."""

from collections.abc import Iterator

from routrel.model.devices import Device
from routrel.routing.routes import NextHop, Route
from routrel.topology.segments import Topology


def connected_routes(topology: Topology, device: Device) -> Iterator[Route]:
    """A subnet is ``connected`` and its address ``local``; a host-length address stands once, connected."""
    index = topology.device_index[device.name]
    preference = device.routing.preference("connected") if device.routing else 0
    for number in topology.ports_of[index]:
        port = topology.ports[number]
        if not port.up:
            continue
        hops = (NextHop(number, None),)
        places = port.interface.address_places or (port.interface.place,) * len(port.interface.addresses)
        for address, place in zip(port.interface.addresses, places, strict=True):
            if address.prefix.is_link_local:
                continue
            yield Route(address.prefix, "connected", preference, 0, hops, place=place)
            if not address.prefix.is_host:
                yield Route(address.address.host_prefix(), "local", preference, 0, hops, place=place)
