"""What held between two states of a network as an answer."""

from typing import Literal

from msgspec import Struct

from routrel.analysis.answers.walks import AskedFlow

Effect = Literal["blocked", "loops", "open", "asymmetry", "redundancy", "longer", "moved", "failing"]


class PlaceSet(Struct, frozen=True):
    """Places in words, with the first of their names."""

    words: str
    count: int
    names: list[str]


class HeldExample(Struct, frozen=True):
    """One packet of a group, as a flow that can be asked, and the verdicts of it in both states, there and back."""

    flow: AskedFlow
    before: str
    after: str


class HeldGroup(Struct, frozen=True):
    """Pairs of places between which traffic changed alike.

    ``what`` says how, in words; ``services`` are those of which it is true for some of the pairs.
    """

    effect: Effect
    what: str
    pairs: int
    sources: PlaceSet
    destinations: PlaceSet
    services: str
    example: HeldExample


class EffectCount(Struct, frozen=True):
    """How many pairs of places have some traffic to which this happened, and the same in words."""

    effect: Effect
    pairs: int
    words: str


class Held(Struct, frozen=True):
    """What changed of all traffic between two places of a network, and that nothing else did.

    ``pairs`` are all, ordered: one asks, the other answers. ``changed`` are those of which some traffic changed its
    verdict or its way, there or back; all others are as they were. ``words`` says so on one line. ``left_out`` were
    not compared, ``not_followed`` lead by devices whose filter program or routing rules decide, up to which they are.
    """

    words: str
    pairs: int
    changed: int
    effects: list[EffectCount]
    groups: list[HeldGroup]
    groups_in_all: int
    left_out: int
    not_followed: int

    @property
    def is_worse(self) -> bool:
        """Whether something that worked does not any more."""
        return any(one.effect in ("blocked", "loops") for one in self.effects)


class HeldSoFar(Struct, frozen=True):
    """How far a comparison of all traffic is: steps done, of all; ``held`` is the answer once all are."""

    done: int
    of: int
    held: Held | None
