"""Rows of tables as answers."""

from collections.abc import Iterable, Iterator
from itertools import islice

from routrel.analysis.answers import routes
from routrel.model.addresses import Prefix
from routrel.routing.routes import NextHop, Route
from routrel.routing.solve import Solved


def next_hops(solved: Solved, hops: Iterable[NextHop]) -> list[routes.NextHop]:
    """Next hops with the devices that answer for them."""
    return [next_hop(solved, hop) for hop in hops]


def next_hop(solved: Solved, hop: NextHop) -> routes.NextHop:
    """A next hop with the device that answers for it, where the model knows one."""
    topology = solved.topology
    owner: int | None = hop.neighbor
    if hop.neighbor < 0:
        segment = topology.segment_of[hop.port]
        owner = None if hop.address is None or segment < 0 else topology.on_segment(segment, hop.address)
    return routes.NextHop(
        None if hop.address is None else str(hop.address),
        topology.ports[hop.port].name.interface,
        None if owner is None else topology.ports[owner].name.device,
    )


def table_row(solved: Solved, instance: int, route: Route) -> routes.TableRow:
    """A route as a row of a routing instance's table."""
    found = solved.topology.instances[instance]
    return routes.TableRow(
        solved.topology.devices[found.device].name,
        found.vrf,
        str(route.prefix),
        route.protocol,
        route.origin,
        route.tag,
        route.preference,
        route.metric,
        route.action,
        next_hops(solved, route.next_hops),
    )


def rows_of(solved: Solved, instance: int, within: Prefix | None, most: int | None) -> list[routes.TableRow]:
    """The best routes of a routing instance, at most so many of them; those inside a prefix and those that cover it."""
    table = solved.table(instance)
    found = islice(table if within is None else table.within(within), most)
    return [table_row(solved, instance, route) for route in found]


def table_rows(solved: Solved, instances: Iterable[int]) -> Iterator[routes.TableRow]:
    """Every best route of the given routing instances, sorted by device, VRF, then prefix."""
    topology = solved.topology

    def name(instance: int) -> tuple[str, str]:
        found = topology.instances[instance]
        return topology.devices[found.device].name, found.vrf

    for instance in sorted(instances, key=name):
        for route in solved.table(instance):
            yield table_row(solved, instance, route)
