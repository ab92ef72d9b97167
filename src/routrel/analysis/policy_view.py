"""What a routing policy does to every route that meets it, wherever it is asked.

Routes are asked one of a class at a time, in plain code; each answer says which statement decided, what it
changed, and what only the closing reject drops.
"""

from collections.abc import Iterator
from dataclasses import dataclass, field

import numpy as np

from routrel.analysis.answers import Json, place_json
from routrel.analysis.contest.policies import Asked, Decision, PathSeen, ask
from routrel.model.addresses import Address, Prefix
from routrel.model.devices import Device
from routrel.model.places import Place
from routrel.model.policies import Policy
from routrel.model.redistribution import Redistribution
from routrel.routing.bgp import paths as columns
from routrel.routing.bgp.paths import Column, Rows
from routrel.routing.bgp.sessions import Channel
from routrel.routing.isis.solution import LEVEL_2_ROUTE
from routrel.routing.rows import UNSET, ProtocolRoutes
from routrel.routing.solve import Solved
from routrel.routing.table import OTHER, Source, Table
from routrel.topology.segments import Instance

MOST_ROUTES = 400
"""Routes listed per use; all are counted."""


NOT_SENT = frozenset({"weight", "tag", "preference"})
"""What a router keeps to itself of a BGP path."""


@dataclass(frozen=True, slots=True)
class Met:
    """A route that meets the policy: its column and how the policy sees it."""

    column: int
    asked: Asked
    local_preference: int | None = None
    weight: int | None = None
    origin: str | None = None
    without: frozenset[str] = frozenset()
    """What a policy may set here to no effect: it does not go out."""


@dataclass(frozen=True, slots=True)
class Use:
    """One place where a policy is asked."""

    what: str
    place: Place
    routes: list[Met] = field(default_factory=list)


