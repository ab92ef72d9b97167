"""Problems of the model itself, no flow asked: what a careful reader of the text would remark."""

from collections import Counter, defaultdict
from collections.abc import Iterator

from routrel.analysis.drift import drift
from routrel.analysis.duplicates import duplicate_addresses
from routrel.analysis.neighbor_drift import neighbor_drift
from routrel.analysis.program_shadowing import shadowed_rules
from routrel.analysis.shadowing import Shadow, shadowed_entries
from routrel.analysis.virtual_routers import virtual_router_findings
from routrel.forwarding.walk import Walker
from routrel.model.addresses import Prefix
from routrel.model.devices import Device
from routrel.model.filters import Acl
from routrel.model.findings import SEVERITIES, Finding, some_of
from routrel.model.places import NOWHERE
from routrel.routing.solve import Solved
from routrel.topology.ports import Port, Segment


def check(solved: Solved) -> list[Finding]:
    """All findings, the severest first, then in the order of the text."""
    found = [
        *duplicate_addresses(solved.topology),
        *_segments(solved),
        *_split_subnets(solved),
        *virtual_router_findings(solved.topology),
        *_down_links(solved),
        *solved.findings,
        *_next_hops(solved),
        *_drift(solved),
        *neighbor_drift(solved),
        *_steering_hops(solved),
        *_unattached(solved),
        *_own_next_hops_at_import(solved),
        *_shadowed(solved),
        *shadowed_rules(solved.topology.devices),
        *_gaps(solved),
        *(finding for solution in solved.solutions for finding in solution.costly_findings()),
    ]
    return sorted(found, key=lambda f: (SEVERITIES.index(f.severity), f.places[0] if f.places else NOWHERE, f.message))


def _segments(solved: Solved) -> Iterator[Finding]:
    for segment in solved.topology.segments:
        ports = [solved.topology.ports[number] for number in segment.ports]
        ports = [port for port in ports if port.up]
        if len(ports) > 1:
            yield from _subnet_mismatch(segment, ports)
            yield from _mtu_mismatch(solved, ports)


def _subnet_mismatch(segment: Segment, ports: list[Port]) -> Iterator[Finding]:
    """A port none of whose subnets of a family is on any other port of its segment."""
    for family in (4, 6):
        subnets = {
            port.index: {
                address.prefix
                for address in port.interface.addresses
                if address.family == family and not address.prefix.is_link_local
            }
            for port in ports
        }
        subnets = {index: prefixes for index, prefixes in subnets.items() if prefixes}
        held = Counter(prefix for prefixes in subnets.values() for prefix in prefixes)
        for port in ports:
            mine = subnets.get(port.index)
            if not mine or len(subnets) < 2 or any(held[prefix] > 1 for prefix in mine):
                continue
            others = set(held) - mine
            if others:
                near = next(p for p in ports if p.index != port.index and subnets.get(p.index))
                if near.index < port.index and len(subnets) == 2:
                    continue  # said once for a pair
                yield Finding(
                    "subnet-mismatch",
                    "error",
                    f"{port.name} ({', '.join(map(str, sorted(mine)))}) shares no subnet with its segment"
                    f" ({some_of(sorted(others))})",
                    port.name.device,
                    port.name.interface,
                    (port.interface.place, near.interface.place),
                )


def _split_subnets(solved: Solved) -> Iterator[Finding]:
    """One subnet on both sides of a break between VLANs, where the two sides are cabled together."""
    topology = solved.topology
    if len(topology.tags) < 2 and not any(port.interface.switchport for port in topology.ports):
        return
    sides: dict[tuple[int, str, Prefix], dict[int, list[Port]]] = defaultdict(lambda: defaultdict(list))
    for port in topology.ports:
        cabled = solved.wiring.cabled_with(port.index) if port.up else []
        for prefix in port.prefixes if len(cabled) > 1 else ():
            if not prefix.is_host and not prefix.is_link_local:
                side = sides[cabled[0], topology.instances[port.instance].vrf, prefix]
                side[topology.segment_of[port.index]].append(port)
    for (_, _, prefix), found in sides.items():
        first, *others = found.values()
        for other in others:
            # The same address on both sides means two networks side by side, not one that is cut.
            if {a for port in first for a in port.addresses} & {a for port in other for a in port.addresses}:
                continue
            apart = solved.wiring.apart(first[0].index, other[0].index)
            if apart is not None:
                yield Finding(
                    "subnet-split",
                    "error",
                    f"{first[0].name} and {other[0].name} are both in {prefix} and do not hear each other:"
                    f" {apart.text}",
                    first[0].name.device,
                    first[0].name.interface,
                    apart.places,
                )


