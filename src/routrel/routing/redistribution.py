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

import numpy as np
import numpy.typing as npt

from routrel.model.addresses import Prefix
from routrel.model.findings import Finding, some_of
from routrel.routing.bgp.solution import BgpSolution
from routrel.routing.making import TableMaker
from routrel.routing.ospf.solution import OspfSolution
from routrel.routing.rows import UNSET, Injected, Process, ProtocolSolution
from routrel.routing.table import Table
from routrel.routing.taking import injected_by
from routrel.topology.segments import Topology

ROUNDS = 500
"""More rounds than information needs to cross any chain of redistribution points seen in practice."""


Watch = Callable[[list[dict[int, Injected]]], None]
"""Told what processes put in, by solution and process."""


@dataclass(frozen=True, slots=True)
class Unsettled:
    """Redistribution without a stable state: who keeps changing its mind, about which prefixes."""

    processes: tuple[tuple[int, int], ...]
    """(solution, process) pairs."""
    prefixes: tuple[Prefix, ...]
    rounds: int


class Settling:
    """The rounds of redistribution over one network."""

    def __init__(self, maker: TableMaker, watch: Watch | None = None):
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
        self.taking = self._instances()
        self._ports = self._ospf_ports()
        self._versions = [0] * len(solutions)
        """How often each solution took something new."""
        self._looked: dict[int, list[int]] = {}
        """The versions each instance last looked at."""

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
        for taking in self.taking.values():
            for number, process in taking:
                solution = self.solutions[number]
                if isinstance(solution, OspfSolution):
                    ports[number, process.number] = solution.database.ports_of(process.number)
        return ports

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
        for instance in self.taking:
            now = self._look(instance)
            if now and not together:
                self._apply({number for number, _ in now})
            changed += now
        if changed and together:
            self._apply({number for number, _ in changed})
        return changed

    def _made(self, instance: int) -> Table:
        if instance not in self.made:
            self.made[instance] = self.maker.make(instance)
        return self.made[instance]

    def _look(self, instance: int) -> list[tuple[int, int]]:
        if self.bgp is None and self._looked.get(instance) == self._versions:
            return []
        self._looked[instance] = list(self._versions)
        table = self._made(instance) if self.bgp is not None else self.maker.make(instance)
        changed = []
        for number, process in self.taking[instance]:
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
        if self.watch is not None:
            self.watch(self.injected)
        self.made.clear()
        for number in sorted(solutions):
            self._versions[number] += 1
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


def unsettled_finding(topology: Topology, solutions: Sequence[ProtocolSolution], unsettled: Unsettled) -> Finding:
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