class PolicyView:
    """The uses of one device's policy."""

    def __init__(self, solved: Solved, device: str, name: str):
        self.solved = solved
        self.topology = solved.topology
        self.device: Device = self.topology.devices[self.topology.device_index[device]]
        self.policy: Policy = self.device.policies[name]

    def uses(self) -> Iterator[Use]:
        """Every place that asks the policy, with the routes that meet it there."""
        for number in self.topology.instances_of(self.topology.device_index[self.device.name]):
            instance = self.topology.instances[number]
            routing = instance.routing
            if routing is None:
                continue
            where = "" if number < len(self.topology.devices) else f" of VRF {instance.vrf}"
            if routing.install_policy == self.policy.name:
                yield Use(f"what may enter the table{where}", routing.place, list(self._install(number)))
            yield from self._redistributions(instance, where)
            yield from self._leaks(number)
            yield from self._neighbors(number)

    def _install(self, instance: int) -> Iterator[Met]:
        table = self.solved.table(instance)
        for source in table.sources:
            numbers = np.flatnonzero(source.rows.present())
            yield from self._of_source(table, source, numbers.tolist())
        for column, route in sorted(table.standing().items()):
            if route.protocol not in ("connected", "local"):
                hops = tuple(hop.address for hop in route.next_hops if hop.address is not None)
                yield Met(column, Asked(route.prefix, route.protocol, route.metric or 0, route.tag, hops))

    def _redistributions(self, instance: Instance, where: str) -> Iterator[Use]:
        for solution, process in self.solved.processes_of(instance.index):
            for rule in process.redistribute:
                if rule.policy == self.policy.name:
                    what = f"{rule.source} redistributed into {solution.protocol}{where}"
                    yield Use(what, rule.place, list(self._redistributed(instance.index, rule)))

    def _redistributed(self, instance: int, rule: Redistribution) -> Iterator[Met]:
        table = self.solved.table(instance)
        winners = table.winners()
        for index, source in enumerate(table.sources):
            if source.protocol == rule.source:
                yield from self._of_source(table, source, np.flatnonzero(winners == index).tolist())
        for column, route in sorted(table.standing().items()):
            if route.protocol == rule.source and winners[column] == OTHER:
                hops = tuple(hop.address for hop in route.next_hops if hop.address is not None)
                given = (*route.given_next_hops, *hops)
                yield Met(column, Asked(route.prefix, route.protocol, route.metric or 0, route.tag, given))

    def _of_source(self, table: Table, source: Source, found: list[int]) -> Iterator[Met]:
        rows: ProtocolRoutes = source.rows
        for column in found:
            prefix = self.solved.representatives.prefixes[column]
            hops = tuple(hop.address for hop in rows.next_hops(column, prefix.family) if hop.address is not None)
            tag = None if rows.tag is None or rows.tag[column] == UNSET else int(rows.tag[column])
            path = self._best_path(source, column)
            yield Met(column, Asked(prefix, source.protocol, int(rows.metric[column]), tag, hops, path))

    def _best_path(self, source: Source, column: int) -> PathSeen | None:
        held = self.solved.bgp.propagation
        if source.solution is not self.solved.bgp or held is None:
            return None
        process = source.process.number
        via = int(held.via[process, column])
        neighbor = held.channels[via].receiving.neighbor.address if via >= 0 else None
        return self._seen(int(held.best[process, column]), neighbor)

    def _seen(self, number: int, neighbor: Address | None) -> PathSeen:
        paths = self.solved.bgp.paths
        row = paths.rows[number].tolist()
        med = None if row[columns.MED] < 0 else row[columns.MED]
        return PathSeen(
            paths.as_paths.values[row[columns.AS_PATH]],
            med,
            paths.communities.values[row[columns.COMMUNITIES]],
            neighbor,
        )

    def _leaks(self, instance: int) -> Iterator[Use]:
        for solution, process in self.solved.processes_of(instance):
            if solution is not self.solved.isis:
                continue
            leak = self.solved.isis.database.configured[process.number].leak
            if leak is None or leak.policy != self.policy.name:
                continue
            rows = self.solved.isis.routes_of(process.number)
            found = np.flatnonzero((rows.kind == LEVEL_2_ROUTE) & rows.present()).tolist()
            table = self.solved.table(instance)
            source = next(one for one in table.sources if one.process is process)
            yield Use("level 2 leaked into level 1 of IS-IS", leak.place, list(self._of_source(table, source, found)))

    def _neighbors(self, instance: int) -> Iterator[Use]:
        for solution, process in self.solved.processes_of(instance):
            if solution is not self.solved.bgp:
                continue
            speaker = self.solved.bgp.database.speakers[process.number]
            for neighbor in speaker.bgp.neighbors:
                for direction, name in (("import", neighbor.import_policy), ("export", neighbor.export_policy)):
                    if name != self.policy.name:
                        continue
                    what = f"{direction} {'from' if direction == 'import' else 'to'} neighbor {neighbor.address}"
                    what += f" ({neighbor.description})" if neighbor.description else ""
                    channel = self._channel(process.number, neighbor.address, direction)
                    if channel is None:
                        yield Use(f"{what}, whose session is down", neighbor.place)
                    else:
                        yield Use(what, neighbor.place, list(self._on_channel(channel, direction)))

    def _channel(self, process: int, address: Address, direction: str) -> Channel | None:
        for channel in self.solved.bgp.state.channels:
            end = channel.receiving if direction == "import" else channel.sending
            if end.process == process and end.neighbor.address == address:
                return channel
        return None

    def _on_channel(self, channel: Channel, direction: str) -> Iterator[Met]:
        """The paths that a channel's policy is asked of: before export, or as they came in."""
        bgp = self.solved.bgp
        held, messages = bgp.propagation, bgp.messages
        if held is None:
            return
        everything = np.arange(len(self.solved.representatives))
        ids, via = held.announced(channel.sender)
        allowed = messages.may_send(channel, everything, ids, via)
        found = np.flatnonzero(allowed)
        numbers = ids[found]
        neighbor = channel.sending.neighbor.address
        if direction == "import":
            accepted, rows = messages.sent(channel, found, ids[found], via[found])
            found, rows = found[accepted], rows[accepted]
            if channel.sending.neighbor.originate_default:
                found, rows = self._with_default(channel, found, rows)
            numbers = bgp.paths.numbers_of(rows)
            kept = messages.is_held(channel, bgp.paths.rows[numbers])
            found, numbers = found[kept], numbers[kept]
            neighbor = channel.receiving.neighbor.address
        without = frozenset() if direction == "import" else NOT_SENT
        if direction == "export" and channel.external:
            without |= {"local preference"}
        weight = channel.receiving.neighbor.weight if direction == "import" else None
        for column, number in zip(found.tolist(), numbers.tolist(), strict=True):
            row = bgp.paths.rows[number].tolist()
            hop = bgp.paths.next_hops.values[row[columns.NEXT_HOP]]
            seen = self._seen(number, neighbor)
            tag = None if row[columns.TAG] < 0 else row[columns.TAG]
            prefix = self.solved.representatives.prefixes[column]
            asked = Asked(prefix, "bgp", seen.med or 0, tag, () if hop is None else (hop,), seen)
            origin = columns.ORIGINS[row[columns.ORIGIN]]
            yield Met(column, asked, row[columns.LOCAL_PREFERENCE], weight, origin, without)

    def _with_default(self, channel: Channel, found: Column, rows: Rows) -> tuple[Column, Rows]:
        """What comes in by a channel with the default that its sender says in any case."""
        for family, _ in channel.next_hops:
            column = self.solved.representatives.number[Prefix(family, 0, 0)]
            others = found != column
            said = self.solved.bgp.messages.default_sent(channel, column)
            found, rows = np.append(found[others], column), np.concatenate([rows[others], said])
        order = np.argsort(found)
        return found[order], rows[order]

    def report(self) -> Json:
        """Everything as plain data."""
        uses = [self._use_json(use) for use in self.uses()]
        hits = [sum(use["statements"][index]["count"] for use in uses) for index in range(len(self.policy.statements))]
        return {
            "device": self.device.name,
            "policy": self.policy.name,
            "place": place_json(self.policy.place),
            "statements": [
                {
                    "number": index + 1,
                    "name": statement.name,
                    "description": statement.description,
                    "result": statement.result,
                    "place": place_json(statement.place),
                    "matched": hits[index],
                }
                for index, statement in enumerate(self.policy.statements)
            ],
            "uses": uses,
        }

    def _use_json(self, use: Use) -> Json:
        counts = [0] * len(self.policy.statements)
        accepted = changed = closing = total = 0
        routes: list[Json] = []
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
            for prefix in prefixes[: max(0, MOST_ROUTES - len(routes))]:
                path = met.asked.path
                routes.append(
                    {
                        "prefix": prefix,
                        "protocol": met.asked.protocol,
                        "as_path": None if path is None else " ".join(map(str, path.as_path)),
                        "accepted": decision.accepted,
                        "statement": decision.statement,
                        "changes": changes,
                    }
                )
        return {
            "what": use.what,
            "place": place_json(use.place),
            "total": total,
            "accepted": accepted,
            "changed": changed,
            "closing": closing,
            "statements": [{"number": index + 1, "count": count} for index, count in enumerate(counts)],
            "routes": routes,
        }


