"""Access-list entries that let through what protocols say themselves: of sessions, and between neighbours.

No packet of a flow meets them, and without one its routes may not be there.
"""

from collections.abc import Iterator, Sequence
from contextlib import suppress
from dataclasses import dataclass, field
from itertools import product

from routrel.analysis.evidence import Evidence
from routrel.analysis.expectations.conditions import stops_of
from routrel.analysis.expectations.deciders import Decider, deciders_of_stop, entry_taken_out
from routrel.analysis.expectations.failures import Failure, failed
from routrel.forwarding.flow import Flow
from routrel.forwarding.flow_words import FlowError
from routrel.model.addresses import Address
from routrel.model.network import InterfaceName
from routrel.routing.bgp.calls import BGP_PORT
from routrel.routing.filter_changes import entries_met
from routrel.routing.solve import Solved
from routrel.topology.ports import Port
from routrel.topology.segments import Topology

MOST_SESSIONS = 300
"""Sessions whose packets are followed, those that matter alone first."""


@dataclass(slots=True)
class _Entry:
    """One entry, and what meets it: sessions, in words, or the segments where neighbours do."""

    decider: Decider
    first: str
    met_by: set[str | int] = field(default_factory=set)
    matters: bool = False
    """Whether flows go otherwise without one of these alone."""


def own_entries(evidence: Evidence, sessions: Sequence[Failure], hurting: Sequence[Failure]) -> list[Decider]:
    """Entries that can be taken out and may matter: met by what flows go otherwise without, be it a session or
    neighbours on a segment, or by several that may stand in for each other. Of ``sessions`` some may be left out;
    ``hurting`` is what flows go otherwise without."""
    solved, found = evidence.solved, dict[str, _Entry]()

    def note(decider: Decider, what: str, by: str | int, matters: bool) -> None:
        entry = found.setdefault(str(decider.change), _Entry(decider, what))
        entry.met_by.add(by)
        entry.matters = entry.matters or matters

    alone = {one.name for one in hurting if one.kind == "sessions"}
    spoken = (one for solution in solved.solutions for one in solution.sessions() if one.own is not None)
    own = {(one.instance, one.neighbor): one.own for one in spoken}
    for failure in sorted(sessions, key=lambda one: one.name not in alone)[:MOST_SESSIONS]:
        for device, vrf, neighbor in failure.sessions:
            address = own.get((solved.topology.instance_index[device, vrf], neighbor.address))
            for one in () if address is None else _of_session(evidence, address, neighbor.address):
                note(one, failure.words, failure.name, failure.name in alone)
    lost = _segments_lost(solved, hurting)
    for port in solved.topology.ports:
        segment = solved.topology.segment_of[port.index]
        for one in _between_neighbors(solved, port) if port.up else ():
            note(one, f"neighbours on {port.name}", segment, segment in lost)
    named = [one for one in found.values() if one.matters or len(one.met_by) > 1]
    named.sort(key=lambda one: not one.matters)
    return [one.decider._replace(words=f"{_and_more(one)}: {one.decider.words}") for one in named]


def _and_more(entry: _Entry) -> str:
    others = len(entry.met_by) - 1
    return f"{entry.first} and {others} more" if others else entry.first


def _of_session(evidence: Evidence, own: Address, other: Address) -> Iterator[Decider]:
    """What calls of a session meet, and their answers, from whichever end they come."""
    for source, target in ((own, other), (other, own)):
        with suppress(FlowError):  # of a neighbour outside one does not know where it comes in
            walk = evidence.answerer.asker.ask(Flow(str(source), str(target), f"tcp/{BGP_PORT}"))
            met = [one for stop in stops_of(walk) for one in deciders_of_stop(evidence, stop)]
            yield from (one for one in met if one.kind == "entry" and one.without)


def _between_neighbors(solved: Solved, port: Port) -> Iterator[Decider]:
    """What packets of the protocols that speak on a port may meet there."""
    device, named = solved.topology.devices[port.device], (port.interface.acl_in, port.interface.acl_out)
    lists = [device.acls[name] for name in dict.fromkeys(named) if name is not None]
    for database in solved.databases if lists else ():
        if database.has_sessions or port.index not in database.ports:
            continue
        protocol = database.processes[0].protocol
        for acl, packets in product(lists, database.own_packets):
            for index, entry in entries_met(acl, packets):
                if entry.action == "accept":
                    words = f"ACL {acl.name} of {device.name}: entry {index + 1} accepts {protocol}"
                    yield entry_taken_out(solved.network, device, acl, index, words, entry.place)


def _segments_lost(solved: Solved, failures: Sequence[Failure]) -> set[int]:
    """The segments that some port is taken from by some failures: what is down by one is so by all together."""
    links = frozenset[int]().union(*(one.links for one in failures))
    devices = frozenset[str]().union(*(one.devices for one in failures))
    interfaces = frozenset[InterfaceName]().union(*(one.interfaces for one in failures))
    network = failed(solved.network, Failure("links", "", "", links, devices, interfaces))
    topology = solved.topology
    then = topology.of_like(network) or Topology(network)
    return {topology.segment_of[one.index] for one in topology.ports if one.up and not then.ports[one.index].up}
