"""Redistribution among protocols, solved as a fixed point.

What a process puts into its protocol depends on its table, and tables depend on what is put in. Starting
from nothing, all redistributing instances look at their tables and put in what they find, round by round,
until nothing changes. Where that comes back to an earlier state, instances act one after the other from
there on, as routers that never act in the same instant do; where that comes round too, there is no stable
state, and the prefixes that keep changing are reported. A network's origin stays the same throughout:
only routes that are best in the table are put in (the network file's page).
"""

from collections import defaultdict
from collections.abc import Callable, Sequence
from dataclasses import dataclass
from typing import NamedTuple

import numpy as np
import numpy.typing as npt

from routrel.model.addresses import Prefix
from routrel.model.findings import Finding, some_of
from routrel.routing.bgp.solution import BgpSolution
from routrel.routing.column_cycles import ColumnCycles
from routrel.routing.isis.solution import IsisSolution
from routrel.routing.making import TableMaker
from routrel.routing.ospf.solution import OspfSolution
from routrel.routing.rows import TOGETHER, UNSET, Injected, Process, ProtocolSolution
from routrel.routing.table import Table, find_winners
from routrel.routing.taking import Look, injected_by, kind_of_look
from routrel.topology.segments import Topology

ROUNDS = 500
"""More rounds than information needs to cross any chain of redistribution points seen in practice."""

QUIET = 8
"""Rounds after which columns are watched: most networks are done by then."""

MOST_WORK = 10**9
"""What one redistribution may cost: each time something is put in counts for its cells (columns times processes
that take part) and ``EACH`` more."""

EACH = 100_000

Watch = Callable[[list[dict[int, Injected]]], None]
"""Told what processes put in, by solution and process."""


@dataclass(frozen=True, slots=True)
class Unsettled:
    """Redistribution without a stable state: who keeps changing its mind, about which prefixes."""

    processes: tuple[tuple[int, int], ...]
    """(solution, process) pairs."""
    prefixes: tuple[Prefix, ...]
    rounds: int
    is_cut: bool = False
    """Whether it was not followed to its end: it may settle after all."""


class Taker(NamedTuple):
    """A process that looks at its table."""

    solution: int
    process: Process
    own: int
    """Its place among the table's sources."""
    ports: frozenset[int]
    kind: int
    """Those of one kind may look together."""

    @property
    def key(self) -> tuple[int, int]:
        return self.solution, self.process.number


class Seen(NamedTuple):
    """What a process would put in, which prefixes its protocol is silent of, and a digest of both."""

    taker: Taker
    injected: Injected | None
    blocked: npt.NDArray[np.bool_] | None
    digest: bytes


