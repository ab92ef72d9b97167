"""A range of ports walked whole: in parts within which nothing on the way tells one port from another.

A walk at one port says which entries were asked. Each of them, and each entry it passed over, decides the same
for all ports of some interval around that one; where these intervals meet, the whole walk is the same. So a
range is walked port interval by port interval, exactly, and never by a sample.
"""

from collections.abc import Iterator, Sequence
from typing import Literal

from routrel.forwarding.programs.engine import RuleCheck
from routrel.forwarding.trace import Trace
from routrel.forwarding.walk import Walker
from routrel.model.filters import Header, HeaderMatch, PortRange
from routrel.routing.rib.forwarding_tables import ForwardingTables

Field = Literal["source_port", "destination_port"]
MOST_PARTS = 256
"""Intervals that are walked for one flow; what is left of its range is said to be not looked into."""


def same_up_to(matches: Sequence[HeaderMatch], decider: int | None, header: Header, field: Field) -> int:
    """The highest port up to which a list decides as it does at the header's own; 65535 where no port matters.

    ``decider`` is the index of the entry that decided, None where none matched.
    """
    port = getattr(header, field)
    highest = 65535
    last = len(matches) - 1 if decider is None else decider
    for index, match in enumerate(matches[: last + 1]):
        ranges = match.destination_ports if field == "destination_port" else match.source_ports
        if not ranges:
            continue
        failed = match.failed_fields(header)
        if index == decider:
            highest = min(highest, max(high for low, high in ranges if low <= port <= high))
        elif failed == [f"{field}s"]:
            # Passed over for its ports alone: it takes the packet from the next range it names.
            highest = min([highest, *(low - 1 for low, _ in ranges if low > port)])
    return highest


def _lists_asked(solved: ForwardingTables, trace: Trace) -> Iterator[tuple[Sequence[HeaderMatch], int | None, Header]]:
    """The lists that a walk asked: their matches, the entry that decided, the packet's header."""
    for stop in trace.stops:
        device = solved.topology.devices[stop.device]
        checks = [stop.acl_in, *(branch.acl_out for branch in stop.branches)]
        for check in checks:
            if check is not None and not check.by_state:
                yield [entry.match for entry in device.acls[check.acl].entries], check.entry, stop.header
        if stop.steering is not None:
            entries = device.forwarding_policies[stop.steering.policy].entries
            yield [entry.match for entry in entries], stop.steering.entry, stop.header


def trace_same_up_to(walker: Walker, trace: Trace, field: Field, port: int) -> int:
    """The highest port up to which a whole walk is the same as at the port it was made with.

    Of filter programs any port that they name may begin another part. What a port was translated to hangs on it
    by the program that translates, and is not looked at again.
    """
    asked = (one for one in _lists_asked(walker.solved, trace) if getattr(one[2], field) == port)
    highest = min((same_up_to(matches, decider, header, field) for matches, decider, header in asked), default=65535)
    for stop in trace.stops:
        engine = walker.engine(stop.device)
        if engine is not None and getattr(stop.header, field) == port:
            highest = min(highest, engine.port_edges.same_up_to(port))
    return highest


def _rules(checks: tuple[RuleCheck, ...], stopped_by: RuleCheck | None) -> tuple[object, ...]:
    """Which rules decided, and in what state a packet was that one of them ended."""
    asked = (*checks, stopped_by) if stopped_by is not None else checks
    return tuple(
        (one.hook, str(one.located), one.rule and one.rule.number, one.action, one.packet and one.packet.state)
        for one in asked
    )


def likeness(trace: Trace) -> tuple[object, ...]:
    """Equal for walks with the same stops, entries and endings."""
    return tuple(
        (
            stop.instance,
            stop.ingress,
            stop.acl_in,
            stop.steering,
            stop.verdict,
            stop.stage,
            _rules(stop.filters, stop.stopped_by),
            tuple(
                (b.port, b.address, b.acl_out, b.verdict, b.stage, b.target, _rules(b.filters, b.stopped_by))
                for b in stop.branches
            ),
        )
        for stop in trace.stops
    )


def joined(ranges: Sequence[PortRange]) -> tuple[PortRange, ...]:
    """Ascending ranges with those that follow on each other put together."""
    found: list[PortRange] = []
    for one in ranges:
        if found and found[-1].high + 1 == one.low:
            found[-1] = PortRange(found[-1].low, one.high)
        else:
            found.append(one)
    return tuple(found)