def _members(solved: Solved, wanted: list[int]) -> dict[int, list[str]]:
    """The prefixes of some columns, as text."""
    found: dict[int, list[str]] = {column: [] for column in wanted}
    column_of = solved.representatives.column
    for number in np.flatnonzero(np.isin(column_of, wanted)).tolist():
        found[int(column_of[number])].append(str(solved.prefixes.prefixes[number]))
    return found


def _changes(met: Met, decision: Decision) -> list[Json]:
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
        ("next hop", met.asked.next_hops[0] if met.asked.next_hops else None, sets.next_hop),
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
        {"name": name, "before": None if before in (None, "") else str(before), "after": str(new)}
        for name, before, new in found
        if new is not None and new != before and name not in met.without
    ]


def policies_json(solved: Solved) -> list[Json]:
    """All policies of the network, by device."""
    return [
        {"device": device.name, "policy": policy.name, "place": place_json(policy.place)}
        for device in solved.topology.devices
        for policy in device.policies.values()
    ]


def policy_lines(report: Json) -> Iterator[str]:
    """A report as lines for a terminal."""
    yield f"policy {report['policy']} of {report['device']}"
    for statement in report["statements"]:
        name = f" {statement['name']}" if statement["name"] else ""
        never = "" if statement["matched"] or not report["uses"] else ": never matches"
        yield f"  statement {statement['number']}{name}, {statement['result']}: {statement['matched']} routes{never}"
    if not report["uses"]:
        yield "nothing asks this policy"
    for use in report["uses"]:
        dropped = f", {use['closing']} dropped by the closing reject alone" if use["closing"] else ""
        yield f"{use['what']}: {use['total']} routes, {use['accepted']} accepted, {use['changed']} changed{dropped}"
        for route in use["routes"]:
            by = "no statement" if route["statement"] is None else f"statement {route['statement']}"
            verdict = "accepted" if route["accepted"] else "rejected"
            changes = ", ".join(
                f"{one['name']} {one['before'] or 'none'} -> {one['after']}" for one in route["changes"]
            )
            yield f"  {route['prefix']:<22} {verdict} by {by}{': ' + changes if changes else ''}"
        if use["total"] > len(use["routes"]):
            yield f"  and {use['total'] - len(use['routes'])} more"
