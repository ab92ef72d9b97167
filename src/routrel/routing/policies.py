"""Routing policies over many routes at once (RFC 9067; semantics on the network file's page).

Routes come as columns; a statement becomes a few array operations. ``analysis/contest`` asks the same
policies route by route, apart from this.
"""

from collections.abc import Callable

import numpy as np
from msgspec import Struct

from routrel.model.addresses import Address
from routrel.model.policies import Policy, PrefixMatch
from routrel.routing.arrays import UNSET, Column, Flags
from routrel.routing.prefixes.classes import PrefixClasses
from routrel.routing.prefixes.index import PrefixIndex
from routrel.routing.protocol_routes import PathAttributes

HopMatch = Callable[[tuple[Address, ...]], Flags]


class Verdicts(Struct):
    """What a policy says of m routes. Set columns hold UNSET where no statement set them."""

    accepted: Flags
    metric: Column
    metric_type: Column
    tag: Column
    preference: Column


def accept_all(count: int) -> Verdicts:
    """The verdicts where no policy stands: everything passes unchanged."""
    return Verdicts(np.ones(count, np.bool_), *np.full((4, count), UNSET))


def evaluate(
    policy: Policy | None,
    prefixes: PrefixIndex | PrefixClasses,
    numbers: Column,
    protocol: str,
    metric: Column,
    tag: Column,
    hop_match: HopMatch,
    paths: PathAttributes | None = None,
) -> Verdicts:
    """Ask a policy of routes of one protocol; ``paths`` are the BGP attributes of those that have any.

    ``numbers``, ``metric`` and ``tag`` are (m,): prefix numbers, metrics, tags (UNSET without).
    ``hop_match`` tells of given addresses whether each route has one of them as next hop.
    """
    verdicts = accept_all(len(numbers))
    if policy is None:
        return verdicts
    verdicts.accepted[:] = False
    undecided = np.ones(len(numbers), np.bool_)
    metric, tag = metric.astype(np.int64), np.maximum(tag, 0)  # as earlier statements left them
    for statement in policy.statements:
        if not undecided.any():
            break
        match, change = statement.match, statement.set
        if (match.protocols is not None and protocol not in match.protocols) or (match.asks_path and paths is None):
            continue
        holds = undecided.copy()
        if match.prefixes is not None:
            holds &= matching(match.prefixes, prefixes)[numbers]
        if match.tag is not None:
            holds &= tag == match.tag
        if match.metric is not None:
            holds &= metric == match.metric
        if match.next_hops is not None:
            holds &= hop_match(match.next_hops)
        if paths is not None and match.asks_path:
            holds &= paths.holds(match)
        at = np.flatnonzero(holds)
        if not len(at):
            continue
        if paths is not None:
            paths.apply(change, at)
        for value, columns in (
            (change.metric, (verdicts.metric, metric)),
            (change.metric_type, (verdicts.metric_type,)),
            (change.tag, (verdicts.tag, tag)),
            (change.preference, (verdicts.preference,)),
        ):
            if value is not None:
                for column in columns:
                    column[at] = value
        if statement.result != "continue":
            undecided[at] = False
            if statement.result == "accept":
                verdicts.accepted[at] = True
    return verdicts


def matching(matches: tuple[PrefixMatch, ...], prefixes: PrefixIndex | PrefixClasses) -> Flags:
    """Which prefixes some match holds for, bool (p,)."""
    found = prefixes.matched.get(matches)
    if found is None:
        found = np.zeros(len(prefixes), bool)
        for match in matches:
            covered = prefixes.covered(match.prefix)
            lengths = prefixes.lengths[covered]
            found[covered] |= (lengths >= match.low) & (lengths <= match.high)
        prefixes.matched[matches] = found
    return found
