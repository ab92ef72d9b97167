"""A moment told: what is otherwise than the revision says, since which event, and what happened before and after."""

from datetime import datetime

from routrel.analysis.answers.timeline import EventShown, Otherwise, StateThen
from routrel.analysis.timeline.outages import event_shown, event_words
from routrel.analysis.timeline.states import Timeline
from routrel.analysis.timeline.switches import Switch, words_of
from routrel.model.times import rfc3339


def state_then(timeline: Timeline, moment: datetime) -> StateThen:
    """The state at a moment."""
    timeline.say_of_changes()
    state = timeline.state_at(moment)
    network = timeline.solved.network
    switched = [
        *((switch, "down") for switch in sorted(state.off)),
        *((switch, "up, though the revision has it off") for switch in sorted(state.on)),
    ]
    otherwise = [
        Otherwise(f"{words_of(network, switch)} {how}", _event_of(timeline, switch, moment)) for switch, how in switched
    ]
    otherwise += [
        Otherwise(event_words(timeline.events[number]), event_shown(timeline, number)) for number in state.in_force
    ]
    before, after = timeline.number_before(moment), timeline.number_after(moment)
    return StateThen(
        rfc3339(moment),
        state.unknown,
        otherwise,
        [] if state.unknown else [change.data() for change in timeline.changes_of(state)],
        [event_shown(timeline, number) for number in range(before, after)],
        rfc3339(timeline.events[before - 1].time) if before else None,
        rfc3339(timeline.events[after].time) if after < len(timeline.events) else None,
    )


def _event_of(timeline: Timeline, switch: Switch, moment: datetime) -> EventShown | None:
    """The event that a thing is so since; None where it was so before all of them."""
    numbers = (
        number for number in range(timeline.number_after(moment) - 1, -1, -1) if switch in timeline.switched[number]
    )
    number = next(numbers, None)
    return None if number is None else event_shown(timeline, number)
