"""Tipping points: the values at which a winning route would change, and to what.

One value at a time is moved while all others stay: an interface's cost (metric, delay), the metric at which
a router puts the prefix into a protocol, a preference. The contest is held again at trial values; of each
value the nearest ones at which the outcome differs are found, above and below. Redistribution stays as it
settled. An outcome is the protocol, the kind of route and the set of next hops.
"""

from collections.abc import Callable, Iterator
from dataclasses import dataclass
from typing import Any

from routrel.analysis.contest.candidates import Candidate, Contest, PathTip
from routrel.analysis.contest.explainer import Explainer
from routrel.analysis.contest.protocol import InterfaceCost
from routrel.analysis.contest.rounds import merged_hops
from routrel.analysis.offered_changes import attribute_set, cost_set, preference_set
from routrel.model.places import NOWHERE, Place
from routrel.model.routing import PROTOCOL_ORDER
from routrel.routing.routes import NextHop

MOST_WORK = 120_000
"""Interfaces that are tried times the edges of the graph that each trial goes through."""

FEWEST_PORTS = 8


@dataclass(frozen=True, slots=True)
class Outcome:
    """What a table would do with the prefix; ``protocol`` is '' without a route."""

    protocol: str
    kind: str
    next_hops: tuple[NextHop, ...]
    action: str


@dataclass(frozen=True, slots=True)
class TippingPoint:
    """At ``value`` and beyond (``above`` it or below), the outcome becomes ``becomes``.

    Where ``value`` makes ways equal, ``beyond`` is what comes one further, else None.
    """

    what: str
    device: str
    port: int
    protocol: str
    now: int
    value: int
    above: bool
    becomes: Outcome
    beyond: Outcome | None
    place: Place = NOWHERE
    change: dict[str, Any] | None = None


def outcome_of(contest: Contest) -> Outcome:
    """What the table does by a contest."""
    if not contest.winners:
        return Outcome("", "", (), "")
    winner = contest.candidates[contest.winners[0]]
    return Outcome(winner.protocol, winner.kind, contest.next_hops, winner.action)


def tipping_points(explainer: Explainer, contest: Contest) -> list[TippingPoint]:
    """All of a contest that has a winner, nearest first."""
    if not contest.winners:
        return []
    found = [*_interface_costs(explainer, contest), *_metrics(explainer, contest), *_preferences(explainer, contest)]
    found += _paths(explainer, contest)
    return sorted(found, key=lambda one: (abs(one.value - one.now), one.device, one.port, one.what, one.above))


def points_of_choice(explainer: Explainer, contest: Contest) -> Iterator[TippingPoint]:
    """Those of a preference or of an attribute of a path; of costs only where no graph of links is known."""
    if contest.winners:
        yield from _preferences(explainer, contest)
        yield from _paths(explainer, contest)
        winner = contest.candidates[contest.winners[0]]
        if winner.is_process and winner.graph is None:
            yield from _interface_costs(explainer, contest)


def _paths(explainer: Explainer, contest: Contest) -> Iterator[TippingPoint]:
    device = explainer.topology.devices[explainer.topology.instances[contest.instance].device].name
    losing = {one.processes[0] for one in contest.candidates if one.is_process}

    def again(candidates: list[Candidate]) -> Contest:
        return explainer.decide(contest.instance, contest.prefix, candidates)

    for tip in (tip for number in sorted(losing) for tip in explainer.contests[number].path_tips(contest, again)):
        becomes = outcome_of(tip.contest)
        yield TippingPoint(
            tip.what,
            device,
            -1,
            tip.candidate.protocol,
            tip.now,
            tip.value,
            tip.above,
            becomes,
            None,
            tip.candidate.place,
            _attribute(explainer, contest, tip),
        )


def _attribute(explainer: Explainer, contest: Contest, tip: PathTip) -> dict[str, Any] | None:
    """The change that gives a path this value where it is heard."""
    neighbor = None if tip.candidate.path is None else tip.candidate.path.neighbor
    if neighbor is None:
        return None
    instance = explainer.topology.instances[contest.instance]
    word = tip.what.partition(" of the path")[0]
    name = explainer.topology.devices[instance.device].name
    return attribute_set(name, instance.vrf, str(neighbor), word, tip.value, tip.now, contest.prefix)


