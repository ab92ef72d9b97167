"""Virtual routers (VRRP) in words, and what is wrong with how their routers were told of them."""

from collections import defaultdict
from collections.abc import Iterator
from typing import Any

from routrel.analysis.answers.offers import Offer
from routrel.analysis.offered_changes import takes_changes
from routrel.model.addresses import BITS, Address, Prefix
from routrel.model.devices import Device
from routrel.model.findings import Finding, Severity, some_of
from routrel.model.virtual_routers import HIGHEST_PRIORITY, LOWEST_PRIORITY, TrackedInterface, VirtualRouter
from routrel.topology.ports import Port
from routrel.topology.segments import Topology
from routrel.topology.virtual_routers import Contender, VirtualGroup


def group_of(topology: Topology, segment: int, address: Address) -> VirtualGroup | None:
    """The virtual router whose active router answers for an address on a segment that is not on its interface."""
    port = topology.answerers.get((segment, address))
    if port is None or address in topology.ports[port].addresses:
        return None
    groups = topology.virtual_groups.get(segment, ())
    return next((one for one in groups if one.active.port == port and address in one.active.router.addresses), None)


def active_words(topology: Topology, group: VirtualGroup) -> str:
    """`active for virtual router 10 by priority 120, before dist-2:e1 with 100`."""
    behind = [f"{topology.ports[one.port].name} with {_priority_words(one)}" for one in group.contenders[1:3]]
    more = len(group.contenders) - 3
    before = f", before {', '.join(behind)}{f' and {more} more' if more > 0 else ''}" if behind else ""
    return f"active for {group.name} by priority {_priority_words(group.active)}{before}"


def _priority_words(one: Contender) -> str:
    """`120`, or `90 (120 less 30: no route for 0.0.0.0/0)`."""
    why = [
        f"{each.interface} is down" if isinstance(each, TrackedInterface) else f"no route for {each.prefix}"
        for each in one.lost
    ]
    return f"{one.priority} ({one.router.priority} less {one.decrement}: {some_of(why)})" if why else str(one.priority)


def contending(topology: Topology, port: Port, router: VirtualRouter) -> tuple[VirtualGroup, Contender] | None:
    """The virtual router in which a port takes part, and its part in it; None where the port is down."""
    for group in topology.virtual_groups.get(topology.segment_of[port.index], ()):
        for one in group.contenders:
            if (
                one.port == port.index
                and one.router.identifier == router.identifier
                and one.router.family == router.family
            ):
                return group, one
    return None


def part_words(topology: Topology, port: Port, router: VirtualRouter) -> str:
    """What a port does for a virtual router now."""
    found = contending(topology, port, router)
    if found is None:
        return f"takes no part now: {port.down}"
    group, one = found
    if one is group.active:
        return active_words(topology, group)
    behind = f"priority {_priority_words(one)}, behind {topology.ports[group.active.port].name}"
    return f"stands by with {behind} with {_priority_words(group.active)}"


def priority_set(port: Port, router: VirtualRouter, priority: int) -> dict[str, Any]:
    """The change that gives a port a priority in a virtual router."""
    which = {"router": router.identifier} if len(port.interface.virtual_routers) > 1 else {}
    return {"set": "vrrp_priority", "at": str(port.name), **which, "to": priority}


def port_of(topology: Topology, device: Device, router: VirtualRouter) -> Port:
    """The port at which a device takes part in a virtual router."""
    name = next(one.name for one in device.interfaces.values() if any(own is router for own in one.virtual_routers))
    return topology.port(device.name, name)


def virtual_router_offers(topology: Topology, device: Device, router: VirtualRouter) -> Iterator[Offer]:
    """The change by which a device becomes active for a virtual router, or the next one does; none where that one
    does not preempt (RFC 9568 section 6.4.2)."""
    if not takes_changes(device):
        return
    port = port_of(topology, device, router)
    found = contending(topology, port, router)
    if found is None or found[0].active.is_owner or len(found[0].contenders) < 2:
        return
    group, one = found
    if one is not group.active:
        to = group.active.priority + 1 + one.decrement
        if to <= HIGHEST_PRIORITY and one.router.preempt:
            yield Offer(f"{port.name} active", priority_set(port, router, to))
        return
    following = group.contenders[1]
    to = following.priority - 1 + one.decrement
    if to >= LOWEST_PRIORITY and following.priority > LOWEST_PRIORITY and following.router.preempt:
        yield Offer(f"{topology.ports[following.port].name} active", priority_set(port, router, to))


def is_of_virtual_router(device: Device, address: Address) -> bool:
    """Whether a device takes part in a virtual router with an address: where nobody else answers for that, it is
    active itself, and takes no packets to it."""
    routers = (router for interface in device.interfaces.values() for router in interface.virtual_routers)
    return any(address in router.addresses for router in routers)


