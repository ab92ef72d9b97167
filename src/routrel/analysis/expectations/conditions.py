"""One flow and what is expected of it: what of that does not hold, in words."""

from collections.abc import Iterator
from dataclasses import dataclass

from routrel.analysis.expectations.separate_ways import TooManyCutsError, separate_ways
from routrel.analysis.walk_verdicts import Answerer, strand_doubts
from routrel.forwarding.flow import Flow, Walk
from routrel.forwarding.flow_words import FlowError
from routrel.forwarding.passing import Passed, passed_by_word
from routrel.forwarding.trace import Stop, Trace
from routrel.model.expectations import Expectation, Expected
from routrel.routing.solve import Solved

ANSWERED = ("arrives", "leaves")


@dataclass(frozen=True, slots=True)
class Checked:
    """What of an expectation does not hold for a flow; ``refused`` where that cannot be told, with why."""

    reasons: tuple[str, ...] = ()
    refused: str = ""
    doubts: tuple[str, ...] = ()
    walk: Walk | None = None

    @property
    def holds(self) -> bool:
        return not self.reasons and not self.refused


def parts_of(walk: Walk) -> list[Walk]:
    """The walks of a flow's ports where they are not all walked alike, else itself."""
    return [part.walk for part in walk.parts] or [walk]


def stops_of(walk: Walk) -> list[Stop]:
    """The stops of a flow, there and back, of every part."""
    return [stop for one in parts_of(walk) for strand in one.strands for stop in strand.stops]


def does(walk: Walk, expected: Expected) -> bool:
    """Whether a flow works, arrives, or never arrives."""
    if expected == "works":
        return walk.is_good
    if expected == "never arrives":
        return walk.unexamined is None and not any(map(_arrives_somewhere, parts_of(walk)))
    return walk.unexamined is None and all(map(_arrives, parts_of(walk)))


def _arrives(walk: Walk) -> bool:
    verdict = walk.forward.verdict
    return verdict == "arrives" or (verdict == "leaves" and walk.destination.device is None)


def _arrives_somewhere(walk: Walk) -> bool:
    wanted = ("arrives", "leaves") if walk.destination.device is None else ("arrives",)
    return any(ending.verdict in wanted for ending in walk.forward.endings)


class Conditions:
    """Asks flows of one solved network."""

    def __init__(self, solved: Solved):
        self.solved = solved
        self.answerer = Answerer(solved)
        self._passed: dict[str, Passed | None] = {}

    def check(self, expectation: Expectation, flow: Flow) -> Checked:
        """What of an expectation does not hold for one of its flows."""
        try:
            walk = self.answerer.asker.ask(flow)
            reasons = tuple(self._failing(expectation, walk))
        except FlowError as error:
            return Checked(refused=str(error))
        doubts = dict.fromkeys(doubt for strand in walk.strands for doubt in strand_doubts(self.solved, strand))
        return Checked(reasons, "", tuple(doubts), walk)

    def _failing(self, expectation: Expectation, walk: Walk) -> Iterator[str]:
        for word in (*expectation.passes, *expectation.avoids):
            self._named(word)
        if not does(walk, expectation.expect):
            yield self._why(expectation, walk)
            return
        if expectation.expect != "never arrives":
            yield from dict.fromkeys(said for part in parts_of(walk) for said in self._of_its_ways(expectation, part))

    def _why(self, expectation: Expectation, walk: Walk) -> str:
        """Why a flow does not do what it should."""
        if walk.unexamined is not None:
            return f"not all ports were looked into: {walk.unexamined} are left"
        if expectation.expect == "never arrives":
            return f"it {walk.forward_verdict if walk.forward_verdict != 'mixed' else 'arrives on some ways'}"
        for strand, verdict, words in (
            (walk.forward, walk.forward_verdict, ""),
            (walk.reply, walk.reply_verdict, "its answer "),
        ):
            if strand is None or verdict in ANSWERED or (words and expectation.expect != "works"):
                continue
            causes = self.answerer.finder.causes(walk, strand)
            cause = f": {causes[0].message}" if causes else ""
            return f"{words}{'' if verdict == 'loops' or not words else 'is '}{verdict}{cause}"
        return walk.reply_note or walk.forward_note or f"it {walk.forward_verdict}, outside of the network"

    def _of_its_ways(self, expectation: Expectation, walk: Walk) -> Iterator[str]:
        names = self.solved.topology.devices
        way = " > ".join(names[device].name for device in (walk.forward.paths(1) or [[]])[0])
        for word in expectation.passes:
            if not self._named(word).on_every_way(walk.forward):
                yield f"it does not pass {word} on every way: {way}"
        for word in expectation.avoids:
            if self._named(word).on_some_way(walk.forward):
                yield f"it passes {word}"
        if expectation.same_way_back and walk.reply is not None and _devices(walk.forward) != _devices(walk.reply):
            others = sorted(names[one].name for one in _devices(walk.forward) ^ _devices(walk.reply))
            yield f"there and back are not the same way: {', '.join(others)} on one of them alone"
        if expectation.hops is not None and walk.forward.longest > expectation.hops:
            yield f"{walk.forward.longest} hops, {expectation.hops} at most: {way}"
        if expectation.mtu is not None:
            sizes = [size for strand in walk.strands if (size := strand.smallest_mtu) is not None]
            if sizes and min(sizes) < expectation.mtu:
                yield f"packets to {min(sizes)} bytes get through whole, {expectation.mtu} expected"
        if expectation.ways is not None:
            yield from self._separate(expectation, walk)

    def _separate(self, expectation: Expectation, walk: Walk) -> Iterator[str]:
        target = walk.destination.device
        if target is None:
            raise FlowError(f"{walk.destination.word} is not in the model: its ways cannot be counted")
        assert expectation.ways is not None
        source = walk.forward.stops[walk.forward.starts[0]].device
        try:
            found = separate_ways(self.solved.topology, source, target, expectation.apart, expectation.ways)
        except TooManyCutsError:
            raise FlowError("its ways pass so many sites or risk groups that they were not counted") from None
        if found < expectation.ways:
            what = expectation.apart.replace("_", " ")
            ways = f"{found} way{'' if found == 1 else 's'}"
            yield f"{ways} that share{'s' if found == 1 else ''} no {what}, {expectation.ways} expected"

    def _named(self, word: str) -> Passed:
        if word not in self._passed:
            self._passed[word] = passed_by_word(self.solved.topology, word)
        found = self._passed[word]
        if found is None:
            raise FlowError(f"{word!r} is no device, device:interface, link or site of this network")
        return found


def _devices(trace: Trace) -> set[int]:
    return {stop.device for stop in trace.stops}