def _mtu_mismatch(solved: Solved, ports: list[Port]) -> Iterator[Finding]:
    smallest = min(ports, key=lambda port: port.interface.mtu)
    largest = max(ports, key=lambda port: port.interface.mtu)
    if smallest.interface.mtu != largest.interface.mtu:
        running = {
            solution.database.mtu_rule: None
            for solution in solved.solutions
            if solution.database.mtu_rule and all(one.index in solution.database.ports for one in (smallest, largest))
        }
        yield Finding(
            "mtu-mismatch",
            "warning",
            f"MTU {smallest.interface.mtu} on {smallest.name} against {largest.interface.mtu} on {largest.name}:"
            f" larger packets are lost{''.join(running)}",
            smallest.name.device,
            smallest.name.interface,
            (smallest.interface.place, largest.interface.place),
        )


def _down_links(solved: Solved) -> Iterator[Finding]:
    for port in solved.topology.ports:
        if port.down.startswith("no carrier"):
            yield Finding(
                "no-carrier",
                "note",
                f"{port.name} has {port.down}",
                port.name.device,
                port.name.interface,
                (port.interface.place,),
            )


def _next_hops(solved: Solved) -> Iterator[Finding]:
    for instance in solved.topology.instances:
        device = solved.topology.devices[instance.device]
        if not (device.gateways or device.observed or (instance.routing and instance.routing.static)):
            continue
        solved.table(instance.index)
        for route, reason in solved.unresolved[instance.index]:
            yield Finding(
                "next-hop",
                "warning",
                f"the route for {route.prefix} on {solved.topology.instance_name(instance.index)} is not active:"
                f" {reason}",
                device.name,
                "",
                (route.place,),
            )


def _drift(solved: Solved) -> Iterator[Finding]:
    for instance in solved.topology.instances:
        found = drift(solved, instance.index).differences
        if found:
            name = solved.topology.instance_name(instance.index)
            yield Finding(
                "drift",
                "warning",
                f"the table read off {name} differs from the computed one at {len(found)}"
                f" prefix{'es' if len(found) > 1 else ''}, first at {found[0].prefix} ({found[0].what})",
                solved.topology.devices[instance.device].name,
                "",
                (found[0].place or NOWHERE,),
            )


def _steering_hops(solved: Solved) -> Iterator[Finding]:
    walker = Walker(solved)
    for number, device in enumerate(solved.topology.devices):
        instances = solved.topology.instances_of(number)
        for policy in device.forwarding_policies.values():
            for index, entry in enumerate(policy.entries):
                hops = [(instance, hop) for instance in instances for hop in entry.next_hops]
                if entry.action == "forward" and not any(solved.connected_hop(*pair) for pair in hops):
                    yield Finding(
                        "next-hop",
                        "warning",
                        f"no next hop of entry {index + 1} of forwarding policy {policy.name} on {device.name} is on"
                        " a connected subnet: the table decides",
                        device.name,
                        "",
                        (entry.place,),
                    )
                    continue
                for instance in instances if entry.action == "forward" else ():
                    # The first that is on a connected subnet is taken, whether or not anyone is there.
                    found = (solved.connected_hop(instance, hop) for hop in entry.next_hops)
                    taken = next((hop for hop in found if hop is not None), None)
                    if taken is not None and not walker.is_answered(number, taken):
                        yield Finding(
                            "next-hop",
                            "error",
                            f"entry {index + 1} of forwarding policy {policy.name} on {device.name} steers to"
                            f" {taken.address}, which no device on the segment of"
                            f" {solved.topology.ports[taken.port].name} has: what it matches is lost",
                            device.name,
                            solved.topology.ports[taken.port].name.interface,
                            (entry.place,),
                        )


