"""Drift: where a table read off a device and the computed one differ."""

from dataclasses import dataclass

from routrel.model.addresses import Prefix
from routrel.model.devices import ObservedRoute
from routrel.model.places import NOWHERE, Place
from routrel.routing.observed import observed_in
from routrel.routing.routes import Route
from routrel.routing.solve import Solved

OWN = ("connected", "local")


@dataclass(frozen=True, slots=True)
class Difference:
    """One prefix at which the two tables differ. ``what`` is missing, extra or changed.

    ``missing`` is computed and not observed, ``extra`` observed and not computed.
    """

    instance: int
    prefix: Prefix
    what: str
    computed: str
    observed: str
    place: Place = NOWHERE


def has_both(solved: Solved, instance: int) -> bool:
    """Whether an instance has a computed table and an observed one."""
    return solved.topology.instances[instance].routing is not None and bool(observed_in(solved.topology, instance))


def drift(solved: Solved, instance: int) -> list[Difference]:
    """All differences of one instance, in the order of prefixes; none where there is nothing to compare.

    A computed route of its own networks is not missed where the observed table holds none of that kind.
    """
    if not has_both(solved, instance):
        return []
    observed = {route.prefix: route for route in observed_in(solved.topology, instance)}
    computed = {route.prefix: route for route in solved.table(instance)}
    kinds = {route.protocol for route in observed.values()}
    found = []
    for prefix in sorted({*observed, *computed}):
        ours, theirs = computed.get(prefix), observed.get(prefix)
        if theirs is None:
            assert ours is not None
            if ours.protocol in OWN and (ours.protocol not in kinds or prefix.is_host):
                continue
            found.append(Difference(instance, prefix, "missing", _computed_text(solved, ours), "", ours.place))
        elif ours is None:
            if not prefix.is_link_local:
                found.append(Difference(instance, prefix, "extra", "", _observed_text(theirs), theirs.place))
        elif _differs(solved, ours, theirs):
            texts = _computed_text(solved, ours), _observed_text(theirs)
            found.append(Difference(instance, prefix, "changed", *texts, theirs.place))
    return found


def _differs(solved: Solved, ours: Route, theirs: ObservedRoute) -> bool:
    """Protocol, action, next hops, and metric and preference where they were observed."""
    if theirs.protocol not in ("observed", ours.protocol) and not {theirs.protocol, ours.protocol} <= set(OWN):
        return True
    if ours.action != theirs.action:
        return True
    for one, other in ((ours.metric, theirs.metric), (ours.preference, theirs.preference)):
        if other is not None and one != other:
            return True
    if ours.protocol in OWN:
        return False
    mine = {(hop.address, solved.topology.ports[hop.port].name.interface) for hop in ours.next_hops}
    given = set(ours.given_next_hops)
    for hop in theirs.next_hops:
        if not any(
            (hop.address is None or hop.address == address or hop.address in given)
            and (hop.interface is None or hop.interface == interface)
            for address, interface in mine
        ):
            return True
    return len(theirs.next_hops) < len(mine)


def _computed_text(solved: Solved, route: Route) -> str:
    hops = ", ".join(
        f"{hop.address or 'itself'} by {solved.topology.ports[hop.port].name.interface}" for hop in route.next_hops
    )
    return f"{route.protocol} {route.preference}/{route.metric} {hops or route.action}"


def _observed_text(route: ObservedRoute) -> str:
    hops = ", ".join(
        " by ".join(filter(None, (str(hop.address) if hop.address else "", hop.interface or "")))
        for hop in route.next_hops
    )
    numbers = "/".join("-" if value is None else str(value) for value in (route.preference, route.metric))
    return f"{route.protocol} {numbers} {hops or route.action}"
