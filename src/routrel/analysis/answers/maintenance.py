"""What is shut for maintenance as an answer: in which order, and what of all that is expected breaks at which step."""

from typing import Any, Literal

from msgspec import Struct

from routrel.model.expectations import Apart


class BrokenThen(Struct, frozen=True):
    """An expected flow that does not do what it should at a step, and why."""

    expectation: str
    flow: str
    reason: str


class MaintenanceStep(Struct, frozen=True):
    """One step: ``changes`` are all that is changed by then, so that it can be tried.

    ``moved`` flows go another way than before it; after draining, ``passing`` still go over what is shut next.
    ``breaks`` is what newly breaks by this step.
    """

    kind: Literal["drain", "shut"]
    words: str
    changes: list[dict[str, Any]]
    moved: int
    passing: list[str]
    breaks: list[BrokenThen]


class FewerWays(Struct, frozen=True):
    """A flow whose ends have fewer separate ways between them while all is shut: so many before and then."""

    expectation: str
    flow: str
    apart: Apart
    before: int
    then: int


class Maintenance(Struct, frozen=True):
    """A plan to shut things, in the order that breaks nothing of what is expected, or as little as can be.

    ``is_sound`` where nothing breaks at any step. ``fewer_ways`` are flows that are left a single way meanwhile,
    ``own_ends`` those that end in what is shut, which are not counted as broken. ``looked_at`` is how many states were
    solved; ``words`` says it on one line.
    """

    words: str
    is_sound: bool
    shut: list[str]
    steps: list[MaintenanceStep]
    fewer_ways: list[FewerWays]
    own_ends: list[str]
    flow_count: int
    looked_at: int


class MaintenanceSoFar(Struct, frozen=True):
    """How many states were looked at, out of how many at most, and the plan once it is there."""

    done: int
    of: int
    held: Maintenance | None
