"""A change that is proposed to a network, as data."""

from collections.abc import Mapping
from dataclasses import dataclass, field
from typing import Any

from routrel.model.places import NOWHERE, Place


@dataclass(frozen=True, slots=True)
class Change:
    """``verb`` and ``what`` say what is done (set cost, disable link), ``at`` where; ``values`` is all else.

    docs/changes.md lists what there is. A change that is off stays in its list and does nothing.
    """

    verb: str
    what: str
    at: str
    values: Mapping[str, Any] = field(default_factory=dict)
    is_on: bool = True
    place: Place = NOWHERE

    def data(self) -> dict[str, Any]:
        """The change as plain data, as a file of changes has it."""
        off = {} if self.is_on else {"off": True}
        return {self.verb: self.what, "at": self.at, **self.values, **off}
