"""What processes put into their protocol now: their looks at their tables.

Only routes that are best in the table are put in (the network file's page), each as the rule it came by and
that rule's policy let it in. Processes with the same rules and policies look together: an entry of the
columns here is one prefix of one look.
"""

from collections.abc import Hashable, Iterable, Sequence
from typing import Any, NamedTuple

import numpy as np

from routrel.model.addresses import Address, Prefix
from routrel.model.policies import Policy
from routrel.model.redistribution import Redistribution
from routrel.routing.arrays import UNSET, Column, Digests, Flags
from routrel.routing.policies import HopMatch, Verdicts, accept_all, evaluate
from routrel.routing.protocol import AnySolution, Participant, Process, Tables
from routrel.routing.protocol_routes import PathAttributes
from routrel.routing.redistributed import Redistributed
from routrel.routing.rib.table import NO_WINNER, OTHER, Table
from routrel.routing.routes import NextHop, Route
from routrel.topology.segments import Topology


class Part(NamedTuple):
    """Entries that came by one rule: (n,) each, a single number standing for all."""

    look: Column
    numbers: Column
    verdicts: Verdicts
    rule: Redistribution
    forward: Column | int
    """Next hops, into the look's list."""
    paths: Column | int


class RedistributingProcess(Participant[Redistributed]):
    """A process that puts routes of its table into its protocol.

    ``sources`` are those of its instance's table; what it puts in goes to ``kept``, by process.
    """

    def __init__(
        self,
        solution: AnySolution,
        process: Process,
        sources: Sequence[tuple[AnySolution, Process]],
        kept: dict[int, Redistributed],
    ):
        self.solution = solution
        self.process = process
        self.instance = process.instance
        self.is_columnwise = process.originate_default is None and solution.path_exports is None
        self.forwarding_ports = solution.forwarding_ports(process.number)
        self._sources = sources
        self._kept = kept
        self._alike: Hashable = None

    def look(self, tables: Tables) -> tuple[Redistributed, bytes]:
        return self.look_together([self], tables)[0]

    def take(self, value: Redistributed) -> None:
        self._kept[self.process.number] = value

    def digests(self, value: Redistributed, count: int) -> Digests:
        return value.digests(count)

    def alike(self) -> Hashable:
        """Equal for processes that may look together: all that ``_Looks`` takes from the first look alone."""
        if self._alike is None and not any(solution.carries_paths for solution, _ in self._sources):
            process, default = self.process, self.process.originate_default
            self._alike = (
                process.protocol,
                self._sources.index((self.solution, process)),
                process.families,
                tuple(
                    (rule.source, rule.policy, rule.metric, rule.metric_type, rule.tag) for rule in process.redistribute
                ),
                default and (default.always, default.metric, default.metric_type),
                tuple(source.protocol for _, source in self._sources),
                tuple(
                    (name, tuple((statement.match, statement.set, statement.result) for statement in policy.statements))
                    for name, policy in sorted(_policies(self.solution.topology, process).items())
                ),
            )
        return self._alike

    @classmethod
    def look_together(cls, participants: Sequence[Any], tables: Tables) -> list[tuple[Redistributed, bytes]]:
        looks = [Look(tables(one.process.instance), one) for one in participants]
        return [(found, found.key()) for found in _Looks(looks).redistributed()]


class Look:
    """One process before its table."""

    def __init__(self, table: Table, participant: RedistributingProcess):
        self.table = table
        self.solution = participant.solution
        self.process = participant.process
        self.own = table.index_of(self.process)
        self.ports = participant.forwarding_ports
        self.hops: dict[NextHop, int] = {}
        """The next hops that are handed on, with their places."""

    def is_handed_on(self, hops: Iterable[NextHop | None]) -> bool:
        """Whether the protocol may hand on any of some next hops of others."""
        return self.ports is None or any(hop is not None and hop.port in self.ports for hop in hops)

    def noted(self, route: Route | None) -> int:
        """The place in ``hops`` of what a route is handed on with as next hop, or UNSET."""
        hop = None if route is None else self.solution.handed_on(self.process.number, route)
        return UNSET if hop is None else self.hops.setdefault(hop, len(self.hops))

    def next_hops(self, index: int, numbers: Column) -> Column | int:
        """What each route of a source is handed on with, looked up once per distinct set of next hops."""
        rows = self.table.sources[index].rows
        if not len(numbers) or not self.is_handed_on(hop for hops in rows.hops.values() for hop in hops):
            return UNSET
        words = rows.masks[:, numbers]
        if len(self.process.families) > 1:
            is_ipv6 = self.table.prefix_classes.is_ipv6[numbers].astype(np.uint64)
            words = np.concatenate([words, is_ipv6[None]])
        _, first, inverse = np.unique(words, axis=1, return_index=True, return_inverse=True)
        wholes = self.table.prefix_classes.first[numbers[first]].tolist()
        noted = [self.noted(self.table.source_route(index, whole)) for whole in wholes]
        return np.array(noted, np.int64)[inverse.reshape(-1)]


