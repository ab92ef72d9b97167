"""Redistribution among protocols, solved as a fixed point.

What a process puts into its protocol depends on its table, and tables depend on what is put in. Starting
from nothing, all participants look at their tables and say what they find, round by round,
until nothing changes. Where that comes back to an earlier state, instances act one after the other from
there on, as routers that never act in the same instant do; where that comes round too, there is no stable
state, and the prefixes that keep changing are reported. A network's origin stays the same throughout:
only routes that are best in the table are put in (the network file's page).
"""

from collections import defaultdict
from collections.abc import Callable, Hashable, Sequence
from functools import cached_property
from itertools import chain
from typing import Any, NamedTuple

import numpy as np
from msgspec import Struct

from routrel.model.addresses import Prefix
from routrel.routing.arrays import Column, Digests, mixed
from routrel.routing.protocol import Participant
from routrel.routing.protocol_routes import TOGETHER
from routrel.routing.redistributed import Redistributed
from routrel.routing.redistribution.cycles import ColumnCycles
from routrel.routing.redistribution.redistributing import RedistributingProcess
from routrel.routing.rib.builder import TableBuilder
from routrel.routing.rib.observed import is_observed_only
from routrel.routing.rib.table import Table, find_winners

MOST_ROUNDS = 500
"""More rounds than information needs to cross any chain of redistribution points seen in practice."""

QUIET = 8
"""Rounds after which columns are watched: most networks are done by then."""

MOST_WORK = 10**9
"""What one redistribution may cost: each time something is put in counts for its cells (columns times processes
that take part) and ``EACH`` more."""

EACH = 100_000

MOST_REMEMBERED = 8_000_000
"""Cells of tables, of one column each, that are remembered for a network solved from this one."""

Watch = Callable[[list[dict[int, Redistributed]]], None]
"""Told what processes put in, by solution and process."""


class Unsettled(Struct, frozen=True):
    """Redistribution without a stable state: who keeps changing its mind, about which prefixes."""

    processes: tuple[tuple[int, int], ...]
    """(solution, process) pairs."""
    prefixes: tuple[Prefix, ...]
    rounds: int
    is_cut: bool = False
    """Whether it was not followed to its end: it may settle after all."""


class Seat(NamedTuple):
    """A participant's place: its number, and that of the solution which is solved anew when it says something new."""

    number: int
    solution: int
    participant: Participant[Any]


Seen = tuple[Seat, Any, bytes]
"""What a participant saw, and its key."""


class Recollection(Struct):
    """A table, and what its participants saw."""

    table: Table
    seen: list[tuple[Any, bytes]] = []


Memory = dict[Hashable, Recollection]
"""By what tables are made of."""


