"""Expectations: what must stay true of flows, written beside the network (docs/expectations.md)."""

from dataclasses import dataclass
from typing import Literal

from routrel.model.findings import Severity
from routrel.model.places import NOWHERE, Place

Expected = Literal["works", "arrives", "never arrives"]
"""There and back; there; on no way."""

FailureKind = Literal["links", "interfaces", "devices", "sites", "risk_groups", "sessions"]
"""What fails one at a time."""

Apart = Literal["links", "devices", "sites", "risk_groups"]
"""What separate ways do not share."""


@dataclass(frozen=True, slots=True)
class Expectation:
    """Of each flow from any of ``sources`` to any of ``destinations`` on any of ``services``: what must be true.

    ``passes`` and ``avoids`` are words for devices, interfaces, links and sites; ``hops`` is the most links of the
    longest way, ``mtu`` the largest packet in bytes that must get there whole, ``ways`` the least number of ways that
    share none of ``apart``; ``survives`` are kinds of which any one may fail.
    """

    name: str
    sources: tuple[str, ...]
    destinations: tuple[str, ...]
    services: tuple[str, ...] = ("icmp",)
    enter: str | None = None
    expect: Expected = "works"
    passes: tuple[str, ...] = ()
    avoids: tuple[str, ...] = ()
    same_way_back: bool = False
    hops: int | None = None
    mtu: int | None = None
    ways: int | None = None
    apart: Apart = "links"
    survives: tuple[FailureKind, ...] = ()
    severity: Severity = "error"
    owner: str = ""
    note: str = ""
    tags: tuple[str, ...] = ()
    place: Place = NOWHERE
