"""BGP for one prefix in plain code, apart from the bulk solver: who says what to whom, and what becomes of it.

Sessions, what routers put in, and next hops are those of the solved network; propagation, policies and the
decision are derived here again, path by path, with every change and refusal noted on the way.
"""

from collections.abc import Mapping
from dataclasses import dataclass

import numpy as np
import numpy.typing as npt

from routrel.analysis.contest.bgp.decision import Ranks, eliminate, med_text
from routrel.analysis.contest.bgp.path import Path, Refusal, changed_by
from routrel.analysis.contest.policies import Asked, Decision, ask
from routrel.analysis.contest.protocol import SolvedProtocol
from routrel.model.addresses import Address, Prefix
from routrel.model.devices import Device
from routrel.model.fields import replace
from routrel.model.places import NOWHERE, Place
from routrel.model.policies import NO_ADVERTISE, NO_EXPORT, NO_EXPORT_SUBCONFED, ORIGINS, PolicySet
from routrel.model.received import DEFAULT_LOCAL_PREFERENCE
from routrel.model.times import rfc3339
from routrel.routing.bgp import paths as columns
from routrel.routing.bgp.decision import UNREACHABLE
from routrel.routing.bgp.resolution import Resolution
from routrel.routing.bgp.solution import BgpSolution
from routrel.routing.bgp.speakers import Channel, Speaker
from routrel.routing.redistributed import Redistributed
from routrel.topology.segments import Topology

WORST_MED = 2**32 - 1
UNKNOWN_AGE = 2**62
MOST_ROUNDS = 400


@dataclass(frozen=True, slots=True)
class Receipt:
    """A path as it came by a channel; ``kept`` is what import made of it, None where it was refused."""

    channel: Channel
    sent: Path
    kept: Path | None
    refusal: Refusal | None = None
    policy: str = ""
    """What the import policy did, in words."""
    policy_place: Place = NOWHERE


Choice = tuple[Path, int]
"""A path and the channel it came by, -1 where the router says it itself."""

LOCALLY = -1