class FixedPoint:
    """The rounds of redistribution over one network."""

    def __init__(self, builder: TableBuilder, watch: Watch | None = None, known: "Memory | None" = None):
        """``watch`` is asked before anything is put in; ``known`` is what was seen in the network this one is solved
        from, where that differs in sessions and policies alone."""
        self.topology = builder.topology
        self.prefixes = builder.prefix_classes
        self.solutions = builder.solutions
        self.builder = builder
        self.watch = watch
        self.redistributed: list[dict[int, Redistributed]] = [{} for _ in self.solutions]
        """What processes put in, by solution and process."""
        self.unsettled: Unsettled | None = None
        self.rounds = 0
        self.work = 0
        self.depends_on_order = False
        """Whether it settled only because instances acted one after the other."""
        self.contested: tuple[set[tuple[int, int]], set[int]] = (set(), set())
        """Processes and prefix numbers that kept changing while all acted together."""
        self.made: dict[int, Table] = {}
        """The tables of the moment, where some participant looks at any: all look at the same ones then."""
        self.seats, self._roaming = self._seats()
        """By the instance whose table they look at; and those that look at any."""
        self._keys: dict[int, bytes] = {}
        self._values: dict[int, tuple[Seat, Any]] = {}
        self._versions = [0] * len(self.solutions)
        """How often each solution took something new."""
        self._said: list[bytes] = [b""] * len(self.solutions)
        """What participants said when each solution last took something new."""
        self.memory: Memory = {}
        self._known: Memory = {} if known is None else known
        """Of networks whose tables all look at, what was seen; here, and in the one this is solved from."""
        self._looked: dict[int, list[int]] = {}
        """The versions each instance last looked at."""
        # Tables that all look at are made once: looks cannot run ahead of a change.
        self._most = 1 if self._roaming else max(1, TOGETHER // max(1, len(self.prefixes)))

    @cached_property
    def _sources_of(self) -> dict[int, list[int]]:
        """By instance the numbers of the solutions whose routes its table holds."""
        number_of = {id(solution): number for number, solution in enumerate(self.solutions)}
        return {
            instance: [number_of[id(solution)] for solution, _ in self.builder.processes[instance]]
            for instance in range(len(self.builder.processes))
        }

    @cached_property
    def _seats_of(self) -> dict[int, list[Seat]]:
        """By solution."""
        found: dict[int, list[Seat]] = defaultdict(list)
        for seat in (*self._roaming, *chain.from_iterable(self.seats.values())):
            found[seat.solution].append(seat)
        return found

    def _seats(self) -> tuple[dict[int, list[Seat]], list[Seat]]:
        found: list[tuple[int, Participant[Any]]] = []
        for number, solution in enumerate(self.solutions):
            has_networks = solution.announces_networks
            for process in solution.processes:
                if process.takes_routes or (has_networks and any(True for _ in solution.networks_of(process.number))):
                    sources = self.builder.processes[process.instance]
                    kept = self.redistributed[number]
                    found.append((number, RedistributingProcess(solution, process, sources, kept)))
            found += [(number, participant) for participant in solution.participants()]
        seats: dict[int, list[Seat]] = defaultdict(list)
        roaming: list[Seat] = []
        for at, (number, participant) in enumerate(found):
            of_instance = roaming if participant.instance is None else seats[participant.instance]
            of_instance.append(Seat(at, number, participant))
        return dict(sorted(seats.items())), roaming

    def run(self) -> "FixedPoint":
        """Put in what tables say until nothing changes; what does not settle is ``unsettled`` then."""
        if self.seats:
            self.unsettled = self._settle()
        self._known = {}  # else every network would keep all that it was solved from
        return self

    def take_over(self, other: "FixedPoint", class_of: Column) -> None:
        """Take the outcome over classes of columns for one's own; ``class_of`` (c,) tells each column's class."""
        self.rounds, self.depends_on_order, self.unsettled = other.rounds, other.depends_on_order, other.unsettled
        processes, classes = other.contested
        self.contested = processes, set(np.flatnonzero(np.isin(class_of, list(classes))).tolist())
        for own, theirs in zip(self.redistributed, other.redistributed, strict=True):
            own.update((process, found.spread(class_of)) for process, found in theirs.items())
        self._apply({number for number, redistributed in enumerate(self.redistributed) if redistributed})

    def _settle(self) -> Unsettled | None:
        seen: dict[bytes, int] = {}
        together = True
        cycles = ColumnCycles(len(self.prefixes))
        while self.rounds < MOST_ROUNDS and self.work < MOST_WORK:
            self.rounds += 1
            if not self._round(together):
                self.depends_on_order = not together
                return None
            state = b"".join(b"%d:" % number + key for number, key in sorted(self._keys.items()))
            length = self.rounds - seen[state] if state in seen else 0
            if not length and self.rounds > QUIET and self._is_columnwise():
                length = cycles.note(self._column_state())
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
        """Whether no prefix hangs on another: no participant says so, and no next hop of a static route."""
        waiting = any(self.builder.base(instance).others.candidates for instance in self.seats)
        everybody = (seat.participant for seats in (self._roaming, *self.seats.values()) for seat in seats)
        return not waiting and all(participant.is_columnwise for participant in everybody)

    def _column_state(self) -> Digests:
        """What participants say of each column, as one number each: uint64 (c,)."""
        state = np.zeros(len(self.prefixes), np.uint64)
        for seat, value in self._values.values():
            digests = seat.participant.digests(value, len(state))
            said = np.flatnonzero(digests)
            state[said] += mixed(digests[said] + np.uint64(seat.number * 2**32))
        return state

    def _round(self, together: bool) -> bool:
        """One look of everybody; whether anything changed."""
        changed = set()
        for seat in self._roaming:
            changed |= self._note(None, [(seat, *seat.participant.look(self._table))])
        if changed and not together:
            self._apply(changed)
        instances = list(self.seats)
        if together:
            for instance, seen in self._look(instances).items():
                changed |= self._note(instance, seen)
            if changed:
                self._apply(changed)
            return bool(changed)
        ahead = 1
        while instances:
            # Looks ahead are as good as looks in turn, up to the first that changes anything.
            block, ahead = instances[:ahead], min(2 * ahead, self._most)
            looks = self._look(block)
            for instance in block:
                instances.pop(0)
                now = self._note(instance, looks.get(instance, []))
                if now:
                    self._apply(now)
                    changed |= now
                    ahead = 1
                    break
        return bool(changed)

    def _table(self, instance: int) -> Table:
        """The table of the moment; made once for all where some participant looks at any."""
        if instance in self.made:
            return self.made[instance]
        table = self.builder.make(instance)
        if self._roaming:
            self.made[instance] = table
        if self._roaming and not is_observed_only(self.topology, instance):
            key = self._made_of(instance)
            if key in self._known:
                table.take_over(self._known[key].table)
            if len(self.memory) * len(self.prefixes) < MOST_REMEMBERED:
                self.memory[key] = Recollection(table)
        return table

    def _made_of(self, instance: int) -> Hashable:
        """What an instance's table is made of as protocols are now."""
        tokens = (
            self._said_by(number) if (token := solution.token(process.number)) is None else token
            for number, (solution, process) in zip(
                self._sources_of[instance], self.builder.processes[instance], strict=True
            )
        )
        return self.builder.base(instance).table, *tokens

    def _said_by(self, number: int) -> Hashable:
        """What stands for the routes of a solution's processes: what it is, and what it took."""
        return self.solutions[number].lineage, self._said[number]

    def _look(self, instances: Sequence[int]) -> dict[int, list[Seen]]:
        """What participants see in their tables as protocols are now, of instances that may see something new."""
        waiting = [instance for instance in instances if self._looked.get(instance) != self._versions_at(instance)]
        found: dict[int, list[Seen]] = {}
        for first in range(0, len(waiting), self._most):
            found |= self._look_together(waiting[first : first + self._most])
        return found

    def _versions_at(self, instance: int) -> list[int]:
        """The versions of what comes into an instance's table: of nothing else anything new is seen there."""
        return [self._versions[number] for number in self._sources_of[instance]]

    def _look_together(self, instances: Sequence[int]) -> dict[int, list[Seen]]:
        """What is seen in tables: remembered of those that were looked at before, of others looked for."""
        if not self._roaming:
            return self._look_anew(instances)
        found: dict[int, list[Seen]] = {}
        keys = {instance: self._made_of(instance) for instance in instances}
        for instance, key in keys.items():
            self._table(instance)
            if key in self._known and self._known[key].seen:
                seen = zip(self.seats[instance], self._known[key].seen, strict=True)
                found[instance] = [
                    (seat, *seat.participant.taken_over(value, said, self._table)) for seat, (value, said) in seen
                ]
        found |= self._look_anew([instance for instance in instances if instance not in found])
        for instance, key in keys.items():
            if key in self.memory:
                self.memory[key].seen = [(value, said) for _, value, said in found[instance]]
        return found

    def _look_anew(self, instances: Sequence[int]) -> dict[int, list[Seen]]:
        sources = [source for instance in instances for source in self.builder.processes[instance]]
        for solution in self.solutions:
            solution.prepare([process.number for other, process in sources if other is solution])
        tables = {instance: self._table(instance) for instance in instances}
        find_winners(list(tables.values()))
        groups: dict[Hashable, list[Seat]] = defaultdict(list)
        for instance in instances:
            for seat in self.seats[instance]:
                alike = seat.participant.alike()
                groups[seat.number if alike is None else (type(seat.participant), alike)].append(seat)
        seen: dict[int, list[Seen]] = {instance: [] for instance in instances}
        for members in groups.values():
            participants = [seat.participant for seat in members]
            looks = type(participants[0]).look_together(participants, tables.__getitem__)
            for seat, (value, key) in zip(members, looks, strict=True):
                assert seat.participant.instance is not None
                seen[seat.participant.instance].append((seat, value, key))
        return seen

    def _note(self, instance: int | None, seen: Sequence[Seen]) -> set[int]:
        """Hand on what was seen at an instance; the solutions for which something changed."""
        if instance is not None:
            self._looked[instance] = self._versions_at(instance)
        changed = set()
        for seat, value, key in seen:
            seat.participant.take(value)
            self._values[seat.number] = seat, value
            if self._keys.get(seat.number) != key:
                self._keys[seat.number] = key
                changed.add(seat.solution)
        return changed

    def _apply(self, solutions: set[int]) -> None:
        if self.watch is not None:
            self.watch(self.redistributed)
        self.made = {
            instance: table for instance, table in self.made.items() if solutions.isdisjoint(self._sources_of[instance])
        }
        takers = sum(map(len, self.seats.values()))
        for number in sorted(solutions):
            self.work += EACH + len(self.prefixes) * takers
            self._versions[number] += 1
            said = [(seat.number, self._keys.get(seat.number)) for seat in self._seats_of[number]]
            self._said[number] = repr(said).encode()
            self.solutions[number].announce(self.redistributed[number])

    def _unsettled(self, length: int, is_cut: bool = False) -> Unsettled:
        processes, prefixes = self._changes_within(length, False)
        return Unsettled(tuple(sorted(processes)), tuple(self.prefixes.members(prefixes)), length, is_cut)

    def _changes_within(self, length: int, together: bool) -> tuple[set[tuple[int, int]], set[int]]:
        """Go round once more and note who changes what."""
        processes: set[tuple[int, int]] = set()
        prefixes: set[int] = set()
        for _ in range(length):
            before = [dict(redistributed) for redistributed in self.redistributed]
            self._round(together)
            for number, redistributed in enumerate(self.redistributed):
                for process, new in redistributed.items():
                    differing = _differing(before[number].get(process, Redistributed()), new)
                    if differing:
                        processes.add((number, process))
                        prefixes |= differing
        return processes, prefixes


def _differing(old: Redistributed, new: Redistributed) -> set[int]:
    """Prefix numbers of which two say something different."""
    if np.array_equal(old.rows[:4], new.rows[:4]):
        return set()
    both, at_old, at_new = np.intersect1d(old.numbers, new.numbers, assume_unique=True, return_indices=True)
    same = np.ones(len(both), bool)
    for before, now in ((old.metric, new.metric), (old.metric_type, new.metric_type), (old.tag, new.tag)):
        same &= before[at_old] == now[at_new]
    return set(np.setxor1d(old.numbers, new.numbers, assume_unique=True).tolist()) | set(both[~same].tolist())
