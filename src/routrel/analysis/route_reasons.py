"""Why a route is another after changes: the round that decides against the former one, and what moved it there."""

from collections.abc import Iterator, Sequence

import msgspec

from routrel.analysis.answers.comparisons import RouteChange
from routrel.analysis.contest.absence import trails
from routrel.analysis.contest.candidates import Candidate, Contest
from routrel.analysis.contest.explainer import Explainer
from routrel.model.addresses import Prefix
from routrel.model.network import InterfaceName
from routrel.routing.routes import NextHop
from routrel.routing.solve import Solved

MOST_EXPLAINED = 200
"""Routes of one answer whose contests are held: each is two."""

Hop = tuple[InterfaceName, object]


def with_reasons(before: Solved, after: Solved, routes: Sequence[RouteChange]) -> list[RouteChange]:
    """Routes that differ with the reason of each, the first ``MOST_EXPLAINED`` of them."""
    reasons = _Reasons(before, after)
    explained = [msgspec.structs.replace(one, reason=reasons.of(one)) for one in routes[:MOST_EXPLAINED]]
    return [*explained, *routes[MOST_EXPLAINED:]]


class _State:
    """One of the two states, asked for contests and for what an interface is and costs."""

    def __init__(self, solved: Solved):
        self.solved = solved
        self.topology = solved.topology
        self.explainer = Explainer(solved)

    def contest(self, change: RouteChange) -> Contest | None:
        """The contest for the prefix, None where the instance or the prefix is not there."""
        instance = self.topology.instance_index.get((change.device, change.vrf))
        prefix = Prefix.parse(change.prefix)
        if instance is None or prefix not in self.solved.prefixes.number:
            return None
        return self.explainer.contest(instance, prefix)

    def hops(self, next_hops: Sequence[NextHop]) -> dict[Hop, None]:
        """Next hops by name, in their order: numbers of ports may differ between the two."""
        return {(self.topology.ports[hop.port].name, hop.address): None for hop in next_hops}

    def holding(self, contest: Contest | None, hops: Sequence[Hop], protocol: str) -> Candidate | None:
        """The candidate of a protocol that leads by one of some next hops: the one that came furthest."""
        if contest is None:
            return None
        held = [
            one
            for one in contest.candidates
            if one.protocol == protocol and any(hop in self.hops(one.next_hops) for hop in hops)
        ]
        return max(held, key=lambda one: (not one.out, one.beaten), default=None)

    def unheard(self, contest: Contest, former: Candidate) -> str:
        """Why the neighbour that sent a path does not send one any more."""
        if former.path is None or former.path.neighbor is None:
            return ""
        found = (
            self.explainer.contest_of(solution).unheard(process.number, contest.prefix, former.path.neighbor)
            for solution, process in self.solved.processes_of(contest.instance)
        )
        return next(filter(None, found), "")

    def cost(self, port: InterfaceName, candidate: Candidate) -> int | None:
        """What an interface counts for the protocol of a candidate."""
        number = self.topology.port_index.get(port)
        if number is None or not candidate.is_process:
            return None
        found = self.explainer.contests[candidate.processes[0]].interface_cost(number)
        return None if found is None else found.now


