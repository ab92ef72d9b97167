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
from routrel.topology.ports import Port

MOST_CABLES = 9
"""Links that are offered for one subnet."""
MOST_COMPARED = 12
"""Interfaces in one subnet for two of which each two may be cabled: more are a mistake of another kind."""
BLOCK = 2
"""A subnet for two lies in one block of so many bits."""


def doubtful_cables(solved: Solved, asked: set[Address]) -> Iterator[model.OpenEnd]:
    """Subnets for two with one end of which nothing asks for the other, or with several that no cable tells apart."""
    narrow = [
        (port, prefix)
        for port in solved.topology.ports
        for prefix in dict.fromkeys(port.prefixes)
        if not prefix.is_host and prefix.length >= BITS[prefix.family] - BLOCK and not port.interface.is_loopback
    ]
    members = Counter(prefix for _, prefix in narrow)
    cabled = {end for link in solved.network.links for end in link.ends}
    in_block: dict[tuple[int, int], list[Address]] = defaultdict(list)
    for address in asked:
        in_block[address.family, address.value >> BLOCK].append(address)
    single = [
        (port, prefix)
        for port, prefix in narrow
        if members[prefix] == 1
        and port.up
        and not any(map(prefix.contains, in_block[prefix.family, prefix.network >> BLOCK]))
    ]
    named = _named({port.index: port for port, _ in single if port.name not in cabled}.values())
    for port, prefix in single:
        what = f"{port.name.interface}: nobody else is in {prefix}, a subnet for two"
        offers = [_offer(port, other) for other in named[port.index]]
        yield model.OpenEnd(port.name.device, what, port.interface.place or None, offers[:MOST_CABLES])
    crowded: dict[Prefix, list[Port]] = defaultdict(list)
    for port, prefix in narrow:
        if port.name not in cabled and members[prefix] > 2:
            crowded[prefix].append(port)
    for prefix, ports in crowded.items():
        if len(ports) > 2:
            names = some_of([port.name for port in ports])
            what = f"{prefix} is a subnet for two, and {names} are in it: no link says which of them are cabled"
            offers = [_offer(one, other) for one, other in _pairs(ports[:MOST_COMPARED])]
            yield model.OpenEnd(ports[0].name.device, what, ports[0].interface.place or None, offers[:MOST_CABLES])


def _pairs(ports: Sequence[Port]) -> list[tuple[Port, Port]]:
    """Which two may be cabled: of different devices with different addresses, those first that name each other."""
    pairs = [
        (one, other)
        for one, other in combinations(ports, 2)
        if one.device != other.device and not set(one.addresses) & set(other.addresses)
    ]
    return sorted(pairs, key=lambda pair: -_score(*pair))


def _named(free: Iterable[Port]) -> dict[int, list[Port]]:
    """By the number of each free interface, those of other devices with which it names or is named, surest first."""
    of_device: dict[str, list[Port]] = defaultdict(list)
    for port in free:
        of_device[port.name.device].append(port)
    scores: dict[int, dict[int, tuple[int, Port]]] = defaultdict(dict)
    for ports in of_device.values():
        for port in ports:
            for device in sorted(_words(port) & of_device.keys() - {port.name.device}):
                for other in of_device[device][:MOST_COMPARED]:
                    score = _score(port, other)
                    scores[port.index][other.index] = score, other
                    scores[other.index][port.index] = score, port
    return defaultdict(
        list,
        {
            index: [other for _, other in sorted(found.values(), key=lambda one: -one[0])]
            for index, found in scores.items()
        },
    )


def _score(one: Port, other: Port) -> int:
    """How far the descriptions of two interfaces name each other: the device, and then the interface too."""
    return sum(
        (theirs.name.device in words) * (1 + (theirs.name.interface in words))
        for words, theirs in ((_words(one), other), (_words(other), one))
    )


def _words(port: Port) -> set[str]:
    """What a description may name: its words, with and without the marks around them."""
    found = re.split(r"[\s,;()\[\]<>\"']+", port.interface.description)
    return {word for text in found for word in (text, *re.split(r"[:@]", text), text.strip(".:"))}


def _offer(one: Port, other: Port) -> Offer:
    label = f"{one.name} – {other.name}"
    return Offer(label, {"add": "link", "at": str(one.name), "to": str(other.name)})
