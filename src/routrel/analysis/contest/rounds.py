"""The elimination: candidates of all sources meet, round by round, until the table's route is left."""

from collections.abc import Sequence

from routrel.analysis.contest.candidates import Candidate, Contest, Round
from routrel.analysis.contest.paths import Way
from routrel.analysis.contest.policies import Asked, ask
from routrel.analysis.contest.protocol import ProtocolContest, Rounds
from routrel.model.addresses import Prefix
from routrel.model.fields import replace
from routrel.model.policies import Policy
from routrel.model.routing import PROTOCOL_ORDER
from routrel.routing.neighbors import edge_hop
from routrel.routing.rib.table import sorted_hops
from routrel.routing.routes import NextHop
from routrel.routing.solve import Solved
from routrel.topology.segments import Topology

STATIC_ROUNDS = (
    ("static preference", "of static routes the lowest preference"),
    ("static metric", "of equal preference the lowest metric"),
)
OBSERVED_ROUNDS = (("preference", "the lowest preference"), ("metric", "the lowest metric"))
BY_ACCIDENT = ("next hop",)
"""Comparisons that only break a tie."""


def merged_hops(solved: Solved, found: list[Candidate]) -> tuple[NextHop, ...]:
    """The next hops a table would have if these candidates of one source won."""
    hops = sorted_hops(solved.topology, {hop for one in found for hop in one.next_hops})
    if found[0].is_process:
        solution, process = found[0].processes
        return hops[: solved.solutions[solution].multipath(process)]
    return hops


def install_policy(topology: Topology, instance: int) -> Policy | None:
    """The install policy of an instance, if it has one."""
    found = topology.instances[instance]
    if found.routing is None or found.routing.install_policy is None:
        return None
    return topology.devices[found.device].policies[found.routing.install_policy]


