"""What a network's BGP speakers hear from their neighbours, before their policies: what a router tells by BMP."""

from collections import defaultdict
from collections.abc import Iterator

from routrel.analysis.contest.bgp.one_prefix import BgpOnePrefix
from routrel.analysis.contest.protocol import SolvedProtocol
from routrel.model.addresses import Address, Prefix
from routrel.model.received import HeardSession, PathAttributes
from routrel.routing.bgp.solution import BgpSolution
from routrel.routing.bgp.speakers import Channel
from routrel.routing.solve import Solved

MOST_PREFIXES = 5_000
"""That are looked at, one by one."""


def heard_sessions(solved: Solved) -> Iterator[HeardSession]:
    """All sessions that are up, at each end that is of the network."""
    for number, solution in enumerate(solved.solutions):
        if solution.carries_paths:
            yield from _heard(solved, SolvedProtocol(number, solution, solved.redistribution.redistributed[number]))


def _heard(solved: Solved, protocol: SolvedProtocol) -> Iterator[HeardSession]:
    solution: BgpSolution = protocol.solution
    paths = defaultdict[int, list[tuple[Prefix, PathAttributes]]](list)
    carried = solved.prefix_classes.is_carried.nonzero()[0][:MOST_PREFIXES]
    for prefix in (solved.prefixes.prefixes[number] for number in carried.tolist()):
        for index, receipt in BgpOnePrefix(protocol, prefix).received.items():
            sent = receipt.sent
            known = sent.next_hop or solution.state.channels[index].source
            attributes = PathAttributes(
                sent.as_path, sent.origin, sent.med, sent.local_preference, sent.communities, known
            )
            paths[index].append((prefix, attributes))
    for channel in solution.state.channels:
        receiver, sender = (solution.database.speakers[one] for one in (channel.receiver, channel.sender))
        if receiver.outside is None:
            instance = solved.topology.instances[receiver.instance]
            yield HeardSession(
                solved.topology.devices[instance.device].name,
                instance.vrf,
                _own_address(solution, channel),
                receiver.bgp.number,
                receiver.identifier,
                channel.receiving.neighbor.address,
                sender.bgp.number,
                sender.identifier,
                not channel.external,
                paths[channel.index],
            )


def _own_address(solution: BgpSolution, channel: Channel) -> Address:
    """The receiver's own address of a session; unspecified where the sender is outside the network."""
    if channel.reverse < len(solution.state.channels):
        return solution.state.channels[channel.reverse].source
    return Address(channel.receiving.neighbor.address.family, 0)
