"""Changes that reach no table: of lists, forwarding policies and filter rules that routing's own packets never meet.

Protocols look at filters for their own packets alone. Where a network differs from one solved before only in
filters, and these treat all packets of the protocols that run as before, everything solved holds.
"""

from collections.abc import Iterator, Sequence

from routrel.model.devices import Device
from routrel.model.fields import replace
from routrel.model.filters import Acl, AclEntry, HeaderMatch
from routrel.routing.protocol import OwnPackets, ProtocolDatabase
from routrel.topology.segments import Topology


def is_routed_alike(base: Topology, databases: Sequence[ProtocolDatabase], topology: Topology) -> bool:
    """Whether a network cabled as ``base`` differs from it in filters alone that no protocol's own packets meet."""
    before, now = base.network, topology.network
    if (before.taken_at, before.links) != (now.taken_at, now.links):
        return False
    running = [database for database in databases if database.processes]
    return all(
        old is new
        or (_differs_in_filters(old, new) and all(_is_met_alike(base, number, new, database) for database in running))
        for number, (old, new) in enumerate(zip(base.devices, topology.devices, strict=True))
    )


def _differs_in_filters(old: Device, new: Device) -> bool:
    if list(old.interfaces) != list(new.interfaces):
        return False
    interfaces = {
        name: replace(one, acl_in=was.acl_in, acl_out=was.acl_out, forwarding_policy=was.forwarding_policy)
        for (name, one), was in zip(new.interfaces.items(), old.interfaces.values(), strict=True)
    }
    return old == replace(
        new,
        interfaces=interfaces,
        acls=old.acls,
        forwarding_policies=old.forwarding_policies,
        program=old.program,
        gaps=old.gaps,
    )


def _is_met_alike(base: Topology, device: int, new: Device, database: ProtocolDatabase) -> bool:
    """Whether a protocol's packets fare at a device as before."""
    old = base.devices[device]
    if database.has_sessions and (old.forwarding_policies != new.forwarding_policies or old.program != new.program):
        return False
    for number in base.ports_of[device]:
        if not database.has_sessions and number not in database.ports:
            continue
        was = base.ports[number].interface
        interface = new.interfaces[was.name]
        if database.has_sessions and was.forwarding_policy != interface.forwarding_policy:
            return False
        for packets in database.own_packets:
            for name, new_name in ((was.acl_in, interface.acl_in), (was.acl_out, interface.acl_out)):
                if _met(old.acls, name, packets) != _met(new.acls, new_name, packets):
                    return False
    return True


def _met(acls: dict[str, Acl], name: str | None, packets: OwnPackets) -> object:
    """What packets of a kind may meet in a list, None where they surely pass; a drop with all that is said of it."""
    if name is None:
        return None
    met: list[object] = []
    for index, entry in entries_met(acls[name], packets):
        is_accept = entry.action == "accept"
        if not met and is_accept and _surely_matches(entry.match, packets):
            return None
        met.append((entry.match, entry.stateful) if is_accept else (index, entry))
    return name, acls[name].place, met


def entries_met(acl: Acl, packets: OwnPackets) -> Iterator[tuple[int, AclEntry]]:
    """The entries of a list that some packets of a protocol may meet, with their indexes."""
    for index, entry in enumerate(acl.entries):
        if _may_match(entry.match, packets):
            yield index, entry
            if _surely_matches(entry.match, packets):
                return


def _surely_matches(match: HeaderMatch, packets: OwnPackets) -> bool:
    return match in (HeaderMatch(), HeaderMatch(packets.protocol))


def _may_match(match: HeaderMatch, packets: OwnPackets) -> bool:
    if match.protocol not in (None, packets.protocol):
        return False
    return all(
        any(low <= port <= high for low, high in ranges for port in packets.ports)
        for ranges in (match.source_ports, match.destination_ports)
        if ranges
    )
