"""A trail: how far a prefix came from an origin, step by step, and what stopped it."""

from collections.abc import Collection
from dataclasses import dataclass

from routrel.analysis.answers import contests
from routrel.analysis.contest.separation import Neighbors, separation
from routrel.model.addresses import Address, Prefix
from routrel.model.places import NOWHERE, Place
from routrel.routing.solve import Solved
from routrel.topology.segments import Topology


@dataclass(frozen=True, slots=True)
class Step:
    """One thing that happened to the prefix on its way, at a routing instance; where it ``stopped`` the trail ends, or
    goes on with why something lacks a route that it stands on, or that belongs inside it."""

    instance: int
    text: str
    place: Place = NOWHERE
    stopped: bool = False
    others: tuple[Place, ...] = ()
    """Further places that together make it."""
    lacks: tuple[int, Address] | None = None
    """A routing instance that has no route to an address, where that is why it stopped."""
    empty: Prefix | None = None
    """A range or an aggregate that the instance would say, and has nothing inside, where that is why it stopped."""
    unstated: bool = False
    """Whether it stopped where nothing tells it to go on: it may never have been meant to come this way."""


@dataclass(frozen=True, slots=True)
class Trail:
    """How far a prefix came from one origin towards the instance that lacks it."""

    steps: tuple[Step, ...]


def step_answer(topology: Topology, step: Step) -> contests.Step:
    """A step as it is shown."""
    name, others = topology.instance_name(step.instance), [place for place in step.others if place]
    return contests.Step(name, step.text, step.stopped, step.place or None, others)


def separated(
    solved: Solved, neighbors: Neighbors, instance: int, senders: Collection[int], text: str, place: Place
) -> list[Step]:
    """What keeps an instance from others that it would hear of the prefix from, thing by thing."""
    gaps = separation(solved, neighbors, instance, senders)
    if not gaps:  # no cables lead there, whatever were told of them
        return [Step(instance, text, place, True, unstated=True)]
    unstated = any(gap.unstated for gap in gaps)
    return [
        Step(instance, f"{text}: {one.text}", one.places[0], True, one.places[1:], unstated=unstated)
        for one in (gap.missing for gap in gaps)
    ]