class Elimination:
    """One contest being decided."""

    def __init__(
        self,
        solved: Solved,
        contests: Sequence[ProtocolContest],
        instance: int,
        prefix: Prefix,
        candidates: list[Candidate],
        *,
        with_detours: bool = True,
    ):
        self.solved = solved
        self.contests = contests
        self.with_detours = with_detours
        self.topology = solved.topology
        self.instance = instance
        self.prefix = prefix
        self.candidates = candidates
        self.rounds: list[Round] = []
        self.notes: list[str] = []

    def run(self) -> Contest:
        groups = [self._within(group) for group in self._groups()]
        groups = [group for group in (self._install(group) for group in groups) if group]
        winners = self._between(groups)
        hops = self._next_hops(winners)
        return Contest(
            self.instance,
            self.prefix,
            tuple(self.candidates),
            tuple(self.rounds),
            tuple(winners),
            hops,
            tuple(self.notes),
        )

    def _groups(self) -> list[list[int]]:
        """Candidates that compete within one protocol, by their source."""
        groups: dict[tuple[object, ...], list[int]] = {}
        for index, one in enumerate(self.candidates):
            if not one.out:
                source = one.protocol if one.protocol in ("connected", "local", "static") else "observed"
                groups.setdefault(one.processes if one.is_process else (source,), []).append(index)
        return list(groups.values())

    def _within(self, group: list[int]) -> list[int]:
        """The rounds of one source; several are left where ways are equal."""
        first = self.candidates[group[0]]
        if first.protocol in ("connected", "local"):
            return group[:1]
        if not first.is_process:
            standing = self.by_rounds(group, STATIC_ROUNDS if first.protocol == "static" else OBSERVED_ROUNDS)
            if first.protocol == "static" and any(self.candidates[i].action == "forward" for i in standing):
                standing = [index for index in standing if self.candidates[index].action == "forward"]
            return standing
        contest = self.contests[first.processes[0]]
        standing = contest.eliminate(self, group)
        if self.with_detours:
            self._add_detours(standing)
        left = [self.candidates[index] for index in standing]
        if left and not any(one.next_hops or one.action != "forward" for one in left):
            process = self.solved.solutions[first.processes[0]].processes[first.processes[1]]
            note, reason = contest.stands_for(left, process, self.prefix)
            self.notes.append(note)
            for one in left:
                one.out = reason
            return []
        return standing

    def by_rounds(self, standing: list[int], rounds: Rounds) -> list[int]:
        """Comparisons in order, by the candidates' ranks; those that are left after the last."""
        first = self.candidates[standing[0]]
        for name, rule in rounds:
            ranked = [
                (index, *self.candidates[index].ranks[name])
                for index in standing
                if name in self.candidates[index].ranks
            ]
            if not ranked:
                continue
            best = min(rank for _, rank, _ in ranked)
            if name == "feasibility":
                best = 0
            lost = [(index, rank) for index, rank, _ in ranked if rank > best]
            standing = self._lose(standing, name, first, rule, ranked, lost, best)
        return standing

    def _add_detours(self, standing: list[int]) -> None:
        """Other first hops towards the same end, which cost more: they lose the round of costs."""
        offered = [self.candidates[index] for index in standing]
        found: dict[NextHop, tuple[int, Candidate]] = {}
        for one in offered:
            if one.graph is None or not one.next_hops:
                continue
            for edge, legs in one.graph.detours(*one.ends):
                hop = edge_hop(self.topology, edge, self.prefix.family)
                way = Way((*legs, *one.beyond))
                if hop is None or any(hop in other.next_hops for other in offered):
                    continue
                if hop not in found or way.total < found[hop][0]:
                    found[hop] = (
                        way.total,
                        replace(one, next_hops=(hop,), ways=(way,), metric=way.total, graph=None, is_detour=True),
                    )
        if not found:
            return
        best = offered[0].metric
        rule = "the lowest sum of the costs of outgoing interfaces"
        values = [(index, str(best)) for index in standing]
        first = len(self.candidates)
        for total, candidate in found.values():
            values.append((len(self.candidates), str(total)))
            self.candidates.append(candidate)
        lost = tuple(range(first, len(self.candidates)))
        self.record(
            Round("cost by first hop", offered[0].protocol, rule, tuple(values), lost),
            {index: self.candidates[index].metric - best for index in lost},
            counts=True,
        )

    def _lose(
        self,
        standing: list[int],
        name: str,
        first: Candidate,
        rule: str,
        ranked: list[tuple[int, int, str]],
        lost: list[tuple[int, int]],
        best: int,
    ) -> list[int]:
        if len(ranked) > 1 or lost:
            scope = first.protocol if first.process in ("", "default") else f"{first.protocol} {first.process}"
            self.record(
                Round(
                    name,
                    scope,
                    rule,
                    tuple((index, text) for index, _, text in ranked),
                    tuple(index for index, _ in lost),
                    name not in BY_ACCIDENT,
                ),
                {index: rank - best for index, rank in lost},
                counts=name in ("cost", "metric", "type 2 metric", "static preference", "static metric"),
            )
        gone = {index for index, _ in lost}
        return [index for index in standing if index not in gone]

    def record(self, one: Round, margins: dict[int, int], counts: bool) -> None:
        """Note a round and who lost it, by how much where it counts something."""
        for index in one.lost:
            self.candidates[index].beaten = len(self.rounds)
            self.candidates[index].margin = f"by {margins[index]}" if counts and index in margins else ""
        self.rounds.append(one)

    def _install(self, group: list[int]) -> list[int]:
        """The install policy, asked of a source's best route."""
        policy = install_policy(self.topology, self.instance)
        if not group or policy is None or self.candidates[group[0]].protocol in ("connected", "local"):
            return group
        first = self.candidates[group[0]]
        hops = self._next_hops(group)
        given = tuple(hop.address for hop in hops if hop.address is not None)
        decision = ask(policy, Asked(self.prefix, first.protocol, first.metric, first.tag, given, first.path))
        values = tuple((index, decision.words(policy)) for index in group)
        rule = "the instance's install policy lets routes into the table or keeps them out"
        if not decision.accepted:
            place = decision.by.place if decision.by is not None else policy.place
            self.record(Round("install policy", "", rule, values, tuple(group), place=place), {}, counts=False)
            return []
        if decision.set.preference is not None:
            for index in group:
                self.candidates[index].preference = decision.set.preference
                self.candidates[index].attributes["preference set by"] = f"install policy {policy.name}"
            self.rounds.append(Round("install policy", "", rule, values, ()))
        return group

    def _between(self, groups: list[list[int]]) -> list[int]:
        """Preference, then the order of protocols, then of processes."""
        for name, rule, rank, chosen in (
            ("preference", "the lowest preference is believed (RFC 8349 section 5.1)", self._preference, True),
            (
                "order of protocols",
                "of equal preference the protocol named first in: " + ", ".join(PROTOCOL_ORDER),
                self._order,
                False,
            ),
            ("order of instances", "of equal protocols the instance written first", self._process_order, False),
        ):
            if len(groups) < 2:
                break
            ranks = [rank(group) for group in groups]
            best = min(ranks)
            if all(one == best for one in ranks):
                continue
            values = tuple(
                (index, str(one) if name == "preference" else self.candidates[index].protocol)
                for group, one in zip(groups, ranks, strict=True)
                for index in group
            )
            lost = {
                index: one - best for group, one in zip(groups, ranks, strict=True) if one > best for index in group
            }
            self.record(Round(name, "", rule, values, tuple(lost), chosen), lost, counts=name == "preference")
            groups = [group for group, one in zip(groups, ranks, strict=True) if one == best]
        return groups[0] if groups else []

    def _preference(self, group: list[int]) -> int:
        return min(self.candidates[index].preference for index in group)

    def _order(self, group: list[int]) -> int:
        return PROTOCOL_ORDER.index(self.candidates[group[0]].protocol)

    def _process_order(self, group: list[int]) -> int:
        solution, process = self.candidates[group[0]].processes
        return solution * 2**20 + process

    def _next_hops(self, winners: list[int]) -> tuple[NextHop, ...]:
        if not winners:
            return ()
        return merged_hops(self.solved, [self.candidates[index] for index in winners])