class BgpOnePrefix:
    """One prefix over all speakers."""

    def __init__(self, solved: SolvedProtocol, prefix: Prefix):
        self.solution: BgpSolution = solved.solution
        self.topology: Topology = self.solution.topology
        self.speakers: list[Speaker] = self.solution.database.speakers
        self.channels = self.solution.state.channels
        self.prefix = prefix
        self.column = self.solution.prefixes.column_of(prefix)
        self.blocked = {process for process, off in self.solution.silent.items() if off[self.column]}
        """Speakers whose table has another protocol's route."""
        self.local: dict[int, tuple[Path, str, Place]] = self._said(solved.redistributed)
        self.suppressed = self._suppressed()
        self.received: dict[int, Receipt] = {}
        self.best: dict[int, Choice] = {}
        self._own: dict[int, set[Address]] = {}
        """The addresses of speakers, as far as they were asked for."""
        self.settles = True
        self.inward: list[list[Channel]] = [[] for _ in self.speakers]
        self.outward: list[list[Channel]] = [[] for _ in self.speakers]
        for channel in self.channels:
            if prefix.family in channel.families and self.speakers[channel.receiver].outside is None:
                self.inward[channel.receiver].append(channel)
                self.outward[channel.sender].append(channel)
        for incoming in self.inward:
            incoming.sort(key=lambda channel: channel.receiving.neighbor.address)
        self._run()

    def name(self, process: int) -> str:
        return self.solution.database.name(process)

    def device(self, process: int) -> Device:
        """The device of a speaker that is of the network."""
        return self.topology.devices[self.topology.instances[self.speakers[process].instance].device]

    def _said(self, redistributed: Mapping[int, Redistributed]) -> dict[int, tuple[Path, str, Place]]:
        """What speakers say themselves, in words, and where that is written."""
        found: dict[int, tuple[Path, str, Place]] = {}
        held = self.solution.propagation
        for process, speaker in enumerate(self.speakers):
            for aggregate in speaker.bgp.aggregates:
                if held is not None and aggregate.prefix == self.prefix and self.column in held.aggregated[process]:
                    path = Path(origin=self._worst_origin(held.best[process]))
                    found[process] = path, "an aggregate of its own", aggregate.place
            put_in = redistributed.get(process)
            at = put_in.position(self.column) if put_in is not None else None
            if put_in is None or at is None:
                continue
            words, place = "redistributed into BGP", speaker.bgp.place
            for prefix, where in speaker.bgp.networks:
                if prefix == self.prefix:
                    words, place = "a network of its own", where
            found[process] = self._path(int(put_in.paths[at])), words, place
        for process, outside in self.solution.database.outside:
            said = -1 if held is None else int(held.local[process, self.column])
            if said >= 0:
                found[process] = self._path(said), "received", outside.received.place_of(self.prefix)
        return found

    def _worst_origin(self, best: npt.NDArray[np.int64]) -> str:
        """The origin of an aggregate: the worst of the paths inside it (RFC 4271 section 9.2.2.2)."""
        covered = self.solution.prefixes.covered(self.prefix)
        inside = [
            number for at, number in zip(covered.tolist(), best[covered].tolist(), strict=True) if at != self.column
        ]
        rows = self.solution.paths.rows
        return ORIGINS[max(int(rows[number, columns.ORIGIN]) for number in inside if number >= 0)]

    def _path(self, number: int) -> Path:
        """A path that is put in, from the numbers it has in bulk."""
        row, paths = self.solution.paths.rows[number].tolist(), self.solution.paths
        return Path(
            paths.as_paths.values[row[columns.AS_PATH]],
            ORIGINS[row[columns.ORIGIN]],
            None if row[columns.MED] < 0 else row[columns.MED],
            row[columns.LOCAL_PREFERENCE],
            paths.communities.values[row[columns.COMMUNITIES]],
            paths.next_hops.values[row[columns.NEXT_HOP]],
            None if row[columns.ORIGINATOR] < 0 else row[columns.ORIGINATOR],
            paths.clusters.values[row[columns.CLUSTERS]],
            weight=row[columns.WEIGHT],
        )

    def _suppressed(self) -> dict[int, Place]:
        """Speakers that send a summary in place of this prefix."""
        held = self.solution.propagation
        found = {}
        for process, speaker in enumerate(self.speakers):
            for aggregate in speaker.bgp.aggregates:
                standing = (
                    held is not None and self.solution.prefixes.number[aggregate.prefix] in held.aggregated[process]
                )
                inside = aggregate.prefix.covers(self.prefix) and aggregate.prefix != self.prefix
                if standing and aggregate.summary_only and inside:
                    found[process] = aggregate.place
        return found

    def _run(self) -> None:
        """Everyone at once; where that comes round, from nothing one after the other."""
        self.settles = self._settle(True) or self._settle(False)

    def _settle(self, together: bool) -> bool:
        """From nothing until nothing changes; False where an earlier state comes back."""
        self._start()
        seen = set()
        everyone = range(len(self.speakers))
        for _ in range(MOST_ROUNDS):
            before = self._state()
            if together:
                for process in everyone:
                    self._choose(process)
            for process in everyone:
                if not together:
                    self._choose(process)
                self._send_all(process)
            after = self._state()
            if after == before:
                return True
            if after in seen:
                return False
            seen.add(after)
        return False

    def _state(self) -> tuple[tuple[int, Path | None], ...]:
        return tuple(sorted((number, receipt.kept) for number, receipt in self.received.items()))

    def _start(self) -> None:
        self.received.clear()
        self.best.clear()
        for channel in self.channels:
            default = self._default_of(channel)
            if default is not None:
                self.received[channel.index] = self.let_in(channel, default)

    def _default_of(self, channel: Channel) -> Path | None:
        """``originate_default``: what a speaker says to one neighbour whatever it has."""
        if not channel.sending.neighbor.originate_default or self.prefix.length:
            return None
        own = dict(channel.next_hops).get(self.prefix.family)
        if own is None or self.prefix.family not in channel.families:
            return None
        number = self.speakers[channel.sender].bgp.number
        return Path((number,) if channel.external else (), next_hop=own)

    def _choose(self, process: int) -> None:
        choices = self.choices(process)
        if not choices:
            self.best.pop(process, None)
            return
        self.best[process] = choices[self.winner(process, choices)]

    def choices(self, process: int) -> list[Choice]:
        """The paths of a speaker that can be used: its own, then by the neighbours' addresses."""
        found: list[Choice] = []
        if process in self.local:
            found.append((self.local[process][0], LOCALLY))
        for channel in self.inward[process]:
            receipt = self.received.get(channel.index)
            kept = receipt.kept if receipt is not None else None
            if kept is not None and self.metric(process, kept.next_hop) < UNREACHABLE:
                found.append((kept, channel.index))
        return found

    def metric(self, process: int, next_hop: Address | None) -> int:
        """The metric to a next hop by the speaker's table; one outside the network uses all it says."""
        return 0 if self.speakers[process].outside is not None else self.resolved(process, next_hop).metric

    def resolved(self, process: int, next_hop: Address | None) -> Resolution:
        number = self.solution.paths.next_hops.number(next_hop)
        return self.solution.resolvers[process].resolve(number)

    def winner(self, process: int, choices: list[Choice]) -> int:
        """The place of the best among some choices."""
        ranked = [self.ranks(process, choice) for choice in choices]
        return eliminate(ranked, list(range(len(choices))), self.is_in_turn(process))[0]

    def is_in_turn(self, process: int) -> bool:
        """Whether paths are compared one after the other, which makes MED depend on the order."""
        switches = self.speakers[process].bgp.decision
        return not switches.deterministic_med and not switches.compare_med_between_as

    def ranks(self, process: int, choice: Choice) -> Ranks:
        """A path in every comparison, in the order of the network file's page: lower is better."""
        path, via = choice
        switches = self.speakers[process].bgp.decision
        channel = self.channels[via] if via != LOCALLY else None
        missing = WORST_MED if switches.missing_med_is_worst else 0
        med = missing if path.med is None else path.med
        said = (
            None
            if channel is None
            else (channel.receiving.neighbor.established_at or channel.sending.neighbor.established_at)
        )
        peer = self.speakers[process if channel is None else channel.sender].identifier
        identifier = peer if path.originator is None else path.originator
        steps: dict[str, tuple[int, str]] = {
            "weight": (-path.weight, str(path.weight)),
            "local preference": (-path.local_preference, str(path.local_preference)),
            "locally originated": (0, "here") if channel is None else (1, "elsewhere"),
        }
        if not switches.ignore_as_path_length:
            steps["AS path length"] = len(path.as_path), str(len(path.as_path))
        steps["origin"] = ORIGINS.index(path.origin), path.origin
        steps["MED"] = med, med_text(path, switches.compare_med_between_as)
        steps["external over internal"] = (0, "external") if channel and channel.external else (1, "internal")
        metric = 0 if channel is None else self.metric(process, path.next_hop)
        steps["metric to the next hop"] = metric, str(metric)
        if switches.prefer_oldest:
            age = UNKNOWN_AGE if said is None else int(said.timestamp())
            is_external = channel is not None and channel.external
            steps["oldest"] = (age, "not known" if said is None else rfc3339(said)) if is_external else (0, "internal")
        steps["router id"] = identifier, str(Address(4, identifier))
        steps["cluster list length"] = len(path.clusters), str(len(path.clusters))
        position = 0 if channel is None else 1 + self.inward[process].index(channel)
        steps["neighbor address"] = position, "" if channel is None else str(channel.receiving.neighbor.address)
        group = None if switches.compare_med_between_as else (path.as_path[0] if path.as_path else 0)
        age_known = -1 if said is None or channel is None else int(said.timestamp())
        return Ranks(steps, group, (-age_known, position))

    def _send_all(self, process: int) -> None:
        for channel in self.outward[process]:
            default = self._default_of(channel)
            if default is not None:
                self.received[channel.index] = self.let_in(channel, default)
                continue
            sent = self.sent(channel)
            if isinstance(sent, Path):
                self.received[channel.index] = self.let_in(channel, sent)
            else:
                self.received.pop(channel.index, None)

    def announced(self, process: int) -> Choice | Refusal:
        """What a speaker has to say of the prefix, or why it says nothing."""
        best = self.best.get(process)
        if best is None:
            return Refusal(f"{self.name(process)} has no path for it")
        if process in self.blocked and best[1] != LOCALLY:
            if process not in self.local:
                text = f"the table of {self.name(process)} uses another protocol's route, so BGP says nothing"
                return Refusal(text, self.speakers[process].bgp.place)
            best = self.local[process][0], LOCALLY
        if process in self.suppressed:
            return Refusal(f"{self.name(process)} sends only the aggregate", self.suppressed[process])
        return best

    def sent(self, channel: Channel) -> Path | Refusal:
        """What goes out by a channel, or why nothing does (RFC 4271 section 9.2, 4456 section 6)."""
        said = self.announced(channel.sender)
        if isinstance(said, Refusal):
            return said
        path, via = said
        if self.speakers[channel.sender].outside is not None:
            return path
        sender, neighbor = self.speakers[channel.sender], channel.sending.neighbor
        own = dict(channel.next_hops).get(self.prefix.family)
        refusal = self._kept_back(channel, path, via)
        if refusal is not None or own is None:
            text = f"{self.name(channel.sender)} has no IPv{self.prefix.family} address to give as next hop"
            return refusal or Refusal(text, neighbor.place)
        if channel.external and sender.bgp.require_policies and neighbor.export_policy is None:
            text = f"{self.name(channel.sender)} requires policies, and this neighbor has no export policy"
            return Refusal(text, neighbor.place)
        changed, decision = self._policy(channel.sender, neighbor.export_policy, path, neighbor.address)
        if decision is not None and not decision.accepted:
            policy = self.device(channel.sender).policies[neighbor.export_policy or ""]
            place = decision.by.place if decision.by is not None else policy.place
            return Refusal(f"export {decision.words(policy)}", place)
        sets = decision.set if decision is not None else PolicySet()
        carry = self._over_the_border if channel.external else self._inside
        return carry(channel, changed, via, own, sets)

    def _is_from_inside(self, via: int) -> bool:
        return via != LOCALLY and not self.channels[via].external

    def _kept_back(self, channel: Channel, path: Path, via: int) -> Refusal | None:
        """Why a path goes to nobody or not to this neighbour, whatever policies say (RFC 4456 section 6, 1997)."""
        sender, neighbor, name = self.speakers[channel.sender], channel.sending.neighbor, self.name(channel.sender)
        if via == channel.reverse:
            return Refusal(f"it is the path that {self.name(channel.receiver)} itself sent to {name}")
        if not channel.external and self._is_from_inside(via):
            is_client = self.channels[via].receiving.neighbor.route_reflector_client
            if not is_client and not neighbor.route_reflector_client:
                why = "neither is a client of its" if sender.is_reflector else f"{name} is no route reflector"
                return Refusal(
                    f"{name} has it from internal neighbor {self.name(self.channels[via].sender)} and does not pass it"
                    f" to another internal one: {why}",
                    neighbor.place,
                )
        if NO_ADVERTISE in path.communities:
            return Refusal(f"it carries the community {NO_ADVERTISE}")
        if channel.external and path.communities & {NO_EXPORT, NO_EXPORT_SUBCONFED}:
            return Refusal(f"it carries the community {NO_EXPORT}")
        return None

    def _over_the_border(self, channel: Channel, path: Path, via: int, own: Address, sets: PolicySet) -> Path:
        """RFC 4271 sections 5.1.3 to 5.1.5: what an external neighbour is told."""
        sender, neighbor = self.speakers[channel.sender], channel.sending.neighbor
        as_path = columns.without_private(path.as_path) if neighbor.remove_private_as else path.as_path
        keeps = (
            channel.port >= 0
            and not neighbor.next_hop_self
            and path.next_hop is not None
            and path.next_hop != neighbor.address
            and (
                self.channels[self.channels[via].reverse].port == channel.port
                if via != LOCALLY
                else self._is_on(channel.port, path.next_hop)
            )
        )
        return Path(
            (sender.bgp.number, *as_path),
            path.origin,
            path.med if via == LOCALLY or sets.med is not None or sets.metric is not None else None,
            DEFAULT_LOCAL_PREFERENCE,
            path.communities,
            path.next_hop if (keeps or sets.next_hop is not None) and not sets.next_hop_self else own,
        )

    def _inside(self, channel: Channel, path: Path, via: int, own: Address, sets: PolicySet) -> Path:
        """What an internal neighbour is told; RFC 4456 section 8 marks what is reflected."""
        reflected = self._is_from_inside(via)
        next_hop, originator, clusters = path.next_hop, path.originator, path.clusters
        neighbor = channel.sending.neighbor
        is_to_itself = via == LOCALLY and next_hop == neighbor.address
        is_own = next_hop is None or is_to_itself or (neighbor.next_hop_self and not reflected)
        if sets.next_hop_self or (sets.next_hop is None and is_own):
            next_hop = own
        if reflected:
            originator = self.speakers[self.channels[via].sender].identifier if originator is None else originator
            clusters = (self.speakers[channel.sender].cluster, *clusters)
        return replace(
            path, next_hop=next_hop, originator=originator, clusters=clusters, weight=0, tag=None, preference=None
        )

    def _is_on(self, port: int, address: Address) -> bool:
        return any(own.is_on_subnet_with(address) for own in self.topology.ports[port].interface.addresses)

    def let_in(self, channel: Channel, sent: Path) -> Receipt:
        """What the receiver makes of a path."""
        receiver, neighbor = self.speakers[channel.receiver], channel.receiving.neighbor

        def refused(text: str, place: Place = NOWHERE) -> Receipt:
            return Receipt(channel, sent, None, Refusal(text, place))

        if sent.as_path.count(receiver.bgp.number) > neighbor.allow_own_as:
            return refused(f"its AS path has the own AS {receiver.bgp.number}: a loop", neighbor.place)
        if channel.receiver not in self._own:
            self._own[channel.receiver] = self.topology.addresses_of(receiver.instance)
        if sent.next_hop in self._own[channel.receiver]:
            words = f"its next hop {sent.next_hop} is this router's own address (RFC 4271 section 6.3)"
            return refused(words, neighbor.place)
        if channel.external:
            sent = replace(sent, local_preference=DEFAULT_LOCAL_PREFERENCE)
            if receiver.bgp.require_policies and neighbor.import_policy is None:
                return refused("policies are required, and this neighbor has no import policy", neighbor.place)
            port = self.channels[channel.reverse].port
            if port >= 0 and sent.next_hop is not None and not self._is_on(port, sent.next_hop):
                interface = self.topology.ports[port].name
                return refused(
                    f"its next hop {sent.next_hop} is not on the subnet that {interface} shares with this neighbor,"
                    " which is one hop away (RFC 4271 section 6.3)",
                    neighbor.place,
                )
        elif sent.originator == receiver.identifier:
            return refused("it was reflected back to where it came from: its originator is this router")
        elif receiver.is_reflector and receiver.cluster in sent.clusters:
            return refused("its cluster list has the own cluster: it went round", neighbor.place)
        path = replace(sent, weight=neighbor.weight)
        kept, decision = self._policy(channel.receiver, neighbor.import_policy, path, neighbor.address)
        if decision is None:
            return Receipt(channel, sent, kept)
        policy = self.device(channel.receiver).policies[neighbor.import_policy or ""]
        place = decision.by.place if decision.by is not None else policy.place
        words = f"import {decision.words(policy)}"
        if not decision.accepted:
            return Receipt(channel, sent, None, Refusal(words, place), words, place)
        return Receipt(channel, sent, kept, None, words, place)

    def _policy(self, process: int, name: str | None, path: Path, neighbor: Address) -> tuple[Path, Decision | None]:
        if name is None:
            return path, None
        asked = Asked(
            self.prefix,
            "bgp",
            path.med or 0,
            path.tag,
            () if path.next_hop is None else (path.next_hop,),
            path.seen(neighbor),
        )
        decision = ask(self.device(process).policies[name], asked)
        return changed_by(path, decision), decision