class Settling:
    """The rounds of redistribution over one network."""

    def __init__(self, maker: TableMaker, watch: Watch | None = None, taking: dict[int, list[Taker]] | None = None):
        """``watch`` is asked before anything is put in."""
        self.topology = maker.topology
        self.prefixes = maker.representatives
        self.solutions = solutions = maker.solutions
        self.maker = maker
        self.watch = watch
        self.injected: list[dict[int, Injected]] = [{} for _ in solutions]
        self.blocked: list[dict[int, npt.NDArray[np.bool_]]] = [{} for _ in solutions]
        self.unsettled: Unsettled | None = None
        self._keys: dict[tuple[int, int], bytes] = {}
        self.rounds = 0
        self.work = 0
        self.depends_on_order = False
        """Whether it settled only because instances acted one after the other."""
        self.contested: tuple[set[tuple[int, int]], set[int]] = (set(), set())
        """Processes and prefix numbers that kept changing while all acted together."""
        self._bgp_number: int
        self.bgp: BgpSolution | None
        self._bgp_number, self.bgp = next(
            ((number, one) for number, one in enumerate(solutions) if isinstance(one, BgpSolution)), (UNSET, None)
        )
        self.made: dict[int, Table] = {}
        """With BGP, the tables of the moment: sessions and processes look at the same ones."""
        self._kinds: dict[object, int] = {}
        self.taking = self._find_takers() if taking is None else taking
        """Instances with processes that look at the table, and those processes."""
        self._versions = [0] * len(solutions)
        """How often each solution took something new."""
        self._looked: dict[int, list[int]] = {}
        """The versions each instance last looked at."""
        # What is seen with BGP is noted at once, so that looks cannot run ahead.
        self._most = 1 if self.bgp is not None else max(1, TOGETHER // max(1, len(self.prefixes)))

    def _find_takers(self) -> dict[int, list[Taker]]:
        taking: dict[int, list[Taker]] = defaultdict(list)
        for number, solution in enumerate(self.solutions):
            for process in solution.processes:
                if process.takes_routes or solution.protocol in ("rip", "bgp"):
                    taking[process.instance].append(self._taker(number, process))
        return dict(sorted(taking.items()))

    def _taker(self, number: int, process: Process) -> Taker:
        solution = self.solutions[number]
        sources = self.maker.processes[process.instance]
        own = next(at for at, (one, other) in enumerate(sources) if one is solution and other is process)
        ports = solution.database.ports_of(process.number) if isinstance(solution, OspfSolution) else frozenset()
        kind: object = (number, process.number)
        if self.bgp is None:
            kind = number, own, kind_of_look(self.topology, process, [other.protocol for _, other in sources])
        return Taker(number, process, own, ports, self._kinds.setdefault(kind, len(self._kinds)))

    def over(self, maker: TableMaker, watch: Watch) -> "Settling":
        """The same over other columns."""
        return Settling(maker, watch, self.taking)

    def run(self) -> "Settling":
        """Put in what tables say until nothing changes; what does not settle is ``unsettled`` then."""
        if self.taking:
            self.unsettled = self._settle()
        return self

    def take_over(self, other: "Settling", class_of: npt.NDArray[np.int64]) -> None:
        """Take the outcome over classes of columns for one's own; ``class_of`` (c,) tells each column's class."""
        self.rounds, self.depends_on_order, self.unsettled = other.rounds, other.depends_on_order, other.unsettled
        processes, classes = other.contested
        self.contested = processes, set(np.flatnonzero(np.isin(class_of, list(classes))).tolist())
        self.injected = [
            {process: found.spread(class_of) for process, found in injected.items()} for injected in other.injected
        ]
        self._apply({number for number, injected in enumerate(self.injected) if injected})

    def _settle(self) -> Unsettled | None:
        seen: dict[bytes, int] = {}
        together = True
        cycles = ColumnCycles(len(self.prefixes))
        while self.rounds < ROUNDS and self.work < MOST_WORK:
            self.rounds += 1
            changed = self._round(together)
            if not changed:
                self.depends_on_order = not together
                return None
            state = b"".join(b"%d,%d:" % key + value for key, value in sorted(self._keys.items()))
            length = self.rounds - seen[state] if state in seen else 0
            if not length and self.rounds > QUIET and self._is_columnwise():
                length = cycles.note(self.injected, self.blocked)
            if length:
                if not together:
                    return self._unsettled(length)
                self.contested = self._changes_within(length, together)
                together = False
                seen.clear()
                cycles = ColumnCycles(len(self.prefixes))
            seen[state] = self.rounds
        return self._unsettled(1, is_cut=True)

    def _is_columnwise(self) -> bool:
        """Whether no prefix hangs on another: no next hop of a static route, of BGP, and no conditional default."""
        if self.bgp is not None:
            return False
        waiting = any(self.maker.base(instance).others for instance in self.taking)
        return not waiting and not any(
            taker.process.originate_default is not None for takers in self.taking.values() for taker in takers
        )

    def _round(self, together: bool) -> list[tuple[int, int]]:
        """One look of every instance at its table; (solution, process) pairs that changed."""
        changed: list[tuple[int, int]] = []
        if self.bgp is not None:
            sessions = self.bgp.survey(self._table)
            if self._keys.get((self._bgp_number, UNSET)) != sessions:
                self._keys[self._bgp_number, UNSET] = sessions
                changed.append((self._bgp_number, UNSET))
        if together:
            for instance, seen in self._look(list(self.taking)).items():
                changed += self._note(instance, seen)
            if changed:
                self._apply({number for number, _ in changed})
            return changed
        waiting, ahead = list(self.taking), 1
        while waiting:
            # Looks ahead are as good as looks in turn, up to the first that changes anything.
            block, ahead = waiting[:ahead], min(2 * ahead, self._most)
            looks = self._look(block)
            for instance in block:
                waiting.pop(0)
                now = self._note(instance, looks.get(instance, []))
                if now:
                    self._apply({number for number, _ in now})
                    changed += now
                    ahead = 1
                    break
        return changed

    def _table(self, instance: int) -> Table:
        """The table of the moment; with BGP made once, as its sessions look at it too."""
        if self.bgp is None:
            return self.maker.make(instance)
        if instance not in self.made:
            self.made[instance] = self.maker.make(instance)
        return self.made[instance]

    def _look(self, instances: list[int]) -> dict[int, list[Seen]]:
        """What processes see in their tables as protocols are now, of instances that may see something new."""
        if self.bgp is None:
            instances = [instance for instance in instances if self._looked.get(instance) != self._versions]
        found: dict[int, list[Seen]] = {}
        for first in range(0, len(instances), self._most):
            found |= self._look_together(instances[first : first + self._most])
        return found

    def _look_together(self, instances: list[int]) -> dict[int, list[Seen]]:
        for solution in self.solutions:
            if isinstance(solution, OspfSolution | IsisSolution):
                sources = (source for instance in instances for source in self.maker.processes[instance])
                solution.prepare([process.number for other, process in sources if other is solution])
        tables = {instance: self._table(instance) for instance in instances}
        find_winners(list(tables.values()))
        groups: dict[int, list[tuple[Taker, Look]]] = defaultdict(list)
        for instance, table in tables.items():
            for taker in self.taking[instance]:
                bgp = self.bgp if taker.solution == self._bgp_number else None
                if taker.process.takes_routes or bgp is not None:
                    look = Look(table, taker.process, taker.own, taker.ports, bgp)
                    groups[taker.kind].append((taker, look))
        injected: dict[tuple[int, int], Injected] = {}
        for members in groups.values():
            results = injected_by([look for _, look in members])
            for (taker, _), result in zip(members, results, strict=True):
                injected[taker.key] = result
        return {
            instance: [self._seen(taker, table, injected.get(taker.key)) for taker in self.taking[instance]]
            for instance, table in tables.items()
        }

    def _seen(self, taker: Taker, table: Table, injected: Injected | None) -> Seen:
        digest = b"" if injected is None else injected.key()
        blocked = None
        if self.solutions[taker.solution].protocol == "rip":
            blocked = table.unused(taker.own)
        elif self.bgp is not None and taker.solution == self._bgp_number:
            blocked = table.outranked(taker.own)
        if blocked is not None:
            digest += np.packbits(blocked).tobytes()
        if self.bgp is not None and taker.solution == self._bgp_number:
            digest += self.bgp.examine(taker.process.number, table)
        return Seen(taker, injected, blocked, digest)

    def _note(self, instance: int, seen: list[Seen]) -> list[tuple[int, int]]:
        """Take what an instance saw for what it puts in; (solution, process) pairs that changed."""
        self._looked[instance] = list(self._versions)
        changed = []
        for taker, injected, blocked, digest in seen:
            number, process = taker.key
            if injected is not None:
                self.injected[number][process] = injected
            if blocked is not None:
                self.blocked[number][process] = blocked
            if self._keys.get(taker.key) != digest:
                self._keys[taker.key] = digest
                changed.append(taker.key)
        return changed

    def _apply(self, solutions: set[int]) -> None:
        if self.watch is not None:
            self.watch(self.injected)
        self.made.clear()
        takers = sum(map(len, self.taking.values()))
        for number in sorted(solutions):
            self.work += EACH + len(self.prefixes) * takers
            self._versions[number] += 1
            self.solutions[number].inject(self.injected[number], self.blocked[number])

    def _unsettled(self, length: int, is_cut: bool = False) -> Unsettled:
        processes, prefixes = self._changes_within(length, False)
        return Unsettled(tuple(sorted(processes)), tuple(self.prefixes.members(prefixes)), length, is_cut)

    def _changes_within(self, length: int, together: bool) -> tuple[set[tuple[int, int]], set[int]]:
        """Go round once more and note who changes what."""
        processes: set[tuple[int, int]] = set()
        prefixes: set[int] = set()
        for _ in range(length):
            before = [dict(injected) for injected in self.injected]
            self._round(together)
            changed = self._changes(before)
            processes |= changed[0]
            prefixes |= changed[1]
        return processes, prefixes

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
    if np.array_equal(old.rows[:4], new.rows[:4]):
        return set()
    both, at_old, at_new = np.intersect1d(old.numbers, new.numbers, assume_unique=True, return_indices=True)
    same = np.ones(len(both), bool)
    for before, now in ((old.metric, new.metric), (old.metric_type, new.metric_type), (old.tag, new.tag)):
        same &= before[at_old] == now[at_new]
    return set(np.setxor1d(old.numbers, new.numbers, assume_unique=True).tolist()) | set(both[~same].tolist())


def unsettled_finding(topology: Topology, solutions: Sequence[ProtocolSolution], unsettled: Unsettled) -> Finding:
    """Mutual redistribution that never settles, as a problem with its cycle."""
    names, places = [], []
    for number, process_number in unsettled.processes:
        process = solutions[number].processes[process_number]
        names.append(f"{topology.instance_name(process.instance)} into {process.protocol}")
        places += [rule.place for rule in process.redistribute]
    prefixes = some_of(unsettled.prefixes)
    how = f"never settles for {prefixes}: it comes round every {unsettled.rounds} rounds"
    if unsettled.is_cut:
        how = f"was not followed to its end: after much work it still changes for {prefixes}"
    first = solutions[unsettled.processes[0][0]].processes[unsettled.processes[0][1]] if unsettled.processes else None
    return Finding(
        "redistribution-unsettled",
        "error",
        f"redistribution {how}, by way of {some_of(names, 6, '; ')}. The tables shown are those of one moment",
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
