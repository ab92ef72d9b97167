"""What becomes of flows and routes in the states of a network: found once for all states alike in what they rest on."""

from collections.abc import Callable, Hashable
from typing import Any, Generic, TypeVar

from routrel.analysis.answers.routes import TableRow
from routrel.analysis.expectations.flow_supports import FlowSupports
from routrel.analysis.timeline.flow_states import Outcome, outcome_of
from routrel.analysis.timeline.route_states import RouteAsked, route_in
from routrel.analysis.timeline.states import State, Timeline
from routrel.analysis.timeline.switches import Switch, failure_of
from routrel.analysis.walk_verdicts import Answerer
from routrel.formats.changes.finding import ChangeError
from routrel.forwarding.flow import Flow
from routrel.routing.supports import LookupSupports

OUTCOMES_KEPT = 20_000
"""Of flows and routes in states, for whoever looks closer at the same window."""
SUPPORTS_KEPT = 2_000

Asked = TypeVar("Asked", bound=Hashable)
Found = TypeVar("Found")


class Outcomes(Generic[Asked, Found]):
    """Of one timeline, which keeps them. ``find`` tells what becomes of what is asked in a solved network, and
    ``supports`` the ports that this rests on there, None where that is not told."""

    def __init__(
        self,
        timeline: Timeline,
        find: Callable[[Answerer, Asked], Found],
        supports: Callable[[Answerer, Asked, Found], frozenset[int] | None],
    ):
        self.timeline = timeline
        self._find_in, self._supports_in = find, supports
        self._moved: tuple[State, FlowSupports, dict[Switch, frozenset[int] | None]] | None = None
        self._answerer: tuple[State, Answerer] | None = None
        if len(timeline.outcomes) > OUTCOMES_KEPT:
            timeline.outcomes.clear()
            timeline.supports.clear()

    def of(self, asked: Asked, state: State) -> Found:
        """What becomes of something in a state.

        What is off that it rests on is taken from the state in which nothing is, again and again: with that off it may
        rest on more. Where it rests on no more, the rest changes nothing.
        """
        kept: dict[Any, Any] = self.timeline.outcomes
        if (asked, state) not in kept:
            touching = frozenset(one for one in state.off if self._ports_moved(state, one) is None)
            while True:
                at = state._replace(off=touching)
                ports = self._supports(asked, at)
                if ports is None:
                    at = state
                    break
                others = state.off - touching
                more = {one for one in others if not ports.isdisjoint(self._ports_moved(state, one) or ())}
                if not more:
                    break
                touching |= more
            kept[asked, state] = self._find(asked, at)
        found: Found = kept[asked, state]
        return found

    def touches(self, asked: Asked, switch: Switch) -> bool:
        """Whether something rests on what may be off, while nothing is, as far as that is told."""
        ports, moved = self._supports(asked, State()), self._ports_moved(State(), switch)
        return ports is not None and moved is not None and not ports.isdisjoint(moved)

    def _find(self, asked: Asked, state: State) -> Found:
        kept: dict[Any, Any] = self.timeline.outcomes
        if (asked, state) not in kept:
            kept[asked, state] = self._find_in(self._answering(state), asked)
        found: Found = kept[asked, state]
        return found

    def _answering(self, state: State) -> Answerer:
        if self._answerer is None or self._answerer[0] != state:
            self._answerer = state, Answerer(self.timeline.solved_in(state))
        return self._answerer[1]

    def _supports(self, asked: Asked, state: State) -> frozenset[int] | None:
        kept: dict[Any, Any] = self.timeline.supports
        if (asked, state) not in kept:
            if len(kept) >= SUPPORTS_KEPT:
                kept.clear()
            found = self._find(asked, state)
            kept[asked, state] = self._supports_in(self._answering(state), asked, found)
        ports: frozenset[int] | None = kept[asked, state]
        return ports

    def _ports_moved(self, state: State, switch: Switch) -> frozenset[int] | None:
        """The ports that go down with something that is off in a state; None where more may follow from it."""
        whole = state._replace(off=frozenset())
        if self._moved is None or self._moved[0] != whole:
            self._moved = whole, FlowSupports(self.timeline.solved_in(whole)), {}
        _, supports, moved = self._moved
        if switch not in moved:
            try:
                moved[switch] = supports.moved(failure_of(supports.solved.network, switch))
            except ChangeError:
                moved[switch] = frozenset()  # a change took it out
        return moved[switch]


def flow_outcomes(timeline: Timeline) -> Outcomes[Flow, Outcome]:
    """Of flows; a flow that does not get through is told with its cause, which may lie anywhere."""

    def supports(answerer: Answerer, flow: Flow, found: Outcome) -> frozenset[int] | None:
        return FlowSupports(answerer.solved).of(answerer.asker.ask(flow)) if found.good else None

    return Outcomes(timeline, outcome_of, supports)


def route_outcomes(timeline: Timeline) -> Outcomes[RouteAsked, TableRow | None]:
    """Of routes."""

    def supports(answerer: Answerer, asked: RouteAsked, found: object) -> frozenset[int] | None:
        instance = asked.instance_in(answerer.solved)
        return None if instance is None else LookupSupports(answerer.solved).of_prefix(instance, asked.prefix)

    return Outcomes(timeline, lambda answerer, asked: route_in(answerer.solved, asked), supports)
