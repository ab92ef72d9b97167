"""What a routing policy does to every route that meets it, wherever it is asked.

Routes are asked one of a class at a time, in plain code; each answer says which statement decided, what it
changed, and what only the closing reject drops.
"""

from collections.abc import Iterator
from functools import partial

import numpy as np

from routrel.analysis.answers import policies
from routrel.analysis.contest.explainer import Explainer
from routrel.analysis.contest.policies import Asked, Decision, PolicyUse, RouteMet, ask, routes_met
from routrel.model.devices import Device
from routrel.model.policies import Policy
from routrel.model.redistribution import Redistribution
from routrel.routing.rib.table import OTHER, Source
from routrel.routing.solve import Solved
from routrel.topology.ports import Instance

MOST_ROUTES = 400
"""Routes listed per use; all are counted."""


class PolicyView:
    """The uses of one device's policy."""

    def __init__(self, solved: Solved, device: str, name: str):
        self.solved = solved
        self.explainer = Explainer(solved)
        self.topology = solved.topology
        self.device: Device = self.topology.devices[self.topology.device_index[device]]
        self.policy: Policy = self.device.policies[name]

    def uses(self) -> Iterator[PolicyUse]:
        """Every place that asks the policy, with the routes that meet it there."""
        for number in self.topology.instances_of(self.topology.device_index[self.device.name]):
            instance = self.topology.instances[number]
            routing = instance.routing
            if routing is None:
                continue
            where = "" if number < len(self.topology.devices) else f" of VRF {instance.vrf}"
            if routing.install_policy == self.policy.name:
                yield PolicyUse(f"what may enter the table{where}", routing.place, "", "", list(self._install(number)))
            yield from self._redistributions(instance, where)
            for solution, process in self.solved.processes_of(number):
                yield from self.explainer.contest_of(solution).policy_uses(process, self.policy)

    def _install(self, instance: int) -> Iterator[RouteMet]:
        table = self.solved.table(instance)
        for source in table.sources:
            numbers = np.flatnonzero(source.rows.present())
            yield from self._of_source(source, numbers.tolist())
        for column, route in sorted(table.standing().items()):
            if route.protocol not in ("connected", "local"):
                hops = tuple(hop.address for hop in route.next_hops if hop.address is not None)
                yield RouteMet(column, Asked(route.prefix, route.protocol, route.metric or 0, route.tag, hops))

    def _redistributions(self, instance: Instance, where: str) -> Iterator[PolicyUse]:
        for solution, process in self.solved.processes_of(instance.index):
            for rule in process.redistribute:
                if rule.policy == self.policy.name:
                    what = f"{rule.source} redistributed into {solution.protocol}{where}"
                    met = list(self._redistributed(instance.index, rule))
                    yield PolicyUse(what, rule.place, rule.source, solution.protocol, met)

    def _redistributed(self, instance: int, rule: Redistribution) -> Iterator[RouteMet]:
        table = self.solved.table(instance)
        winners = table.winners()
        for index, source in enumerate(table.sources):
            if source.protocol == rule.source:
                yield from self._of_source(source, np.flatnonzero(winners == index).tolist())
        for column, route in sorted(table.standing().items()):
            if route.protocol == rule.source and winners[column] == OTHER:
                hops = tuple(hop.address for hop in route.next_hops if hop.address is not None)
                given = (*route.given_next_hops, *hops)
                yield RouteMet(column, Asked(route.prefix, route.protocol, route.metric or 0, route.tag, given))

    def _of_source(self, source: Source, found: list[int]) -> Iterator[RouteMet]:
        contest = self.explainer.contest_of(source.solution)
        seen = partial(contest.path_seen, source.process.number)
        return routes_met(source.protocol, source.rows, found, self.solved.prefix_classes, seen)

    def report(self) -> policies.PolicyReport:
        """Everything."""
        uses = [self._use(use) for use in self.uses()]
        return policies.PolicyReport(
            self.device.name,
            self.policy.name,
            self.policy.place or None,
            [
                policies.PolicyStatement(
                    index + 1,
                    statement.name,
                    statement.description,
                    statement.result,
                    statement.place or None,
                    sum(use.statements[index].count for use in uses),
                )
                for index, statement in enumerate(self.policy.statements)
            ],
            uses,
        )

    def _use(self, use: PolicyUse) -> policies.PolicyUse:
        counts = [0] * len(self.policy.statements)
        accepted = changed = closing = total = 0
        routes: list[policies.PolicyRoute] = []
        members = _members(self.solved, [met.column for met in use.routes])
        for met in use.routes:
            decision = ask(self.policy, met.asked)
            prefixes = members[met.column]
            total += len(prefixes)
            for number in (*decision.touched, *([decision.statement] if decision.statement is not None else [])):
                counts[number - 1] += len(prefixes)
            changes = _changes(met, decision) if decision.accepted else []
            accepted += len(prefixes) * decision.accepted
            changed += len(prefixes) * bool(changes)
            closing += len(prefixes) * (decision.statement is None)
            path = met.asked.path
            as_path = None if path is None else " ".join(map(str, path.as_path))
            of = met.asked.protocol, as_path, decision.accepted, decision.statement, changes
            routes += (policies.PolicyRoute(prefix, *of) for prefix in prefixes[: max(0, MOST_ROUTES - len(routes))])
        shown = [policies.StatementCount(index + 1, count) for index, count in enumerate(counts)]
        return policies.PolicyUse(use.what, use.place or None, total, accepted, changed, closing, shown, routes)


