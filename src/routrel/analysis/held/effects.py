"""What a changed conversation means for who uses it: its effect, and its ends in words."""

from typing import NamedTuple

from routrel.analysis.answers.held import Effect, EffectCount
from routrel.analysis.held.conversations import Conversation, Sides
from routrel.analysis.held.states import Numbering
from routrel.analysis.held.ways import End

EFFECTS: tuple[Effect, ...] = ("blocked", "loops", "open", "asymmetry", "redundancy", "longer", "moved", "failing")
"""From the worst to the least."""

TITLES: dict[Effect, str] = {
    "blocked": "no longer gets through",
    "loops": "newly goes round",
    "open": "newly gets through",
    "asymmetry": "newly comes back another way",
    "redundancy": "has fewer ways",
    "longer": "takes a longer way",
    "moved": "takes another way",
    "failing": "still does not get through, for another reason",
}


OF_MANY: dict[Effect, str] = {
    "blocked": "no longer get through",
    "loops": "newly go round",
    "open": "newly get through",
    "asymmetry": "newly come back another way",
    "redundancy": "have fewer ways",
    "longer": "take a longer way",
    "moved": "take another way",
    "failing": "still do not get through, for another reason",
}


def counted(effect: Effect, pairs: int) -> EffectCount:
    """How many pairs have an effect."""
    words = f"1 pair {TITLES[effect]}" if pairs == 1 else f"{pairs:,} pairs {OF_MANY[effect]}"
    return EffectCount(effect, pairs, words)


class Judged(NamedTuple):
    """A conversation's effect, and its ends before and after in words; ``lost`` and ``gained`` are the routing
    instances that it passes no longer and newly."""

    effect: Effect
    before: str
    after: str
    lost: frozenset[int]
    gained: frozenset[int]


def judged(conversation: Conversation, numbering: Numbering) -> Judged:
    """What became of a conversation."""
    before, after = conversation.before, conversation.after
    effect = _effect(conversation)
    words = _words(conversation, before, numbering), _words(conversation, after, numbering)
    if effect in ("blocked", "loops", "open"):
        return Judged(effect, *words, frozenset(), frozenset())
    passed = [sides[0].passed | (sides[1].passed if sides[1] else frozenset()) for sides in (before, after)]
    return Judged(effect, *words, passed[0] - passed[1], passed[1] - passed[0])


def _effect(conversation: Conversation) -> Effect:
    before, after = conversation.before, conversation.after
    levels = _level(conversation, before), _level(conversation, after)
    goes_round = [any(end.verdict == "loops" for way in sides if way for end in way.ends) for sides in (before, after)]
    if goes_round[1] and not goes_round[0]:
        return "loops"
    if levels[1] < levels[0]:
        return "blocked"
    if levels[1] > levels[0]:
        return "open"
    if levels[0] == 0:
        return "failing"
    symmetric = [sides[1] is not None and sides[0].passed == sides[1].passed for sides in (before, after)]
    if symmetric[0] and not symmetric[1]:
        return "asymmetry"
    ways = [(one, other) for one, other in zip(before, after, strict=True) if one and other]
    if any(0 < other.ways < one.ways or len(other.ends) < len(one.ends) for one, other in ways):
        return "redundancy"
    return "longer" if any(other.longest > one.longest for one, other in ways) else "moved"


def _level(conversation: Conversation, sides: Sides) -> int:
    """2 where it works, there and back on every way; 0 where it works on none."""
    way, answer = sides
    there = [_is_good(end, conversation.destination.place.kind) for end in way.ends]
    if answer is None or not any(there):
        return 0
    source = conversation.source
    back = [
        _is_good(end, source.place.kind) and (end.verdict != "arrives" or end.instance == source.instance)
        for end in answer.ends
    ]
    if not any(back):
        return 0
    return 2 if all(there) and all(back) else 1


def _is_good(end: End, kind: str) -> bool:
    """Whether a packet has come to where it is meant for: what is for the model's own places must not leave it."""
    return end.verdict == "leaves" if kind == "outside" else end.verdict in ("arrives", "delivered")


def _words(conversation: Conversation, sides: Sides, numbering: Numbering) -> str:
    way, answer = sides
    there = _ends_words(way.ends, conversation.destination.place.kind, numbering)
    if answer is None:
        return there
    back = _ends_words(answer.ends, conversation.source.place.kind, numbering)
    if conversation.source.place.kind == "outside" and all(end.verdict == "leaves" for end in answer.ends):
        return f"{there}, answer {back}"
    return there if back == "arrives" else f"{there}, answer {back}"


def _ends_words(ends: frozenset[End], kind: str, numbering: Numbering) -> str:
    return " or ".join(sorted({_end_words(end, kind, numbering) for end in ends}))


def _end_words(end: End, kind: str, numbering: Numbering) -> str:
    at = str(numbering.ports[end.port]) if end.port >= 0 else numbering.name(end.instance)
    if _is_good(end, kind) and kind != "outside":
        return "arrives"
    return {
        "arrives": f"arrives at {numbering.name(end.instance)}",
        "delivered": f"ends on the subnet of {at}",
        "leaves": f"leaves by {at}",
        "blocked": f"blocked at {at}",
        "unrouted": f"no route at {numbering.name(end.instance)}",
        "discarded": f"discarded at {numbering.name(end.instance)}",
        "unresolved": f"next hop of {numbering.name(end.instance)} not there",
        "loops": "goes round",
        "cut off": "the way in is down",
        "not followed": f"passes {numbering.name(end.instance)}, which is not followed",
    }[end.verdict]
