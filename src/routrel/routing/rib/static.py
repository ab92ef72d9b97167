"""Static routes: resolved through the table they stand in (RFC 8349 section 5.3).

A static route is active while its next hop resolves through another route, not through itself; discard
and reject always are. Which are active is a fixed point: a route that comes in can carry the next hop of
another, or hide the route that carried its own. It hangs on nothing but what next hops lead to before any of them
stands: what comes in afterwards is in their place or more specific than what was found, and theirs alone.
"""

from collections import defaultdict
from collections.abc import Sequence

from routrel.model.addresses import Address, Prefix
from routrel.model.routing import RouteAction, RoutingInstance, StaticRoute
from routrel.routing.rib.table import Table, sorted_hops
from routrel.routing.routes import NextHop, Route
from routrel.topology.segments import Topology

Resolution = tuple[RouteAction, tuple[NextHop, ...]]
Found = tuple[Route | None, tuple[Resolution | None, str]]
"""The route that leads to a next hop, and what that makes of it."""


def static_candidates(topology: Topology, instance: int) -> list[StaticRoute]:
    """The static routes configured in an instance; a host's gateways are among them."""
    found = topology.instances[instance]
    gateways = topology.devices[found.device].gateways if found.device == instance else ()
    return [*gateways, *(found.routing.static if found.routing else ())]


Failed = list[tuple[StaticRoute, str]]
"""Static routes that do nothing, each with the reason."""


def _asks_table(static: StaticRoute) -> bool:
    return static.action == "forward" and static.interface is None


def split_static_routes(topology: Topology, instance: int) -> tuple[list[StaticRoute], list[StaticRoute]]:
    """Static routes of prefixes that no table has a say in, and all others."""
    candidates = static_candidates(topology, instance)
    asking = {static.prefix for static in candidates if _asks_table(static)}
    fixed = [static for static in candidates if static.prefix not in asking]
    return fixed, [static for static in candidates if static.prefix in asking]


def install_fixed_routes(topology: Topology, table: Table, fixed: list[StaticRoute]) -> Failed:
    """Offer static routes that hang on no other route; those that do nothing are returned."""
    if not fixed:
        return []
    active: list[tuple[StaticRoute, Resolution]] = []
    failed: Failed = []
    for static in fixed:
        resolution, reason = resolve_static(topology, table, static)
        if resolution is None:
            failed.append((static, reason))
        else:
            active.append((static, resolution))
    _reinstall(topology, topology.instances[table.instance].routing, table, active, {})
    return failed


class AskingRoutes:
    """The static routes of an instance that ask its table, and what they came to when they last asked."""

    def __init__(self, candidates: list[StaticRoute]):
        self.candidates = candidates
        self._asked = tuple(
            dict.fromkeys(one.next_hop for one in candidates if _asks_table(one) and one.next_hop is not None)
        )
        self._last: tuple[list[Route | None], Table, Failed] | None = None

    def install(self, topology: Topology, table: Table) -> tuple[Table, Failed]:
        """A table with every active one beside what it has, and those that do nothing."""
        if not self.candidates:
            return table, []
        leading = [table.lookup(address) for address in self._asked]
        if self._last is None or self._last[0] != leading:
            failed = install_static_routes(topology, table, self.candidates)
            self._last = leading, table.fresh(()), failed
            return table, failed
        _, installed, failed = self._last
        return installed.fresh(table.sources), failed


def install_static_routes(topology: Topology, table: Table, candidates: list[StaticRoute]) -> Failed:
    """Offer every active one of some static routes to the table; the rest are returned."""
    routing = topology.instances[table.instance].routing
    active: dict[int, Resolution] = {}
    barred: dict[int, str] = {}
    reasons: dict[int, str] = {}
    standing: dict[int, Route] = {}
    for _ in range(2 * len(candidates) + 2):
        before = dict(active)
        found: dict[Address, Found] = {}
        for index, candidate in enumerate(candidates):
            if index in barred:
                continue
            resolution, reason = resolve_static(topology, table, candidate, found)
            if resolution is not None:
                active[index] = resolution
            elif active.pop(index, None) is not None:
                # It stood only until it was installed: it resolved through what it now hides.
                barred[index] = reasons[index] = reason
            else:
                reasons[index] = reason
        if active == before:
            break
        _reinstall(topology, routing, table, [(candidates[i], active[i]) for i in sorted(active)], standing)
    return [(candidates[i], reasons[i]) for i in sorted(reasons) if i not in active]