class _Reasons:
    def __init__(self, before: Solved, after: Solved):
        self.before, self.after = _State(before), _State(after)

    def of(self, change: RouteChange) -> str:
        """Why the route is another, as a phrase."""
        device = self.after.solved.network.devices.get(change.device)
        if device is None or not device.enabled:
            return f"{change.device} is off" if device is not None else f"{change.device} is gone"
        was, now = self.before.contest(change), self.after.contest(change)
        old = None if was is None or not was.winners else was.candidates[was.winners[0]]
        new = None if now is None or not now.winners else now.candidates[now.winners[0]]
        if old is None or was is None:
            return self._came(was, new)
        if new is None or now is None:
            return self._gone(now, old)
        old_hops, new_hops = self.before.hops(was.next_hops), self.after.hops(now.next_hops)
        if left := [hop for hop in old_hops if hop not in new_hops]:
            return self._left(now, old, new, left)
        if fresh := [hop for hop in new_hops if hop not in old_hops]:
            found = self.before.holding(was, fresh, new.protocol)
            text = "" if found is None else _lost(was, found)
            moved = next(self._moved(new, self.after), "")
            return _joined("as good as the others now", moved, f"before it lost, {text}" if text else "")
        return self._same_way(old, new)

    def _came(self, was: Contest | None, new: Candidate | None) -> str:
        found = None
        if new is not None and was is not None:
            found = next((one for one in was.candidates if one.protocol == new.protocol and one.out), None)
        if found is not None:
            return f"before, {found.out}"
        return "" if new is None else f"newly there: {new.origin}"

    def _gone(self, now: Contest | None, old: Candidate) -> str:
        if now is not None and (unheard := self.after.unheard(now, old)):
            return unheard
        same = [] if now is None else [one for one in now.candidates if one.protocol == old.protocol and one.out]
        if same:
            return same[0].out
        if now is not None and (lost := next((one for one in now.candidates if one.beaten >= 0), None)):
            return f"kept out in {now.rounds[lost.beaten].name}"
        found = trails(self.after.explainer, now) if now is not None else []
        stopped = (trail.steps[-1].text for trail in found)
        if not old.is_process:
            return f"{old.origin} is not there any more"
        return next(self._moved(old, self.before), "") or next(stopped, "nobody offers it any more")

    def _left(self, now: Contest, old: Candidate, new: Candidate, left: list[Hop]) -> str:
        """Next hops are gone: what their candidate lost in, or why it is none any more."""
        moved = next(self._moved(old, self.before), "") or next(self._moved(new, self.after), "")
        found = self.after.holding(now, left, old.protocol)
        if found is not None:
            return _joined(found.out or _lost(now, found), moved)
        port = self.after.topology.port_index.get(left[0][0])
        if port is None:
            return f"{left[0][0]} is gone"
        down = self.after.topology.ports[port].down
        if down:
            return f"{left[0][0]} is down: {down}"
        if unheard := self.after.unheard(now, old):
            return _joined(unheard, moved)
        if not old.is_process:
            return f"{old.origin} is not there any more"
        if old.protocol != new.protocol:
            return _joined(f"{old.protocol} does not offer it any more", moved)
        return moved or "the former way is not offered any more"

    def _same_way(self, old: Candidate, new: Candidate) -> str:
        if old.protocol == new.protocol and old.preference != new.preference:
            return f"preference {new.preference}, was {old.preference}"
        if old.protocol != new.protocol:
            return f"{new.protocol} with preference {new.preference} before {old.protocol} with {old.preference}"
        moved = next(self._moved(new, self.after), "") or next(self._moved(old, self.before), "")
        return moved or f"the same next hops: {old.origin}, now {new.origin}" * (old.origin != new.origin)

    def _moved(self, candidate: Candidate, its: _State) -> Iterator[str]:
        """What is otherwise along the way of a candidate in the other state: what is down, or costs more or less."""
        for leg in (leg for way in candidate.ways for leg in way.legs):
            if leg.port < 0:
                continue
            name = its.topology.ports[leg.port].name
            number = self.after.topology.port_index.get(name)
            if number is None:
                yield f"{name} is gone"
                continue
            down = self.after.topology.ports[number].down
            costs = self.before.cost(name, candidate), self.after.cost(name, candidate)
            if down:
                yield f"{name} is down: {down}"
            elif None not in costs and costs[0] != costs[1]:
                yield f"{name} costs {costs[1]}, was {costs[0]}"


def _lost(contest: Contest, candidate: Candidate) -> str:
    """The round that a candidate lost, with what won there and what it had to show."""
    if candidate.beaten < 0:
        return ""
    lost = contest.rounds[candidate.beaten]
    mine = next((text for index, text in lost.values if contest.candidates[index] is candidate), "")
    best = next((text for index, text in lost.values if index not in lost.lost), "")
    return f"{lost.name} {best} against {mine}" if best and mine else lost.name


def _joined(*parts: str) -> str:
    return "; ".join(filter(None, parts))
