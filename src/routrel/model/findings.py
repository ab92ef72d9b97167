"""Findings: problems of the model itself, each with its evidence and its place in the source."""

from dataclasses import dataclass, field
from typing import Literal

from routrel.model.places import NOWHERE, Place

Severity = Literal["error", "warning", "note"]


@dataclass(frozen=True, slots=True)
class Finding:
    """``code`` names the kind; ``places`` are all source positions that together make the problem."""

    code: str
    severity: Severity
    message: str
    device: str = ""
    interface: str = ""
    places: tuple[Place, ...] = field(default=(NOWHERE,))
