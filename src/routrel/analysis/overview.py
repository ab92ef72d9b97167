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


class Words:
    """Completion over the places of a network: devices, endpoints, interfaces and their addresses."""

    def __init__(self, solved: Solved):
        self._words = [
            ({"word": word, "kind": kind, "detail": detail}, word.lower(), searched.lower())
            for word, kind, detail, searched in _places(solved)
        ]

    def matching(self, typed: str, limit: int = 12) -> list[Json]:
        """Places that match what was typed; before anything is typed, endpoints and devices.

        An exact name comes first, then names that begin with it, then those that contain it, then those
        whose addresses, labels or descriptions do.
        """
        wanted = typed.strip().lower()
        ranked: list[list[Json]] = [[], [], [], []]
        for entry, word, searched in self._words:
            if word == wanted:
                ranked[0].append(entry)
            elif word.startswith(wanted):
                ranked[1].append(entry)
            elif wanted in word:
                ranked[2].append(entry)
            elif wanted in searched:
                ranked[3].append(entry)
            if len(ranked[1]) >= limit and (not wanted or ranked[0]):
                break
        return [entry for entries in ranked for entry in entries][:limit]


def _places(solved: Solved) -> Iterator[tuple[str, str, str, str]]:
    network = solved.network
    for endpoint in network.endpoints.values():
        text = f"{endpoint.address}" + (f", {endpoint.label}" if endpoint.label else "")
        yield endpoint.name, "endpoint", text, text
    for device in network.devices.values():
        site = network.sites[device.site].label if device.site in network.sites else ""
        yield device.name, device.kind, site, site
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
