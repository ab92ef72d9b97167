"""What a solved BGP has to report: sessions that do not come up, and choices that do not settle or hang on timing."""

from collections import defaultdict
from collections.abc import Callable, Iterator
from typing import TYPE_CHECKING

import numpy as np

from routrel.model.addresses import Address
from routrel.model.findings import Finding, some_of
from routrel.routing.bgp.speakers import Speaker
from routrel.topology.disjoint_sets import DisjointSets

if TYPE_CHECKING:
    from routrel.routing.bgp.propagation import Propagation
    from routrel.routing.bgp.solution import BgpSolution

MOST_ORDERS = 12
"""Orders that speakers start in, beside the reverse."""

MOST_NAMED = 4
"""Speakers whose lines a finding names."""

MOST_TRIED = 2_000_000
"""Channels times columns up to which speakers start in other orders, and sessions fail and come back one by one."""


def findings(bgp: "BgpSolution") -> list[Finding]:
    """What is known once BGP is solved."""
    found = _session_findings(bgp)
    found += _twice_given_identifiers(bgp)
    held = bgp.propagation
    if held is not None and held.unstable.columns:
        found.append(_unstable(bgp, held.unstable.columns, sorted(held.unstable.speakers)))
    if held is not None and held.ordered:
        shown = some_of(bgp.prefixes.members(held.ordered))
        text = (
            f"where {shown} leads depends on which router speaks first: BGP has several stable states for it."
            " One of them is shown"
        )
        found.append(Finding("bgp-order", "warning", text))
    return found


def _session_findings(bgp: "BgpSolution") -> list[Finding]:
    """Sessions that are told but do not come up, each with what is missing and where."""
    found = []
    for end, why, others in bgp.state.failures:
        neighbor = end.neighbor
        stated = (*why.places, neighbor.place, *(other.neighbor.place for other in others))
        both_off = not neighbor.enabled and all(not other.neighbor.enabled for other in others)
        found.append(
            Finding(
                "bgp-session",
                "note" if both_off or (not neighbor.enabled and not others) else "error",
                f"{bgp.database.name(end.process)} has no BGP session with {neighbor.address}: {why.text}",
                bgp.database.device(end.process).name,
                "",
                tuple(dict.fromkeys(stated)),
            )
        )
    return found


def _twice_given_identifiers(bgp: "BgpSolution") -> list[Finding]:
    """RFC 6286 section 2.1: identifiers are unique within an AS; RFC 4456 section 8 tells loops by them."""
    all_speakers = bgp.database.speakers[: len(bgp.processes)]
    if len({(one.bgp.number, one.identifier) for one in all_speakers}) == len(all_speakers):
        return []
    joined: DisjointSets[int] = DisjointSets()
    for channel in bgp.state.channels:
        if not channel.external:
            joined.join(channel.sender, channel.receiver)
    holders: dict[tuple[int, int], list[Speaker]] = defaultdict(list)
    for speaker in all_speakers:
        holders[joined.find(speaker.process), speaker.identifier].append(speaker)
    return [
        Finding(
            "duplicate-identifier",
            "error",
            f"{some_of([bgp.database.name(one.process) for one in speakers])} of AS {speakers[0].bgp.number} have the"
            f" same BGP identifier {Address(4, identifier)} (RFC 6286 section 2.1): each drops what is"
            " reflected of the other's paths",
            _device(bgp, speakers[0].process),
            "",
            tuple(one.bgp.place for one in speakers),
        )
        for (_, identifier), speakers in holders.items()
        if len(speakers) > 1
    ]


def _unstable(bgp: "BgpSolution", columns: set[int], speakers: list[int]) -> Finding:
    names = ", ".join(bgp.database.name(speaker) for speaker in speakers)
    return Finding(
        "bgp-unstable",
        "error",
        f"BGP never settles for {some_of(bgp.prefixes.members(columns))}: {names} keep changing their choice for"
        " each other's. The tables shown are those of one moment",
        _device(bgp, speakers[0]) if speakers else "",
        "",
        tuple(bgp.database.speakers[speaker].bgp.place for speaker in speakers),
    )


def timing_findings(bgp: "BgpSolution") -> list[Finding]:
    """That BGP stays with another choice where routers start in another order, or once a session has failed and come
    back: it has several stable states.

    Tried while the work stays within bounds; what is known to hang on who speaks first, or never to settle, is left
    out.
    """
    held = bgp.propagation
    found: list[Finding] = []
    if held is None or len(held.channels) * len(bgp.prefixes) > MOST_TRIED:
        return found
    told = held.unstable.columns | held.ordered

    def differing(other: "Propagation | None") -> set[int]:
        """The columns of which another state is not told yet."""
        if other is None:
            return set()
        columns = ((other.best != held.best) | (other.via != held.via)).any(axis=0)
        return set(np.flatnonzero(columns).tolist()) - told - other.unstable.columns

    for channel in held.channels[::2]:
        columns = differing(held.after_restart(channel))
        if not columns:
            continue
        told = told | columns
        found.append(
            Finding(
                "bgp-order",
                "warning",
                f"where {some_of(bgp.prefixes.members(columns))} leads depends on timing: once the session of"
                f" {bgp.database.name(channel.sender)} and {bgp.database.name(channel.receiver)} has failed and come"
                " back, BGP stays with another choice. It has several stable states",
                _device(bgp, channel.sender),
                "",
                (channel.sending.neighbor.place, channel.receiving.neighbor.place),
            )
        )
    found += _order_findings(bgp, held, differing)
    return found


def _order_findings(
    bgp: "BgpSolution", held: "Propagation", differing: Callable[["Propagation"], set[int]]
) -> list[Finding]:
    """What is chosen otherwise where routers start one after the other, with those who do.

    No more orders are tried once one settles nothing, or not soon.
    """
    columns, speakers = set[int](), set[int]()
    left = held.apart_from(held.unstable.columns | held.ordered)
    for order in _orders(len(held.speakers)):
        other = held.in_turn(order, np.array(sorted(left), np.int64))
        found = sorted(differing(other) & left)
        if left <= other.unstable.columns:
            break
        columns.update(found)
        is_other = (other.best[:, found] != held.best[:, found]) | (other.via[:, found] != held.via[:, found])
        speakers.update(np.flatnonzero(is_other.any(axis=1)).tolist())
    own = [speaker for speaker in sorted(speakers) if _device(bgp, speaker)]
    if not own:
        return []
    who = some_of([bgp.database.name(speaker) for speaker in own])
    return [
        Finding(
            "bgp-order",
            "warning",
            f"where {some_of(bgp.prefixes.members(columns))} leads depends on timing: where routers start one after the"
            f" other BGP stays with another choice on {who}. It has several stable states",
            _device(bgp, own[0]),
            "",
            tuple(bgp.database.speakers[speaker].bgp.place for speaker in own[:MOST_NAMED]),
        )
    ]


def _orders(count: int) -> Iterator[list[int]]:
    """Some orders of so many: their own from one or another on, and the reverse."""
    every = list(range(count))
    for first in range(0, count, -(-count // MOST_ORDERS) or 1):
        yield every[first:] + every[:first]
    yield every[::-1]


def _device(bgp: "BgpSolution", speaker: int) -> str:
    """The name of a speaker's device, '' of one outside the network."""
    instance = bgp.database.speakers[speaker].instance
    return "" if instance < 0 else bgp.topology.devices[bgp.topology.instances[instance].device].name
