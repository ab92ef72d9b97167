"""Where in a network and in a device's data the thing stands that a change names."""

from collections.abc import Iterable, Iterator, Mapping
from typing import Any

from routrel.formats.changes.text_edits import Path, at_path
from routrel.formats.errors import nearest, quoted
from routrel.formats.routing_grammar import area_number
from routrel.model.addresses import Address
from routrel.model.changes import Change
from routrel.model.devices import Device
from routrel.model.network import InterfaceName, Network
from routrel.model.routing import DEFAULT_INSTANCE


class ChangeError(Exception):
    """Why a change cannot be made: what is wrong, what was found, what is allowed, and the nearest name."""

    def __init__(self, message: str, found: str = "", allowed: str = "", closest: str = ""):
        super().__init__(message)
        self.message, self.found, self.allowed, self.closest = message, found, allowed, closest


def no_such(what: str, name: str, names: Iterable[str]) -> ChangeError:
    """A name that names nothing."""
    known = sorted(names)
    allowed = ", ".join(known[:12]) + (", …" if len(known) > 12 else "") or "none is there"
    return ChangeError(f"there is no {what} of this name", quoted(name), allowed, next(iter(nearest(name, known)), ""))


def device_of(network: Network, name: str) -> Device:
    """The device of a name."""
    if name not in network.devices:
        raise no_such("device", name, network.devices)
    return network.devices[name]


def interface_of(network: Network, text: str) -> InterfaceName:
    """The interface of a text ``device:interface``."""
    name, _, interface = text.partition(":")
    device = device_of(network, name)
    if interface not in device.interfaces:
        raise no_such(f"interface on {name}", interface, device.interfaces)
    return InterfaceName(name, interface)


def link_of(network: Network, text: str) -> int:
    """The number of a link by its name or one of its ends."""
    named = [index for index, link in enumerate(network.links) if link.name == text]
    if len(named) > 1:
        raise ChangeError("several links have this name", quoted(text), "one of its ends, device:interface")
    if named:
        return named[0]
    if ":" not in text:
        raise no_such("link", text, (link.name for link in network.links if link.name))
    end = interface_of(network, text)
    for index, link in enumerate(network.links):
        if end in link.ends:
            return index
    raise ChangeError("no link of the text has this end", quoted(text), "an interface that stands in a link")


def links_in_group(network: Network, name: str) -> list[int]:
    """The numbers of the links of a risk group."""
    found = [number for number, link in enumerate(network.links) if name in link.risk_groups]
    if not found:
        raise no_such("risk group", name, {group for link in network.links for group in link.risk_groups})
    return found


def devices_at(network: Network, site: str) -> list[str]:
    """The devices that stand at a site."""
    if site not in network.sites:
        raise no_such("site", site, network.sites)
    found = [name for name, device in network.devices.items() if device.site == site]
    if not found:
        raise ChangeError("no device stands at this site", quoted(site))
    return found


def session_of(network: Network, text: str, vrf: str) -> tuple[Device, Address]:
    """A device and the address of its neighbour."""
    name, _, address_text = text.partition(" ")
    device = device_of(network, name)
    routing = device.routing if vrf == DEFAULT_INSTANCE else device.vrfs.get(vrf)
    if routing is None or routing.bgp is None:
        raise ChangeError(
            f"{name} does not speak BGP" + ("" if vrf == DEFAULT_INSTANCE else f" in {vrf}"), quoted(text)
        )
    try:
        address = Address.parse(address_text.strip())
    except ValueError:
        address = None
    known = [neighbor.address for neighbor in routing.bgp.neighbors]
    if address is None or address not in known:
        raise no_such(f"BGP neighbour of {name}", address_text, map(str, known))
    return device, address


def routing_path(device: Device, vrf: str) -> Path:
    """Where a routing instance stands in a device's data."""
    if vrf == DEFAULT_INSTANCE:
        return ("routing",)
    if vrf not in device.vrfs:
        raise no_such(f"VRF on {device.name}", vrf, device.vrfs)
    return ("vrfs", vrf, "routing")


