"""Dumps of BGP tables beside devices: what the neighbours of a border said, or the table it forwards by.

Where a device has BGP configured, the paths belong to its sessions, and its own policies and decision are computed.
Where it has not, the best of them are its table, as any table read off (RFC 4271 section 9.1.2.2, as far as a dump
tells).
"""

from collections import defaultdict
from collections.abc import Iterator, Mapping
from datetime import UTC, datetime
from functools import lru_cache

from routrel.formats.errors import ErrorList, LoadError
from routrel.formats.mrt.records import device_of, is_dump, unpacked
from routrel.formats.mrt.table_dumps import Peer, TableDump, read_table_dump
from routrel.garbage_collection import collection_paused
from routrel.model.addresses import Prefix
from routrel.model.bgp import Bgp
from routrel.model.devices import Device, Gap
from routrel.model.fields import replace
from routrel.model.network import Network
from routrel.model.observed import ObservedNextHop, ObservedRoute
from routrel.model.places import Place
from routrel.model.policies import ORIGINS
from routrel.model.received import PathAttributes, ReceivedPaths
from routrel.model.routing import DEFAULT_INSTANCE, DEFAULT_PREFERENCES


def split_dumps(files: Mapping[str, bytes]) -> tuple[dict[str, bytes], dict[str, bytes]]:
    """The other files, and the dumps."""
    dumps = {name: data for name, data in files.items() if is_dump(name)}
    return {name: data for name, data in files.items() if name not in dumps}, dumps


@collection_paused()
def with_dumps(network: Network, dumps: Mapping[str, bytes]) -> Network:
    """A network with what dumps hold of its devices; raises ``LoadError`` with the errors of all."""
    errors = ErrorList()
    devices = dict(network.devices)
    latest = 0
    for file, data in sorted(dumps.items()):
        name = device_of(file)
        if name not in devices:
            errors.dangling(Place(file, 1, 1), "device", name, devices)
            continue
        try:
            dump = _read(data, file)
        except LoadError as error:
            errors.errors += error.errors
            continue
        latest = max(latest, dump.time)
        devices[name] = _with_dump(devices[name], dump, data, file)
    errors.raise_if_any()
    taken_at = network.taken_at or (datetime.fromtimestamp(latest, UTC) if latest else None)
    return replace(network, devices=devices, taken_at=taken_at)


def with_own_dumps(device: Device, files: Mapping[str, bytes]) -> Device:
    """A device that was read anew, without what dumps held of it before, with what they hold of it now."""
    _, dumps = split_dumps(files)
    own = {file: data for file, data in dumps.items() if device_of(file) == device.name}
    if own:
        device = replace(device, gaps=tuple(gap for gap in device.gaps if gap.place.file not in own))
    for file, data in sorted(own.items()):
        device = _with_dump(device, _read(data, file), data, file)
    return device


@lru_cache(2)
def _read(data: bytes, file: str) -> TableDump:
    """A dump does not change: a network read again with a change in it finds what was read."""
    return read_table_dump(unpacked(data, file), file)


def _with_dump(device: Device, dump: TableDump, data: bytes, file: str) -> Device:
    gaps = list(_gaps(device, dump, file))
    vrf = dump.view if dump.view in device.vrfs else DEFAULT_INSTANCE
    routing = device.routing if vrf == DEFAULT_INSTANCE else device.vrfs[vrf]
    if routing is None or routing.bgp is None:
        observed = (*device.observed, *_own_subnets(device, vrf), *_best_routes(data, file, vrf))
        return replace(device, observed=observed, gaps=(*device.gaps, *gaps))
    bgp, unused = _with_received(routing.bgp, device.name, dump, file)
    routing = replace(routing, bgp=bgp)
    if vrf == DEFAULT_INSTANCE:
        device = replace(device, routing=routing)
    else:
        device = replace(device, vrfs=device.vrfs | {vrf: routing})
    return replace(device, gaps=(*device.gaps, *gaps, *unused))


def _gaps(device: Device, dump: TableDump, file: str) -> Iterator[Gap]:
    """What of a dump is no path, and what of it the model does not have."""
    place = Place(file, 1, 1)
    for what, count in dump.malformed.items():
        yield Gap(f"{device.name}: {count:,} of the dump's paths are malformed and left out: {what}", place)
    for what, count in dump.passed_over.items():
        yield Gap(f"{device.name}: {count:,} records of the dump are not used ({what})", place)


