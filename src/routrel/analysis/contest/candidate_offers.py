"""What can be tried of a candidate where it is shown: its session or interface off, its static route taken out.

What makes a candidate win is its tipping points' to say (``tipping.py``).
"""

from collections.abc import Iterator

from routrel.analysis.answers.offers import Offer
from routrel.analysis.contest.candidates import Candidate
from routrel.analysis.offered_changes import instance_target, switched, taken_out, takes_changes
from routrel.topology.segments import Topology

MOST_PORTS = 4
"""Interfaces that are offered of a way by several."""


def candidate_offers(topology: Topology, instance: int, candidate: Candidate, wins: bool) -> Iterator[Offer]:
    """The changes that take a candidate out, or bring in one whose interface is off."""
    found = topology.instances[instance]
    device = topology.devices[found.device]
    if not takes_changes(device):
        return
    where = instance_target(device.name, found.vrf)
    if candidate.path is not None and candidate.path.neighbor is not None:
        session = switched("session", f"{device.name} {candidate.path.neighbor}", True, found.vrf)
        yield Offer("session off", session.change)
    elif candidate.protocol == "static":
        written = found.routing.static if found.routing is not None else ()
        # A static route is known by its place: a host's gateway has one too, and is in no list.
        for index, route in enumerate(written):
            if route.place and route.place == candidate.place:
                yield taken_out("static", where, index)
    elif wins or candidate.out:
        for port in list(dict.fromkeys(hop.port for hop in candidate.next_hops))[:MOST_PORTS]:
            name, interface = topology.ports[port].name, topology.ports[port].interface
            if name.device == device.name and interface.kind != "loopback" and (wins or not interface.enabled):
                offer = switched("interface", str(name), interface.enabled)
                yield Offer(f"{name.interface} {offer.label}", offer.change)
