"""Drift: where a table read off a device and the computed one differ."""

from routrel.analysis.answers.model import Difference, Drift
from routrel.model.observed import ObservedRoute
from routrel.routing.rib.observed import observed_in
from routrel.routing.routes import Route
from routrel.routing.solve import Solved

OWN = ("connected", "local")


def has_both(solved: Solved, instance: int) -> bool:
    """Whether an instance has a computed table and an observed one."""
    return solved.topology.instances[instance].routing is not None and bool(observed_in(solved.topology, instance))


def drift(solved: Solved, instance: int) -> Drift:
    """All differences of one instance, in the order of prefixes; none where there is nothing to compare.

    A family of which no route was observed was not read off.

    A computed route of its own networks is not missed where the observed table holds none of that kind.
    Missing is what is computed and not observed, extra the reverse; of a changed one is said what differs.
    """
    if not has_both(solved, instance):
        return Drift(False, [])
    observed = {route.prefix: route for route in observed_in(solved.topology, instance)}
    families = {prefix.family for prefix in observed}
    computed = {route.prefix: route for route in solved.table(instance) if route.prefix.family in families}
    kinds = {route.protocol for route in observed.values()}
    found = []
    for prefix in sorted({*observed, *computed}):
        ours, theirs = computed.get(prefix), observed.get(prefix)
        if theirs is None:
            assert ours is not None
            if ours.protocol in OWN and (ours.protocol not in kinds or prefix.is_host):
                continue
            found.append(Difference(str(prefix), "missing", _computed_text(solved, ours), "", ours.place or None))
        elif ours is None:
            if not prefix.is_link_local:
                found.append(Difference(str(prefix), "extra", "", _observed_text(theirs), theirs.place or None))
        else:
            words = _differing(solved, ours, theirs)
            if words:
                text = _computed_text(solved, ours)
                found.append(Difference(str(prefix), "changed", text, ", ".join(words), theirs.place or None))
    return Drift(True, found)


def _differing(solved: Solved, ours: Route, theirs: ObservedRoute) -> list[str]:
    """What is observed otherwise: protocol, action, next hops; metric and preference where they were observed."""
    words = []
    if theirs.protocol not in ("observed", ours.protocol) and not {theirs.protocol, ours.protocol} <= set(OWN):
        words.append(theirs.protocol)
    if ours.action != theirs.action:
        words.append(f"{theirs.action}s")
    for name, one, other in (
        ("preference", ours.preference, theirs.preference),
        ("metric", ours.metric, theirs.metric),
    ):
        if other is not None and one != other:
            words.append(f"{name} {other}")
    if ours.protocol not in OWN and not _same_hops(solved, ours, theirs):
        words.append(f"by {_hops_text(theirs)}")
    return words


def _same_hops(solved: Solved, ours: Route, theirs: ObservedRoute) -> bool:
    mine = {(hop.address, solved.topology.ports[hop.port].name.interface) for hop in ours.next_hops}
    given = set(ours.given_next_hops)
    matched = [
        any(
            (hop.address is None or hop.address == address or hop.address in given)
            and (hop.interface is None or hop.interface == interface)
            for address, interface in mine
        )
        for hop in theirs.next_hops
    ]
    return all(matched) and len(theirs.next_hops) >= len(mine)


def _hops_text(route: ObservedRoute) -> str:
    return ", ".join(
        " by ".join(filter(None, (str(hop.address) if hop.address else "", hop.interface or "")))
        for hop in route.next_hops
    )


def _computed_text(solved: Solved, route: Route) -> str:
    hops = ", ".join(
        f"{hop.address or 'itself'} by {solved.topology.ports[hop.port].name.interface}" for hop in route.next_hops
    )
    return f"{route.protocol} {route.preference}/{route.metric} {hops or route.action}"


def _observed_text(route: ObservedRoute) -> str:
    numbers = "/".join("-" if value is None else str(value) for value in (route.preference, route.metric))
    return f"{route.protocol} {numbers} {_hops_text(route) or route.action}"
