"""What leads flows on their ways: the routes in use, the entries met, the policy statements that let the routes in.

Each that can be taken out of the network comes with the network without it.
"""

from collections.abc import Iterable, Iterator
from itertools import chain
from typing import Any, Literal, NamedTuple

from routrel.analysis.contest.policies import Decision, PolicyUse, ask
from routrel.analysis.evidence import Evidence
from routrel.analysis.expectations.conditions import stops_of
from routrel.analysis.offered_changes import instance_target, taken_out
from routrel.analysis.policy_view import PolicyView
from routrel.forwarding.flow import Walk
from routrel.forwarding.trace import AclCheck, Stop
from routrel.model.addresses import Prefix
from routrel.model.devices import Device
from routrel.model.fields import replace
from routrel.model.filters import Acl
from routrel.model.network import Network
from routrel.model.places import Place
from routrel.model.routing import DEFAULT_INSTANCE, RoutingInstance
from routrel.routing.routes import Route
from routrel.routing.solve import Solved

MOST_POLICIES = 200
"""Policies that are asked of the routes in use."""

Kind = Literal["route", "entry", "policy"]


class Decider(NamedTuple):
    """A route, an entry or a statement, in words; ``change`` takes it out, where that can be done by itself."""

    kind: Kind
    device: str
    words: str
    place: Place | None
    change: dict[str, Any] | None = None
    without: Network | None = None

    @property
    def key(self) -> tuple[Kind, str, str]:
        """What tells it from others."""
        return self[:3]


def deciders(evidence: Evidence, walks: Iterable[Walk]) -> list[Decider]:
    """All that lead some flows, there and back, each once: entries, routes, then policies."""
    found = dict[tuple[Kind, str, str], Decider]()
    used = dict[Prefix, set[str]]()
    for walk in walks:
        for stop in stops_of(walk):
            for one in deciders_of_stop(evidence, stop):
                found.setdefault(one.key, one)
            if stop.route is not None:
                used.setdefault(stop.route.prefix, set()).add(stop.route.protocol)
    ordered = sorted(found.values(), key=lambda one: (one.kind != "entry", one.device, one.words))
    return [*ordered, *_policies(evidence.solved, used)]


def deciders_of_stop(evidence: Evidence, stop: Stop) -> Iterator[Decider]:
    """The entries met at a stop, and the route that is used there."""
    solved = evidence.solved
    device, shown = solved.topology.devices[stop.device], evidence.stop(stop)
    for check in chain(shown.checks, *(branch.checks for branch in shown.branches)):
        if check.kind in ("filter", "translation"):
            yield Decider("entry", device.name, check.message, check.place)
        elif check.kind == "steering":
            yield _steered(solved.network, device, stop, check.message, check.place)
        elif check.kind == "acl_in":
            yield _entry(solved.network, device, stop.acl_in, check.message, check.place)
        elif check.kind == "route":
            yield _route(solved, stop, check.message, check.place)
    for branch, of in zip(stop.branches, shown.branches, strict=True):
        for check in of.checks:
            if check.kind == "acl_out":
                yield _entry(solved.network, device, branch.acl_out, check.message, check.place)


def _entry(network: Network, device: Device, check: AclCheck | None, words: str, place: Place | None) -> Decider:
    if check is None or check.entry is None:
        return Decider("entry", device.name, words, place)
    return entry_taken_out(network, device, device.acls[check.acl], check.entry, words, place)


def entry_taken_out(network: Network, device: Device, acl: Acl, entry: int, words: str, place: Place | None) -> Decider:
    """An entry of a list, by its index, that can be taken out."""
    entries = tuple(one for index, one in enumerate(acl.entries) if index != entry)
    acls = {**device.acls, acl.name: replace(acl, entries=entries)}
    change = taken_out("acl_entry", {"at": device.name, "acl": acl.name}, entry).change
    return Decider("entry", device.name, words, place, change, _with(network, replace(device, acls=acls)))


