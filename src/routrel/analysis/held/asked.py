"""The traffic of a flow that was asked, told apart from all other."""

from collections.abc import Sequence
from typing import NamedTuple

from routrel.analysis.held.conversation import Conversation, Part
from routrel.analysis.held.entry_lists import Span, number_of
from routrel.analysis.held.services import ServiceSpace
from routrel.forwarding.flow import Walk
from routrel.model.filters import HeaderMatch


class AskedTraffic(NamedTuple):
    """Packets from some addresses to one, of one service, and the answers to them."""

    sources: frozenset[int]
    destination: int
    match: HeaderMatch

    @classmethod
    def of(cls, walk: Walk) -> "AskedTraffic":
        """The traffic of a flow, from whatever port it is sent."""
        headers = [start.header for start in walk.forward.asked]
        ports = () if walk.service.ports is None else (walk.service.ports,)
        return cls(
            frozenset(number_of(header.source) for header in headers),
            number_of(headers[0].destination),
            HeaderMatch(headers[0].protocol, destination_ports=ports),
        )

    def taken_from(self, conversation: Conversation, space: ServiceSpace) -> Conversation:
        """A conversation without the pairs between which it is nothing but the flow, from whichever end."""
        left = [
            pair
            for pair in conversation.pairs
            if not all(self._has_all_of(part, space) for part in conversation.between(*pair))
        ]
        return conversation._replace(pairs=left)

    def _has_all_of(self, part: Part, space: ServiceSpace) -> bool:
        froms, tos = part.from_spans, part.to_spans
        destination = frozenset([self.destination])
        if self._are(tos, destination) and self._are(froms, self.sources):
            return not part.services & ~space.matched(self.match)
        if self._are(froms, destination) and self._are(tos, self.sources):
            return not part.services & ~space.matched(self.match, is_answer=True)
        return False

    @staticmethod
    def _are(spans: Sequence[Span], numbers: frozenset[int]) -> bool:
        return all(low == high and low in numbers for low, high in spans)
