"""The connections of one flow over all devices that track it (kernel: nf_conntrack).

The first packet of a flow is followed, the answer, and what follows either. A device that saw the
first knows the answer for its reply; one that sees one direction only does not (TCP: invalid).
"""

from collections import defaultdict

from routrel.forwarding.programs.packets import (
    CONFIRMED,
    DESTINATION_TRANSLATED,
    ESTABLISHED,
    INVALID,
    NEW,
    SEEN_REPLY,
    SOURCE_TRANSLATED,
    UNTRACKED,
    Connection,
    Packet,
)
from routrel.model.filters import ICMP, ICMPV6, TCP


class Tracker:
    """What devices know of one flow; one for all its packets."""

    def __init__(self) -> None:
        self.connections: dict[int, list[Connection]] = defaultdict(list)
        """By device."""
        self.assumes_request = False
        """Whether answers are taken for those of a request that every device has seen."""

    def track(self, device: int, packet: Packet) -> None:
        """Find a packet's connection, or begin one; its state is what ``ct state`` gives then."""
        if packet.state == UNTRACKED:
            return
        header = packet.header
        if packet.is_reply:
            for connection in self.connections[device]:
                if header == connection.translated.reply():
                    packet.connection, packet.state, packet.direction = connection, ESTABLISHED, 1
                    connection.status |= SEEN_REPLY
                    return
            if self.assumes_request:
                request = header.reply()
                connection = Connection(request, request, status=CONFIRMED | SEEN_REPLY)
                packet.connection, packet.state, packet.direction = connection, ESTABLISHED, 1
                return
            if header.protocol in (ICMP, ICMPV6) or (header.protocol == TCP and packet.kind == "reply"):
                # No connection begins with an answer to a SYN, or with an echo reply; with a later packet it does.
                packet.state, packet.connection = INVALID, None
                return
        for connection in self.connections[device]:
            if header == connection.original:
                packet.connection, packet.direction = connection, 0
                if connection.status & SEEN_REPLY:
                    packet.state = ESTABLISHED
                elif packet.kind == "following" and header.protocol == TCP:
                    packet.state, packet.connection = INVALID, None  # an ACK before the answer was seen
                else:
                    packet.state = NEW
                return
        packet.connection, packet.state, packet.direction = Connection(header, header), NEW, 0
        packet.is_fresh = True

    def confirm(self, device: int, packet: Packet) -> None:
        """Keep the connection of a packet that leaves the device or is delivered there."""
        connection = packet.connection
        if connection is None or not packet.is_fresh:
            return
        connection.translated = packet.header
        connection.status |= CONFIRMED
        known = self.connections[device]
        if not any(one.original == connection.original and one.translated == connection.translated for one in known):
            known.append(connection)


def translate_as_known(packet: Packet, side: str) -> None:
    """Give a packet of a known connection the end that its translation has: its destination at prerouting and
    output, its source at postrouting and input."""
    connection = packet.connection
    if connection is None:
        return
    header = connection.translated if packet.direction == 0 else connection.original.reply()
    if side == "destination":
        packet.header = packet.header._replace(destination=header.destination, destination_port=header.destination_port)
    else:
        packet.header = packet.header._replace(source=header.source, source_port=header.source_port)


def note_translation(packet: Packet, before_source: object, before_destination: object) -> None:
    """The status bits of a fresh connection whose ends a rule has changed."""
    if packet.connection is None:
        return
    header = packet.header
    if (header.source, header.source_port) != before_source:
        packet.connection.status |= SOURCE_TRANSLATED
    if (header.destination, header.destination_port) != before_destination:
        packet.connection.status |= DESTINATION_TRANSLATED