def neighbor_path(data: Any, routing: Path, address: Address) -> Path:
    """Where a BGP neighbour stands: its address may be written in any way."""
    neighbors = at_path(data, (*routing, "bgp", "neighbors")) or {}
    key = next(key for key in neighbors if Address.parse(key) == address)
    return (*routing, "bgp", "neighbors", key)


def ospf_paths(data: Any, routing: Path, instance: str | None) -> list[Path]:
    """Where OSPF's instances stand, or the one of a name."""
    ospf = at_path(data, (*routing, "ospf"))
    found: list[tuple[str, Path]] = []
    if isinstance(ospf, Mapping):
        found = [(str(ospf.get("instance", DEFAULT_INSTANCE)), (*routing, "ospf"))]
    elif isinstance(ospf, list):
        found = [
            (str((one or {}).get("instance", DEFAULT_INSTANCE)), (*routing, "ospf", index))
            for index, one in enumerate(ospf)
        ]
    if instance is not None and instance not in [name for name, _ in found]:
        raise no_such("OSPF instance", instance, [name for name, _ in found])
    return [path for name, path in found if instance in (None, name)]


def ospf_interface(change: Change, data: Any, routing: Path, interface: str) -> tuple[Path, str]:
    """Where the one OSPF instance stands that an interface is in, and the area as it is written there."""
    found = [
        (path, area)
        for path in ospf_paths(data, routing, change.values.get("instance"))
        for area, value in _items(at_path(data, (*path, "areas")))
        if interface in ((value or {}).get("interfaces") or {})
    ]
    if not found:
        raise ChangeError(f"{change.at} speaks no OSPF", "", "an interface of an area")
    if len(found) > 1:
        names = [str(at_path(data, path).get("instance", DEFAULT_INSTANCE)) for path, _ in found]
        raise ChangeError(f"{change.at} stands in several OSPF instances", "", f"instance: {' or '.join(names)}")
    return found[0]


def area_key(data: Any, ospf: Path, wanted: Any) -> str:
    """The area of an OSPF instance as it is written there; the wanted one as it is where there is none."""
    areas = at_path(data, (*ospf, "areas")) or {}
    try:
        number = area_number(str(wanted))
    except ValueError:
        raise ChangeError("this is no area id", quoted(wanted), "an integer or four dotted numbers") from None
    return next((key for key in areas if area_number(key) == number), str(wanted))


def speaking(change: Change, data: Any, routing: Path, interface: str, protocols: tuple[str, ...]) -> str:
    """The one protocol of some that an interface speaks, or the one that a change names."""
    found = [name for name in protocols if interface in (at_path(data, (*routing, name, "interfaces")) or {})]
    wanted = change.values.get("protocol")
    if wanted is not None and wanted not in found:
        raise ChangeError(
            f"{change.at} does not speak this protocol", quoted(wanted), ", ".join(found) or "none of them"
        )
    if wanted is None and len(found) != 1:
        allowed = f"protocol: {' or '.join(found)}" if found else f"an interface of {' or '.join(protocols)}"
        raise ChangeError(f"{change.at} speaks {'several' if found else 'none'} of {', '.join(protocols)}", "", allowed)
    return wanted or found[0]


def _items(value: Any) -> Iterator[tuple[str, Any]]:
    yield from (value or {}).items()


def interface_path(change: Change, interface: str, data: Any, routing: Path) -> tuple[Path, object]:
    """Where a setting of an interface stands in a device's data, and what it is where it does not."""
    what = change.what
    own = ("interfaces", interface)
    if what == "cost":
        ospf, area = ospf_interface(change, data, routing, interface)
        return (*ospf, "areas", area, "interfaces", interface, "cost"), "automatic"
    if what == "metric":
        protocol = speaking(change, data, routing, interface, ("isis", "rip"))
        return (*routing, protocol, "interfaces", interface, "metric"), 10 if protocol == "isis" else 1
    if what == "delay" or (what == "bandwidth" and change.values.get("protocol") is not None):
        protocol = speaking(change, data, routing, interface, ("eigrp",))
        return (*routing, protocol, "interfaces", interface, what), 10 if what == "delay" else "automatic"
    return (*own, what), {"mtu": 1500, "bandwidth": "unknown"}.get(what, "none")