class _Looks:
    """Looks of processes that are alike: with the same rules, policies and sources."""

    def __init__(self, looks: Sequence[Look]):
        self.looks = looks
        first = looks[0]
        self.process, self.own = first.process, first.own
        self.exports = first.solution.path_exports
        self.prefixes = first.table.prefix_classes
        self.policies = _policies(first.table.topology, first.process)
        self.networks = list(first.solution.networks_of(first.process.number))
        self.winners = np.stack([look.table.winners() for look in looks])

    def redistributed(self) -> list[Redistributed]:
        """All that each process puts in."""
        parts: list[Part] = []
        for rule in self.process.redistribute:
            if rule.source in ("connected", "static"):
                parts.append(self._from_others(rule))
            else:
                for index, source in enumerate(self.looks[0].table.sources):
                    if source.protocol == rule.source and index != self.own:
                        parts.append(self._from_protocol(rule, index))
        if self.process.originate_default is not None:
            parts += [part for at in range(len(self.looks)) for part in self._default_route(at)]
        if self.networks:
            parts.append(self._announced_networks())
        return self._joined(parts)

    def _part(
        self,
        rule: Redistribution,
        look: Column,
        numbers: Column,
        metric: Column,
        tag: Column,
        hop_match: HopMatch,
        forward: Column | int,
        attributes: PathAttributes | None,
    ) -> Part:
        """Routes of one protocol as a rule and its policy let them in."""
        policy = self.policies[rule.policy] if rule.policy is not None else None
        said = self.exports.said(len(numbers), rule) if self.exports is not None else None
        given = said if said is not None else attributes
        verdicts = evaluate(policy, self.prefixes, numbers, rule.source, metric, tag, hop_match, given)
        return Part(look, numbers, verdicts, rule, forward, self._paths(said, forward, len(numbers)))

    def _paths(self, said: PathAttributes | None, forward: Column | int, count: int) -> Column | int:
        """The path numbers of what is said, where the protocol has any."""
        if self.exports is None:
            return UNSET
        return self.exports.numbers(said, np.broadcast_to(forward, (count,)), tuple(self.looks[0].hops))

    def _from_protocol(self, rule: Redistribution, index: int) -> Part:
        rows = [look.table.sources[index].rows for look in self.looks]
        taken = self.winners == index
        if len(self.process.families) == 1:
            taken &= self.prefixes.of_family(self.process.families[0])
        at, numbers = np.nonzero(taken)
        metric, tag = np.zeros(len(at), np.int64), np.full(len(at), UNSET)
        forward: Column | int = UNSET
        slices = _slices(at, len(self.looks))
        for look, own, chosen in zip(self.looks, rows, slices, strict=True):
            metric[chosen] = own.metric[numbers[chosen]]
            if own.tag is not None:
                tag[chosen] = own.tag[numbers[chosen]]
            handed = look.next_hops(index, numbers[chosen])
            if not isinstance(handed, int):
                forward = np.full(len(at), UNSET) if isinstance(forward, int) else forward
                forward[chosen] = handed

        def hop_match(addresses: tuple[Address, ...]) -> Flags:
            found = (own.hop_match(numbers[chosen], self.prefixes) for own, chosen in zip(rows, slices, strict=True))
            return np.concatenate([match(addresses) for match in found])

        of_paths = rows[0].attributes
        attributes = of_paths(numbers) if of_paths is not None and len(self.looks) == 1 else None
        return self._part(rule, at, numbers, metric, tag, hop_match, forward, attributes)

    def _from_others(self, rule: Redistribution) -> Part:
        """Connected or static routes that are best."""
        standing = [look.table.route_columns(rule.source) for look in self.looks]
        at = np.repeat(np.arange(len(standing)), [len(one.numbers) for one in standing])
        numbers = np.concatenate([one.numbers for one in standing])
        taken = self.winners[at, numbers] == OTHER
        if len(self.process.families) == 1:
            taken &= self.prefixes.of_family(self.process.families[0])[numbers]
        slices = _slices(at, len(standing))

        def routes() -> list[tuple[Look, Route]]:
            return [
                (look, one.routes[position])
                for look, one, chosen in zip(self.looks, standing, slices, strict=True)
                for position in np.flatnonzero(taken[chosen]).tolist()
            ]

        def hop_match(addresses: tuple[Address, ...]) -> Flags:
            return np.array([_leads_to(route, addresses) for _, route in routes()], np.bool_)

        forward: Column | int = UNSET
        if any(one.has_gateways and look.ports != frozenset() for look, one in zip(self.looks, standing, strict=True)):
            forward = np.array([look.noted(route) for look, route in routes()], np.int64)
        metric = np.concatenate([one.metric for one in standing])
        tag = np.concatenate([one.tag for one in standing])
        return self._part(rule, at[taken], numbers[taken], metric[taken], tag[taken], hop_match, forward, None)

    def _announced_networks(self) -> Part:
        """Networks of the protocol's own that others have in the table."""
        (look,) = self.looks
        numbers = np.array(sorted({self.prefixes.number.get(prefix, -1) for prefix in self.networks} - {-1}), np.int64)
        there = self.winners[0, numbers]
        numbers = numbers[(there != NO_WINNER) & (there != self.own)]
        routes = [look.table.get(int(self.prefixes.first[number])) for number in numbers.tolist()]
        forward = np.array([look.noted(route) for route in routes], np.int64)
        said = None if self.exports is None else self.exports.said(len(numbers), None)
        paths = self._paths(said, forward, len(numbers))
        return Part(
            np.zeros_like(numbers), numbers, accept_all(len(numbers)), Redistribution("network"), forward, paths
        )

    def _default_route(self, at: int) -> list[Part]:
        """The default a process originates: always, or while the table has one that is not its own."""
        configured, look = self.process.originate_default, self.looks[at]
        assert configured is not None
        default = Prefix(self.process.families[0], 0, 0)
        number = self.prefixes.number[default]
        is_known = self.winners[at, number] not in (NO_WINNER, self.own)
        if not configured.always and not is_known:
            return []
        rule = Redistribution("default", None, configured.metric, configured.metric_type, None, configured.place)
        forward = look.noted(look.table.get(look.table.prefixes.number[default]) if is_known else None)
        return [Part(np.array([at]), np.array([number]), accept_all(1), rule, forward, UNSET)]

    def _joined(self, parts: list[Part]) -> list[Redistributed]:
        """Parts as one, by look and prefix; a policy's sets override what stands beside it.

        Of a prefix that stands in several parts the last one's row is kept.
        """
        tables = [np.zeros((7, 0), np.int64)]
        for look, numbers, verdicts, rule, forward, paths in parts:
            table = np.empty((7, len(numbers)), np.int64)
            table[0], table[1], table[5], table[6] = look, numbers, forward, paths
            for row, column, beside in (
                (2, verdicts.metric, rule.metric),
                (3, verdicts.metric_type, rule.metric_type),
                (4, verdicts.tag, rule.tag),
            ):
                table[row] = column if beside is None else np.where(column == UNSET, beside, column)
            tables.append(table[:, verdicts.accepted])
        table = np.concatenate(tables, axis=1)
        keys = table[0] * len(self.prefixes) + table[1]
        order = np.argsort(keys, kind="stable")
        keys = keys[order]
        is_last = np.ones(len(keys), np.bool_)
        is_last[:-1] = keys[1:] != keys[:-1]
        table = table[:, order[is_last]]
        return [
            Redistributed(table[1:, chosen], tuple(look.hops))
            for look, chosen in zip(self.looks, _slices(table[0], len(self.looks)), strict=True)
        ]


def _policies(topology: Topology, process: Process) -> dict[str, Policy]:
    """The policies that a process's rules name."""
    policies = topology.devices[topology.instances[process.instance].device].policies
    return {rule.policy: policies[rule.policy] for rule in process.redistribute if rule.policy is not None}


def _slices(looks: Column, count: int) -> list[slice]:
    """Where each look's entries stand, in entries sorted by look."""
    ends = np.searchsorted(looks, np.arange(count + 1)).tolist()
    return [slice(ends[at], ends[at + 1]) for at in range(count)]


def _leads_to(route: Route, addresses: tuple[Address, ...]) -> bool:
    given = {*route.given_next_hops, *(hop.address for hop in route.next_hops)}
    return not given.isdisjoint(addresses)
