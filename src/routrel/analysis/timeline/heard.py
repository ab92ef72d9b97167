"""What BGP neighbours said over time: which paths stand at a moment, and a network that has heard them.

A path that is announced replaces the one before it of the same prefix, those that the revision knows too (RFC 4271
section 3.1); where a speaker has several for a prefix, it replaces that of its identifier (RFC 7911 section 2). Where
the revision knows a neighbour's paths without their identifiers, it replaces all of the prefix. A session that ended
said all of it for nothing.
"""

from array import array
from collections.abc import Callable, Iterable, Iterator, Mapping, Sequence
from copy import copy
from datetime import datetime
from typing import Any

import numpy as np

from routrel.analysis.timeline.switches import Switch, neighbor_of, session_named
from routrel.formats.changes.finding import ChangeError
from routrel.model.addresses import Prefix
from routrel.model.announcements import UNNUMBERED, WITHDRAWN, Announcement, Announcements, microseconds
from routrel.model.bgp import BgpNeighbor
from routrel.model.devices import Device
from routrel.model.fields import replace
from routrel.model.network import Network
from routrel.model.received import PathAttributes, ReceivedPaths
from routrel.model.routing import DEFAULT_INSTANCE, RoutingInstance

Said = tuple[int, Prefix | None, tuple[tuple[int, int], ...]]
"""Of a session, what stands of a prefix: paths by identifier with numbers of attributes. No prefix: all is gone."""
Standing = dict[int, dict[Prefix | None, dict[int, int]]]


class Heard:
    """All announcements of a timeline by time; ``sessions`` are those of the network that spoke.

    Of a neighbour of whom the revision knows what it said, that counts from ``since`` on, and what was announced up to
    then is in it already, in place of what nobody knows: ``replaced`` (n,) has the times. Of all others there is no
    word but what was announced, whenever that was.
    """

    def __init__(self, network: Network, files: Sequence[Announcements], since: datetime):
        self.sessions: list[Switch] = []
        self.attributes: list[PathAttributes] = []
        self.unknown: dict[str, str] = {}
        """Speakers that are none of the network's, each with why."""
        self._network = network
        self._files = files
        known: dict[Switch, int] = {}
        times, sessions, numbers, paths = ([np.zeros(0, np.int64)] for _ in range(4))
        prefixes: list[Prefix | None] = []
        for of in files:
            at = [self._session(network, speaker, known) for speaker in of.speakers]
            times.append(np.array(of.times, np.int64))
            sessions.append(np.array(at, np.int64)[np.array(of.speaking, np.int64)] if at else np.zeros(0, np.int64))
            here = np.array(of.numbers, np.int64)
            numbers.append(np.where(here == WITHDRAWN, WITHDRAWN, here + len(self.attributes)))
            paths.append(np.array(of.paths, np.int64))
            self.attributes += of.attributes
            prefixes += of.prefixes
        every, speaking = np.concatenate(times), np.concatenate(sessions)
        is_known = np.array([bool(neighbor_of(network, one).received) for one in self.sessions] + [False])
        self._are_numbered = [
            any(paths.path_identifiers is not None for paths in neighbor_of(network, one).received)
            for one in self.sessions
        ]
        """Whether the revision knows paths of each session by their identifiers."""
        is_replaced = is_known[speaking] & (every <= microseconds(since))
        self.replaced = np.sort(every[is_replaced])
        order = np.flatnonzero(~is_replaced)
        order = order[np.argsort(every[order], kind="stable")]
        self.times, self.speaking, self.order = every[order], speaking[order], order
        self.numbers, self.paths = (np.concatenate(one)[order] for one in (numbers, paths))
        self.prefixes = [prefixes[at] for at in order.tolist()]
        self.origins = np.cumsum([0, *(len(of) for of in files)])

    def _session(self, network: Network, speaker: str, known: dict[Switch, int]) -> int:
        try:
            switch = session_named(network, speaker)
        except ChangeError as error:
            self.unknown[speaker] = error.message
            return -1
        if switch not in known:
            known[switch] = len(self.sessions)
            self.sessions.append(switch)
        return known[switch]

    def __len__(self) -> int:
        return len(self.times)

    def number_after(self, moment: datetime) -> int:
        """The number of the first announcement after a moment."""
        return int(np.searchsorted(self.times, microseconds(moment), "right"))

    def number_before(self, moment: datetime) -> int:
        """The number of the first announcement at or after a moment."""
        return int(np.searchsorted(self.times, microseconds(moment), "left"))

    def row(self, number: int) -> Announcement:
        """An announcement by its number."""
        at = int(self.order[number])
        file = int(np.searchsorted(self.origins, at, "right")) - 1
        return self._files[file].row(at - int(self.origins[file]))

    def only(self, is_kept: Callable[[Prefix], bool]) -> "Heard":
        """The announcements of some prefixes alone."""
        known = {prefix: prefix is None or is_kept(prefix) for prefix in set(self.prefixes)}
        kept = [at for at, prefix in enumerate(self.prefixes) if known[prefix]]
        found, rows = copy(self), np.array(kept, np.int64)
        found.times, found.order = self.times[rows], self.order[rows]
        found.speaking, found.numbers, found.paths = (one[rows] for one in (self.speaking, self.numbers, self.paths))
        found.prefixes = [self.prefixes[at] for at in kept]
        return found

    def take(self, standing: Standing, first: int, last: int) -> None:
        """Let what stands be told of some announcements more."""
        for at in range(first, last):
            session = int(self.speaking[at])
            if session < 0:
                continue
            prefix = self.prefixes[at]
            if prefix is None:
                standing[session] = {None: {}}
                continue
            of = standing.setdefault(session, {}).setdefault(prefix, {})
            path, number = int(self.paths[at]), int(self.numbers[at])
            if path == UNNUMBERED:
                of.clear()
            if number == WITHDRAWN and path != UNNUMBERED and not self._are_numbered[session]:
                of.pop(path, None)
            else:
                of[path] = number

    def network_with(self, network: Network, said: Iterable[Said]) -> Network:
        """The network whose neighbours have said something else."""
        by_session: dict[int, dict[Prefix | None, tuple[tuple[int, int], ...]]] = {}
        for session, prefix, paths in said:
            by_session.setdefault(session, {})[prefix] = paths
        devices = dict(network.devices)
        for session, news in sorted(by_session.items()):
            switch = self.sessions[session]
            try:
                neighbor = neighbor_of(network, switch)
            except ChangeError:
                continue  # a change took it out
            name = switch.at.partition(" ")[0]
            received = self._received(neighbor, news)
            devices[name] = _with_neighbor(devices[name], switch.vrf, neighbor, received)
        return replace(network, devices=devices)

    def _received(
        self, neighbor: BgpNeighbor, news: dict[Prefix | None, tuple[tuple[int, int], ...]]
    ) -> tuple[ReceivedPaths, ...]:
        before = neighbor.received
        said = {prefix: dict(paths) for prefix, paths in news.items()}
        found = [] if None in said else [_unsaid(one, said) for one in before]
        standing = {
            prefix: [number for _, number in paths if number != WITHDRAWN]
            for prefix, paths in news.items()
            if prefix is not None
        }
        identifier = before[0].identifier if before else None
        prefixes = sorted(standing)
        for rank in range(max(map(len, standing.values()), default=0)):
            having = [prefix for prefix in prefixes if len(standing[prefix]) > rank]
            numbers = [standing[prefix][rank] for prefix in having]
            places = {number: at for at, number in enumerate(dict.fromkeys(numbers))}
            found.append(
                ReceivedPaths(
                    list(having),
                    tuple(_by(self.attributes[number], neighbor) for number in places),
                    array("i", [places[number] for number in numbers]),
                    array("i", bytes(4 * len(having))),
                    "",
                    identifier,
                )
            )
        return tuple(one for one in found if len(one))


