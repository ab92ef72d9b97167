"""Two states of a network held against each other: the model, every table, and given flows.

Places are left aside: a line that moved is no change.
"""

from collections.abc import Iterable, Iterator, Mapping, Sequence
from typing import Any

from routrel.analysis.answers.comparisons import Comparison, FlowChange, ModelChange, Moved
from routrel.analysis.answers.routes import TableRow
from routrel.analysis.answers.walks import ListedWalk, RefusedFlow
from routrel.analysis.changed_routes import count_and_list
from routrel.analysis.check import check
from routrel.analysis.contest.why import hops_text, ranking_text
from routrel.analysis.route_reasons import with_reasons
from routrel.analysis.walk_verdicts import Answerer
from routrel.forwarding.flow import Flow
from routrel.model.devices import Device
from routrel.model.fields import compared_names
from routrel.model.network import Link, Network
from routrel.model.unchanged import without_places
from routrel.routing.solve import Solved

MOST_ROUTES = 10_000
"""Routes that are listed; all are counted."""


def compare(before: Solved, after: Solved, flows: Sequence[Flow] = (), most_routes: int = MOST_ROUTES) -> Comparison:
    """What differs after from before; the first ``most_routes`` of the routes that differ are listed."""
    found = moved(before, after, flows, most_routes)
    return Comparison([*_model(before, after)], found.routes_changed, found.routes, found.flows)


def moved(before: Solved, after: Solved, flows: Sequence[Flow] = (), most_routes: int = MOST_ROUTES) -> Moved:
    """The routes and flows that differ after from before; the first ``most_routes`` of the routes are listed."""
    count, listed = count_and_list(before, after, most_routes)
    return Moved(count, with_reasons(before, after, listed), _flows(before, after, flows))


def _model(before: Solved, after: Solved) -> Iterator[ModelChange]:
    old, new = before.network, after.network
    yield from _named("site", old.sites, new.sites)
    for change in _named("device", old.devices, new.devices):
        if change.what != "changed":
            yield change
    for name, device in old.devices.items():
        if name in new.devices:
            yield from _device(name, device, new.devices[name])
    yield from _named("link", _links(old), _links(new))
    yield from _named("endpoint", old.endpoints, new.endpoints)
    yield from _named("service", old.services, new.services)
    problems = [{finding.message: None for finding in check(solved)} for solved in (before, after)]
    yield from _named("problem", *problems)


def _links(network: Network) -> dict[str, Link]:
    return {" - ".join(sorted(map(str, link.ends))): link for link in network.links}


def _device(name: str, old: Device, new: Device) -> Iterator[ModelChange]:
    if old == new:
        return
    changed = [word for word in _differing(old, new) if word != "interfaces"]
    if changed:
        yield ModelChange("changed", "device", name, ", ".join(changed))
    for change in _named("interface", old.interfaces, new.interfaces):
        yield ModelChange(change.what, "interface", f"{name}:{change.name}", change.detail)


def _named(kind: Any, old: Mapping[str, Any], new: Mapping[str, Any]) -> Iterator[ModelChange]:
    """What came, went or changed of things by name."""
    for name in old:
        if name not in new:
            yield ModelChange("gone", kind, name, "")
        elif old[name] != new[name] and (words := _differing(old[name], new[name])):
            yield ModelChange("changed", kind, name, ", ".join(words))
    for name in new:
        if name not in old:
            yield ModelChange("came", kind, name, "")


def _differing(old: Any, new: Any) -> list[str]:
    """The fields in which two objects of the model differ, by name."""
    pairs = ((name, getattr(old, name), getattr(new, name)) for name in compared_names(type(old)))
    # Most are equal with their places: only of others the places are taken out.
    return [name for name, one, other in pairs if one != other and without_places(one) != without_places(other)]


def _flows(before: Solved, after: Solved, flows: Iterable[Flow]) -> list[FlowChange]:
    answerers = Answerer(before), Answerer(after)
    found = []
    for flow in flows:
        old, new = (answerer.listed(flow) for answerer in answerers)
        said = [_verdicts(old), _verdicts(new)]
        ways = [None if isinstance(one, RefusedFlow) else _ways(one) for one in (old, new)]
        found.append(FlowChange(new.flow, said[0], said[1], said[0] != said[1] or ways[0] != ways[1]))
    return found


def _verdicts(walk: ListedWalk | RefusedFlow) -> str:
    if isinstance(walk, RefusedFlow):
        return walk.error
    causes = [cause.message for strand in (walk.forward, walk.reply) if strand for cause in strand.causes[:1]]
    back = f", answer {walk.reply.verdict}" if walk.reply else ""
    return f"{walk.forward.verdict}{back}" + (f" ({causes[0]})" if causes else "")


def _ways(walk: ListedWalk) -> list[list[list[str]] | None]:
    return [None if strand is None else strand.paths for strand in (walk.forward, walk.reply)]


def comparison_lines(found: Comparison) -> Iterator[str]:
    """A comparison as lines for a terminal or a ticket."""
    marks = {"came": "+", "gone": "-", "changed": "~"}
    for change in found.model:
        detail = f": {change.detail}" if change.detail else ""
        yield f"{marks[change.what]} {change.kind} {change.name}{detail}"
    for route in found.routes:
        name = route.device if route.vrf == "default" else f"{route.device}/{route.vrf}"
        reason = f" ({route.reason})" if route.reason else ""
        yield f"~ route {name} {route.prefix}: {row_text(route.before)} > {row_text(route.after)}{reason}"
    if found.routes_changed > len(found.routes):
        yield f"… and {found.routes_changed - len(found.routes):,} more routes"
    for flow in found.flows:
        mark = "~" if flow.changed else "="
        way = ", by another way" if flow.changed and flow.before == flow.after else ""
        after = "" if flow.before == flow.after else f" > {flow.after}"
        yield f"{mark} flow {flow.flow.source} > {flow.flow.to} {flow.flow.service}: {flow.before}{after}{way}"
    if found.is_same:
        yield "no difference"


def row_text(row: TableRow | None) -> str:
    """A route of a table on one line."""
    if row is None:
        return "none"
    return f"{row.protocol} {ranking_text(row)} {hops_text(row.next_hops) or row.action}"
