"""What a word, an address or a prefix could mean anywhere in a network: one search for everything that has a name."""

from collections import defaultdict
from collections.abc import Iterator
from itertools import islice

from routrel.analysis.answers.model import Found
from routrel.analysis.contest.why import WhyError, parse_prefix
from routrel.analysis.overview import Words
from routrel.analysis.remedies import entry_text, match_text
from routrel.model.addresses import Address, Prefix
from routrel.model.devices import Device
from routrel.model.network import InterfaceName
from routrel.model.places import NOWHERE, Place
from routrel.model.routing import DEFAULT_INSTANCE, RoutingInstance
from routrel.model.virtual_routers import VirtualRouter
from routrel.routing.solve import Solved

MOST_FOUND = 200
"""Matches that a search gives."""
PLACES_FIRST = 8
"""Devices, interfaces and endpoints before whatever else has the name; the others come last."""
MOST_OF_ENTRIES = 60
"""Of these, entries of lists."""


def find(solved: Solved, typed: str, most: int | None = None) -> list[Found]:
    """What was typed could mean, the first of it; of an address, who owns it and who announces what covers it."""
    return list(islice(_found(solved, typed.strip()), MOST_FOUND if most is None else most))


def _found(solved: Solved, typed: str) -> Iterator[Found]:
    if not typed:
        return
    try:
        asked = parse_prefix(typed)
    except WhyError:
        places = [
            Found(word.word, word.kind, word.detail, word.word.partition(":")[0], DEFAULT_INSTANCE, None)
            for word in Words(solved).matching(typed, MOST_FOUND)
        ]
        yield from places[:PLACES_FIRST]
        yield from _named(solved, typed.lower())
        yield from islice(_entries(solved, typed.lower()), MOST_OF_ENTRIES)
        yield from places[PLACES_FIRST:]
        return
    wanted = asked.host_prefix() if isinstance(asked, Address) else asked
    yield from sorted(_owners(solved, wanted), key=lambda one: one.kind == "on subnet")
    yield from _sessions(solved, str(asked).lower())
    yield from _covering(solved, wanted)
    yield from islice(_entries_about(solved, wanted), MOST_OF_ENTRIES)


def _owners(solved: Solved, wanted: Prefix) -> Iterator[Found]:
    for name, _, interface in solved.network.interfaces():
        for address in interface.addresses:
            is_own = address.address.host_prefix() == wanted
            if is_own or (not address.prefix.is_host and address.prefix.covers(wanted)):
                kind = "owner" if is_own else "on subnet"
                yield Found(str(name), kind, str(address), name.device, interface.vrf, interface.place or None)
        for router in interface.virtual_routers:
            if any(address.host_prefix() == wanted for address in router.addresses):
                detail = f"{router.identifier}, {_standing(solved, name, router)}"
                yield Found(str(name), "virtual router", detail, name.device, interface.vrf, router.place or None)
    for endpoint in solved.network.endpoints.values():
        if endpoint.address.host_prefix() == wanted:
            yield Found(endpoint.name, "endpoint", endpoint.label, "", "", endpoint.place or None)


def _standing(solved: Solved, name: InterfaceName, router: VirtualRouter) -> str:
    """Whether it is active for a virtual router, or waits with which priority."""
    port = solved.topology.ports[solved.topology.port_index[name]]
    for group in solved.topology.virtual_groups.get(solved.topology.segment_of[port.index], ()):
        for one in group.contenders:
            if one.port == port.index and one.router == router:
                return "active" if one is group.active else f"standby with priority {one.priority}"
    return f"down: {port.down}" if port.down else "no part"


def _covering(solved: Solved, wanted: Prefix) -> Iterator[Found]:
    """Prefixes of the network that cover one, the longest first, each with who brings it."""
    covering = []
    for number in solved.prefixes.chain(Address(wanted.family, wanted.network)):
        prefix = solved.prefixes.prefixes[number]
        if prefix.length <= wanted.length:
            covering.append(prefix)
    brought = _brought(solved, set(covering))
    for prefix in sorted(covering, key=lambda one: -one.length):
        said = list(dict(brought[prefix]).items())
        told = "; ".join(words for words, _ in said[:4]) + (f"; and {len(said) - 4} more" if len(said) > 4 else "")
        place = said[0][1] if said else NOWHERE
        yield Found(str(prefix), "prefix", told or "of this network, covers it", "", "", place or None)


def _instances(device: Device) -> Iterator[tuple[str, RoutingInstance]]:
    for vrf, routing in ((DEFAULT_INSTANCE, device.routing), *device.vrfs.items()):
        if routing is not None:
            yield vrf, routing


