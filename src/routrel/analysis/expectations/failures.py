"""What may fail alone, and a network in which it has."""

from collections.abc import Iterable, Iterator, Sequence
from typing import Any, NamedTuple, overload

from routrel.analysis.offered_changes import switched
from routrel.formats.errors import nearest
from routrel.model.bgp import BgpNeighbor
from routrel.model.devices import Device
from routrel.model.expectations import FailureKind
from routrel.model.fields import replace
from routrel.model.network import InterfaceName, Network
from routrel.model.routing import DEFAULT_INSTANCE, RoutingInstance
from routrel.routing.solve import Solved

KIND_WORDS: dict[FailureKind, str] = {
    "links": "link",
    "interfaces": "interface",
    "devices": "device",
    "sites": "site",
    "risk_groups": "risk group",
    "sessions": "session",
}

KINDS: tuple[FailureKind, ...] = tuple(KIND_WORDS)

MOST_TRIED = 50_000
"""Failures of two things at once that are tried."""


class Failure(NamedTuple):
    """One thing of a kind that fails: its links, by number, its devices, interfaces or session; or two at once."""

    kind: FailureKind
    name: str
    at: str
    """How a change names it."""
    links: frozenset[int] = frozenset()
    devices: frozenset[str] = frozenset()
    interfaces: frozenset[InterfaceName] = frozenset()
    hosts: frozenset[str] = frozenset()
    """Hosts whose own cable it is: for them it is the end that fails, not the way."""
    sessions: tuple[tuple[str, str, BgpNeighbor], ...] = ()
    """Device, VRF and neighbour of one of the ends of each."""
    second: "Failure | None" = None
    """Where two fail at once, the other alone: the rest names the first, and has what both bring down."""

    def with_second(self, other: "Failure") -> "Failure":
        """Both at once."""
        return self._replace(
            links=self.links | other.links,
            devices=self.devices | other.devices,
            interfaces=self.interfaces | other.interfaces,
            hosts=self.hosts | other.hosts,
            sessions=self.sessions + other.sessions,
            second=other,
        )

    @property
    def change(self) -> dict[str, Any]:
        """The failure as a change that can be tried (docs/changes.md), of two at once the first."""
        vrf = self.sessions[0][1] if self.kind == "sessions" else DEFAULT_INSTANCE
        return switched(self.kind.removesuffix("s"), self.at, True, vrf).change

    @property
    def words(self) -> str:
        """What fails, in words."""
        words = f"{KIND_WORDS[self.kind]} {self.name}"
        return words if self.second is None else f"{words} and {self.second.words}"


class TooManyFailuresError(Exception):
    """That two at once are more than are tried; the message says how many."""


class NothingToFailError(Exception):
    """That a name names nothing of its kind that is up; the message says what is near it."""


def failure_of(solved: Solved, kind: FailureKind, at: str) -> Failure:
    """The failure of one thing, named as a change names it or by its own name; raises ``NothingToFailError``."""
    failures = list(failures_of(solved, [kind]))
    found = [one for one in failures if one.at == at] or [one for one in failures if one.name == at]
    if len(found) > 1:
        ends = ", ".join(one.at for one in found[:3])
        raise NothingToFailError(
            f"{len(found)} {kind.replace('_', ' ')} are named {at!r}: say which by one end, like {ends}"
        )
    if not found:
        close = nearest(at, [name for one in failures for name in (one.at, one.name)])
        meant = f"; did you mean {close[0]}?" if close else ""
        raise NothingToFailError(f"there is no {KIND_WORDS[kind]} {at!r} that is up{meant}")
    return found[0]


def failures_of(solved: Solved, kinds: Iterable[FailureKind]) -> Iterator[Failure]:
    """Everything of some kinds that is up and may fail. Hosts do not: nothing is expected to survive its own end."""
    network, wanted = solved.network, set(kinds)
    up = {name: device for name, device in network.devices.items() if device.enabled and device.kind != "host"}
    if "links" in wanted:
        for number, link in enumerate(network.links):
            if link.enabled:
                ends = " – ".join(map(str, link.ends))
                hosts = frozenset(end.device for end in link.ends if network.devices[end.device].kind == "host")
                yield Failure("links", link.name or ends, str(link.ends[0]), frozenset([number]), hosts=hosts)
    if "interfaces" in wanted:
        for name, device in up.items():
            for interface in device.interfaces.values():
                if interface.enabled and not interface.is_loopback:
                    at = InterfaceName(name, interface.name)
                    yield Failure("interfaces", str(at), str(at), interfaces=frozenset([at]))
    if "devices" in wanted:
        yield from (Failure("devices", name, name, devices=frozenset([name])) for name in up)
    if "sites" in wanted:
        for site in network.sites:
            inside = frozenset(name for name, device in network.devices.items() if device.site == site)
            if inside & up.keys():
                yield Failure("sites", site, site, devices=inside)
    if "risk_groups" in wanted:
        for group in sorted({group for link in network.links for group in link.risk_groups}):
            links = frozenset(number for number, link in enumerate(network.links) if group in link.risk_groups)
            yield Failure("risk_groups", group, group, links=links)
    if "sessions" in wanted:
        yield from _sessions(solved)


