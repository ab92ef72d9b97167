"""Why a prefix that BGP speakers hold does not come to others: sessions that are down, what is not sent or taken."""

from collections.abc import Iterator, Mapping

from routrel.analysis.contest.bgp.one_prefix import BgpOnePrefix
from routrel.analysis.contest.bgp.path import Refusal
from routrel.analysis.contest.trail import Step
from routrel.model.addresses import Address, Prefix
from routrel.model.places import Place
from routrel.routing.bgp.speakers import Channel, End, SessionDown
from routrel.routing.solve import Solved

MOST_SESSIONS = 12
"""Sessions that are down that are told of."""


class BgpStops:
    """Of one prefix, towards the speaker ``process``."""

    def __init__(
        self, network: Solved, plain: BgpOnePrefix, prefix: Prefix, process: int, speakers: Mapping[Address, int]
    ):
        """``speakers`` are the processes of those who have addresses."""
        self.network = network
        self.speakers = speakers
        self.plain = plain
        self.prefix = prefix
        self.process = process

    def steps(self) -> list[Step]:
        """Where speakers that hold a path do not bring it to speakers that hold none; this one's first."""
        plain, ordered = self.plain, sorted(self.plain.channels, key=lambda one: one.receiver != self.process)
        found = [
            step
            for channel in ordered
            if channel.sender in plain.best
            and channel.receiver not in plain.best
            and self.prefix.family in channel.families
            for step in self._not_handed_on(channel)
        ]
        down = self._without_session()
        return [*self._alone(bool(down)), *(self._session(far, one) for far, one in down), *found]

    def _alone(self, is_told: bool) -> list[Step]:
        """Of a speaker without any session, unless it is told of those that are down."""
        if self.plain.inward[self.process] or is_told:
            return []
        speaker = self.plain.speakers[self.process]
        text = f"{self.plain.name(self.process)} has no BGP session that is up for IPv{self.prefix.family}"
        off = tuple(one.place for one in speaker.bgp.neighbors if not one.enabled)
        return [Step(speaker.instance, text, speaker.bgp.place, True, off)]

    def _not_handed_on(self, channel: Channel) -> Iterator[Step]:
        plain = self.plain
        sender, receiver = plain.name(channel.sender), plain.name(channel.receiver)
        instance = plain.speakers[channel.receiver].instance
        receipt = plain.received.get(channel.index)
        if receipt is None:
            sent = plain.sent(channel)
            if isinstance(sent, Refusal):
                text = f"{sender} does not send it to {receiver}: {sent.text}"
                yield Step(plain.speakers[channel.sender].instance, text, sent.place, True)
        elif receipt.refusal is not None:
            text = f"{receiver} does not take it from {sender}: {receipt.refusal.text}"
            yield Step(instance, text, receipt.refusal.place, True)
        elif receipt.kept is not None:
            next_hop = receipt.kept.next_hop
            text = f"{receiver} has it from {sender}, but its next hop {next_hop} does not resolve"
            yield Step(instance, text, channel.receiving.neighbor.place, True, lacks=self._lacking(instance, next_hop))

    def _without_session(self) -> list[tuple[int, SessionDown]]:
        """Sessions that are down between a speaker that holds a path and one that holds none, this one's first; each
        with the speaker at its far end."""
        found: list[tuple[bool, int, SessionDown]] = []
        told = set[Place]()
        for down in self.plain.solution.state.failures:
            end, _, others = down
            far = self._far(end, others)
            stated = {end.neighbor.place, *(other.neighbor.place for other in others)}
            holding = self._holds(end), far in self.plain.best or any(map(self._holds, others))
            if far is None or stated & told or holding[0] == holding[1]:
                continue
            told |= stated
            lacking = far if holding[0] else end.process
            found.append((lacking != self.process, far, down))
        return [(far, down) for _, far, down in sorted(found, key=lambda one: one[0])[:MOST_SESSIONS]]

    def _session(self, far: int, down: SessionDown) -> Step:
        end, why, others = down
        address, instance = end.neighbor.address, self.plain.speakers[end.process].instance
        text = f"{self.plain.name(end.process)} has no session with {self.plain.name(far)} ({address}): {why.text}"
        stated = (*why.places, end.neighbor.place, *(other.neighbor.place for other in others))
        place, *more = dict.fromkeys(stated)
        lacks = self._lacking(instance, address) if end.neighbor.enabled else None
        return Step(instance, text, place, True, tuple(more), lacks=lacks)

    def _holds(self, end: End) -> bool:
        """Whether there is something to say at an end: a path, or a default whatever its speaker has."""
        is_told = self.prefix.is_default and end.neighbor.originate_default
        return is_told or end.process in self.plain.best

    def _far(self, end: End, others: tuple[End, ...]) -> int | None:
        """The speaker that an end is to talk to, whether or not it knows of that."""
        return others[0].process if others else self.speakers.get(end.neighbor.address)

    def _lacking(self, instance: int, address: Address | None) -> tuple[int, Address] | None:
        if address is None or self.network.lookup(instance, address) is not None:
            return None
        return instance, address
