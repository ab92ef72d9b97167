"""BGP's part of explanations."""

from collections.abc import Callable, Iterable, Iterator, Sequence
from functools import cached_property

from routrel.analysis.contest.bgp.elimination import within_bgp
from routrel.analysis.contest.bgp.one_prefix import BgpOnePrefix
from routrel.analysis.contest.bgp.paths_offered import candidates_of, unsent_of
from routrel.analysis.contest.bgp.policy_uses import neighbor_uses, path_seen
from routrel.analysis.contest.bgp.stops import BgpStops
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

    def saying(self, prefix: Prefix) -> list[int]:
        """Aggregates and defaults for neighbours too; what neighbours outside the network say is left out."""
        stated = {one.process for one in self.database.speakers for own in one.bgp.aggregates if own.prefix == prefix}
        local = [process for process in stated if process in self.of(prefix).local]
        ends = self.database.ends if prefix.is_default else ()
        return [*super().saying(prefix), *local, *(end.process for end in ends if end.neighbor.originate_default)]

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
        for end, why, _ in self.solution.state.failures:
            if end.process == process and end.neighbor.address == neighbor:
                return f"no session with {neighbor}: {why.text}"
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

    def without_origin(self, network: Solved, prefix: Prefix, processes: Sequence[int]) -> Iterator[Step]:
        for speaker in self.database.speakers:
            for aggregate in speaker.bgp.aggregates:
                if aggregate.prefix == prefix:
                    text = f"{self.name(speaker.process)} would say the aggregate, but BGP there has nothing inside it"
                    yield Step(speaker.instance, text, aggregate.place, True, empty=prefix)
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
        for end, why, _ in self.solution.state.failures:
            if any(prefix in paths.known for paths in end.neighbor.received):
                name = self.database.name(end.process)
                text = f"{name} has no session with {end.neighbor.address}, which says it: {why.text}"
                places = *why.places, end.neighbor.place
                yield Step(self.database.speakers[end.process].instance, text, places[0], True, places[1:])

    def path_seen(self, process: int, column: int) -> PathSeen | None:
        return path_seen(self.solution, process, column)

    def policy_uses(self, process: Process, policy: Policy) -> Iterator[PolicyUse]:
        return neighbor_uses(self.solution, process.number, policy)

    def stops(self, network: Solved, prefix: Prefix, origin: int, process: int) -> list[Step]:
        return BgpStops(network, self.of(prefix), prefix, process, self._speakers_by_address).steps()

    @cached_property
    def _speakers_by_address(self) -> dict[Address, int]:
        """The processes of speakers by the addresses of their instances' interfaces, up or down."""
        process_of = {process.instance: process.number for process in self.database.processes}
        ports = [port for port in self.topology.ports if port.instance in process_of]
        return {address: process_of[port.instance] for port in ports for address in port.addresses}
