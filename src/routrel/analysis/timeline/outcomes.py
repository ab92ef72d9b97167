"""What becomes of flows in the states of a network: found once for all states that differ in nothing they rest on."""

from routrel.analysis.supports import FlowSupports
from routrel.analysis.timeline.flow_states import Outcome, outcome_of
from routrel.analysis.timeline.states import State, Timeline
from routrel.analysis.timeline.switches import Switch, failure_of
from routrel.analysis.walk_verdicts import Answerer
from routrel.formats.changes.finding import ChangeError
from routrel.forwarding.flow import Flow

OUTCOMES_KEPT = 20_000
"""Of flows in states, for whoever looks closer at the same window."""


class Outcomes:
    """Of one timeline, which keeps them."""

    def __init__(self, timeline: Timeline):
        self.timeline = timeline
        self._moved: tuple[State, FlowSupports, dict[Switch, frozenset[int] | None]] | None = None
        self._answerer: tuple[State, Answerer] | None = None
        if len(timeline.outcomes) > OUTCOMES_KEPT:
            timeline.outcomes.clear()
            timeline.supports.clear()

    def of(self, flow: Flow, state: State) -> Outcome:
        """What becomes of a flow in a state.

        What is off that the flow rests on is taken from the state in which nothing is, again and again: with that off
        it may rest on more. Where it rests on no more, the rest changes nothing.
        """
        kept = self.timeline.outcomes
        if (flow, state) not in kept:
            touching = frozenset(one for one in state.off if self._ports_moved(state, one) is None)
            while True:
                at = state._replace(off=touching)
                ports = self._supports(flow, at)
                if ports is None:
                    at = state
                    break
                others = state.off - touching
                more = {one for one in others if not ports.isdisjoint(self._ports_moved(state, one) or ())}
                if not more:
                    break
                touching |= more
            kept[flow, state] = self._find(flow, at)
        return kept[flow, state]

    def _find(self, flow: Flow, state: State) -> Outcome:
        kept = self.timeline.outcomes
        if (flow, state) not in kept:
            kept[flow, state] = outcome_of(self._answering(state), flow)
        return kept[flow, state]

    def _answering(self, state: State) -> Answerer:
        if self._answerer is None or self._answerer[0] != state:
            self._answerer = state, Answerer(self.timeline.solved_in(state))
        return self._answerer[1]

    def _supports(self, flow: Flow, state: State) -> frozenset[int] | None:
        """The ports that a flow rests on in a state; None where that is not told, or a cause of its failing is."""
        kept = self.timeline.supports
        if (flow, state) not in kept:
            answerer = self._answering(state)
            walk = self._find(flow, state).good and answerer.asker.ask(flow)
            kept[flow, state] = FlowSupports(answerer.solved).of(walk) if walk else None
        return kept[flow, state]

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
