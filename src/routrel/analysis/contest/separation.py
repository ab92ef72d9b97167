"""What keeps two routers apart in a protocol: the nearest way of neighbours that should be, and its breaks.

Routers that hear each other are joined at no cost, routers whose interfaces are cabled together and might hear
each other at the cost of what is missing between them. The cheapest way from one to the other names it.
"""

import heapq
from collections import defaultdict
from collections.abc import Collection, Iterator, Sequence
from dataclasses import dataclass, field
from typing import NamedTuple

from routrel.model.places import Place
from routrel.routing.neighbors import Obstacle
from routrel.routing.protocol import Process
from routrel.routing.solve import Solved
from routrel.topology.wiring import Break

MOST_PAIRS = 100_000
"""Pairs of interfaces that are looked at for one question; past it nothing is named."""

Pair = tuple[int, int]


@dataclass(slots=True)
class Neighbors:
    """Who hears whom in one protocol, or one area or domain of it.

    ``hears`` holds pairs of ports (sender, receiver). ``settings`` gives, by port that is up, whether it is
    silent and where it stands. ``apart`` says why two that both stand in it do not hear each other.
    ``running`` holds the instances that run it, with their places.
    """

    name: str
    finding: str
    running: dict[int, Place]
    hears: set[Pair] = field(default_factory=set)
    settings: dict[int, tuple[bool, Place]] = field(default_factory=dict)
    apart: dict[Pair, Obstacle] = field(default_factory=dict)
    silence_is_one_way: bool = False
    networks: list[frozenset[int]] = field(default_factory=list)
    """Ports that all hear each other."""
    elsewhere: set[Pair] = field(default_factory=set)
    """Pairs that hear each other in another area of the protocol."""


class Gap(NamedTuple):
    """What is missing between two interfaces; ``unstated`` where neither is told to stand in the protocol."""

    missing: Break
    unstated: bool


def separation(solved: Solved, neighbors: Neighbors, receiver: int, senders: Collection[int]) -> list[Gap]:
    """What is missing on the way from the nearest of some instances to one: empty where nothing is or can be told."""
    return _Search(solved, neighbors).run(receiver, senders)


class _Search:
    def __init__(self, solved: Solved, neighbors: Neighbors):
        self.solved = solved
        self.topology = solved.topology
        self.neighbors = neighbors
        self.looked_at = 0
        self.heard: dict[int, set[int]] = defaultdict(set)
        """Per instance those that it hears."""
        self.networks_of: dict[int, list[int]] = defaultdict(list)
        self.passed: set[int] = set()
        for number, ports in enumerate(neighbors.networks):
            for port in ports:
                self.networks_of[self.topology.ports[port].instance].append(number)
        for sender, receiver in neighbors.hears:
            self.heard[self.topology.ports[receiver].instance].add(self.topology.ports[sender].instance)

    def run(self, receiver: int, senders: Collection[int]) -> list[Gap]:
        cost = {receiver: 0}
        before: dict[int, tuple[int, Gap | None]] = {}
        queue = [(0, receiver)]
        while queue:
            so_far, instance = heapq.heappop(queue)
            if so_far > cost[instance]:
                continue
            if instance in senders:
                return self._on_the_way(before, instance, receiver)
            if self.looked_at > MOST_PAIRS:
                return []
            for other, price, missing in self._onward(instance):
                if so_far + price < cost.get(other, 2**30):
                    cost[other] = so_far + price
                    before[other] = instance, missing
                    heapq.heappush(queue, (cost[other], other))
        return []

    @staticmethod
    def _on_the_way(before: dict[int, tuple[int, Gap | None]], instance: int, receiver: int) -> list[Gap]:
        found = []
        while instance != receiver:
            instance, missing = before[instance]
            if missing is not None:
                found.append(missing)
        return found[::-1]

    def _onward(self, instance: int) -> Iterator[tuple[int, int, Gap | None]]:
        for other in sorted(self.heard[instance]):
            yield other, 0, None
        for number in self.networks_of.pop(instance, ()):
            if number not in self.passed:
                self.passed.add(number)
                for port in self.neighbors.networks[number]:
                    yield self.topology.ports[port].instance, 0, None
        found = self.topology.instances[instance]
        for port in self.topology.ports_of[found.device]:
            if self.topology.ports[port].instance != instance:
                continue
            for number in self.solved.wiring.cabled_with(port):
                far = self.topology.ports[number]
                if far.device == found.device or not self.topology.devices[far.device].forwards:
                    continue
                self.looked_at += 1
                missing = self._missing(number, port)
                if missing is not None:
                    unstated = all(self._is_untold(one) for one in (number, port))
                    yield far.instance, self._price(number, port), Gap(missing, unstated)

    def _price(self, sender: int, receiver: int) -> int:
        """The less of it is stated, the dearer: two that neither stand in the protocol may not be meant to meet."""
        price = 1 + ((sender, receiver) in self.neighbors.elsewhere)
        for number in (sender, receiver):
            port = self.topology.ports[number]
            price += 2 * (port.instance not in self.neighbors.running)
            price += self._is_untold(number)
        return price

    def _is_untold(self, number: int) -> bool:
        """Whether a port does not stand in the protocol; of one that is down that is not known."""
        return self.topology.ports[number].up and number not in self.neighbors.settings

    def _missing(self, sender: int, receiver: int) -> Break | None:
        """Why a port does not hear another that is cabled to it; None where it does, or never would."""
        pair = sender, receiver
        if pair in self.neighbors.hears or any(sender in one and receiver in one for one in self.neighbors.networks):
            return None
        told = self.neighbors.apart.get(pair)
        ends = [self.topology.ports[number] for number in pair]
        if not (told or set(ends[0].prefixes) & set(ends[1].prefixes)):
            return None
        apart = self.solved.wiring.apart(*pair)
        if apart is not None:
            return apart
        texts, places = [], []
        for port in ends:
            settings = self.neighbors.settings.get(port.index)
            if port.instance not in self.neighbors.running:
                texts.append(f"{self.topology.instance_name(port.instance)} runs no {self.neighbors.name}")
                routing = self.topology.instances[port.instance].routing
                places.append(routing.place if routing is not None else self.topology.devices[port.device].place)
            elif settings is None:
                texts.append(f"{port.name} does not stand in {self.neighbors.name}")
                places.append(self.neighbors.running[port.instance])
            elif settings[0] and (port.index == sender or not self.neighbors.silence_is_one_way):
                texts.append(f"{port.name} is passive in {self.neighbors.name}")
                places.append(settings[1])
        if texts:
            names = f"{ends[1].name} hears nothing of {ends[0].name}"
            return Break(f"{names}: {' and '.join(texts)}", tuple(places))
        stated = tuple(self.neighbors.settings[number][1] for number in pair)
        if told:
            text = f"{ends[1].name} and {ends[0].name}: {told.text} (finding {self.neighbors.finding})"
            return Break(text, (*told.places, *stated))
        if pair in self.neighbors.elsewhere:
            return Break(f"{ends[1].name} and {ends[0].name} are neighbours in another area", stated)
        return None


def instances_running(processes: Sequence[Process]) -> dict[int, Place]:
    """The instances of some processes, and where they are told to run."""
    return {process.instance: process.place for process in processes}
