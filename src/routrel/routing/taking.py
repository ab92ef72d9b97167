"""What a process puts into its protocol now: one look at its table.

Only routes that are best in the table are put in (the network file's page), each as the rule it came by and
that rule's policy let it in.
"""

from collections.abc import Iterator

import numpy as np
import numpy.typing as npt

from routrel.model.addresses import Address, Prefix
from routrel.model.redistribution import Redistribution
from routrel.routing.bgp.solution import BgpSolution
from routrel.routing.policies import Column, HopMatch, Verdicts, accept_all, evaluate
from routrel.routing.representatives import Representatives
from routrel.routing.routes import NextHop, Route
from routrel.routing.rows import UNSET, Injected, PathAttributes, Process
from routrel.routing.table import NO_WINNER, OTHER, Table

Part = tuple[Column, Verdicts, Redistribution, Column | int, Column | int]
"""Prefix columns, what the policy says of them, the rule they came by, next hops (into a list), paths."""


class _Taking:
    """One look of a process at its table."""

    def __init__(self, table: Table, process: Process, own: int, ports: frozenset[int], bgp: BgpSolution | None):
        self.table = table
        self.process = process
        self.own = own
        self.ports = ports
        self.bgp = bgp
        self.winners = table.winners()
        self.hops: dict[NextHop, int] = {}
        device = table.topology.devices[table.topology.instances[table.instance].device]
        self.policies = device.policies

    def injected(self) -> Injected:
        """All that the process puts in."""
        parts: list[Part] = []
        for rule in self.process.redistribute:
            if rule.source in ("connected", "static"):
                parts.append(self._from_others(rule))
            else:
                parts += self._from_protocols(rule)
        default = self._default_route()
        if default is not None:
            parts.append(default)
        if self.bgp is not None:
            parts.append(self._networks(self.bgp))
        return _joined(parts, tuple(self.hops))

    def _part(
        self,
        rule: Redistribution,
        protocol: str,
        numbers: Column,
        metric: Column,
        tag: Column,
        hop_match: HopMatch,
        forward: Column | int,
        attributes: PathAttributes | None,
    ) -> Part:
        """Routes of one protocol as a rule and its policy let them in."""
        policy = self.policies[rule.policy] if rule.policy is not None else None
        said = self.bgp.said(len(numbers), rule) if self.bgp is not None else None
        given = said if said is not None else attributes
        verdicts = evaluate(policy, self.table.representatives, numbers, protocol, metric, tag, hop_match, given)
        if self.bgp is None or said is None:
            return numbers, verdicts, rule, forward, UNSET
        forward = np.broadcast_to(forward, numbers.shape)
        return numbers, verdicts, rule, forward, self.bgp.numbers(said, forward, tuple(self.hops))

    def _from_protocols(self, rule: Redistribution) -> Iterator[Part]:
        for index, source in enumerate(self.table.sources):
            if source.protocol != rule.source or index == self.own:
                continue
            numbers = _of_families(np.flatnonzero(self.winners == index), self.process, self.table.representatives)
            if not len(numbers):
                continue
            rows = source.rows
            yield self._part(
                rule,
                source.protocol,
                numbers,
                rows.metric[numbers].astype(np.int64),
                np.full(len(numbers), UNSET, np.int64) if rows.tag is None else rows.tag[numbers],
                rows.hop_match(numbers, self.table.representatives),
                self._next_hops(index, numbers),
                rows.attributes(numbers) if rows.attributes is not None else None,
            )

    def _from_others(self, rule: Redistribution) -> Part:
        """Connected or static routes that are best."""
        standing = self.table.standing_columns(rule.source)
        taken = self.winners[standing.numbers] == OTHER
        if len(self.process.families) == 1:
            family = self.table.representatives.of_family(self.process.families[0])
            taken &= (standing.numbers >= family.start) & (standing.numbers < family.stop)

        def routes() -> list[Route]:
            return [standing.routes[at] for at in np.flatnonzero(taken).tolist()]

        def hop_match(addresses: tuple[Address, ...]) -> npt.NDArray[np.bool_]:
            wanted = set(addresses)
            given = [{*route.given_next_hops, *(hop.address for hop in route.next_hops)} for route in routes()]
            return np.array([not wanted.isdisjoint(hops) for hops in given], bool)

        forward: Column | int = UNSET
        if standing.has_gateways and self._hands_on:
            forward = np.array([self._noted(route) for route in routes()], np.int64)
        return self._part(
            rule,
            rule.source,
            standing.numbers[taken],
            standing.metric[taken],
            standing.tag[taken],
            hop_match,
            forward,
            None,
        )

    def _networks(self, bgp: BgpSolution) -> Part:
        """BGP's ``networks`` that other protocols have in the table."""
        columns = self.table.representatives
        configured = bgp.database.speakers[self.process.number].bgp.networks
        numbers = np.array(sorted({columns.number.get(prefix, -1) for prefix, _ in configured} - {-1}), np.int64)
        there = self.winners[numbers]
        numbers = numbers[(there != NO_WINNER) & (there != self.own)]
        routes = [self.table.get(int(columns.first[number])) for number in numbers.tolist()]
        forward = np.array([self._noted(route) for route in routes], np.int64)
        paths = bgp.numbers(bgp.said(len(numbers), None), forward, tuple(self.hops))
        rule = Redistribution("network")
        return numbers, accept_all(len(numbers)), rule, forward, paths

    def _noted(self, route: Route | None) -> int:
        """The place in ``hops`` of what a route is handed on with as next hop, or UNSET.

        Of OSPF's the first, where that leads out of the process's own ports; of BGP's the only one there is.
        """
        if route is None:
            return UNSET
        if self.bgp is not None:
            gateways = [hop for hop in route.next_hops if hop.address is not None and not hop.address.is_link_local]
            is_single = len(route.next_hops) == 1 and gateways and gateways[0].address is not None
            if not is_single or gateways[0].address.family != route.prefix.family:  # type: ignore[union-attr]
                return UNSET
            return self.hops.setdefault(gateways[0], len(self.hops))
        for hop in route.next_hops:
            if hop.address is not None:
                return self.hops.setdefault(hop, len(self.hops)) if hop.port in self.ports else UNSET
        return UNSET

    @property
    def _hands_on(self) -> bool:
        """Whether the protocol says next hops of others at all."""
        return self.bgp is not None or bool(self.ports)

    def _next_hops(self, index: int, numbers: Column) -> Column | int:
        """What each route of a source is handed on with, looked up once per distinct set of next hops."""
        rows = self.table.sources[index].rows
        if not len(numbers) or not self._hands_on:
            return UNSET
        if self.bgp is None and not any(
            hop is not None and hop.port in self.ports for of_family in rows.hops.values() for hop in of_family
        ):
            return UNSET
        words = rows.masks[:, numbers]
        if self.bgp is not None and len(self.process.families) > 1:
            is_ipv6 = (numbers >= self.table.representatives.first_of_ipv6).astype(np.uint64)
            words = np.concatenate([words, is_ipv6[None]])
        _, first, inverse = np.unique(words, axis=1, return_index=True, return_inverse=True)
        wholes = self.table.representatives.first[numbers[first]].tolist()
        noted = [self._noted(self.table.source_route(index, whole)) for whole in wholes]
        return np.array(noted, np.int64)[inverse.reshape(-1)]

    def _default_route(self) -> Part | None:
        """The default a process originates: always, or while the table has one that is not its own."""
        configured = self.process.originate_default
        if configured is None:
            return None
        default = Prefix(self.process.families[0], 0, 0)
        number = self.table.representatives.number[default]
        is_known = self.winners[number] not in (NO_WINNER, self.own)
        if not configured.always and not is_known:
            return None
        rule = Redistribution("default", None, configured.metric, configured.metric_type, None, configured.place)
        forward = self._noted(self.table.get(self.table.prefixes.number[default]) if is_known else None)
        return np.array([number]), accept_all(1), rule, forward, UNSET