def _unattached(solved: Solved) -> Iterator[Finding]:
    for device in solved.topology.devices:
        interfaces = device.interfaces.values()
        acls = {i.acl_in for i in interfaces} | {i.acl_out for i in interfaces}
        for name, acl in device.acls.items():
            if name not in acls:
                yield Finding(
                    "unattached",
                    "warning",
                    f"ACL {name} of {device.name} is attached to no interface",
                    device.name,
                    "",
                    (acl.place,),
                )
        for name in sorted(set(device.policies) - _policies_asked(device)):
            yield Finding(
                "unattached",
                "warning",
                f"policy {name} of {device.name} is asked by nothing",
                device.name,
                "",
                (device.policies[name].place,),
            )
        policies = {i.forwarding_policy for i in interfaces}
        for name, policy in device.forwarding_policies.items():
            if name not in policies:
                yield Finding(
                    "unattached",
                    "warning",
                    f"forwarding policy {name} of {device.name} is attached to no interface",
                    device.name,
                    "",
                    (policy.place,),
                )


def _policies_asked(device: Device) -> set[str]:
    """The routing policies that some instance of a device asks."""
    asked: set[str | None] = set()
    for routing in filter(None, (device.routing, *device.vrfs.values())):
        asked.add(routing.install_policy)
        if routing.isis is not None and routing.isis.leak is not None:
            asked.add(routing.isis.leak.policy)
        for neighbor in routing.bgp.neighbors if routing.bgp is not None else ():
            asked.update((neighbor.import_policy, neighbor.export_policy))
        for protocol in routing.protocols:
            asked.update(rule.policy for rule in protocol.redistribute)
    return {name for name in asked if name is not None}


def _shadowed(solved: Solved) -> Iterator[Finding]:
    for device in solved.topology.devices:
        for acl in device.acls.values():
            unknown = []
            for shadow in shadowed_entries([entry.match for entry in acl.entries]):
                if shadow.by:
                    yield _shadow_finding(device, acl, shadow)
                else:
                    unknown.append(shadow.entry)
            if unknown:
                numbers = some_of([index + 1 for index in unknown])
                yield Finding(
                    "shadowed",
                    "note",
                    f"whether entries {numbers} of ACL {acl.name} on {device.name} can match was not looked into: too"
                    " many pieces",
                    device.name,
                    "",
                    tuple(acl.entries[index].place for index in unknown[:5]),
                )


def _shadow_finding(device: Device, acl: Acl, shadow: Shadow) -> Finding:
    entry = acl.entries[shadow.entry]
    by = [acl.entries[index] for index in shadow.by]
    numbers = some_of([index + 1 for index in shadow.by], 12)
    opposite = any(other.action != entry.action for other in by)
    return Finding(
        "shadowed",
        "warning" if opposite else "note",
        f"entry {shadow.entry + 1} of ACL {acl.name} on {device.name} can never match: entr"
        f"{'y' if len(by) == 1 else 'ies'} {numbers} {'takes' if len(by) == 1 else 'together take'}"
        " everything it could",
        device.name,
        "",
        (entry.place, *(other.place for other in by[:12])),
    )


def _own_next_hops_at_import(solved: Solved) -> Iterator[Finding]:
    """Policies that set the router's own address as next hop of what comes in, where that does nothing."""
    for instance in solved.topology.instances:
        bgp = instance.routing.bgp if instance.routing is not None else None
        device = solved.topology.devices[instance.device]
        for neighbor in bgp.neighbors if bgp is not None else ():
            policy = device.policies[neighbor.import_policy] if neighbor.import_policy is not None else None
            places = [one.place for one in policy.statements if one.set.next_hop_self] if policy is not None else []
            if policy is not None and places:
                text = (
                    f"policy {policy.name} sets the next hop of what {neighbor.address} says to the router's own"
                    " address: that counts for what is sent, and does nothing here"
                )
                yield Finding("policy-next-hop", "warning", text, device.name, "", (*places, neighbor.place))


def _gaps(solved: Solved) -> Iterator[Finding]:
    for device in solved.topology.devices:
        for gap in device.gaps:
            yield Finding("not-represented", "warning", gap.message, device.name, gap.affects, (gap.place,))
