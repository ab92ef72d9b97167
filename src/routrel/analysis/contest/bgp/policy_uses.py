"""Where BGP asks policies of its neighbours, and the paths that meet them there."""

from collections.abc import Iterator

import numpy as np

from routrel.analysis.contest.policies import Asked, PathSeen, PolicyUse, RouteMet
from routrel.model.addresses import Address, Prefix
from routrel.model.policies import ORIGINS, Policy
from routrel.routing.arrays import Column
from routrel.routing.bgp import paths as columns
from routrel.routing.bgp.paths import Rows
from routrel.routing.bgp.solution import BgpSolution
from routrel.routing.bgp.speakers import Channel

NOT_SENT = frozenset({"weight", "tag", "preference"})
"""What a router keeps to itself of a BGP path."""


def path_seen(bgp: BgpSolution, process: int, column: int) -> PathSeen | None:
    """The best path of a speaker as policies see it."""
    held = bgp.propagation
    if held is None:
        return None
    via = int(held.via[process, column])
    neighbor = held.channels[via].receiving.neighbor.address if via >= 0 else None
    return _seen(bgp, int(held.best[process, column]), neighbor)


def _seen(bgp: BgpSolution, number: int, neighbor: Address | None) -> PathSeen:
    paths = bgp.paths
    row = paths.rows[number].tolist()
    med = None if row[columns.MED] < 0 else row[columns.MED]
    as_path, communities = (
        paths.as_paths.values[row[columns.AS_PATH]],
        paths.communities.values[row[columns.COMMUNITIES]],
    )
    return PathSeen(as_path, med, communities, neighbor)


def neighbor_uses(bgp: BgpSolution, process: int, policy: Policy) -> Iterator[PolicyUse]:
    """The imports and exports of a speaker that ask a policy."""
    for neighbor in bgp.database.speakers[process].bgp.neighbors:
        for direction, name in (("import", neighbor.import_policy), ("export", neighbor.export_policy)):
            if name != policy.name:
                continue
            what = f"{direction} {'from' if direction == 'import' else 'to'} neighbor {neighbor.address}"
            what += f" ({neighbor.description})" if neighbor.description else ""
            channel = _channel(bgp, process, neighbor.address, direction)
            if channel is None:
                yield PolicyUse(f"{what}, whose session is down", neighbor.place, "bgp", "bgp")
            else:
                yield PolicyUse(what, neighbor.place, "bgp", "bgp", list(_on_channel(bgp, channel, direction)))


def _channel(bgp: BgpSolution, process: int, address: Address, direction: str) -> Channel | None:
    for channel in bgp.state.channels:
        end = channel.receiving if direction == "import" else channel.sending
        if end.process == process and end.neighbor.address == address:
            return channel
    return None


def _on_channel(bgp: BgpSolution, channel: Channel, direction: str) -> Iterator[RouteMet]:
    """The paths that a channel's policy is asked of: before export, or as they came in."""
    held, messages = bgp.propagation, bgp.messages
    if held is None:
        return
    everything = np.arange(len(bgp.prefixes))
    ids, via = held.announced(channel.sender)
    found = np.flatnonzero(messages.may_send(channel, everything, ids, via))
    numbers = ids[found]
    neighbor = channel.sending.neighbor.address
    if direction == "import":
        accepted, rows = messages.sent(channel, found, ids[found], via[found])
        found, rows = found[accepted], rows[accepted]
        if channel.sending.neighbor.originate_default:
            found, rows = _with_default(bgp, channel, found, rows)
        numbers = bgp.paths.numbers_of(rows)
        kept = messages.is_held(channel, bgp.paths.rows[numbers])
        found, numbers = found[kept], numbers[kept]
        neighbor = channel.receiving.neighbor.address
    without = frozenset() if direction == "import" else NOT_SENT
    if direction == "export" and channel.external:
        without |= {"local preference"}
    weight = channel.receiving.neighbor.weight if direction == "import" else None
    for column, number in zip(found.tolist(), numbers.tolist(), strict=True):
        row = bgp.paths.rows[number].tolist()
        hop = bgp.paths.next_hops.values[row[columns.NEXT_HOP]]
        seen = _seen(bgp, number, neighbor)
        tag = None if row[columns.TAG] < 0 else row[columns.TAG]
        asked = Asked(bgp.prefixes.prefixes[column], "bgp", seen.med or 0, tag, () if hop is None else (hop,), seen)
        origin = ORIGINS[row[columns.ORIGIN]]
        yield RouteMet(column, asked, row[columns.LOCAL_PREFERENCE], weight, origin, without)


def _with_default(bgp: BgpSolution, channel: Channel, found: Column, rows: Rows) -> tuple[Column, Rows]:
    """What comes in by a channel with the default that its sender says in any case."""
    for family, _ in channel.next_hops:
        column = bgp.prefixes.number[Prefix(family, 0, 0)]
        others = found != column
        said = bgp.messages.default_sent(channel, column)
        found, rows = np.append(found[others], column), np.concatenate([rows[others], said])
    order = np.argsort(found)
    return found[order], rows[order]