def _interface_costs(explainer: Explainer, contest: Contest) -> Iterator[TippingPoint]:
    for port, settings in _ports_tried(explainer, contest)[0]:
        yield from _tips_of_port(explainer, contest, port, *settings)


def ports_left_out(explainer: Explainer, contest: Contest) -> int:
    """Interfaces whose costs may matter and are not tried, since that would take too long."""
    return _ports_tried(explainer, contest)[1] if contest.winners else 0


def _ports_tried(explainer: Explainer, contest: Contest) -> tuple[list[tuple[int, InterfaceCost]], int]:
    """The interfaces whose costs are tried, the nearest first, and how many are left out."""
    winner = contest.candidates[contest.winners[0]]
    if not winner.is_process:
        return [], 0
    ports: set[int] = set()
    for candidate in contest.candidates:
        if candidate.processes == winner.processes and not candidate.out:
            ports |= candidate.counted_ports
    of_winner = explainer.contests[winner.processes[0]]
    ports |= of_winner.shortening_ports(winner.processes[1], contest.prefix)
    counted = [leg.port for index in contest.winners for way in contest.candidates[index].ways for leg in way.legs]
    near = {port: at for at, port in reversed(list(enumerate(counted)))}
    device = explainer.topology.instances[contest.instance].device
    found = [
        (port, settings)
        for port in sorted(
            ports, key=lambda one: (explainer.topology.ports[one].device != device, near.get(one, len(near)), one)
        )
        if (settings := of_winner.interface_cost(port)) is not None
    ]
    edges = sum(len(edges) for one in contest.candidates if one.graph for edges in one.graph.leaving.values())
    most = max(FEWEST_PORTS, MOST_WORK // max(1, edges))
    return found[:most], max(0, len(found) - most)


def _tips_of_port(
    explainer: Explainer, contest: Contest, port: int, now: int, place: Place, highest: int
) -> Iterator[TippingPoint]:
    winner = contest.candidates[contest.winners[0]]
    protocol = winner.protocol
    name = explainer.topology.ports[port].name

    def at(value: int) -> Outcome:
        trial = Explainer(explainer.solved, {port: value}, None, explainer)
        return outcome_of(trial.contest(contest.instance, contest.prefix))

    word = f"{explainer.contests[winner.processes[0]].cost_word} of {name.interface}"
    for value, above, becomes, beyond in _search(at, outcome_of(contest), now, 1, highest):
        device = explainer.topology.devices[explainer.topology.ports[port].device]
        change = cost_set(device, name, protocol, value, contest.prefix.family)
        yield TippingPoint(word, name.device, port, protocol, now, value, above, becomes, beyond, place, change)


def _metrics(explainer: Explainer, contest: Contest) -> Iterator[TippingPoint]:
    """The metrics at which routers put the prefix into the winner's protocol."""
    winner = contest.candidates[contest.winners[0]]
    of_winner = explainer.contests[winner.processes[0]] if winner.is_process else None
    if of_winner is None or of_winner.metrics_tried is None:
        return
    low, high = of_winner.metrics_tried
    solution_number, solution = winner.processes[0], of_winner.solution
    number = explainer.solved.prefix_classes.column_of(contest.prefix)
    for process, found in sorted(of_winner.redistributed.items()):
        at_number = found.position(number)
        if at_number is None:
            continue
        now = solution.default_metric(process) if found.metric[at_number] < 0 else int(found.metric[at_number])
        key = (solution_number, process)

        def at(value: int, key: tuple[int, int] = key) -> Outcome:
            trial = Explainer(explainer.solved, None, {key: value}, explainer)
            return outcome_of(trial.contest(contest.instance, contest.prefix))

        protocol = winner.protocol
        of = solution.processes[process]
        place = of.redistribute[0].place if of.redistribute else of.place
        device = explainer.topology.devices[explainer.topology.instances[of.instance].device].name
        for value, above, becomes, beyond in _search(at, outcome_of(contest), now, low, high):
            yield TippingPoint(
                f"metric of {contest.prefix} put into {protocol}",
                device,
                -1,
                protocol,
                now,
                value,
                above,
                becomes,
                beyond,
                place,
            )


Found = tuple[int, bool, Outcome, Outcome | None]


def _search(at: Callable[[int], Outcome], now: Outcome, current: int, low: int, high: int) -> Iterator[Found]:
    """The nearest values above and below ``current`` whose outcome differs, by halving what lies between."""
    for above, end in ((True, high), (False, low)):
        if (above and current >= end) or (not above and current <= end) or at(end) == now:
            continue
        same, other = current, end
        while abs(other - same) > 1:
            # Sums are short and limits far: look near first, in steps that double, then halve.
            middle = _between(same, other, current)
            if at(middle) == now:
                same = middle
            else:
                other = middle
        becomes = at(other)
        further = other + (1 if above else -1)
        beyond = at(further) if low <= further <= high else None
        yield other, above, becomes, beyond if beyond not in (None, becomes) else None


def _between(same: int, other: int, current: int) -> int:
    """A value strictly between, at most twice as far from ``current`` as is known to be the same."""
    step = max(1, 2 * abs(same - current))
    direction = 1 if other > same else -1
    doubled = current + direction * max(step, 16)
    middle = (same + other) // 2
    if direction > 0:
        return max(same + 1, min(doubled, middle))
    return min(same - 1, max(doubled, middle + (1 if middle == other else 0)))


def _preferences(explainer: Explainer, contest: Contest) -> Iterator[TippingPoint]:
    """The preference of each source at which another would be believed: plain arithmetic on the last rounds."""
    groups: dict[tuple[object, ...], list[int]] = {}
    rounds = {index for index, one in enumerate(contest.rounds) if one.name in ("preference", "order of protocols")}
    for index, candidate in enumerate(contest.candidates):
        if index in contest.winners or (candidate.beaten in rounds and not candidate.out):
            groups.setdefault((candidate.protocol, candidate.processes, candidate.preference), []).append(index)
    if len(groups) < 2:
        return
    winning = contest.candidates[contest.winners[0]]
    order = PROTOCOL_ORDER.index

    def outcome(members: list[int]) -> Outcome:
        first = contest.candidates[members[0]]
        hops = merged_hops(explainer.solved, [contest.candidates[index] for index in members])
        return Outcome(first.protocol, first.kind, hops, first.action)

    others = [members for members in groups.values() if not set(members) & set(contest.winners)]
    nearest = min(others, key=lambda m: (contest.candidates[m[0]].preference, order(contest.candidates[m[0]].protocol)))
    second = contest.candidates[nearest[0]]
    if _is_by_protocol(winning):
        value = second.preference + (0 if order(winning.protocol) > order(second.protocol) else 1)
        if value <= 255:
            yield _preference_point(explainer, contest, winning, value, True, outcome(nearest))
    for members in others:
        loser = contest.candidates[members[0]]
        if _is_by_protocol(loser):
            value = winning.preference - (0 if order(loser.protocol) < order(winning.protocol) else 1)
            if value >= 0:
                yield _preference_point(explainer, contest, loser, value, False, outcome(members))


def _is_by_protocol(candidate: Candidate) -> bool:
    """Whether its preference is the instance's for the protocol, not a policy's or a route's own."""
    if not candidate.is_process and candidate.protocol != "static":
        return False
    return "preference set by" not in candidate.attributes and not candidate.has_own_preference


def _preference_point(
    explainer: Explainer, contest: Contest, candidate: Candidate, value: int, above: bool, becomes: Outcome
) -> TippingPoint:
    instance = explainer.topology.instances[contest.instance]
    name = candidate.protocol
    if candidate.is_process:
        solution = explainer.contests[candidate.processes[0]].solution
        names = {solution.kind_names[kind]: named for kind, named in solution.preference_names.items()}
        name = names.get(candidate.kind, name)
    return TippingPoint(
        f"preference of {name}",
        explainer.topology.devices[instance.device].name,
        -1,
        candidate.protocol,
        candidate.preference,
        value,
        above,
        becomes,
        None,
        instance.routing.place if instance.routing else NOWHERE,
        preference_set(explainer.topology.devices[instance.device].name, instance.vrf, name, value),
    )
