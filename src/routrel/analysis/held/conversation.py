"""A conversation: packets between places that all go alike, and their answers, in both states."""

from collections.abc import Sequence
from typing import NamedTuple

from routrel.analysis.held.entry_lists import Spans
from routrel.analysis.held.places import AddressClass, Source
from routrel.analysis.held.services import Services
from routrel.analysis.held.ways import Outlook, Way

Course = Way | Outlook
"""A way with what filters do on it, or, where there is none, all that lies before a packet."""

Sides = tuple[Course, Course | None]
"""The way there, and the way back where there is an answer."""


class Part(NamedTuple):
    """Packets of some services between some addresses of two places."""

    services: Services
    from_spans: Spans
    to_spans: Spans


class Conversation(NamedTuple):
    """Packets that all go alike, in both states, between each of some pairs of places."""

    pairs: Sequence[tuple[Source, AddressClass]]
    services: Services
    before: Sides
    after: Sides
    parts: Sequence[Part] = ()
    """Of a single pair what it is; empty where it is everything between each."""

    def between(self, source: Source, destination: AddressClass) -> Sequence[Part]:
        """What it is between a pair."""
        return self.parts or (Part(self.services, source.addresses.spans, destination.spans),)
