"""The network as a map needs it: sites, devices, cables; and the words a question can be made of."""

from collections.abc import Iterator

from routrel.analysis.answers import model
from routrel.model.filters import PROTOCOL_NAMES
from routrel.routing.solve import Solved


def map_of(solved: Solved) -> model.Map:
    """Sites, devices and cables. A cable without a number stands for interfaces joined by their subnet."""
    network, topology = solved.network, solved.topology
    cables = [
        model.Cable(
            number,
            link.name,
            link.enabled and all(not topology.link_state(end) for end in link.ends),
            [model.CableEnd(*end) for end in link.ends],
        )
        for number, link in enumerate(network.links)
    ]
    for segment in topology.segments:
        ports = [topology.ports[port] for port in segment.ports]
        if len(ports) > 1 and not segment.links:
            cables.append(model.Cable(None, "", True, [model.CableEnd(*port.name) for port in ports]))
    return model.Map(
        network.name,
        network.taken_at,
        [model.Site(site.name, site.label or site.name, site.x, site.y) for site in network.sites.values()],
        [model.Device(device.name, device.kind, device.site) for device in network.devices.values()],
        cables,
    )


class Words:
    """Completion over the places of a network: devices, endpoints, interfaces and their addresses."""

    def __init__(self, solved: Solved):
        self._words = [
            (model.Word(word, kind, detail), word.lower(), searched.lower())
            for word, kind, detail, searched in _places(solved)
        ]

    def matching(self, typed: str, limit: int = 12) -> list[model.Word]:
        """Places that match what was typed; before anything is typed, endpoints and devices.

        An exact name comes first, then names that begin with it, then those that contain it, then those
        whose addresses, labels or descriptions do.
        """
        wanted = typed.strip().lower()
        ranked: list[list[model.Word]] = [[], [], [], []]
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


def services(solved: Solved) -> list[model.Word]:
    """The services of the network by name, then a few that every network has."""
    named = [
        model.Word(service.name, PROTOCOL_NAMES.get(service.protocol, ""), str(service))
        for service in solved.network.services.values()
    ]
    common = ("icmp", "tcp/22", "tcp/80", "tcp/443", "udp/53", "udp/123")
    return [*named, *(model.Word(word, word.split("/")[0], "") for word in common)]
