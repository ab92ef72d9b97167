"""Cables in doubt: subnets for two with one end, or with more than two, and the links that would settle them."""

import re
from collections import Counter, defaultdict
from collections.abc import Iterable, Iterator, Sequence
from itertools import combinations

from routrel.analysis.answers import model
from routrel.analysis.answers.offers import Offer
from routrel.model.addresses import BITS, Address, Prefix
from routrel.model.findings import some_of
from routrel.routing.solve import Solved
from routrel.topology.segments import Port

MOST_CABLES = 9
"""Links that are offered for one subnet: each has a key."""


def doubtful_cables(solved: Solved, asked: set[Address]) -> Iterator[model.OpenEnd]:
    """Subnets for two with one end of which nothing asks for the other, or with several that no cable tells apart."""
    narrow = [
        (port, prefix)
        for port in solved.topology.ports
        for prefix in dict.fromkeys(port.prefixes)
        if not prefix.is_host and prefix.length >= BITS[prefix.family] - 2 and not port.interface.is_loopback
    ]
    members = Counter(prefix for _, prefix in narrow)
    cabled = {end for link in solved.network.links for end in link.ends}
    single = [
        (port, prefix)
        for port, prefix in narrow
        if members[prefix] == 1 and port.up and not any(map(prefix.contains, asked))
    ]
    free = {port.name: port for port, _ in single if port.name not in cabled}
    for port, prefix in single:
        what = f"{port.name.interface}: nobody else is in {prefix}, a subnet for two"
        offers = [_offer(port, other) for other in _named_by(port, free.values())] if port.name in free else []
        yield model.OpenEnd(port.name.device, what, port.interface.place or None, offers[:MOST_CABLES])
    crowded: dict[Prefix, list[Port]] = defaultdict(list)
    for port, prefix in narrow:
        if port.name not in cabled and members[prefix] > 2:
            crowded[prefix].append(port)
    for prefix, ports in crowded.items():
        if len(ports) > 2:
            names = some_of([port.name for port in ports])
            what = f"{prefix} is a subnet for two, and {names} are in it: no link says which of them are cabled"
            offers = [_offer(one, other) for one, other in _pairs(ports)]
            yield model.OpenEnd(ports[0].name.device, what, ports[0].interface.place or None, offers[:MOST_CABLES])


def _pairs(ports: Sequence[Port]) -> list[tuple[Port, Port]]:
    """Which two may be cabled: of different devices with different addresses, those first that name each other."""
    pairs = [
        (one, other)
        for one, other in combinations(ports, 2)
        if one.device != other.device and not set(one.addresses) & set(other.addresses)
    ]
    return sorted(pairs, key=lambda pair: -_names(pair[0], pair[1]) - _names(pair[1], pair[0]))


def _named_by(port: Port, others: Iterable[Port]) -> list[Port]:
    """The free interfaces at which a port's description points, or whose descriptions point at it, the surest first."""
    found = [(_names(port, other) + _names(other, port), other) for other in others if other.device != port.device]
    return [other for score, other in sorted(found, key=lambda one: -one[0]) if score]


def _names(port: Port, other: Port) -> int:
    """How far a port's description names another: its device, and then its interface too."""

    def is_in(name: str) -> bool:
        return re.search(rf"(?<![\w-]){re.escape(name)}(?![\w-])", port.interface.description) is not None

    return is_in(other.name.device) and 1 + is_in(other.name.interface)


def _offer(one: Port, other: Port) -> Offer:
    label = f"{one.name} – {other.name}"
    return Offer(label, {"add": "link", "at": str(one.name), "to": str(other.name)})