def _steered(network: Network, device: Device, stop: Stop, words: str, place: Place | None) -> Decider:
    check = stop.steering
    if check is None or check.entry is None:
        return Decider("entry", device.name, words, place)
    policy = device.forwarding_policies[check.policy]
    entries = tuple(one for index, one in enumerate(policy.entries) if index != check.entry)
    policies = {**device.forwarding_policies, policy.name: replace(policy, entries=entries)}
    change = taken_out("steering_entry", {"at": device.name, "policy": policy.name}, check.entry).change
    changed = _with(network, replace(device, forwarding_policies=policies))
    return Decider("entry", device.name, words, place, change, changed)


def _route(solved: Solved, stop: Stop, words: str, place: Place | None) -> Decider:
    """A route; a static one with the network without it."""
    route, instance = stop.route, solved.topology.instances[stop.instance]
    device = solved.topology.devices[stop.device]
    routing = instance.routing
    number = None if route is None or routing is None else _static(routing, route)
    if number is None or routing is None:
        return Decider("route", device.name, words, place)
    left = tuple(one for index, one in enumerate(routing.static) if index != number)
    changed = replace(routing, static=left)
    if instance.vrf == DEFAULT_INSTANCE:
        changed_device = replace(device, routing=changed)
    else:
        changed_device = replace(device, vrfs={**device.vrfs, instance.vrf: changed})
    change = taken_out("static", instance_target(device.name, instance.vrf), number).change
    return Decider("route", device.name, words, place, change, _with(solved.network, changed_device))


def _static(routing: RoutingInstance, route: Route) -> int | None:
    """The index of the static route that a route comes from, where it is one alone."""
    if route.protocol != "static":
        return None
    found = [index for index, one in enumerate(routing.static) if one.place == route.place]
    return found[0] if len(found) == 1 and route.place else None


def _with(network: Network, device: Device) -> Network:
    return replace(network, devices={**network.devices, device.name: device})


def _policies(solved: Solved, used: dict[Prefix, set[str]]) -> Iterator[Decider]:
    """The statements that decide about prefixes in use, where their routes meet a policy on the way to who uses them:
    into a protocol by which one is used, or of which its routes are redistributed there."""
    met = list(_met(solved, used))
    protocols = {prefix: set(some) for prefix, some in used.items()}
    grown = True
    while grown:
        grown = False
        for _, use, prefix, decision in met:
            wanted = protocols[prefix]
            if decision.accepted and use.into in wanted and use.source not in wanted:
                wanted.add(use.source)
                grown = True
    seen = set[tuple[str, str, int | None, str]]()
    for view, use, prefix, decision in met:
        key = view.device.name, view.policy.name, decision.statement, use.what
        if key in seen or (use.into and use.into not in protocols[prefix]):
            continue
        seen.add(key)
        yield _statement(solved.network, view, use, prefix, decision)


def policies_left_out(solved: Solved) -> int:
    """How many policies of a network are not looked through."""
    return max(0, len(_named(solved)) - MOST_POLICIES)


def _named(solved: Solved) -> list[tuple[str, str]]:
    return [(device.name, name) for device in solved.topology.devices for name in device.policies]


def _met(solved: Solved, used: Iterable[Prefix]) -> Iterator[tuple[PolicyView, PolicyUse, Prefix, Decision]]:
    columns = {int(solved.prefix_classes.column[solved.prefixes.number[prefix]]): prefix for prefix in used}
    for device, name in _named(solved)[:MOST_POLICIES]:
        view = PolicyView(solved, device, name)
        for use in view.uses():
            for route in use.routes:
                if route.column in columns:
                    yield view, use, columns[route.column], ask(view.policy, route.asked)


def _statement(network: Network, view: PolicyView, use: PolicyUse, prefix: Prefix, decision: Decision) -> Decider:
    words = f"{use.what}, {prefix}: {decision.words(view.policy)}"
    device, policy = view.device, view.policy
    if decision.statement is None or decision.by is None:
        return Decider("policy", device.name, words, policy.place or None)
    index = decision.statement - 1
    left = tuple(one for number, one in enumerate(policy.statements) if number != index)
    policies = {**device.policies, policy.name: replace(policy, statements=left)}
    change = taken_out("statement", {"at": device.name, "policy": policy.name}, index).change
    without = _with(network, replace(device, policies=policies))
    return Decider("policy", device.name, words, decision.by.place or None, change, without)
