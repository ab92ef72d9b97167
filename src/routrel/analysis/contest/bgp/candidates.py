"""BGP's part of explanations."""

from collections.abc import Callable, Iterable, Iterator, Sequence

from routrel.analysis.contest.bgp.elimination import within_bgp
from routrel.analysis.contest.bgp.one_prefix import BgpOnePrefix
from routrel.analysis.contest.bgp.path import Refusal
from routrel.analysis.contest.bgp.paths_offered import candidates_of, unsent_of
from routrel.analysis.contest.bgp.policy_uses import neighbor_uses, path_seen
from routrel.analysis.contest.bgp.tipping import path_tips
from routrel.analysis.contest.candidates import Candidate, Contest, PathTip, Unsent
from routrel.analysis.contest.kept import Kept
from routrel.analysis.contest.policies import PathSeen, PolicyUse
from routrel.analysis.contest.protocol import ProtocolContest, SolvedProtocol
from routrel.analysis.contest.rounds import Elimination
from routrel.analysis.contest.trail import Step
from routrel.model.addresses import Address, Prefix
from routrel.model.policies import Policy
from routrel.routing.bgp.sessions import BgpDatabase
from routrel.routing.bgp.solution import EXTERNAL, INTERNAL, BgpSolution
from routrel.routing.protocol import Process
from routrel.routing.solve import Solved