def _brought(solved: Solved, prefixes: set[Prefix]) -> dict[Prefix, list[tuple[str, Place]]]:
    """Who brings some prefixes into the network: subnets, static routes, what BGP originates, neighbours outside."""
    found = defaultdict[Prefix, list[tuple[str, Place]]](list)
    for name, _, interface in solved.network.interfaces():
        for address, place in zip(interface.addresses, interface.address_places, strict=False):
            if address.prefix in prefixes:
                found[address.prefix].append((f"subnet of {name}", place))
    for device in solved.network.devices.values():
        for gateway in device.gateways:
            if gateway.prefix in prefixes:
                found[gateway.prefix].append((f"gateway of {device.name}", gateway.place))
        for _, routing in _instances(device):
            said = [(one.prefix, "static on", one.place) for one in routing.static]
            for area in (area for ospf in routing.ospf for area in ospf.areas):
                said += [(one.prefix, "OSPF range of", one.place) for one in area.ranges]
            if routing.bgp is not None:
                said += [(prefix, "BGP network of", place) for prefix, place in routing.bgp.networks]
                said += [(one.prefix, "BGP aggregate of", one.place) for one in routing.bgp.aggregates]
                for neighbor in routing.bgp.neighbors:
                    for paths in neighbor.received:
                        heard = f"said by {neighbor.address} (AS {neighbor.number}) to"
                        said += [(one, heard, paths.place_of(one)) for one in prefixes if one in paths.known]
            for prefix, words, place in said:
                if prefix in prefixes:
                    found[prefix].append((f"{words} {device.name}", place))
    return found


def _named(solved: Solved, wanted: str) -> Iterator[Found]:
    """Routing instances, lists and policies whose name holds a word, and sessions that are described by it."""
    for device in solved.network.devices.values():
        for vrf in device.vrfs:
            if wanted in vrf.lower():
                yield Found(vrf, "routing instance", f"on {device.name}", device.name, vrf, device.place or None)
        kinds = ("ACL", device.acls), ("policy", device.policies), ("forwarding policy", device.forwarding_policies)
        for kind, of in kinds:
            for name, one in of.items():
                if wanted in name.lower():
                    yield Found(name, kind, f"on {device.name}", device.name, DEFAULT_INSTANCE, one.place or None)
    yield from _sessions(solved, wanted)


def _sessions(solved: Solved, wanted: str) -> Iterator[Found]:
    for device in solved.network.devices.values():
        for vrf, routing in _instances(device):
            for neighbor in () if routing.bgp is None else routing.bgp.neighbors:
                name = f"{device.name} {neighbor.address}"
                told = f"AS {neighbor.number}" + (f", {neighbor.description}" if neighbor.description else "")
                if wanted in f"{name} as{neighbor.number} {told}".lower():
                    yield Found(name, "session", told, device.name, vrf, neighbor.place or None)


def _lists(solved: Solved) -> Iterator[tuple[Device, str, int, Prefix | None, Prefix | None, str, Place]]:
    """Every entry of a list: its device, the list, its number, source and destination, it in text, its place."""
    for device in solved.network.devices.values():
        for acl in device.acls.values():
            for number, entry in enumerate(acl.entries, 1):
                ends = entry.match.source, entry.match.destination
                yield device, f"ACL {acl.name}", number, *ends, entry_text(entry), entry.place
        for policy in device.forwarding_policies.values():
            for number, steering in enumerate(policy.entries, 1):
                ends = steering.match.source, steering.match.destination
                text = f"{steering.action} {match_text(steering.match)} {steering.description}"
                yield device, f"forwarding policy {policy.name}", number, *ends, text, steering.place


def _entries(solved: Solved, wanted: str) -> Iterator[Found]:
    """Entries that say a word."""
    for device, of, number, _, _, text, place in _lists(solved):
        if wanted in text.lower():
            yield _entry(device, of, number, text, place)


def _entries_about(solved: Solved, wanted: Prefix) -> Iterator[Found]:
    """Entries that name a part of a prefix, or an address in a subnet of its own: not those that name everything."""
    for device, of, number, source, destination, text, place in _lists(solved):
        if any(end is not None and not end.is_default and end.overlaps(wanted) for end in (source, destination)):
            yield _entry(device, of, number, text, place)


def _entry(device: Device, of: str, number: int, text: str, place: Place) -> Found:
    told = f"on {device.name}: {text}"
    return Found(f"{of} entry {number}", "entry", told, device.name, DEFAULT_INSTANCE, place or None)
