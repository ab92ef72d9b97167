"""Routes read off a device, as a table that forwards: for devices known by their tables only."""

from routrel.model.addresses import Address, Prefix
from routrel.model.fields import replace
from routrel.model.observed import ObservedRoute
from routrel.routing.rib.static import Found, resolve_next_hop
from routrel.routing.rib.table import Table, sorted_hops
from routrel.routing.routes import NextHop, Route
from routrel.topology.segments import Topology


def observed_in(topology: Topology, instance: int) -> list[ObservedRoute]:
    """The routes read off a device for one of its instances."""
    found = topology.instances[instance]
    return [route for route in topology.devices[found.device].observed if route.vrf == found.vrf]


def is_observed_only(topology: Topology, instance: int) -> bool:
    """Whether an instance is known by the routes read off it alone."""
    return topology.instances[instance].routing is None and bool(observed_in(topology, instance))


def install_observed_routes(topology: Topology, table: Table) -> list[tuple[ObservedRoute, str]]:
    """Offer the observed routes; those with a next hop but no interface resolve through the others.

    Returns the routes that lead nowhere, each with the reason.
    """
    device = topology.devices[topology.instances[table.instance].device]
    indirect = []
    for observed in _first_choices(observed_in(topology, table.instance)):
        hops = []
        for hop in observed.next_hops:
            if hop.interface is not None:
                hops.append(NextHop(topology.port(device.name, hop.interface).index, hop.address))
        if len(hops) < len(observed.next_hops):
            indirect.append(observed)
        else:
            table.offer(_route(topology, observed, hops))
    failed: list[tuple[ObservedRoute, str]] = []
    settled, resolutions = _settled(table, indirect), dict[Address, Found]()
    for _ in range(len(indirect) + 1):
        failed = []
        for observed in indirect:
            resolved: list[NextHop] = []
            reason = ""
            for hop in observed.next_hops:
                if hop.interface is not None:
                    resolved.append(NextHop(topology.port(device.name, hop.interface).index, hop.address))
                    continue
                assert hop.address is not None
                found = resolutions if hop.address in settled else None
                resolution, why = resolve_next_hop(topology, table, hop.address, observed.prefix, found)
                reason = reason or why
                resolved.extend(resolution[1] if resolution else ())
            if resolved:
                table.offer(_route(topology, observed, resolved))
            else:
                failed.append((observed, reason))
        if len(failed) == len(indirect):
            break
        indirect = [observed for observed, _ in failed]
    return failed


def _settled(table: Table, pending: list[ObservedRoute]) -> set[Address]:
    """Next hops whose longest match stands, whichever of the pending routes come in: they are looked up once."""
    prefixes = {observed.prefix for observed in pending}
    addresses = {hop.address for observed in pending for hop in observed.next_hops if hop.address is not None}
    settled = set()
    for address in addresses:
        for number in table.prefixes.chain(address):
            if table.prefixes.prefixes[number] in prefixes:
                break
            if table.get(number) is not None:
                settled.add(address)
                break
    return settled


def _first_choices(routes: list[ObservedRoute]) -> list[ObservedRoute]:
    """Of rows for one prefix the lowest preference, then the lowest metric; of equal rows one with all hops."""
    chosen: dict[Prefix, ObservedRoute] = {}
    for observed in routes:
        standing = chosen.get(observed.prefix)
        if standing is None or _rank(observed) < _rank(standing):
            chosen[observed.prefix] = observed
        elif _rank(observed) == _rank(standing) and observed.action == standing.action == "forward":
            chosen[observed.prefix] = replace(standing, next_hops=(*standing.next_hops, *observed.next_hops))
    return list(chosen.values())


def _rank(observed: ObservedRoute) -> tuple[int, int]:
    return observed.preference or 0, observed.metric or 0


def _route(topology: Topology, observed: ObservedRoute, hops: list[NextHop]) -> Route:
    return Route(
        observed.prefix,
        observed.protocol,
        observed.preference,
        observed.metric,
        sorted_hops(topology, hops),
        observed.action,
        place=observed.place,
    )
