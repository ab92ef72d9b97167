"""What is offered against what stops a flow as answers."""

from typing import Any

from msgspec import Struct

from routrel.analysis.answers.held import Held


class RankedRemedy(Struct, frozen=True):
    """Changes that take away one cause, or all that stand in the way of a flow, tried.

    ``is_cured`` says whether the flow works with it, ``outcome`` what becomes of it else. ``beyond`` is what of all
    other traffic it changes, null where there was no time to tell, and ``moves`` the same on one line.
    """

    causes: list[str]
    message: str
    text: str
    changes: list[dict[str, Any]]
    is_cured: bool
    outcome: str
    moves: str
    beyond: Held | None
