"""Connected routes: the subnets of interfaces that are up, and their own addresses (RFC 8349 section 5.3)."""

from collections.abc import Iterator

from routrel.routing.routes import NextHop, Route
from routrel.topology.segments import Topology


def connected_routes(topology: Topology, instance: int) -> Iterator[Route]:
    """A subnet is ``connected`` and its address ``local``; a host-length address stands once, connected."""
    routing = topology.instances[instance].routing
    preference = routing.preference("connected") if routing else 0
    for number in topology.ports_of[topology.instances[instance].device]:
        port = topology.ports[number]
        if not port.up or port.instance != instance:
            continue
        hops = (NextHop(number, None),)
        places = port.interface.address_places or (port.interface.place,) * len(port.addresses)
        for prefix, address, place in zip(port.prefixes, port.addresses, places, strict=True):
            if prefix.is_link_local:
                continue
            yield Route(prefix, "connected", preference, 0, hops, place=place)
            if not prefix.is_host:
                yield Route(address.host_prefix(), "local", preference, 0, hops, place=place)
