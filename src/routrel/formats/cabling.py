"""Cables that no text states: what devices hear of their neighbours (LLDP), and addresses that name each other."""

from collections import defaultdict
from collections.abc import Mapping
from dataclasses import dataclass, field
from typing import NamedTuple

from routrel.formats.errors import ErrorList
from routrel.model.addresses import Address
from routrel.model.devices import Device, Gap
from routrel.model.fields import replace
from routrel.model.network import InterfaceName, Link
from routrel.model.places import Place


class Heard(NamedTuple):
    """A device's interface, and the one at the other end as it names itself.

    Somebody wrote ``is_exact`` ones down: an interface that is not there is an error. Others are a neighbour's words.
    """

    near: InterfaceName
    far: InterfaceName
    place: Place
    is_exact: bool


@dataclass(slots=True)
class Cabling:
    """What the devices of a folder say of their neighbours."""

    heard: list[Heard] = field(default_factory=list)
    peers: dict[tuple[Address, Address], InterfaceName] = field(default_factory=dict)
    """Interfaces with an address at their other end, by (own address, the other's)."""
    known_as: dict[str, str] = field(default_factory=dict)
    """Devices by the name they give themselves, where it is another."""

    def join(self, devices: dict[str, Device], stated: tuple[Link, ...], errors: ErrorList) -> tuple[Link, ...]:
        """Links for ends that stand in none of those stated; a neighbour that is no device becomes a gap."""
        taken = {end for link in stated for end in link.ends}
        ends: dict[InterfaceName, set[InterfaceName]] = defaultdict(set)
        for near, named, place, is_exact in self.heard:
            if near.device not in devices:
                continue
            far = InterfaceName(self._device(named.device, devices), named.interface)
            other = devices.get(far.device)
            if is_exact and other is not None and far.interface not in other.interfaces:
                errors.dangling(place, f"interface of {far.device}", far.interface, other.interfaces)
            elif other is None or far.interface not in other.interfaces:
                what = "which was not captured" if other is None else "an interface that it does not have"
                unknown = str(far) if other is None else ""
                gap = Gap(f"{near} is cabled to {far}, {what}", place, near.interface, unknown)
                devices[near.device] = replace(devices[near.device], gaps=(*devices[near.device].gaps, gap))
            elif near not in taken and far not in taken:
                ends[near].add(far)
        for (own, other_address), near in self.peers.items():
            opposite = self.peers.get((other_address, own))
            if opposite is not None and near not in ends and opposite.device != near.device:
                ends[near].add(opposite)
        return _links(ends, devices)

    def _device(self, name: str, devices: Mapping[str, Device]) -> str:
        """The device that a neighbour's system name means: with or without its domain."""
        for one in (name, name.partition(".")[0]):
            if one in devices:
                return one
            if one in self.known_as:
                return self.known_as[one]
        return name


def _links(ends: dict[InterfaceName, set[InterfaceName]], devices: Mapping[str, Device]) -> tuple[Link, ...]:
    """Cables from what neighbours said of each other; ends heard together share one segment."""
    group: dict[InterfaceName, set[InterfaceName]] = {}
    for near, others in sorted(ends.items()):
        for end in (near, *sorted(others)):
            if end.device in devices and end.interface in devices[end.device].interfaces:
                mine, its = group.setdefault(near, {near}), group.setdefault(end, {end})
                if mine is not its:
                    mine |= its
                    for member in its:
                        group[member] = mine
    unique = {id(members): members for members in group.values() if len(members) > 1}
    return tuple(Link(tuple(sorted(members))) for members in sorted(unique.values(), key=min))
