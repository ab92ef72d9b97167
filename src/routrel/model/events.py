"""What happened to a network at a moment, as data."""

from dataclasses import dataclass
from datetime import datetime
from typing import Any

from routrel.model.changes import Change
from routrel.model.places import Place
from routrel.model.times import rfc3339


@dataclass(frozen=True, slots=True)
class Event:
    """A change that happened by itself or by somebody's hand, at ``time``; ``place`` is its line.

    What goes down and comes up is ``disable`` and ``enable`` of an interface, link, device, site, risk group or
    session.
    """

    time: datetime
    change: Change
    note: str
    place: Place

    @property
    def is_switch(self) -> bool:
        """Whether something goes down or comes up."""
        return self.change.verb in ("disable", "enable")

    @property
    def is_down(self) -> bool:
        return self.change.verb == "disable"

    def data(self) -> dict[str, Any]:
        """The event as a line of a file of events has it."""
        return {"time": rfc3339(self.time), **self.change.data(), **({"note": self.note} if self.note else {})}
