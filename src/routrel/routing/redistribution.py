"""Redistribution among protocols, solved as a fixed point.

What a process puts into its protocol depends on its table, and tables depend on what is put in. Starting
from nothing, all redistributing instances look at their tables and put in what they find, round by round,
until nothing changes. Where that comes back to an earlier state, instances act one after the other from
there on, as routers that never act in the same instant do; where that comes round too, there is no stable
state, and the prefixes that keep changing are reported. A network's origin stays the same throughout:
only routes that are best in the table are put in (the network file's page).
"""

from collections import defaultdict
from collections.abc import Callable, Iterator
from dataclasses import dataclass

import numpy as np
import numpy.typing as npt

from routrel.model.addresses import Address, Prefix
from routrel.model.findings import Finding, some_of
from routrel.model.redistribution import Redistribution
from routrel.routing.bgp.solution import BgpSolution
from routrel.routing.ospf.solution import OspfSolution
from routrel.routing.policies import Column, HopMatch, Verdicts, accept_all, evaluate
from routrel.routing.representatives import Representatives
from routrel.routing.routes import NextHop, Route
from routrel.routing.rows import UNSET, Injected, PathAttributes, Process, ProtocolSolution
from routrel.routing.table import NO_WINNER, OTHER, Table
from routrel.topology.segments import Topology

ROUNDS = 500
"""More rounds than information needs to cross any chain of redistribution points seen in practice."""


@dataclass(frozen=True, slots=True)
class Unsettled:
    """Redistribution without a stable state: who keeps changing its mind, about which prefixes."""

    processes: tuple[tuple[int, int], ...]
    """(solution, process) pairs."""
    prefixes: tuple[Prefix, ...]
    rounds: int


