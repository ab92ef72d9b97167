"""Expectations, and what was found of them, in words."""

from collections import Counter
from collections.abc import Iterator, Sequence

from routrel.analysis.answers.expectations import ExpectationsHeld, HoldState
from routrel.analysis.expectations.failures import KIND_WORDS
from routrel.forwarding.flow import Flow
from routrel.model.expectations import Expectation

MOST_NAMED = 5

OUTCOME_WORDS = {
    "loops": "newly goes round",
    "breaks": "fails",
    "single": "is left a single way",
    "exit": "leaves by another exit",
    "longer": "takes a longer way",
    "moves": "takes another way",
}
"""What becomes of a flow, from the worst to the least."""


def flow_words(flow: Flow) -> str:
    """A flow on one line."""
    return f"{flow.source} > {flow.destination} {flow.service}"


def held_words(states: Counter[HoldState], count: int, tried: int, hurting: int) -> str:
    """All of it on one line."""
    if not count:
        return "nothing is expected of this network"
    words = f"{states['holds']:,} of {count:,} expectation{'' if count == 1 else 's'}"
    words += " holds" if states["holds"] == 1 else " hold"
    if states["refused"]:
        words += f", {states['refused']:,} cannot be told"
    if tried:
        words += f"; {hurting:,} of {tried:,} failures hurt what is expected"
    return words


def expectation_words(one: Expectation) -> str:
    """An expectation as a sentence."""
    what = f"{_some(one.sources)} > {_some(one.destinations)} {_some(one.services)} {one.expect}"
    parts = [
        f"in by {one.enter}" if one.enter else "",
        f"passes {_some(one.passes, ' and ')}" if one.passes else "",
        f"avoids {_some(one.avoids)}" if one.avoids else "",
        "comes back the same way" if one.same_way_back else "",
        f"in {one.hops} hop{'' if one.hops == 1 else 's'} at most" if one.hops is not None else "",
        f"packets to {one.mtu} bytes" if one.mtu is not None else "",
        f"{one.ways} ways that share no {one.apart.replace('_', ' ')}" if one.ways is not None else "",
        f"survives any one {_some([KIND_WORDS[kind] for kind in one.survives], ' or ')}" if one.survives else "",
    ]
    return ", ".join([what, *filter(None, parts)])


def _some(words: Sequence[str], between: str = ", ") -> str:
    shown = between.join(words[:MOST_NAMED])
    return f"{shown} and {len(words) - MOST_NAMED} more" if len(words) > MOST_NAMED else shown


def holding_lines(found: ExpectationsHeld) -> Iterator[str]:
    """The answer as lines for a terminal or a ticket."""
    yield found.words
    marks = {"holds": "=", "fails": "-", "refused": "?"}
    for one in found.expectations:
        mark = marks[one.state] if one.state != "fails" or one.severity == "error" else "~"
        yield f"{mark} {one.name}: {one.words}"
        for flow in one.flows[:MOST_NAMED]:
            yield f"    {flow.flow.source} > {flow.flow.to} {flow.flow.service}: {'; '.join(flow.reasons)}"
        if one.failing_count > MOST_NAMED:
            yield f"    … and {one.failing_count - MOST_NAMED:,} more flows"
        for failure in one.not_survived[:MOST_NAMED]:
            yield f"    does not survive {KIND_WORDS[failure.kind]} {failure.name}: {', '.join(failure.flows)}"
        if one.not_survived_count > MOST_NAMED:
            yield f"    … and {one.not_survived_count - MOST_NAMED:,} more failures"
        yield from (f"    not sure: {doubt}" for doubt in one.doubts)
    for outcome in found.failures:
        said = f" ({_some(outcome.expectations)})" if outcome.expectations else ""
        second = f" and {KIND_WORDS[outcome.second.kind]} {outcome.second.name}" if outcome.second else ""
        yield f"! without {KIND_WORDS[outcome.kind]} {outcome.name}{second}: {outcome.words}{said}"
    if found.failures_tried:
        ruled_out = f"; {found.ruled_out:,} touch no way or route in use" if found.ruled_out else ""
        yield f"{found.harmless:,} of {found.failures_tried:,} failures hurt nothing expected{ruled_out}"