def _sessions(solved: Solved) -> Iterator[Failure]:
    """Each session once, by the end that stands first."""
    topology = solved.topology
    seen: set[frozenset[tuple[int, str]]] = set()
    for instance in topology.instances:
        bgp = None if instance.routing is None else instance.routing.bgp
        device = topology.devices[instance.device]
        for neighbor in bgp.neighbors if bgp is not None and device.enabled else ():
            if not neighbor.enabled:
                continue
            owner = topology.owner(neighbor.address)
            other = -1 if owner is None else topology.ports[owner].instance
            ends = frozenset([(instance.index, "" if other >= 0 else str(neighbor.address)), (other, "")])
            if other < 0 or ends not in seen:
                seen.add(ends)
                name = f"{device.name} {neighbor.address}"
                yield Failure("sessions", name, name, sessions=((device.name, instance.vrf, neighbor),))


class FailuresToTry(Sequence[Failure]):
    """Failures by number, always in the same order: each of some alone, or each two of them at once."""

    def __init__(self, alone: Sequence[Failure], two_at_once: bool):
        """Raises ``TooManyFailuresError``."""
        self.alone = alone
        self.two_at_once = two_at_once
        if len(self) > MOST_TRIED:
            raise TooManyFailuresError(
                f"two of {len(alone):,} failures at once are {len(self):,} to try, at most {MOST_TRIED:,} are: "
                "choose fewer kinds"
            )

    def __len__(self) -> int:
        count = len(self.alone)
        return count * (count - 1) // 2 if self.two_at_once else count

    @overload
    def __getitem__(self, at: int) -> Failure: ...

    @overload
    def __getitem__(self, at: slice) -> list[Failure]: ...

    def __getitem__(self, at: int | slice) -> Failure | list[Failure]:
        if isinstance(at, slice):
            return [self[number] for number in range(*at.indices(len(self)))]
        if not self.two_at_once:
            return self.alone[at]
        first, second = self.numbers(at)
        return self.alone[first].with_second(self.alone[second])

    def numbers(self, at: int) -> tuple[int, int]:
        """Which two of ``alone``."""
        first, row = 0, len(self.alone) - 1
        while at >= row:
            at, first, row = at - row, first + 1, row - 1
        return first, first + 1 + at


def failed(network: Network, failure: Failure) -> Network:
    """The network with something failed."""
    links, devices = list(network.links), dict(network.devices)
    for number in failure.links:
        links[number] = replace(links[number], enabled=False)
    for name in failure.devices:
        devices[name] = _off(devices[name], set(devices[name].interfaces))
    for device, interface in failure.interfaces:
        devices[device] = _off(devices[device], {interface})
    for name, vrf, neighbor in failure.sessions:
        devices[name] = _without_session(devices[name], vrf, neighbor)
    return replace(network, links=tuple(links) if failure.links else network.links, devices=devices)


def _off(device: Device, names: set[str]) -> Device:
    interfaces = {
        name: replace(one, enabled=False) if name in names else one for name, one in device.interfaces.items()
    }
    return replace(device, interfaces=interfaces, enabled=device.enabled and len(names) < len(interfaces))


def _without_session(device: Device, vrf: str, neighbor: BgpNeighbor) -> Device:
    def without(routing: RoutingInstance | None) -> RoutingInstance | None:
        if routing is None or routing.bgp is None:
            return routing
        neighbors = tuple(replace(one, enabled=False) if one is neighbor else one for one in routing.bgp.neighbors)
        return replace(routing, bgp=replace(routing.bgp, neighbors=neighbors))

    if vrf == DEFAULT_INSTANCE:
        return replace(device, routing=without(device.routing))
    return replace(device, vrfs={**device.vrfs, vrf: without(device.vrfs[vrf])})