Part = tuple[Column, Verdicts, Redistribution, Column, Column]
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
        forward: Column,
        attributes: PathAttributes | None,
    ) -> Part:
        """Routes of one protocol as a rule and its policy let them in."""
        policy = self.policies[rule.policy] if rule.policy is not None else None
        said = self.bgp.said(len(numbers), rule) if self.bgp is not None else None
        given = said if said is not None else attributes
        verdicts = evaluate(policy, self.table.representatives, numbers, protocol, metric, tag, hop_match, given)
        paths = np.full(len(numbers), UNSET, np.int64)
        if self.bgp is not None and said is not None:
            paths = self.bgp.numbers(said, forward, tuple(self.hops))
        return numbers, verdicts, rule, forward, paths

    def _from_protocols(self, rule: Redistribution) -> Iterator[Part]:
        for index, source in enumerate(self.table.sources):
            if source.protocol != rule.source or index == self.own:
                continue
            numbers = _of_families(np.flatnonzero(self.winners == index), self.process, self.table.representatives)
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
        found: list[tuple[int, Route]] = sorted(
            (number, route)
            for number, route in self.table.standing().items()
            if route.protocol == rule.source
            and self.winners[number] == OTHER
            and route.prefix.family in self.process.families
            and not route.prefix.is_link_local
        )

        def hop_match(addresses: tuple[Address, ...]) -> npt.NDArray[np.bool_]:
            given = [
                {*route.given_next_hops, *(hop.address for hop in route.next_hops)} & set(addresses)
                for _, route in found
            ]
            return np.array([bool(hits) for hits in given], bool)

        return self._part(
            rule,
            rule.source,
            np.array([number for number, _ in found], np.int64),
            np.array([route.metric or 0 for _, route in found], np.int64),
            np.array([UNSET if route.tag is None else route.tag for _, route in found], np.int64),
            hop_match,
            np.array([self._noted(route) for _, route in found], np.int64),
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

    def _next_hops(self, index: int, numbers: Column) -> Column:
        """What each route of a source is handed on with, looked up once per distinct set of next hops."""
        rows = self.table.sources[index].rows
        possible = self.bgp is not None or any(
            hop is not None and hop.port in self.ports for of_family in rows.hops.values() for hop in of_family
        )
        if not possible or not len(numbers):
            return np.full(len(numbers), UNSET, np.int64)
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
        return np.array([number]), accept_all(1), rule, np.array([forward]), np.array([UNSET])


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
    if not parts:
        return Injected()
    columns = []
    for numbers, verdicts, rule, forward, paths in parts:
        rows = [numbers]
        for column, beside in (
            (verdicts.metric, rule.metric),
            (verdicts.metric_type, rule.metric_type),
            (verdicts.tag, rule.tag),
        ):
            rows.append(column if beside is None else np.where(column == UNSET, beside, column))
        columns.append(np.stack([*rows, forward, paths])[:, verdicts.accepted])
    table = columns[0] if len(columns) == 1 else np.concatenate(columns, axis=1)
    if len(columns) > 1 and table.shape[1]:
        order = np.argsort(table[0], kind="stable")
        table = table[:, order]
        # Of a prefix that stands in several parts the last part's row is kept.
        table = table[:, np.append(table[0, 1:] != table[0, :-1], True)]
    return Injected(table[0], table[1], table[2], table[3], table[4], table[5], hops)


class Settling:
    """The rounds of redistribution over one network."""

    def __init__(
        self,
        topology: Topology,
        prefixes: Representatives,
        solutions: list[ProtocolSolution],
        make_table: Callable[[int], Table],
    ):
        self.topology = topology
        self.prefixes = prefixes
        self.solutions = solutions
        self.make_table = make_table
        self.injected: list[dict[int, Injected]] = [{} for _ in solutions]
        self.blocked: list[dict[int, npt.NDArray[np.bool_]]] = [{} for _ in solutions]
        self._keys: dict[tuple[int, int], bytes] = {}
        self.rounds = 0
        self.depends_on_order = False
        """Whether it settled only because instances acted one after the other."""
        self.contested: tuple[set[tuple[int, int]], set[int]] = (set(), set())
        """Processes and prefix numbers that changed in the last round in which all acted together."""
        self._bgp_number: int
        self.bgp: BgpSolution | None
        self._bgp_number, self.bgp = next(
            ((number, one) for number, one in enumerate(solutions) if isinstance(one, BgpSolution)), (UNSET, None)
        )
        self.made: dict[int, Table] = {}
        """With BGP, the tables of the moment: sessions and processes look at the same ones."""
        self._taking = self._instances()
        self._ports = self._ospf_ports()

    def _instances(self) -> dict[int, list[tuple[int, Process]]]:
        """Instances with a process that looks at the table, and those processes by solution."""
        taking: dict[int, list[tuple[int, Process]]] = defaultdict(list)
        for number, solution in enumerate(self.solutions):
            for process in solution.processes:
                if process.takes_routes or solution.protocol in ("rip", "bgp"):
                    taking[process.instance].append((number, process))
        return dict(sorted(taking.items()))

    def _ospf_ports(self) -> dict[tuple[int, int], frozenset[int]]:
        """The ports of each OSPF process that looks at the table, by (solution, process)."""
        ports: dict[tuple[int, int], frozenset[int]] = {}
        for taking in self._taking.values():
            for number, process in taking:
                solution = self.solutions[number]
                if isinstance(solution, OspfSolution):
                    ports[number, process.number] = solution.database.ports_of(process.number)
        return ports

    def run(self) -> Unsettled | None:
        """Put in what tables say until nothing changes; what does not settle is returned."""
        if not self._taking:
            return None
        seen: dict[bytes, int] = {}
        together = True
        before: list[dict[int, Injected]] = []
        while self.rounds < ROUNDS:
            self.rounds += 1
            if together:
                before = [dict(injected) for injected in self.injected]
            changed = self._round(together)
            if not changed:
                self.depends_on_order = not together
                return None
            state = b"".join(b"%d,%d:" % key + value for key, value in sorted(self._keys.items()))
            if state in seen:
                if not together:
                    return self._unsettled(self.rounds - seen[state])
                together = False
                self.contested = self._changes(before)
                seen.clear()
            seen[state] = self.rounds
        return self._unsettled(ROUNDS)

    def _round(self, together: bool) -> list[tuple[int, int]]:
        """One look of every instance at its table; (solution, process) pairs that changed."""
        changed: list[tuple[int, int]] = []
        if self.bgp is not None:
            sessions = self.bgp.survey(self._made)
            if self._keys.get((self._bgp_number, UNSET)) != sessions:
                self._keys[self._bgp_number, UNSET] = sessions
                changed.append((self._bgp_number, UNSET))
        for instance in self._taking:
            now = self._look(instance)
            if now and not together:
                self._apply({number for number, _ in now})
            changed += now
        if changed and together:
            self._apply({number for number, _ in changed})
        return changed

    def _made(self, instance: int) -> Table:
        if instance not in self.made:
            self.made[instance] = self.make_table(instance)
        return self.made[instance]

    def _look(self, instance: int) -> list[tuple[int, int]]:
        table = self._made(instance) if self.bgp is not None else self.make_table(instance)
        changed = []
        for number, process in self._taking[instance]:
            solution = self.solutions[number]
            own = next(
                index
                for index, source in enumerate(table.sources)
                if source.solution is solution and source.process is process
            )
            key = b""
            bgp = self.bgp if number == self._bgp_number else None
            if process.takes_routes or bgp is not None:
                ports = self._ports.get((number, process.number), frozenset())
                injected = injected_by(table, process, own, ports, bgp)
                self.injected[number][process.number] = injected
                key = injected.key()
            if solution.protocol == "rip":
                unused = table.unused(own)
                self.blocked[number][process.number] = unused
                key += np.packbits(unused).tobytes()
            if bgp is not None:
                outranked = table.outranked(own)
                self.blocked[number][process.number] = outranked
                key += np.packbits(outranked).tobytes() + bgp.examine(process.number, table)
            if self._keys.get((number, process.number)) != key:
                self._keys[number, process.number] = key
                changed.append((number, process.number))
        return changed

    def _apply(self, solutions: set[int]) -> None:
        self.made.clear()
        for number in sorted(solutions):
            self.solutions[number].inject(self.injected[number], self.blocked[number])

    def _unsettled(self, length: int) -> Unsettled:
        """Go round once more and note who changes what."""
        processes: set[tuple[int, int]] = set()
        prefixes: set[int] = set()
        for _ in range(length):
            before = [dict(injected) for injected in self.injected]
            self._round(False)
            changed = self._changes(before)
            processes |= changed[0]
            prefixes |= changed[1]
        return Unsettled(tuple(sorted(processes)), tuple(self.prefixes.members(prefixes)), length)

    def _changes(self, before: list[dict[int, Injected]]) -> tuple[set[tuple[int, int]], set[int]]:
        """(solution, process) pairs that put in something else than before, and the prefixes."""
        processes: set[tuple[int, int]] = set()
        prefixes: set[int] = set()
        for number, injected in enumerate(self.injected):
            for process, new in injected.items():
                differing = _differing(before[number].get(process, Injected()), new)
                if differing:
                    processes.add((number, process))
                    prefixes |= differing
        return processes, prefixes


def _differing(old: Injected, new: Injected) -> set[int]:
    """Prefix numbers that two injections treat differently."""
    both, at_old, at_new = np.intersect1d(old.numbers, new.numbers, assume_unique=True, return_indices=True)
    same = np.ones(len(both), bool)
    for before, now in ((old.metric, new.metric), (old.metric_type, new.metric_type), (old.tag, new.tag)):
        same &= before[at_old] == now[at_new]
    return set(np.setxor1d(old.numbers, new.numbers, assume_unique=True).tolist()) | set(both[~same].tolist())


def unsettled_finding(topology: Topology, solutions: list[ProtocolSolution], unsettled: Unsettled) -> Finding:
    """Mutual redistribution that never settles, as a problem with its cycle."""
    names, places = [], []
    for number, process_number in unsettled.processes:
        process = solutions[number].processes[process_number]
        names.append(f"{topology.instance_name(process.instance)} into {process.protocol}")
        places += [rule.place for rule in process.redistribute]
    first = solutions[unsettled.processes[0][0]].processes[unsettled.processes[0][1]] if unsettled.processes else None
    return Finding(
        "redistribution-unsettled",
        "error",
        f"redistribution never settles for {some_of(unsettled.prefixes)}: it comes round every {unsettled.rounds}"
        f" rounds, by way of {some_of(names, 6, '; ')}. The tables shown are those of one moment",
        topology.devices[topology.instances[first.instance].device].name if first else "",
        "",
        tuple(places) or (),
    )


def order_finding(settling: Settling) -> Finding:
    """Redistribution that settles in one way or another, by who acts first."""
    processes, numbers = settling.contested
    prefixes = settling.prefixes.members(numbers)
    names, places = [], []
    for number, process_number in sorted(processes):
        process = settling.solutions[number].processes[process_number]
        names.append(f"{settling.topology.instance_name(process.instance)} into {process.protocol}")
        places += [rule.place for rule in process.redistribute]
    return Finding(
        "redistribution-order",
        "warning",
        f"which router redistributes {some_of(prefixes)} depends on who acts first:"
        f" {some_of(names, 6, '; ')}. One stable state is shown",
        "",
        "",
        tuple(places),
    )
