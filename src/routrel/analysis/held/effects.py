"""What a changed conversation means for who uses it: its effect, and its ends in words."""

from typing import NamedTuple

from routrel.analysis.answers.held import Effect, EffectCount
from routrel.analysis.held.conversation import Conversation, Sides
from routrel.analysis.held.decisions import End
from routrel.analysis.held.places import AddressClass, Source
from routrel.analysis.held.states import Numbering

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
    instances that it passes no longer and newly, as bits."""

    effect: Effect
    before: str
    after: str
    lost: int
    gained: int


class Judge:
    """Judges conversations; what is said of ends is kept, since many end at the same ones."""

    def __init__(self, numbering: Numbering):
        self.numbering = numbering
        self._ends: dict[tuple[frozenset[End], str, int], Ends] = {}

    def judged(self, conversation: Conversation) -> Judged:
        """What became of a conversation."""
        before, after = conversation.before, conversation.after
        source, destination = conversation.pairs[0]
        ends_before = self._both_ends(source, destination, before)
        is_alike = _end_alike(before, after)
        ends_after = ends_before if is_alike else self._both_ends(source, destination, after)
        effect = _effect(before, after, ends_before, ends_after)
        was_so = _words(source, *ends_before)
        words = was_so, was_so if is_alike else _words(source, *ends_after)
        if effect in ("blocked", "loops", "open"):
            return Judged(effect, *words, 0, 0)
        was, now = _passed(before), _passed(after)
        return Judged(effect, *words, was & ~now, now & ~was)

    def _both_ends(self, source: Source, destination: AddressClass, sides: Sides) -> "BothEnds":
        way, answer = sides
        there = self._of(way.ends, destination.place.kind, -1)
        return there, None if answer is None else self._of(answer.ends, source.place.kind, source.instance)

    def _of(self, ends: frozenset[End], kind: str, instance: int) -> "Ends":
        """What some ends are; an answer has come to where it is meant for at ``instance`` alone."""
        found = self._ends.get((ends, kind, instance))
        if found is None:
            good = {
                end
                for end in ends
                if _is_good(end, kind) and (instance < 0 or end.verdict != "arrives" or end.instance == instance)
            }
            come = good if kind != "outside" else frozenset()
            words = " or ".join(sorted({"arrives" if end in come else _end_words(end, self.numbering) for end in ends}))
            verdicts = {end.verdict for end in ends}
            found = Ends(bool(good), good == ends, "loops" in verdicts, verdicts == {"leaves"}, words)
            self._ends[ends, kind, instance] = found
        return found


class Ends(NamedTuple):
    """What the ends of a way are: whether some or all are good, whether some go round, whether all leave; in words."""

    is_any_good: bool
    is_all_good: bool
    goes_round: bool
    leaves: bool
    words: str


BothEnds = tuple[Ends, Ends | None]
"""Those there, and those of the answer where there is one."""


def _end_alike(before: Sides, after: Sides) -> bool:
    (way, answer), (other, other_answer) = before, after
    if way.ends is not other.ends:
        return False
    return answer is other_answer or (
        answer is not None and other_answer is not None and answer.ends is other_answer.ends
    )


def _effect(before: Sides, after: Sides, ends_before: BothEnds, ends_after: BothEnds) -> Effect:
    levels = _level(*ends_before), _level(*ends_after)
    if _goes_round(ends_after) and not _goes_round(ends_before):
        return "loops"
    if levels[1] < levels[0]:
        return "blocked"
    if levels[1] > levels[0]:
        return "open"
    if levels[0] == 0:
        return "failing"
    if _is_symmetric(before) and not _is_symmetric(after):
        return "asymmetry"
    is_longer = False
    for one, other in zip(before, after, strict=True):
        if one is None or other is None:
            continue
        if 0 < other.ways < one.ways or len(other.ends) < len(one.ends):
            return "redundancy"
        is_longer = is_longer or other.longest > one.longest
    return "longer" if is_longer else "moved"


def _passed(sides: Sides) -> int:
    way, answer = sides
    return way.passed if answer is None else way.passed | answer.passed


def _is_symmetric(sides: Sides) -> bool:
    """Whether the answer passes what the packet passed."""
    way, answer = sides
    return answer is not None and way.passed == answer.passed


def _goes_round(ends: BothEnds) -> bool:
    return any(one.goes_round for one in ends if one)


def _level(there: Ends, back: Ends | None) -> int:
    """2 where it works, there and back on every way; 0 where it works on none."""
    if back is None or not there.is_any_good or not back.is_any_good:
        return 0
    return 2 if there.is_all_good and back.is_all_good else 1


def _words(source: Source, there: Ends, back: Ends | None) -> str:
    if back is None:
        return there.words
    if source.place.kind == "outside" and back.leaves:
        return f"{there.words}, answer {back.words}"
    return there.words if back.words == "arrives" else f"{there.words}, answer {back.words}"


def _is_good(end: End, kind: str) -> bool:
    """Whether a packet has come to where it is meant for: what is for the model's own places must not leave it."""
    return end.verdict == "leaves" if kind == "outside" else end.verdict in ("arrives", "delivered")


def _end_words(end: End, numbering: Numbering) -> str:
    at = str(numbering.ports[end.port]) if end.port >= 0 else numbering.name(end.instance)
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