def resolve_static(
    topology: Topology, table: Table, static: StaticRoute, found: dict[Address, Found] | None = None
) -> tuple[Resolution | None, str]:
    """What a static route does now, or None and why it can do nothing.

    ``found`` keeps what next hops lead to in a table that stays as it is: many routes share one.
    """
    if static.action != "forward":
        return (static.action, ()), ""
    if static.interface is not None:
        device = topology.devices[topology.instances[table.instance].device]
        port = topology.port(device.name, static.interface)
        if not port.up:
            return None, f"{port.name} is down: {port.down}"
        return ("forward", (NextHop(port.index, static.next_hop),)), ""
    assert static.next_hop is not None
    return resolve_next_hop(topology, table, static.next_hop, static.prefix, found)


def resolve_next_hop(
    topology: Topology,
    table: Table,
    address: Address,
    through: Prefix | None = None,
    found: dict[Address, Found] | None = None,
) -> tuple[Resolution | None, str]:
    """Resolve a next hop by the table; ``through`` is the prefix of the route that asks, never used."""
    if found is not None and address in found:
        route, resolved = found[address]
    else:
        route = table.lookup(address)
        no_route = None, f"no route to the next hop {address}"
        resolved = no_route if route is None else resolve_by(topology, route, address)
        if found is not None:
            found[address] = route, resolved
    if route is not None and route.protocol in ("static", "observed") and route.prefix == through:
        return None, f"the next hop {address} resolves only through the route itself"
    return resolved


def resolve_by(topology: Topology, route: Route, address: Address) -> tuple[Resolution | None, str]:
    """Where packets for a next hop go by the route that leads to it, or None and why it cannot be one."""
    if route.protocol == "local":
        return None, f"the next hop {address} is an address of the device itself"
    if route.action != "forward":
        return (route.action, ()), ""
    if route.protocol == "connected" and route.prefix.is_host:
        return None, f"the next hop {address} is an address of the device itself"
    hops = [NextHop(hop.port, address) if hop.address is None and hop.neighbor < 0 else hop for hop in route.next_hops]
    return ("forward", sorted_hops(topology, hops)), ""


def _reinstall(
    topology: Topology,
    routing: RoutingInstance | None,
    table: Table,
    active: Sequence[tuple[StaticRoute, Resolution]],
    standing: dict[int, Route],
) -> None:
    """Put the active routes in place of those of the round before."""
    for number, route in standing.items():
        if table.other(number) is route:
            table.withdraw(number)
    standing.clear()
    by_prefix: dict[Prefix, list[tuple[StaticRoute, Resolution]]] = defaultdict(list)
    for static, resolution in active:
        by_prefix[static.prefix].append((static, resolution))
    default = routing.preference("static") if routing else 1
    for prefix, group in by_prefix.items():
        for rank in sorted({(default if s.preference is None else s.preference, s.metric) for s, _ in group}):
            best = [(s, r) for s, r in group if (default if s.preference is None else s.preference, s.metric) == rank]
            number = table.prefixes.number[prefix]
            if table.offer(_route_of(topology, prefix, rank, best)):
                offered = table.other(number)
                assert offered is not None
                standing[number] = offered
                break
            if table.install is None:
                break


def _route_of(
    topology: Topology, prefix: Prefix, rank: tuple[int, int], best: list[tuple[StaticRoute, Resolution]]
) -> Route:
    """One route for the static routes of a prefix that are equal: equal-cost multipath."""
    forwarding = [(s, r) for s, r in best if r[0] == "forward"]
    first = (forwarding or best)[0]
    return Route(
        prefix,
        "static",
        rank[0],
        rank[1],
        sorted_hops(topology, [hop for _, (_, hops) in forwarding for hop in hops]),
        first[1][0],
        given_next_hops=tuple(s.next_hop for s, _ in forwarding if s.next_hop is not None),
        tag=first[0].tag,
        place=first[0].place,
    )