def inactive_words(topology: Topology, segment: int, address: Address) -> str:
    """Why nobody is active for an address of a virtual router on a segment, or ''."""
    found = [
        (router, port)
        for port in map(topology.ports.__getitem__, topology.segments[segment].ports if segment >= 0 else ())
        for router in port.interface.virtual_routers
        if address in router.addresses
    ]
    if not found or any(port.up for _, port in found):
        return ""
    down = some_of([f"{port.name} is down: {port.down}" for _, port in found], between="; ")
    return f"no router is active for {address}, an address of virtual router {found[0][0].identifier}: {down}"


def virtual_router_findings(topology: Topology) -> Iterator[Finding]:
    """What routers of one virtual router were told differently, and what decides by chance."""
    for segment in topology.segments:
        ports = [topology.ports[number] for number in segment.ports]
        told: dict[tuple[int, int], list[tuple[Port, VirtualRouter]]] = defaultdict(list)
        for port in ports:
            for router in port.interface.virtual_routers:
                told[router.identifier, router.family].append((port, router))
        for members in told.values():
            yield from _different(members)
        for port in ports:
            yield from _out_of_subnet(port)
        yield from _owned_by_others(ports)
    for groups in topology.virtual_groups.values():
        for group in groups:
            yield from _by_chance(topology, group)


def _finding(severity: Severity, message: str, told: list[tuple[Port, VirtualRouter]]) -> Finding:
    name = told[0][0].name
    return Finding(
        "virtual-router", severity, message, name.device, name.interface, tuple(router.place for _, router in told)
    )


def _different(members: list[tuple[Port, VirtualRouter]]) -> Iterator[Finding]:
    first = members[0][1]
    for what, ends in (
        ("versions", ": each drops the other's messages, and both are active (RFC 9568 section 7.1)"),
        ("addresses", ": whoever is active answers for its own list alone"),
    ):
        said = {str(port.name): _told(router, what) for port, router in members}
        if len(set(said.values())) > 1:
            shown = some_of([f"{name} {value}" for name, value in said.items()], between="; ")
            yield _finding(
                "error",
                f"the routers of virtual router {first.identifier} have other {what}: {shown}{ends}",
                members,
            )


def _told(router: VirtualRouter, what: str) -> str:
    return str(router.version) if what == "versions" else ", ".join(sorted(map(str, router.addresses)))


def _out_of_subnet(port: Port) -> Iterator[Finding]:
    subnets = set(port.prefixes)
    lengths = {prefix.length for prefix in subnets}
    for router in port.interface.virtual_routers:
        outside = [
            one
            for one in router.addresses
            if not one.is_link_local
            and subnets.isdisjoint(Prefix.of(*one, length) for length in lengths if length <= BITS[one.family])
        ]
        if outside:
            message = f"{some_of(outside)} of virtual router {router.identifier} is in no subnet of {port.name}"
            yield _finding("warning", message, [(port, router)])


def _owned_by_others(ports: list[Port]) -> Iterator[Finding]:
    """Addresses of a virtual router on an interface that takes no part in it, or of two virtual routers."""
    holders: dict[Address, list[tuple[Port, VirtualRouter]]] = defaultdict(list)
    for port in ports:
        for router in port.interface.virtual_routers:
            for address in router.addresses:
                holders[address].append((port, router))
    owners: dict[Address, list[Port]] = defaultdict(list)
    for port in ports:
        for address in port.addresses if holders else ():
            owners[address].append(port)
    for address, held in holders.items():
        taking_part = {port.index for port, _ in held}
        others = [port for port in owners.get(address, ()) if port.index not in taking_part]
        number = held[0][1].identifier
        if others:
            message = (
                f"{address} of virtual router {number} is an address of {others[0].name}, which takes no part in it"
            )
            yield _finding("error", message, held)
        other = next((one for one in held if one[1].identifier != number), None)
        if other is not None:
            message = f"{address} is an address of virtual routers {number} and {other[1].identifier}"
            yield _finding("error", message, [held[0], other])


def _by_chance(topology: Topology, group: VirtualGroup) -> Iterator[Finding]:
    """What hangs on who came first."""
    if len(group.contenders) < 2:
        return
    first, second = group.contenders[:2]
    names = [str(topology.ports[one.port].name) for one in (first, second)]
    told = [_told_by(topology, one) for one in (first, second)]
    if first.priority == second.priority:
        how = "both own an address of it" if first.is_owner else f"both have priority {first.priority}"
        message = f"{names[0]} and {names[1]} contend for {group.name}: {how}, and whichever was active first stays"
        yield _finding("warning", message, told)
    elif not first.router.preempt and not first.is_owner:
        message = f"{names[0]} does not preempt: once {names[1]} is active for {group.name} it stays so"
        yield _finding("note", message, told)


def _told_by(topology: Topology, one: Contender) -> tuple[Port, VirtualRouter]:
    return topology.ports[one.port], one.router