def _with_received(bgp: Bgp, name: str, dump: TableDump, file: str) -> tuple[Bgp, list[Gap]]:
    """BGP with the paths of its sessions' neighbours, and what is said of those that have none."""
    by_address: dict[str, list[ReceivedPaths]] = defaultdict(list)
    named = {str(one.address): one for one in bgp.neighbors}
    gaps = []
    for (index, _), entries in sorted(dump.entries.items()):
        peer = dump.peers[index]
        address, count = str(peer.address), f"{len(entries.prefixes):,}"
        if _is_own(peer):
            continue
        if address not in named:
            text = f"{name}: the {count} paths of {address} (AS {peer.number}) are not used: BGP names no such neighbor"
        elif named[address].number != peer.number:
            expected = f"BGP expects AS {named[address].number}"
            text = f"{name}: the {count} paths of {address} are not used: they are of AS {peer.number}, {expected}"
        else:
            paths = ReceivedPaths(
                entries.prefixes,
                dump.attributes,
                entries.attributes,
                entries.lines,
                file,
                peer.identifier or None,
                # Records with and without identifiers are told apart by no update.
                entries.paths if len(entries.paths) == len(entries.prefixes) else None,
            )
            if named[address].withdrawn:
                paths = paths.without(named[address].withdrawn)
            by_address[address].append(paths)
            carried = named[address].carried
            left = sum(prefix.family not in carried for prefix in entries.prefixes)
            if not left:
                continue
            families = " and ".join(f"IPv{family}" for family in carried)
            text = f"{name}: {left:,} paths of {address} are not used: its session carries {families} alone"
        gaps.append(Gap(text, Place(file, 1, 1)))
    neighbors = tuple(
        replace(one, received=(*one.received, *by_address.get(str(one.address), ()))) for one in bgp.neighbors
    )
    return replace(bgp, neighbors=neighbors), gaps


def _is_own(peer: Peer) -> bool:
    """Whether a dump means its own speaker: what it says itself."""
    return peer.address.value == 0


def _own_subnets(device: Device, vrf: str) -> Iterator[ObservedRoute]:
    """A table of BGP has no networks of the device's own: they are as its interfaces say, where nothing else does."""
    standing = [one for one in device.observed if one.vrf == vrf and one.protocol in ("connected", "local")]
    shown = {one.prefix.family for one in standing}
    for interface in device.interfaces.values():
        if interface.vrf != vrf or not interface.enabled:
            continue
        for one in interface.addresses:
            if one.family in shown:
                continue
            hop = (ObservedNextHop(None, interface.name),)
            yield ObservedRoute(one.prefix, "connected", hop, 0, 0, place=interface.place, vrf=vrf)
            if not one.prefix.is_host:
                host = one.address.host_prefix()
                yield ObservedRoute(host, "local", hop, 0, 0, place=interface.place, vrf=vrf)


@lru_cache(2)
def _best_routes(data: bytes, file: str, vrf: str) -> tuple[ObservedRoute, ...]:
    """The best path for each prefix as a route read off."""
    dump = _read(data, file)
    best: dict[Prefix, tuple[PathAttributes, Peer, int]] = {}
    for (index, _), entries in sorted(dump.entries.items()):
        peer = dump.peers[index]
        if _is_own(peer):
            continue
        for prefix, number, line in zip(entries.prefixes, entries.attributes, entries.lines, strict=True):
            one = dump.attributes[number], peer, line
            standing = best.get(prefix)
            if standing is None or _is_better(one, standing):
                best[prefix] = one
    hops: dict[tuple[Peer, object], tuple[ObservedNextHop, ...]] = {}
    routes = []
    for prefix, (attributes, peer, line) in best.items():
        address = attributes.next_hop or peer.address
        if (peer, address) not in hops:
            hops[peer, address] = (ObservedNextHop(address),)
        preference, place = DEFAULT_PREFERENCES["ebgp"], Place(file, line, 1)
        routes.append(
            ObservedRoute(prefix, "bgp", hops[peer, address], preference, attributes.med or 0, place=place, vrf=vrf)
        )
    return tuple(routes)


def _is_better(one: tuple[PathAttributes, Peer, int], other: tuple[PathAttributes, Peer, int]) -> bool:
    """RFC 4271 section 9.1.2.2 without what a dump does not tell: kinds of sessions, and metrics to next hops."""
    (ours, our_peer, _), (theirs, their_peer, _) = one, other
    for mine, its in (
        (-ours.local_preference, -theirs.local_preference),
        (len(ours.as_path), len(theirs.as_path)),
        (ORIGINS.index(ours.origin), ORIGINS.index(theirs.origin)),
        (ours.med or 0, theirs.med or 0) if ours.as_path[:1] == theirs.as_path[:1] else (0, 0),
    ):
        if mine != its:
            return mine < its
    return (our_peer.identifier, our_peer.address) < (their_peer.identifier, their_peer.address)
