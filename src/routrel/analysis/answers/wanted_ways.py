"""Changes that lead a flow another way as answers."""

from typing import Any, Literal

from msgspec import Struct

from routrel.analysis.answers.held import Held


class WayProposal(Struct, frozen=True):
    """Changes with which a flow goes as wanted, solved with and walked.

    ``words`` has each change on one line; ``ways`` are the devices that the flow passes then. ``beyond`` is what of all
    other traffic moves, null where there was no time to tell, and ``moves`` the same on one line.
    """

    by: Literal["cost", "metric", "delay", "preference", "local_preference", "weight", "med", "prepend", "steering"]
    words: list[str]
    changes: list[dict[str, Any]]
    ways: list[list[str]]
    moves: str
    beyond: Held | None


class WantedWay(Struct, frozen=True):
    """How a flow may be led by some devices, or past them: those that move least first.

    ``costs`` says what is known of doing it by costs alone: that it cannot be, and why, or that no answer was found in
    time; empty where a proposal does it.
    """

    is_so_already: bool
    costs: str
    proposals: list[WayProposal]
