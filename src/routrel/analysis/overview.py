"""The network as a map needs it: sites, devices, cables; and the words a question can be made of."""

from collections.abc import Iterator

from routrel.analysis.answers import Json
from routrel.model.filters import PROTOCOL_NAMES
from routrel.routing.solve import Solved


def map_json(solved: Solved) -> Json:
    """Sites, devices and cables. A cable without a number stands for interfaces joined by their subnet."""
    network, topology = solved.network, solved.topology
    cables = [
        {
            "link": number,
            "name": link.name,
            "up": link.enabled and all(not topology.link_state(end) for end in link.ends),
            "ends": [{"device": end.device, "interface": end.interface} for end in link.ends],
        }
        for number, link in enumerate(network.links)
    ]
    for segment in topology.segments:
        ports = [topology.ports[port] for port in segment.ports]
        if len(ports) > 1 and not segment.links:
            ends = [{"device": port.name.device, "interface": port.name.interface} for port in ports]
            cables.append({"link": None, "name": "", "up": True, "ends": ends})
    return {
        "name": network.name,
        "taken_at": network.taken_at,
        "sites": [
            {"name": site.name, "label": site.label or site.name, "x": site.x, "y": site.y}
            for site in network.sites.values()
        ],
        "devices": [
            {"name": device.name, "kind": device.kind, "site": device.site} for device in network.devices.values()
        ],
        "cables": cables,
    }


def words(solved: Solved, typed: str, limit: int = 12) -> list[Json]:
    """Places that match what was typed: devices and endpoints first, then interfaces and addresses.

    An exact name comes first, then names that begin with it, then those that contain it.
    """
    wanted = typed.strip().lower()
    found: list[tuple[int, int, Json]] = []
    for order, (word, kind, detail, searched) in enumerate(_places(solved, bool(wanted))):
        lowered = word.lower()
        if lowered == wanted:
            rank = 0
        elif lowered.startswith(wanted):
            rank = 1
        elif wanted in lowered:
            rank = 2
        elif wanted in searched.lower():
            rank = 3
        else:
            continue
        found.append((rank, order, {"word": word, "kind": kind, "detail": detail}))
        if len(found) > 5000:
            break
    return [word for _, _, word in sorted(found, key=lambda entry: entry[:2])[:limit]]


def _places(solved: Solved, with_interfaces: bool) -> Iterator[tuple[str, str, str, str]]:
    network = solved.network
    for endpoint in network.endpoints.values():
        text = f"{endpoint.address}" + (f", {endpoint.label}" if endpoint.label else "")
        yield endpoint.name, "endpoint", text, text
    for device in network.devices.values():
        site = network.sites[device.site].label if device.site in network.sites else ""
        yield device.name, device.kind, site, site
    if not with_interfaces:
        return
    for name, _, interface in network.interfaces():
        if interface.addresses:
            text = ", ".join(str(address) for address in interface.addresses)
            yield str(name), "interface", text, f"{text} {interface.description}"


def services(solved: Solved) -> list[Json]:
    """The services of the network by name, then a few that every network has."""
    named = [
        {"word": service.name, "detail": str(service), "kind": PROTOCOL_NAMES.get(service.protocol, "")}
        for service in solved.network.services.values()
    ]
    common = ("icmp", "tcp/22", "tcp/80", "tcp/443", "udp/53", "udp/123")
    return [*named, *({"word": word, "detail": "", "kind": word.split("/")[0]} for word in common)]