def _members(solved: Solved, wanted: list[int]) -> dict[int, list[str]]:
    """The prefixes of some columns, as text."""
    found: dict[int, list[str]] = {column: [] for column in wanted}
    column_of = solved.prefix_classes.column
    for number in np.flatnonzero(np.isin(column_of, wanted)).tolist():
        found[int(column_of[number])].append(str(solved.prefixes.prefixes[number]))
    return found


def _changes(met: RouteMet, decision: Decision) -> list[policies.PolicyChange]:
    """What an accepted route carries on that it did not bring: name, before, after."""
    sets, path, after = decision.set, met.asked.path, decision.path
    found: list[tuple[str, object, object]] = [
        ("metric", met.asked.metric, sets.metric),
        ("metric type", None, sets.metric_type),
        ("tag", met.asked.tag, sets.tag),
        ("preference", None, sets.preference),
        ("local preference", met.local_preference, sets.local_preference),
        ("weight", met.weight, sets.weight),
        ("origin", met.origin, sets.origin),
        (
            "next hop",
            met.asked.next_hops[0] if met.asked.next_hops else None,
            "the router's own address" if sets.next_hop_self else sets.next_hop,
        ),
    ]
    if path is not None and after is not None:
        found[0] = ("MED", path.med, after.med if after.med != path.med else None)
        if after.as_path != path.as_path:
            found.append(("AS path", " ".join(map(str, path.as_path)), " ".join(map(str, after.as_path))))
        if after.communities != path.communities:
            found.append(
                ("communities", ", ".join(sorted(path.communities)), ", ".join(sorted(after.communities)) or "none")
            )
    else:
        found += [
            ("MED", None, sets.med),
            ("AS path", None, None if sets.as_path_prepend is None else f"with {sets.as_path_prepend} before it"),
            ("communities", None, None if sets.communities is None else str(sets.communities)),
        ]
    return [
        policies.PolicyChange(name, None if before in (None, "") else str(before), str(new))
        for name, before, new in found
        if new is not None and new != before and name not in met.without
    ]


def all_policies(solved: Solved) -> list[policies.Policy]:
    """All policies of the network, by device."""
    return [
        policies.Policy(device.name, policy.name, policy.place or None)
        for device in solved.topology.devices
        for policy in device.policies.values()
    ]


def policy_lines(report: policies.PolicyReport) -> Iterator[str]:
    """A report as lines for a terminal."""
    yield f"policy {report.policy} of {report.device}"
    for statement in report.statements:
        name = f" {statement.name}" if statement.name else ""
        never = "" if statement.matched or not report.uses else ": never matches"
        yield f"  statement {statement.number}{name}, {statement.result}: {statement.matched} routes{never}"
    if not report.uses:
        yield "nothing asks this policy"
    for use in report.uses:
        dropped = f", {use.closing} dropped by the closing reject alone" if use.closing else ""
        yield f"{use.what}: {use.total} routes, {use.accepted} accepted, {use.changed} changed{dropped}"
        for route in use.routes:
            by = "no statement" if route.statement is None else f"statement {route.statement}"
            verdict = "accepted" if route.accepted else "rejected"
            changes = ", ".join(f"{one.name} {one.before or 'none'} -> {one.after}" for one in route.changes)
            yield f"  {route.prefix:<22} {verdict} by {by}{': ' + changes if changes else ''}"
        if use.total > len(use.routes):
            yield f"  and {use.total - len(use.routes)} more"
