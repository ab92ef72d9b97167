"""One walk while it is under way: which packet of its flow it follows, and what is looked up once for each header."""

from routrel.forwarding.programs.packets import PacketKind
from routrel.forwarding.programs.tracking import Tracker
from routrel.model.filters import Header
from routrel.routing.rib.forwarding_tables import ForwardingTables

NOBODY = Tracker()
"""Stands where no device tracks anything."""


class WalkedPacket:
    """A header with what is looked up once for it in one walk."""

    __slots__ = ("chain", "ends", "header", "is_translated", "numbers", "owners", "run", "stateful")

    def __init__(self, run: "Run", header: Header):
        solved = run.solved
        self.run = run
        self.stateful = run.stateful
        self.header = header
        self.is_translated = False
        """Whether rules gave the packet this header, and no start has it."""
        self.chain = solved.chain(header.destination)
        owners = solved.topology.owners.get(header.destination, ())
        self.numbers: dict[int, int] = {}
        """Stops by the way in."""
        self.owners = frozenset(solved.topology.ports[port].instance for port in owners)
        self.ends = self.owners if run.ends is None else run.ends


class Run:
    """One walk: which packet of the flow it follows, and its headers."""

    __slots__ = ("ends", "expected", "kind", "packets", "solved", "stateful", "tracker")

    def __init__(
        self,
        solved: ForwardingTables,
        stateful: frozenset[int],
        ends: frozenset[int] | None,
        kind: PacketKind,
        tracker: Tracker,
        expected: frozenset[Header] | None,
    ):
        """``expected`` are the headers by which an answer is taken for one by its asker; None of any other packet."""
        self.solved = solved
        self.stateful = stateful
        self.ends = ends
        self.kind = kind
        self.tracker = tracker
        self.expected = expected
        self.packets: dict[Header, WalkedPacket] = {}

    def packet(self, header: Header) -> WalkedPacket:
        """What is known of a header."""
        found = self.packets.get(header)
        if found is None:
            found = self.packets[header] = WalkedPacket(self, header)
        return found