def injected_by(
    table: Table, process: Process, own: int, ports: frozenset[int], bgp: BgpSolution | None = None
) -> Injected:
    """What a process puts into its protocol now. ``own`` is its index among the table's sources.

    Next hops out of ``ports``, the process's own, are handed on: OSPF may say them as forwarding addresses
    (RFC 2328 section 12.4.4.1). ``bgp`` is the solution of a process of BGP.
    """
    return _Taking(table, process, own, ports, bgp).injected()


def _of_families(numbers: npt.NDArray[np.int64], process: Process, prefixes: Representatives) -> Column:
    if len(process.families) > 1:
        return numbers
    family = prefixes.of_family(process.families[0])
    kept: Column = numbers[(numbers >= family.start) & (numbers < family.stop)]
    return kept


def _joined(parts: list[Part], hops: tuple[NextHop, ...]) -> Injected:
    """Parts as one, by prefix; a policy's sets override what stands beside it. The last of a prefix counts."""
    tables = []
    for numbers, verdicts, rule, forward, paths in parts:
        if not len(numbers):
            continue
        table = np.empty((6, len(numbers)), np.int64)
        table[0], table[4], table[5] = numbers, forward, paths
        for row, column, beside in (
            (1, verdicts.metric, rule.metric),
            (2, verdicts.metric_type, rule.metric_type),
            (3, verdicts.tag, rule.tag),
        ):
            table[row] = column if beside is None else np.where(column == UNSET, beside, column)
        tables.append(table if verdicts.accepted.all() else table[:, verdicts.accepted])
    if not tables:
        return Injected(hops=hops)
    table = tables[0] if len(tables) == 1 else np.concatenate(tables, axis=1)
    if len(tables) > 1 and table.shape[1]:
        table = table[:, np.argsort(table[0], kind="stable")]
        is_last = np.append(table[0, 1:] != table[0, :-1], True)
        if not is_last.all():
            table = table[:, is_last]
    return Injected(table[0], table[1], table[2], table[3], table[4], table[5], hops)
