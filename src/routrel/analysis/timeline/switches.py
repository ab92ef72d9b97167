"""What goes down and comes up by itself (interfaces, links, devices, adjacencies, sessions), and a network without."""

import re
from collections import defaultdict
from collections.abc import Iterable
from contextlib import suppress
from functools import reduce
from typing import NamedTuple

from routrel.analysis.expectations.failures import Failure, failed
from routrel.formats.changes.adjacencies import ALLOWED
from routrel.formats.changes.finding import (
    ChangeError,
    device_of,
    devices_at,
    interface_of,
    link_of,
    links_in_group,
    session_of,
)
from routrel.model.addresses import Address
from routrel.model.adjacencies import speaking, without_adjacencies
from routrel.model.bgp import BgpNeighbor
from routrel.model.changes import Change
from routrel.model.fields import replace
from routrel.model.network import Network
from routrel.model.routing import DEFAULT_INSTANCE

_SPEAKER = re.compile(r"AS(\d{1,10}) (\S+)(?: to (\S+))?")


class Switch(NamedTuple):
    """One thing that is up or down: ``at`` as a change names it, a link by the first of its ends."""

    what: str
    at: str
    vrf: str = DEFAULT_INSTANCE

    def change(self, is_on: bool) -> Change:
        """What switches it, as a trial has it."""
        values = {} if self.vrf == DEFAULT_INSTANCE else {"vrf": self.vrf}
        return Change("enable" if is_on else "disable", self.what, self.at, values)


def switches_of(network: Network, change: Change) -> list[Switch]:
    """All that a change which enables or disables something switches; raises ``ChangeError``."""
    what, at = change.what, change.at
    if what in ("interface", "adjacency"):
        end = interface_of(network, at)
        if what == "adjacency" and not any(speaking(network.devices[end.device], end.interface)):
            raise ChangeError(f"{at} forms no adjacencies", "", ALLOWED)
        return [Switch(what, str(end))]
    if what == "link":
        return [_of_link(network, link_of(network, at))]
    if what == "device":
        return [Switch(what, device_of(network, at).name)]
    if what == "session":
        return [session_named(network, at, str(change.values.get("vrf", DEFAULT_INSTANCE)))]
    if what == "risk_group":
        return [_of_link(network, number) for number in links_in_group(network, at)]
    return [Switch("device", name) for name in devices_at(network, at)]


def _of_link(network: Network, number: int) -> Switch:
    return Switch("link", str(network.links[number].ends[0]))


def session_named(network: Network, text: str, vrf: str = DEFAULT_INSTANCE) -> Switch:
    """A session as a change names it, or as who listens to its neighbour does; raises ``ChangeError``."""
    spoken = _SPEAKER.fullmatch(text)
    if spoken is None:
        return _session_of_any(network, text, vrf)
    number, peer, local = int(spoken[1]), _address(spoken[2]), _address(spoken[3])
    found = []
    for device in network.devices.values():
        for name, routing in ((DEFAULT_INSTANCE, device.routing), *device.vrfs.items()):
            bgp = None if routing is None else routing.bgp
            for neighbor in () if bgp is None else bgp.neighbors:
                if neighbor.address == peer and neighbor.number == number:
                    owned = {one.address for of in device.interfaces.values() for one in of.addresses}
                    found.append((local in owned, Switch("session", f"{device.name} {peer}", name)))
    having = [switch for is_own, switch in found if is_own] or [switch for _, switch in found]
    if len(having) == 1:
        return having[0]
    if not having:
        raise ChangeError(f"no session of the network is with AS {number} at {spoken[2]}")
    names = ", ".join(switch.at for switch in having[:3])
    raise ChangeError(f"{len(having)} sessions are with AS {number} at {spoken[2]}: {names}", "", "to: the own address")


def _session_of_any(network: Network, text: str, vrf: str) -> Switch:
    """A session by device and neighbour, in another routing instance where the default one has none such."""
    device = network.devices.get(text.partition(" ")[0])
    others = () if device is None or vrf != DEFAULT_INSTANCE else tuple(device.vrfs)
    for name in (vrf, *others):
        with suppress(ChangeError):
            of, address = session_of(network, text, name)
            return Switch("session", f"{of.name} {address}", name)
    of, address = session_of(network, text, vrf)
    return Switch("session", f"{of.name} {address}", vrf)


def _address(text: str | None) -> Address | None:
    try:
        return None if text is None else Address.parse(text)
    except ValueError:
        return None


def is_on(network: Network, switch: Switch) -> bool:
    """Whether it is on as the network's text says; raises ``ChangeError`` where it is there no more."""
    if switch.what == "link":
        return network.links[link_of(network, switch.at)].enabled
    if switch.what == "device":
        return device_of(network, switch.at).enabled
    if switch.what == "session":
        return neighbor_of(network, switch).enabled
    end = interface_of(network, switch.at)
    device = network.devices[end.device]
    if switch.what == "adjacency":
        return any(not one.passive for one in speaking(device, end.interface))
    return device.interfaces[end.interface].enabled


def devices_of(network: Network, switch: Switch) -> tuple[str, ...]:
    """The devices that would know of it."""
    if switch.what == "link":
        return tuple(end.device for end in network.links[link_of(network, switch.at)].ends)
    return (switch.at.partition(" ")[0].partition(":")[0],)


def words_of(network: Network, switch: Switch) -> str:
    """What it is, in words."""
    if switch.what != "link":
        return f"{switch.what} {switch.at}"
    link = network.links[link_of(network, switch.at)]
    return f"link {link.name or ' – '.join(map(str, link.ends))}"


def neighbor_of(network: Network, switch: Switch) -> BgpNeighbor:
    """The neighbour of a session, as its device has it; raises ``ChangeError`` where it has it no more."""
    device, _, address = switch.at.partition(" ")
    of = device_of(network, device)
    routing = of.routing if switch.vrf == DEFAULT_INSTANCE else of.vrfs.get(switch.vrf)
    if routing is None or routing.bgp is None:
        raise ChangeError(f"{device} speaks BGP no more")
    wanted = Address.parse(address)
    found = next((one for one in routing.bgp.neighbors if one.address == wanted), None)
    if found is None:
        raise ChangeError(f"{device} has no BGP neighbor {address} any more")
    return found


def with_off(network: Network, switches: Iterable[Switch]) -> Network:
    """The network with some things off: what the text with the same changes means."""
    apart, failing = defaultdict[str, set[str]](set), list[Failure]()
    for one in switches:
        if one.what == "adjacency":
            end = interface_of(network, one.at)
            apart[end.device].add(end.interface)
        else:
            failing.append(failure_of(network, one))
    for name, names in apart.items():
        device = without_adjacencies(network.devices[name], names)
        network = replace(network, devices={**network.devices, name: device})
    return failed(network, reduce(Failure.with_second, failing)) if failing else network


def failure_of(network: Network, switch: Switch) -> Failure:
    """The failure that one going down is; of an adjacency that of its interface, which it goes down with."""
    if switch.what == "link":
        return Failure("links", "", switch.at, frozenset([link_of(network, switch.at)]))
    if switch.what == "device":
        return Failure("devices", switch.at, switch.at, devices=frozenset([switch.at]))
    if switch.what == "session":
        session = switch.at.partition(" ")[0], switch.vrf, neighbor_of(network, switch)
        return Failure("sessions", switch.at, switch.at, sessions=(session,))
    end = interface_of(network, switch.at)
    return Failure("interfaces", switch.at, switch.at, interfaces=frozenset([end]))