def _unsaid(before: ReceivedPaths, said: Mapping[Prefix | None, Mapping[int, int]]) -> ReceivedPaths:
    """What the revision knows of a neighbour's paths and nothing said since replaces."""
    if before.path_identifiers is None:
        return before.only(lambda prefix: prefix not in said)
    return before.only_paths(lambda prefix, path: not {path, UNNUMBERED} & said.get(prefix, {}).keys())


def _by(attributes: PathAttributes, neighbor: BgpNeighbor) -> PathAttributes:
    """A path that names no next hop leads by who said it."""
    return attributes if attributes.next_hop is not None else attributes._replace(next_hop=neighbor.address)


def content(standing: Standing) -> frozenset[Said]:
    """What stands, to be held against other moments."""
    return frozenset(
        (session, prefix, tuple(sorted(paths.items())))
        for session, of in standing.items()
        for prefix, paths in of.items()
    )


def received_of(network: Network) -> Iterator[ReceivedPaths]:
    """All that neighbours outside say, as the network knows it."""
    for device in network.devices.values():
        for routing in (device.routing, *device.vrfs.values()):
            if routing is not None and routing.bgp is not None:
                for neighbor in routing.bgp.neighbors:
                    yield from neighbor.received


def with_received(
    network: Network, is_kept: Callable[[Prefix], bool], known: dict[ReceivedPaths, ReceivedPaths]
) -> Network:
    """The network whose neighbours outside say some prefixes alone; ``known`` keeps what was found."""
    devices = dict(network.devices)
    for name, device in network.devices.items():
        for vrf, routing in ((DEFAULT_INSTANCE, device.routing), *device.vrfs.items()):
            bgp = None if routing is None else routing.bgp
            for neighbor in () if bgp is None else bgp.neighbors:
                if neighbor.received:
                    for one in neighbor.received:
                        if one not in known:
                            known[one] = one.only(is_kept)
                    received = tuple(known[one] for one in neighbor.received)
                    devices[name] = _with_neighbor(devices[name], vrf, neighbor, received)
    return replace(network, devices=devices)


def _with_neighbor(device: Device, vrf: str, neighbor: BgpNeighbor, received: tuple[ReceivedPaths, ...]) -> Device:
    def changed(routing: RoutingInstance | None) -> Any:
        assert routing is not None and routing.bgp is not None
        others = tuple(
            replace(one, received=received) if one.address == neighbor.address else one for one in routing.bgp.neighbors
        )
        return replace(routing, bgp=replace(routing.bgp, neighbors=others))

    if vrf == DEFAULT_INSTANCE:
        return replace(device, routing=changed(device.routing))
    return replace(device, vrfs={**device.vrfs, vrf: changed(device.vrfs[vrf])})