class BgpContest(ProtocolContest):
    """BGP, asked for what is offered for a prefix. What is tried in other protocols does not reach it."""

    own_rules = "neither 'networks' names it nor 'redistribute' anything from {protocol}"
    solution: BgpSolution
    database: BgpDatabase

    def __init__(self, solved: SolvedProtocol, base: "BgpContest | None" = None):
        super().__init__(solved, base)
        self._prefixes: Kept[Prefix, BgpOnePrefix] = Kept() if base is None else base._prefixes

    def of(self, prefix: Prefix) -> BgpOnePrefix:
        """BGP for one prefix, over all speakers."""
        return self._prefixes.get_or_make(prefix, lambda: BgpOnePrefix(self.solved, prefix))

    def candidates(self, process: int, prefix: Prefix) -> Iterator[Candidate]:
        external, internal = (self.solution.preference(process, kind) for kind in (EXTERNAL, INTERNAL))
        return candidates_of(self.of(prefix), process, external, internal)

    def brings(self, process: int, prefix: Prefix) -> bool:
        return process in self.of(prefix).local

    def eliminate(self, elimination: Elimination, group: list[int]) -> list[int]:
        process = elimination.candidates[group[0]].processes[1]
        return within_bgp(elimination, self.database.speakers[process], group)

    def stands_for(self, candidates: Sequence[Candidate], process: Process, prefix: Prefix) -> tuple[str, str]:
        return (
            "BGP says it itself: the route that it says stands in the table",
            "BGP says it itself; the route it stands for is another protocol's",
        )

    def path_tips(self, contest: Contest, again: Callable[[list[Candidate]], Contest]) -> Iterable[PathTip]:
        return path_tips(again, contest)

    def unsent(self, process: int, prefix: Prefix) -> Iterator[Unsent]:
        plain = self.of(prefix)
        for channel, path, refusal in unsent_of(plain, process):
            address, device = channel.receiving.neighbor.address, plain.device(channel.sender).name
            yield Unsent(address, device, path.as_path, refusal.text, refusal.place)

    def unheard(self, process: int, prefix: Prefix, neighbor: Address) -> str:
        for end, reason, _ in self.solution.state.failures:
            if end.process == process and end.neighbor.address == neighbor:
                return f"no session with {neighbor}: {reason}"
        for path in self.unsent(process, prefix):
            if path.neighbor == neighbor:
                return f"{path.device} does not send it any more: {path.reason}"
        plain = self.of(prefix)
        senders = [one.sender for one in plain.inward[process] if one.receiving.neighbor.address == neighbor]
        if any(sender not in plain.best for sender in senders):
            return f"{plain.name(senders[0])} has no path any more"
        return "" if senders else f"no session with {neighbor} any more"

    def notes(self, prefix: Prefix) -> list[str]:
        held, column = self.solution.propagation, self.solution.prefixes.column_of(prefix)
        if held is not None and column in held.unstable.columns:
            return ["BGP never settles for this prefix: the paths shown are those of one moment"]
        if held is not None and column in held.ordered:
            return ["BGP has several stable states for this prefix, by who speaks first; one is shown"]
        return []

    def without_origin(self, prefix: Prefix) -> Iterator[Step]:
        for speaker in self.database.speakers:
            for aggregate in speaker.bgp.aggregates:
                if aggregate.prefix == prefix:
                    text = f"{self.name(speaker.process)} would say the aggregate, but BGP there has nothing inside it"
                    yield Step(speaker.instance, text, aggregate.place, True)
        yield from self._not_let_in(prefix)

    def _not_let_in(self, prefix: Prefix) -> Iterator[Step]:
        """Of what neighbours outside the network say: what their hearers do not take, and who does not hear them."""
        saying = {process for process, outside in self.database.outside if prefix in outside.received.known}
        plain = self.of(prefix) if saying else None
        for channel in plain.channels if plain is not None else ():
            receipt = plain.received.get(channel.index) if plain is not None else None
            if channel.sender in saying and receipt is not None and receipt.refusal is not None:
                name, refusal = self.database.name(channel.receiver), receipt.refusal
                text = f"{name} does not take it from {self.database.name(channel.sender)}: {refusal.text}"
                yield Step(self.database.speakers[channel.receiver].instance, text, refusal.place, True)
        for end, reason, _ in self.solution.state.failures:
            if any(prefix in paths.known for paths in end.neighbor.received):
                name = self.database.name(end.process)
                text = f"{name} has no session with {end.neighbor.address}, which says it: {reason}"
                yield Step(self.database.speakers[end.process].instance, text, end.neighbor.place, True)

    def path_seen(self, process: int, column: int) -> PathSeen | None:
        return path_seen(self.solution, process, column)

    def policy_uses(self, process: Process, policy: Policy) -> Iterator[PolicyUse]:
        return neighbor_uses(self.solution, process.number, policy)

    def stops(self, network: Solved, prefix: Prefix, origin: int, process: int) -> list[Step]:
        """Where speakers that hold a path do not bring it to speakers that hold none; this one's first."""
        plain = self.of(prefix)
        steps = []
        for channel in sorted(plain.channels, key=lambda channel: channel.receiver != process):
            if channel.sender not in plain.best or channel.receiver in plain.best:
                continue
            if prefix.family not in channel.families:
                continue
            sender, receiver = plain.name(channel.sender), plain.name(channel.receiver)
            instance = plain.speakers[channel.receiver].instance
            receipt = plain.received.get(channel.index)
            if receipt is None:
                sent = plain.sent(channel)
                if isinstance(sent, Refusal):
                    text = f"{sender} does not send it to {receiver}: {sent.text}"
                    steps.append(Step(plain.speakers[channel.sender].instance, text, sent.place, True))
            elif receipt.refusal is not None:
                text = f"{receiver} does not take it from {sender}: {receipt.refusal.text}"
                steps.append(Step(instance, text, receipt.refusal.place, True))
            elif receipt.kept is not None:
                text = f"{receiver} has it from {sender}, but its next hop {receipt.kept.next_hop} does not resolve"
                steps.append(Step(instance, text, channel.receiving.neighbor.place, True))
        if not plain.inward[process]:
            speaker = plain.speakers[process]
            text = f"{plain.name(process)} has no BGP session that is up for IPv{prefix.family}"
            off = tuple(one.place for one in speaker.bgp.neighbors if not one.enabled)
            steps.insert(0, Step(speaker.instance, text, speaker.bgp.place, True, off))
        return steps
