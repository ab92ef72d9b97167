"""TCP connections of routers themselves: whether a protocol's sessions get through what filters and steers packets.

Of equal ways the first is followed: a connection takes one of them, and which one no model knows.
"""

from collections.abc import Iterable

from routrel.forwarding.programs.tracking import Tracker
from routrel.forwarding.run import NOBODY
from routrel.forwarding.trace import AclCheck, Branch, Start, Stop, Trace
from routrel.forwarding.walk import ORIGIN, Walker, stateful_devices
from routrel.model.filters import Header
from routrel.routing.neighbors import Obstacle
from routrel.routing.prefixes.index import PrefixIndex
from routrel.routing.protocol import Connections, Tables
from routrel.routing.rib.forwarding_tables import TablesOfTheMoment
from routrel.topology.segments import Topology


class TcpConnections(Connections):
    """Walks the first packet of a connection and its answer."""

    def __init__(self, topology: Topology, prefixes: PrefixIndex, tables: Tables):
        self.topology = topology
        self.walker = Walker(TablesOfTheMoment(topology, prefixes, tables))

    def connect(self, caller: int, called: int, call: Header) -> tuple[Obstacle | None, int]:
        """Why a call from one routing instance to another fails, and how many hops the longer way takes."""
        there, tracker = self._walk(Start(caller, ORIGIN, call), frozenset([called]))
        reason, length = self._first_way(there)
        if reason is not None:
            return reason, length
        back = self._answer(Start(called, ORIGIN, call.reply()), there, [caller], tracker)
        reason, back_length = self._first_way(back)
        return reason, max(length, back_length)

    def _walk(self, start: Start, ends: frozenset[int] | None = None) -> tuple[Trace, Tracker]:
        """The first packet of a connection, and what tracks it."""
        tracker = Tracker() if self.walker.has_programs else NOBODY
        return self.walker.walk([start], ends=ends, tracker=tracker), tracker

    def _answer(self, start: Start, asked: Trace, ends: Iterable[int], tracker: Tracker) -> Trace:
        """The answer to a first packet; ``ends`` are those who asked."""
        expected = frozenset([start.header])
        return self.walker.walk([start], stateful_devices(asked), frozenset(ends), "reply", tracker, expected)

    def connect_outside(self, caller: int, call: Header) -> tuple[Obstacle | None, int]:
        """The same with an address that no device has: a call of either side leaves and comes in by one port."""
        there, tracker = self._walk(Start(caller, ORIGIN, call))
        way, length = self._way_out(there)
        if way is None:
            return self._first_way(there)
        instance, port, reason = way
        if reason is None:
            reason, _ = self._first_way(self._answer(Start(instance, port, call.reply()), there, [caller], tracker))
        if reason is not None:
            called = call._replace(source=call.destination, destination=call.source)
            coming, tracker = self._walk(Start(instance, port, called), frozenset([caller]))
            why, _ = self._first_way(coming)
            back = Start(caller, ORIGIN, called.reply())
            answer = None if why is not None else self._answer(back, coming, [], tracker)
            if answer is not None and self._way_out(answer)[0] == (instance, port, None):
                reason = None
        return reason, length

    def _way_out(self, trace: Trace) -> tuple[tuple[int, int, Obstacle | None] | None, int]:
        """Where the first way leaves the network or would: instance, port, and what keeps it in; None elsewhere."""
        number, hops = trace.starts[0], 1
        while True:
            stop = trace.stops[number]
            if stop.verdict is not None or not stop.branches:
                return None, hops
            branch = stop.branches[0]
            if branch.target < 0:
                if branch.verdict not in ("leaves", "blocked"):
                    return None, hops
                reason = None if branch.verdict == "leaves" else self._obstacle(stop, branch)
                return (stop.instance, branch.port, reason), hops
            if branch.verdict is not None:
                return None, hops
            number, hops = branch.target, hops + 1

    def _first_way(self, trace: Trace) -> tuple[Obstacle | None, int]:
        """What ends the first way before it arrives, and its hops."""
        number, hops = trace.starts[0], 0
        while True:
            stop = trace.stops[number]
            if stop.verdict == "arrives":
                return None, hops
            branch = stop.branches[0] if stop.branches else None
            if branch is None or stop.verdict is not None or branch.verdict is not None:
                return self._obstacle(stop, branch), hops
            number, hops = branch.target, hops + 1

    def _obstacle(self, stop: Stop, branch: Branch | None) -> Obstacle:
        device = self.topology.devices[stop.device]
        acl = stop.acl_in if branch is None else branch.acl_out
        rule = stop.stopped_by if branch is None else branch.stopped_by
        verdict = stop.verdict or (branch and branch.verdict)
        if rule is not None:
            return Obstacle(
                f"chain {rule.located} of {device.name} {rule.action}s BGP's packets",
                ((rule.rule or rule.located).place,),
            )
        if verdict == "blocked" and acl is not None:
            entries, closing = device.acls[acl.acl].entries, acl.entry is None
            place = device.acls[acl.acl].place if closing else entries[acl.entry or 0].place
            return Obstacle(f"ACL {acl.acl} of {device.name} drops BGP's packets ({_entry(acl)})", (place,))
        if stop.stage == "steering" and stop.steering is not None:
            text = f"forwarding policy {stop.steering.policy} of {device.name} discards BGP's packets"
            return Obstacle(text, (device.forwarding_policies[stop.steering.policy].place,))
        return Obstacle(self._led_nowhere(stop, branch, verdict == "loops"))

    def _led_nowhere(self, stop: Stop, branch: Branch | None, is_loop: bool) -> str:
        """Where routes, not filters, end the way of a packet."""
        name, target = self.topology.instance_name(stop.instance), stop.header.destination
        if stop.stage == "host":
            return f"{self.topology.devices[stop.device].name} does not forward packets for {target}"
        if stop.stage == "delivery":
            return f"packets for {target} end at {name}"
        if is_loop:
            return f"packets for {target} go round in a loop"
        if branch is not None:
            return f"nobody answers for {branch.address}, where {name} sends packets for {target}"
        return f"{name} has no route to {target}"


def _entry(check: AclCheck) -> str:
    return "its closing drop" if check.entry is None else f"entry {check.entry + 1}"
